"""Regions of a scan laid flat: parameters with little distortion, also where they wrap round."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import igl
import numpy as np
from scipy.sparse import coo_array, csr_array, diags_array
from scipy.sparse.linalg import factorized, splu

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.cover import TOGETHER, covered
from usual_clay.core.scan.mesh import TriangleMesh, largest_piece, unit

# Maps are worked out on no more triangles than this; what is finer follows by its place on them.
MOST_TRIANGLES, MOST_OF_A_SHEET = 20_000, 5_000
# A sheet's triangles are turned towards their own shapes so often; how unequal their pulls may be.
TURNS, PULLS = 20, (0.02, 50.0)
# A border loop shorter than this share of the longest goes round a hole.
HOLE = 0.25
# So many triangles of a map may lie upside down, as a share: slivers at ragged borders.
MOST_FOLDED = 0.01
# Lengths of a map may be so many times larger in one place than in another.
MOST_STRETCHED = 8.0
# An end of a tube is at least this share of the mean way round it; its longest turns within the
# surface by less than so much, in so many parts, each seen at so many places, on normals evened
# out so often.
END, TURNED, SEEN, WITHIN, EVENED = 0.2, np.pi, 40, 12, 4
PLACES = 48
# Where all else fails, vertices are led so far to the middle of those about them, so often.
LED, CALMED = 2 / 3, 10


NO_MAP = "its triangles give no map: mend the scan first"


class FlatError(GeometryError):
    """A region that cannot be laid flat."""


@dataclass(frozen=True, eq=False)
class Flat:
    """A region laid flat.

    Attributes
    ----------
    places : (n, 2) array
        mm; of one that runs round the second goes from 0 to `round`.
    round : float
        The way once round, mm; 0 where it does not close.
    """

    places: Floats
    round: float = 0.0

    def part(self, chosen: Ints) -> Flat:
        return Flat(self.places[chosen], self.round)


def border_loops(vertices: Floats, triangles: Ints) -> list[tuple[float, Ints]]:
    """Return the border loops of a mesh with their lengths in mm, the longest first."""
    loops = []
    for loop in igl.boundary_loop_all(np.ascontiguousarray(triangles, dtype=np.int64)):
        ring = np.asarray(loop, dtype=np.int64)
        step = np.linalg.norm(vertices[ring] - vertices[np.roll(ring, -1)], axis=1)
        loops.append((float(step.sum()), ring))
    return sorted(loops, key=lambda entry: -entry[0])


def is_tube(vertices: Floats, triangles: Ints) -> bool:
    """Tell whether a region has two ends, so that it may run round.

    Two small holes in what is nearly closed are no ends.
    """
    try:
        own, *_ = next(_meshes(vertices, triangles))
    except FlatError:
        return False
    coarse, faces = _thinned(*own, MOST_TRIANGLES)
    ends = _ends(coarse, faces, _large_loops(coarse, faces))
    if len(ends) > 2 and (cover := covered(vertices, triangles)) is not None:
        # Holes that touch run together into what is no plain loop.
        coarse, faces = cover
        ends = _ends(coarse, faces, _large_loops(coarse, faces))
    if len(ends) != 2:
        return False
    middles = [coarse[ring].mean(axis=0) for _, ring in ends]
    apart = float(np.linalg.norm(middles[0] - middles[1]))
    way = float(_sizes(coarse, faces).sum()) / max(apart, 1e-12)
    return ends[1][0] > END * way


def _large_loops(vertices: Floats, faces: Ints) -> list[tuple[float, Ints]]:
    """Return the border loops that are no small holes, the longest first."""
    loops = border_loops(vertices, faces)
    return [loop for loop in loops if loop[0] > HOLE * loops[0][0]]


def _ends(
    vertices: Floats, faces: Ints, loops: list[tuple[float, Ints]]
) -> list[tuple[float, Ints]]:
    """Return the border loops that run round a tube, not about a sheet or a hole."""
    if len(loops) < 2:
        return []
    mesh = TriangleMesh(vertices, faces)
    normals = mesh.vertex_normals
    for _ in range(EVENED):
        # Long slivers along a border face anywhere.
        normals = unit(mesh.links @ normals)
    return [loop for loop in loops if abs(_turned(vertices, normals, loop[1])) < TURNED]


def _turned(vertices: Floats, normals: Floats, ring: Ints) -> float:
    """Return by how much a border loop turns within the surface on its way round, radians.

    About a sheet it is a whole turn, whatever the outline; round a tube it is none, as a border's
    geodesic curvature adds up to what is left of a turn by what it encloses (Gauss-Bonnet).
    """
    loop = np.append(ring, ring[0])
    way = np.linalg.norm(np.diff(vertices[loop], axis=0), axis=1)
    at = np.concatenate([[0.0], np.cumsum(way)])
    even = np.linspace(0.0, at[-1], SEEN * WITHIN, endpoint=False)

    def seen(values: Floats) -> Floats:
        each = np.stack([np.interp(even, at, column) for column in values[loop].T], axis=1)
        # A ragged border turns to and fro: the mean of each part of it tells.
        return np.asarray(each.reshape(SEEN, WITHIN, 3).mean(axis=1))

    place, normal = seen(vertices), unit(seen(normals))
    step = np.roll(place, -1, axis=0) - place
    before, after = (
        each - np.einsum("nk,nk->n", each, normal)[:, None] * normal
        for each in (np.roll(step, 1, axis=0), step)
    )
    sine = np.einsum("nk,nk->n", np.cross(before, after), normal)
    return float(np.arctan2(sine, np.einsum("nk,nk->n", before, after)).sum())


def lay_out_flat(
    vertices: Floats, triangles: Ints, closed: bool, points: Floats | None = None
) -> Flat:
    """Lay a region flat with little distortion.

    An open region is mapped by least squares (Levy and others 2002), relaxed towards its own
    lengths (Liu and others 2008), and scaled to its own area. One that closes is a
    tube: u is the harmonic function from one end to the other, v the harmonic angle round it; both
    advance with the mean length on the surface.

    Parameters
    ----------
    vertices : (n, 3) array
    triangles : (m, 3) integers
    closed : bool
        Whether it runs once round.
    points : (k, 3) array, optional
        What is laid flat with the mesh, in place of its vertices.

    Raises
    ------
    FlatError
        When it has no border, folds over in the map, or is asked to close and does not run round.
    """
    told: FlatError | None = None
    for mesh, own, same in _meshes(vertices, triangles):
        try:
            return _laid(mesh, closed, own if points is None else points, same and points is None)
        except FlatError as error:
            told = told or error
    assert told is not None
    raise told


def _meshes(
    vertices: Floats, triangles: Ints
) -> Iterator[tuple[tuple[Floats, Ints], Floats, bool]]:
    """Yield meshes to lay flat, one after the other where that fails: with each the vertices as
    they follow it, and whether they are its own.

    Raises
    ------
    FlatError
        When the region has no triangles, or lies in pieces that nothing joins.
    """
    if not len(triangles):
        raise FlatError("it has no triangles")
    used, faces = largest_piece(triangles)
    in_pieces = len(used) < TOGETHER * len(np.unique(triangles))
    if not in_pieces:
        same = len(used) == len(vertices)
        yield (vertices[used], faces), vertices, same
        # It may be spikes or noise alone that fold.
        calm = _calmed(vertices, triangles)
        yield (calm[used], faces), calm, same
    cover = covered(vertices, triangles)
    if cover is not None:
        yield cover, vertices, False
    elif in_pieces:
        raise FlatError("it lies in pieces too far apart to be laid flat together")


def _calmed(vertices: Floats, triangles: Ints) -> Floats:
    """Return vertices led to the middle of those about them, several times; a border keeps to
    itself.

    Spikes and noise go, and whatever is as fine.
    """
    mesh = TriangleMesh(vertices, triangles)
    ends = triangles.ravel(), triangles[:, [1, 2, 0]].ravel()
    sides = csr_array((np.ones(triangles.size), ends), shape=mesh.links.shape)
    border = csr_array(sides + sides.T)
    border.data = (border.data == 1).astype(np.float64)
    inside = border.sum(axis=1) == 0
    about = csr_array(diags_array(inside.astype(np.float64)) @ mesh.links + border)
    count = about.sum(axis=1)
    about = csr_array(diags_array(1 / np.maximum(count, 1)) @ about)
    part = np.where(count > 0, LED, 0.0)[:, None]
    for _ in range(CALMED):
        vertices = (1 - part) * vertices + part * (about @ vertices)
    return vertices


def _laid(mesh: tuple[Floats, Ints], closed: bool, points: Floats, same: bool) -> Flat:
    """Lay a mesh flat as it is, and points with it."""
    coarse, faces = _thinned(*mesh, MOST_TRIANGLES if closed else MOST_OF_A_SHEET)
    loops = _large_loops(coarse, faces)
    if not loops:
        raise FlatError("it closes on itself on all sides, so that it cannot be laid flat")
    if closed:
        ends = _ends(coarse, faces, loops)
        if len(ends) != 2:
            has = "one border" if len(loops) == 1 else f"{len(ends) or 'no'} borders that run round"
            raise FlatError(
                f"the region does not run round: it has {has}, and a closed surface needs two, one"
                " at each end"
            )
        places, way = _tube(coarse, faces, ends[0][1], ends[1][1])
    else:
        places, way = _sheet(coarse, faces, loops[0][1]), 0.0
    if not same or len(coarse) < len(mesh[0]):
        places = _followed(places, way, coarse, faces, points)
    return Flat(places, way)


def _thinned(points: Floats, faces: Ints, most: int) -> tuple[Floats, Ints]:
    """Return a mesh, thinned where it is very fine."""
    import fast_simplification

    if len(faces) <= most:
        return points, faces
    thin, thin_faces = fast_simplification.simplify(
        points.astype(np.float32), faces.astype(np.int32), 1 - most / len(faces)
    )
    return thin.astype(np.float64), thin_faces.astype(np.int64)


def _followed(places: Floats, way: float, coarse: Floats, faces: Ints, vertices: Floats) -> Floats:
    """Return the places of all vertices, by where they lie on the coarse triangles."""
    _, triangle, foot = MeshTree(coarse, faces).nearest(vertices)
    corners = faces[triangle]
    a, b, c = (coarse[corners[:, k]] for k in range(3))
    whole = np.cross(b - a, c - a)
    area = np.maximum(np.einsum("nk,nk->n", whole, whole), 1e-300)
    weights = np.stack(
        [
            np.einsum("nk,nk->n", np.cross(c - b, foot - b), whole) / area,
            np.einsum("nk,nk->n", np.cross(a - c, foot - c), whole) / area,
            np.einsum("nk,nk->n", np.cross(b - a, foot - a), whole) / area,
        ]
    )
    flat = places[corners]
    if way:
        # Across the seam the corners' angles differ by a whole turn.
        turn = flat[:, 1:, 1] - flat[:, :1, 1]
        flat[:, 1:, 1] -= way * np.round(turn / way)
    made = np.einsum("kn,nkd->nd", weights, flat)
    if way:
        made[:, 1] %= way
    return np.asarray(made, dtype=np.float64)


def _mapped(points: Floats, faces: Ints, border: Ints, near: int, far: int) -> Floats:
    """Return a conformal map of an open region; where there is none, a harmonic one onto a disc.

    Raises
    ------
    FlatError
        When its triangles give neither.
    """
    pins = np.array([near, far], dtype=np.int64)
    try:
        flat = np.asarray(igl.lscm(points, faces, pins, np.array([[0.0, 0.0], [1.0, 0.0]]))[0])
        if np.isfinite(flat).all():
            return flat
    except RuntimeError:
        pass
    try:
        # Tutte's map: convex combinations inside a convex border cannot fold (Floater 1997).
        ring = igl.map_vertices_to_circle(points, border)
        rows = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
        shape = (len(points), len(points))
        links = csr_array((np.ones(len(rows)), (rows[:, 0], rows[:, 1])), shape=shape)
        links = ((links + links.T) > 0).astype(np.float64)
        stiff = csr_array(diags_array(links.sum(axis=1)) - links)
        inner = np.setdiff1d(np.arange(len(points)), border)
        flat = np.zeros((len(points), 2))
        flat[border] = ring
        pull = -(stiff[inner][:, border] @ ring)
        flat[inner] = np.column_stack(
            [factorized(stiff[inner][:, inner].tocsc())(pull[:, k]) for k in range(2)]
        )
    except RuntimeError as error:
        raise FlatError(NO_MAP) from error
    if not np.isfinite(flat).all():
        raise FlatError(NO_MAP)
    return flat


def _sheet(points: Floats, faces: Ints, border: Ints) -> Floats:
    """Return an open region laid flat with about its own lengths, mm."""
    first = int(border[0])
    far = int(border[np.argmax(np.linalg.norm(points[border] - points[first], axis=1))])
    near = int(border[np.argmax(np.linalg.norm(points[border] - points[far], axis=1))])
    flat = _mapped(points, faces, border, near, far)
    mapped, own = _areas(flat, faces), 2 * _sizes(points, faces)
    if mapped.sum() < 0:
        flat = flat * [1.0, -1.0]
    flat = _relaxed(points, faces, flat * np.sqrt(own.sum() / abs(mapped.sum())))
    mapped = _areas(flat, faces)
    folded = float(np.mean(mapped <= 0))
    if folded > MOST_FOLDED:
        raise FlatError(
            f"it folds over when it is laid flat, too ({100 * folded:.0f} % of its triangles)"
        )
    low, high = np.quantile(mapped / np.maximum(own, 1e-300), [0.02, 0.98])
    stretched = float(np.sqrt(high / max(low, 1e-300)))
    if stretched > MOST_STRETCHED:
        raise FlatError(
            f"parts of it would be stretched {stretched:.0f} times more than others when it is laid"
            " flat"
        )
    flat = flat * np.sqrt(own.sum() / mapped.sum())
    return flat - flat.min(axis=0)


def _relaxed(points: Floats, faces: Ints, flat: Floats) -> Floats:
    """Return a flat map whose triangles are as near as may be to their own shapes.

    Each is turned as it lies best, then all are joined again by least squares, as rigidly as
    possible (Liu and others 2008): a conformal map that noise has drawn out comes back.
    """
    count, ends, starts = len(points), faces[:, [1, 2, 0]], faces
    side = points[ends] - points[starts]
    length = np.linalg.norm(side, axis=2)
    along = side[:, 0] / np.maximum(length[:, 0], 1e-300)[:, None]
    double = np.maximum(2 * _sizes(points, faces), 1e-300)
    own = np.zeros((len(faces), 3, 2))
    own[:, 0, 0] = length[:, 0]
    own[:, 1, 0] = np.einsum("mk,mk->m", side[:, 1], along)
    own[:, 1, 1] = double / np.maximum(length[:, 0], 1e-300)
    own[:, 2] = -own[:, 0] - own[:, 1]
    # Each side pulls by the cotangent of the angle that it lies opposite to.
    others = np.einsum("mki,mki->mk", side[:, [1, 2, 0]], side[:, [2, 0, 1]])
    pull = np.clip(-others / double[:, None], *PULLS)
    rows, columns, of = starts.ravel(), ends.ravel(), pull.ravel()
    links = coo_array((of, (rows, columns)), shape=(count, count)).tocsr()
    links = csr_array(links + links.T)
    weight = links.sum(axis=1)
    joined = splu((diags_array(weight * (1 + 1e-9)) - links).tocsc())
    for _ in range(TURNS):
        seen = np.einsum("mk,mki,mkj->mij", pull, flat[ends] - flat[starts], own)
        sine, cosine = seen[:, 1, 0] - seen[:, 0, 1], seen[:, 0, 0] + seen[:, 1, 1]
        turn = (cosine + 1j * sine) / np.maximum(np.hypot(sine, cosine), 1e-300)
        wanted = (pull * (own[..., 0] + 1j * own[..., 1]) * turn[:, None]).ravel()
        parts = [
            np.bincount(columns, part, count) - np.bincount(rows, part, count)
            for part in (wanted.real, wanted.imag)
        ]
        flat = joined.solve(np.stack(parts, axis=1))
    return flat


def _sizes(points: Floats, faces: Ints) -> Floats:
    """Return the areas of triangles in space."""
    a, b, c = (points[faces[:, k]] for k in range(3))
    return np.asarray(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2, dtype=np.float64)


def _areas(flat: Floats, faces: Ints) -> Floats:
    """Return twice the signed areas of flat triangles."""
    a, b, c = (flat[faces[:, k]] for k in range(3))
    return (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])


def _tube(points: Floats, faces: Ints, start: Ints, end: Ints) -> tuple[Floats, float]:
    """Return places along and round a tube, mm, and the mean way round."""
    stiff = csr_array(-igl.cotmatrix(points, faces))
    count = len(points)
    held = np.full(count, np.nan)
    held[start], held[end] = 0.0, 1.0
    free = np.isnan(held)
    known = np.where(free, 0.0, held)
    u = known.copy()
    try:
        u[free] = factorized(stiff[free][:, free].tocsc())(-(stiff @ known)[free])
    except RuntimeError as error:
        raise FlatError(NO_MAP) from error
    angle = _round_angle(points, u)
    # The angle's jumps along the edges are known; the harmonic part evens its steps out.
    links = stiff.tocoo()
    off = links.row != links.col
    i, j, w = links.row[off], links.col[off], -links.data[off]
    step = (angle[j] - angle[i]) / (2 * np.pi)
    step -= np.round(step)
    right = np.bincount(i, w * step, count)
    grounded = stiff.tolil()
    grounded[0, :] = 0.0
    grounded[0, 0] = 1.0
    right[0] = 0.0
    try:
        extra = splu(grounded.tocsc()).solve(right)
    except RuntimeError as error:
        raise FlatError(NO_MAP) from error
    if not (np.isfinite(u).all() and np.isfinite(extra).all()):
        raise FlatError(NO_MAP)
    v = (angle / (2 * np.pi) + extra) % 1.0
    edge_i, edge_j = i[i < j], j[i < j]
    length = _scale(points, edge_i, edge_j, u, v)
    way = float(_sizes(points, faces).sum() / max(length[-1], 1e-12))
    u = np.interp(u, np.linspace(0, 1, PLACES + 1), length)
    return np.stack([u, v * way], axis=1), way


def _round_angle(points: Floats, u: Floats) -> Floats:
    """Return each point's angle about the tube's middle line, radians."""
    place = np.clip((u * PLACES).astype(np.int64), 0, PLACES - 1)
    count = np.maximum(np.bincount(place, minlength=PLACES), 1)
    middle = np.stack([np.bincount(place, c, PLACES) / count for c in points.T], axis=1)
    known = np.bincount(place, minlength=PLACES) > 0
    at = (np.arange(PLACES) + 0.5) / PLACES
    line = np.stack([np.interp(u, at[known], c) for c in middle[known].T], axis=1)
    own = points - line
    along = np.linalg.svd(middle[known] - middle[known].mean(axis=0), full_matrices=False)[2][0]
    # The seam runs below: that side is looked at least.
    down = np.array([0.0, 0, -1]) if abs(along[2]) < 0.9 else np.array([-1.0, 0, 0])
    down = down - (down @ along) * along
    down /= np.linalg.norm(down)
    return np.arctan2(own @ np.cross(along, down), own @ down) % (2 * np.pi)


def _scale(points: Floats, i: Ints, j: Ints, u: Floats, v: Floats) -> Floats:
    """Return lengths along the tube up to `PLACES` even steps of u."""
    way = np.linalg.norm(points[j] - points[i], axis=1)
    rise = np.abs(u[j] - u[i])
    turn = v[j] - v[i]
    turn = np.abs(turn - np.round(turn))
    steep = rise > 2 * turn
    place = np.clip(((u[i] + u[j]) / 2 * PLACES).astype(np.int64), 0, PLACES - 1)
    gone = np.bincount(place[steep], way[steep], PLACES)
    risen = np.bincount(place[steep], rise[steep], PLACES)
    mean = np.divide(gone, risen, out=np.full(PLACES, np.nan), where=risen > 0)
    known = np.isfinite(mean)
    if not known.any():
        return np.linspace(0, 1, PLACES + 1)
    mean = np.interp(np.arange(PLACES), np.flatnonzero(known), mean[known])
    return np.concatenate([[0.0], np.cumsum(mean / PLACES)])
