"""A mesh laid over loose points or patches of a scan, across what is missing between them."""

from __future__ import annotations

import igl
import numpy as np
import scipy
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh, largest_piece

# No more points are looked at; about so many cells of a grid lie on the surface.
MOST_POINTS, CELLS = 40_000, 4_000
# A grid has no more places than this.
MOST_PLACES = 2_000_000
# A place's height is told by so many points about it.
ABOUT = 8
# It is covered as far from points as so many cells, then farther by this much each time, up to so
# many.
NEAREST, FARTHER, FARTHEST = 1.5, 1.7, 9.0
# So few borders are enough; else it is covered farther, and what has the fewest is taken.
ENOUGH = 4
# So many of the points are to lie on one piece, of a mesh and of a cover.
TOGETHER = 0.98


def covered(vertices: Floats, triangles: Ints) -> tuple[Floats, Ints] | None:
    """Return one mesh over all patches of another, that face alike, or None where they lie too far
    apart."""
    mesh = TriangleMesh(vertices, triangles)
    area = float(np.linalg.norm(mesh.face_vectors, axis=1).sum()) / 2
    return cover_of(mesh.vertices, mesh.vertex_normals, area)


def cover_of(points: Floats, normals: Floats, area: float) -> tuple[Floats, Ints] | None:
    """Return a mesh over points, or None where they lie too far apart.

    The zero set of the height over the tangent planes of the nearest points (Hoppe and others
    1992), on a grid of cubes (Lorensen and Cline 1987).

    Parameters
    ----------
    points, normals : (n, 3) arrays
        mm; normals that face alike, zero where not known.
    area : float
        Of the surface, mm squared, about.
    """
    known = np.flatnonzero(np.einsum("nk,nk->n", normals, normals) > 0)
    if len(known) <= ABOUT or not np.ptp(points[known], axis=0).any():
        return None
    known = known[:: -(-len(known) // MOST_POINTS)]
    points, normals = points[known], normals[known]
    size = np.ptp(points, axis=0)
    box = float((size + 0.1 * size.max()).prod())
    cell = max(float(np.sqrt(area / min(CELLS, len(points)))), (box / MOST_PLACES) ** (1 / 3))
    tree, within = cKDTree(points), NEAREST * cell
    best, fewest = None, np.inf
    while within <= FARTHEST * cell and fewest > ENOUGH:
        made, faces = _surface(tree, normals, cell, within)
        within *= FARTHER
        if not len(faces):
            continue
        used, faces = largest_piece(faces)
        away = cKDTree(made[used]).query(points, workers=2)[0]
        loops = len(igl.boundary_loop_all(faces))
        if np.mean(away < 2 * cell) >= TOGETHER and loops < fewest:
            best, fewest = (made[used], faces), loops
    return best


def _surface(tree: cKDTree, normals: Floats, cell: float, within: float) -> tuple[Floats, Ints]:
    """Return the surface on a grid of cubes, as far from the points as is asked for."""
    from skimage.measure import marching_cubes

    points = np.asarray(tree.data)
    low = points.min(axis=0) - within - 5 * cell
    counts = np.ceil((points.max(axis=0) - low + within + 5 * cell) / cell).astype(np.int64) + 1
    taken = np.ones(counts, dtype=bool)
    taken[tuple(np.round((points - low) / cell).astype(np.int64).T)] = False
    # Farther than is kept: what bounds the known makes walls of its own.
    near = scipy.ndimage.distance_transform_edt(taken) <= within / cell + 3
    place = low + np.argwhere(near) * cell
    distance, which = tree.query(place, ABOUT, workers=2)
    weight = 1 / np.maximum(distance, 0.3 * cell) ** 2
    over = np.einsum("nkj,nkj->nk", place[:, None] - points[which], normals[which])
    height = np.full(counts, 1e3 * cell)
    height[near] = (weight * over).sum(axis=1) / weight.sum(axis=1)
    if not height.min() < 0:
        return np.zeros((0, 3)), np.zeros((0, 3), dtype=np.int64)
    made, faces, _, _ = marching_cubes(height, 0.0, spacing=(cell,) * 3)
    made = made + low
    kept = tree.query(made, workers=2)[0] <= within
    return made, faces[kept[faces].all(axis=1)].astype(np.int64)
