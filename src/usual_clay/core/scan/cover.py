"""A mesh laid over scattered patches of a scan, across what is missing between them."""

from __future__ import annotations

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
# So many of the points are to lie on one piece, of a mesh and of a cover.
TOGETHER = 0.98


def covered(vertices: Floats, triangles: Ints) -> tuple[Floats, Ints] | None:
    """Return one mesh over all patches of another, or None where they lie too far apart.

    The zero set of the height over the tangent planes of the nearest points (Hoppe and others
    1992), on a grid of cubes (Lorensen and Cline 1987).

    Parameters
    ----------
    vertices : (n, 3) array
    triangles : (m, 3) integers
        Facing alike, patch by patch.
    """
    mesh = TriangleMesh(vertices, triangles)
    known = np.flatnonzero(np.einsum("nk,nk->n", mesh.vertex_normals, mesh.vertex_normals) > 0)
    if len(known) <= ABOUT:
        return None
    known = known[:: -(-len(known) // MOST_POINTS)]
    points, normals = mesh.vertices[known], mesh.vertex_normals[known]
    size = np.ptp(points, axis=0)
    area = float(np.linalg.norm(mesh.face_vectors, axis=1).sum()) / 2
    box = float((size + 0.1 * size.max()).prod())
    cell = max(float(np.sqrt(area / CELLS)), (box / MOST_PLACES) ** (1 / 3))
    tree, within = cKDTree(points), NEAREST * cell
    while within <= FARTHEST * cell:
        made, faces = _surface(tree, normals, cell, within)
        if len(faces):
            used, faces = largest_piece(faces)
            away = cKDTree(made[used]).query(points, workers=2)[0]
            if np.mean(away < 2 * cell) >= TOGETHER:
                return made[used], faces
        within *= FARTHER
    return None


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
