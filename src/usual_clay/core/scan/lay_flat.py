"""Regions of a scan laid flat: parameters with little distortion, also where they wrap round."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import igl
import numpy as np
from scipy.sparse import csr_array, diags_array

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.cover import TOGETHER, covered
from usual_clay.core.scan.flat_maps import FlatError, band_map, sheet_map, sizes, tube_map
from usual_clay.core.scan.mesh import TriangleMesh, largest_piece, unit

# As a sheet, round as a tube, or as a band along its length.
Way = Literal["sheet", "tube", "band"]
# Maps are worked out on no more triangles than this; what is finer follows by its place on them.
MOST_TRIANGLES = {"sheet": 5_000, "tube": 20_000, "band": 5_000}
# A border loop shorter than this share of the longest goes round a hole.
HOLE = 0.25
# An end of a tube is at least this share of the mean way round it; its longest turns within the
# surface by less than so much, in so many parts, each seen at so many places, on normals evened
# out so often.
END, TURNED, SEEN, WITHIN, EVENED = 0.2, np.pi, 40, 12, 4
# Where all else fails, vertices are led so far to the middle of those about them, so often.
LED, CALMED = 2 / 3, 10


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
    coarse, faces = _thinned(*own, MOST_TRIANGLES["tube"])
    ends = _ends(coarse, faces, _large_loops(coarse, faces))
    if len(ends) > 2 and (cover := covered(vertices, triangles)) is not None:
        # Holes that touch run together into what is no plain loop.
        coarse, faces = cover
        ends = _ends(coarse, faces, _large_loops(coarse, faces))
    if len(ends) != 2:
        return False
    middles = [coarse[ring].mean(axis=0) for _, ring in ends]
    apart = float(np.linalg.norm(middles[0] - middles[1]))
    way = float(sizes(coarse, faces).sum()) / max(apart, 1e-12)
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


def lay_out_flat(vertices: Floats, triangles: Ints, way: Way, points: Floats | None = None) -> Flat:
    """Lay a region flat with little distortion.

    A sheet is mapped by least squares (Levy and others 2002), relaxed towards its own
    lengths (Liu and others 2008), and scaled to its own area. A tube closes: u is the harmonic
    function from one end to the other, v the harmonic angle round it; both advance with the mean
    length on the surface. A band runs along its own length, however it winds.

    Parameters
    ----------
    vertices : (n, 3) array
    triangles : (m, 3) integers
    way : {"sheet", "tube", "band"}
    points : (k, 3) array, optional
        What is laid flat with the mesh, in place of its vertices.

    Raises
    ------
    FlatError
        When it has no border, folds over in the map, or is no tube and is to be laid round.
    """
    told: FlatError | None = None
    for mesh, own, same in _meshes(vertices, triangles):
        try:
            return _laid(mesh, way, own if points is None else points, same and points is None)
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


def _laid(mesh: tuple[Floats, Ints], way: Way, points: Floats, same: bool) -> Flat:
    """Lay a mesh flat as it is, and points with it."""
    coarse, faces = _thinned(*mesh, MOST_TRIANGLES[way])
    loops = _large_loops(coarse, faces)
    if not loops:
        raise FlatError("it closes on itself on all sides, so that it cannot be laid flat")
    about = 0.0
    if way == "tube":
        ends = _ends(coarse, faces, loops)
        if len(ends) != 2:
            has = "one border" if len(loops) == 1 else f"{len(ends) or 'no'} borders that run round"
            raise FlatError(
                f"the region does not run round: it has {has}, and a closed surface needs two, one"
                " at each end"
            )
        places, about = tube_map(coarse, faces, ends[0][1], ends[1][1])
    elif way == "band":
        places = band_map(coarse, faces)
    else:
        places = sheet_map(coarse, faces, loops[0][1])
    if not same or len(coarse) < len(mesh[0]):
        places = _followed(places, about, coarse, faces, points)
    return Flat(places, about)


def _thinned(points: Floats, faces: Ints, most: int) -> tuple[Floats, Ints]:
    """Return a mesh, thinned where it is very fine."""
    import fast_simplification

    if len(faces) <= most:
        return points, faces
    thin, thin_faces = fast_simplification.simplify(
        points.astype(np.float32), faces.astype(np.int32), 1 - most / len(faces)
    )
    return thin.astype(np.float64), thin_faces.astype(np.int64)


def _followed(
    places: Floats, about: float, coarse: Floats, faces: Ints, vertices: Floats
) -> Floats:
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
    if about:
        # Across the seam the corners' angles differ by a whole turn.
        turn = flat[:, 1:, 1] - flat[:, :1, 1]
        flat[:, 1:, 1] -= about * np.round(turn / about)
    made = np.einsum("kn,nkd->nd", weights, flat)
    if about:
        made[:, 1] %= about
    return np.asarray(made, dtype=np.float64)
