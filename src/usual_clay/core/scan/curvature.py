"""How a scanned surface bends: smoothed normals and robust curvature."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.sparse import diags_array

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh, unit

# Rings of neighbours over which normals are evened out before they are compared.
RINGS = 4
PIECE = 400_000


def smoothed_normals(mesh: TriangleMesh, rings: int = RINGS) -> Floats:
    """Return vertex normals averaged over some rings of neighbours, (n, 3)."""
    average = mesh.links + diags_array(np.ones(len(mesh.vertices)))
    normals = mesh.gather(mesh.face_vectors)
    for _ in range(rings):
        normals = average @ normals
    return unit(normals)


def _edges_in_pieces(mesh: TriangleMesh) -> Iterator[tuple[Ints, Ints]]:
    """Yield all edges in both directions, some at a time: large scans have millions."""
    for start in range(0, len(mesh.edges), PIECE):
        low, high = mesh.edges[start : start + PIECE].T
        yield low, high
        yield high, low


def bend(mesh: TriangleMesh) -> tuple[Floats, Floats]:
    """Return smoothed normals and the largest absolute principal curvature at each vertex.

    The shape operator is the least-squares solution, over a vertex's edges, of "the normal turns
    by the operator times the step" in the tangent plane (after Rusinkiewicz 2004, who solves it
    for each triangle). Its noise is that of the smoothed normals.

    Returns
    -------
    normals : (n, 3) array
    curvature : (n,) array
        1/mm.
    """
    # Kept beside what the mesh works out of itself, so that it goes when the mesh goes.
    kept = mesh.__dict__
    if "bend" not in kept:
        kept["bend"] = _bend(mesh)
    found: tuple[Floats, Floats] = kept["bend"]
    return found


def _bend(mesh: TriangleMesh) -> tuple[Floats, Floats]:
    normals = smoothed_normals(mesh)
    helper = np.eye(3)[np.argmin(np.abs(normals), axis=1)]
    first = unit(np.cross(helper, normals))
    second = np.cross(normals, first)
    sums = np.zeros((6, len(normals)))
    for i, j in _edges_in_pieces(mesh):
        step = mesh.vertices[j] - mesh.vertices[i]
        turn = normals[j] - normals[i]
        x, y = np.einsum("nk,nk->n", step, first[i]), np.einsum("nk,nk->n", step, second[i])
        p, q = np.einsum("nk,nk->n", turn, first[i]), np.einsum("nk,nk->n", turn, second[i])
        for row, values in enumerate((x * x, x * y, y * y, x * p, y * p + x * q, y * q)):
            sums[row] += np.bincount(i, values, len(normals))
    count = len(mesh.vertices)
    # Normal equations for the operator ((a, b), (b, c)): x a + y b = p, x b + y c = q.
    xx, xy, yy = sums[:3]
    system = np.zeros((count, 3, 3))
    system[:, 0, 0], system[:, 0, 1], system[:, 1, 1] = xx, xy, xx + yy
    system[:, 1, 2], system[:, 2, 2] = xy, yy
    system[:, 1, 0], system[:, 2, 1] = xy, xy
    system += (1e-9 * (xx + yy) + 1e-300)[:, None, None] * np.eye(3)
    right = sums[3:].T
    a, b, c = np.linalg.solve(system, right[..., None])[..., 0].T
    curvature = np.abs(a + c) / 2 + np.sqrt(((a - c) / 2) ** 2 + b**2)
    return normals, curvature
