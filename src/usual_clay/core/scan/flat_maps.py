"""Maps of a mesh onto the plane: as a sheet, round as a tube, along as a band."""

from __future__ import annotations

import igl
import numpy as np
from scipy.sparse import coo_array, csr_array, diags_array
from scipy.sparse.linalg import ArpackError, eigsh, factorized, splu

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import GeometryError

# A sheet's triangles are turned towards their own shapes so often; how unequal their pulls may be.
TURNS, PULLS = 20, (0.02, 50.0)
# So many triangles of a map may lie upside down, as a share: slivers at ragged borders.
MOST_FOLDED = 0.01
# Lengths of a map may be so many times larger in one place than in another.
MOST_STRETCHED = 8.0
# Lengths along a tube are read off at so many places.
PLACES = 48
NO_MAP = "its triangles give no map: mend the scan first"


class FlatError(GeometryError):
    """A region that cannot be laid flat."""


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


def sheet_map(points: Floats, faces: Ints, border: Ints) -> Floats:
    """Return an open region laid flat with about its own lengths, mm."""
    first = int(border[0])
    far = int(border[np.argmax(np.linalg.norm(points[border] - points[first], axis=1))])
    near = int(border[np.argmax(np.linalg.norm(points[border] - points[far], axis=1))])
    flat = _mapped(points, faces, border, near, far)
    mapped, own = _areas(flat, faces), 2 * sizes(points, faces)
    if mapped.sum() < 0:
        flat = flat * [1.0, -1.0]
    flat = _relaxed(points, faces, flat * np.sqrt(own.sum() / abs(mapped.sum())))
    mapped = _unfolded(flat, faces)
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
    double = np.maximum(2 * sizes(points, faces), 1e-300)
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


def _unfolded(flat: Floats, faces: Ints) -> Floats:
    """Return twice the areas of a map's triangles, of which hardly one lies upside down."""
    mapped = _areas(flat, faces)
    folded = float(np.mean(mapped <= 0))
    if folded > MOST_FOLDED:
        raise FlatError(
            f"it folds over when it is laid flat, too ({100 * folded:.0f} % of its triangles)"
        )
    return mapped


def sizes(points: Floats, faces: Ints) -> Floats:
    """Return the areas of triangles in space."""
    a, b, c = (points[faces[:, k]] for k in range(3))
    return np.asarray(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2, dtype=np.float64)


def _areas(flat: Floats, faces: Ints) -> Floats:
    """Return twice the signed areas of flat triangles."""
    a, b, c = (flat[faces[:, k]] for k in range(3))
    return (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])


def tube_map(points: Floats, faces: Ints, start: Ints, end: Ints) -> tuple[Floats, float]:
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
    way = float(sizes(points, faces).sum() / max(length[-1], 1e-12))
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


def band_map(points: Floats, faces: Ints) -> Floats:
    """Return places along a region's own length and across it, mm, however it winds.

    The slowest wave that a surface swings in runs along it (the eigenfunction of Laplace's
    operator, free at the borders; Levy 2006): of a strip it is the cosine of the way along. Across
    it runs what turns that way by a right angle, by least squares (Levy and others 2002).
    """
    count, size = len(points), sizes(points, faces)
    stiff = csr_array(-igl.cotmatrix(points, faces)).tocsc()
    mass = diags_array(np.bincount(faces.ravel(), np.repeat(size / 3, 3), count)).tocsc()
    # A little less than none: there the matrix can be solved.
    below, first = -1e-3 / size.sum(), np.random.default_rng(0).normal(size=count)
    try:
        squares, waves = eigsh(stiff, 2, M=mass, sigma=below, v0=first)
        wave = waves[:, 1] - (waves[:, 1].min() + waves[:, 1].max()) / 2
        wave *= np.sign(wave @ points[:, np.argmax(np.ptp(points, axis=0))]) / np.abs(wave).max()
        along = np.arcsin(np.clip(wave, -1.0, 1.0)) / np.sqrt(squares[1])
        right = np.zeros(count)
        for k in range(3):
            step = along[faces[:, k - 1]] - along[faces[:, k - 2]]
            right += np.bincount(faces[:, k], step / 2, count)
        across = splu(stiff - below * mass).solve(right)
    except (RuntimeError, ArpackError) as error:
        raise FlatError(NO_MAP) from error
    flat = np.stack([along, across], axis=1)
    if not np.isfinite(flat).all():
        raise FlatError(NO_MAP)
    _unfolded(flat, faces)
    return flat - flat.min(axis=0)
