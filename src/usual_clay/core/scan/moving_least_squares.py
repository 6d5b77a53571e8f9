"""Places on a scan with its noise evened out: moving least squares over the nearest vertices."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.closest import vertices_of
from usual_clay.core.scan.mesh import TriangleMesh, unit

NEAREST = 36
ROUNDS = 3
# A vertex farther from the local shape than so many robust deviations is a spike.
SPIKE = 4.0


def smoothed_places(mesh: TriangleMesh, places: Floats) -> Floats:
    """Return places, (n, 3), moved onto the shape that the scan has around each of them.

    A quadratic height over the plane of the nearest vertices' normals is fitted, weighed by
    nearness and without spikes (Alexa and others 2003; the weights are Gaussian). The noise of a
    single vertex so counts for a few hundredths of itself; creases are rounded off over about
    three edges.
    """
    return evened_among(mesh.vertices, mesh.vertex_normals, vertices_of(mesh), places)


def evened_among(points: Floats, normals: Floats, tree: cKDTree, places: Floats) -> Floats:
    """Return the same for measured points, (m, 3), with their normals and a tree of them."""
    moved = np.array(places, dtype=np.float64)
    for _ in range(ROUNDS):
        moved = _moved(points, normals, moved, tree.query(moved, min(NEAREST, len(points)))[1])
    return moved


def _moved(points: Floats, normals: Floats, places: Floats, near: np.ndarray) -> Floats:
    away = points[near] - places[:, None]
    up = unit(normals[near].sum(axis=1))
    helper = np.eye(3)[np.argmin(np.abs(up), axis=1)]
    across = unit(np.cross(helper, up))
    along = np.cross(up, across)
    x, y, z = (np.einsum("nkd,nd->nk", away, axis) for axis in (across, along, up))
    squared = x**2 + y**2
    reach = np.maximum(squared.max(axis=1, keepdims=True), 1e-300)
    weights = np.exp(-3 * squared / reach)
    scale = np.sqrt(reach)
    x, y = x / scale, y / scale
    terms = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=2)
    for _ in range(2):
        height = _solved(terms, z, weights)
        rest = np.abs(z - np.einsum("nkj,nj->nk", terms, height))
        limit = SPIKE * 1.4826 * np.median(rest, axis=1, keepdims=True)
        weights = np.where(rest <= np.maximum(limit, 1e-12), weights, 0.0)
    # Its own height where the place stands: straight along the normal, at x = y = 0.
    return places + height[:, :1] * up


def _solved(terms: Floats, heights: Floats, weights: Floats) -> Floats:
    weighed = terms * weights[..., None]
    normal = np.einsum("nki,nkj->nij", weighed, terms)
    normal += 1e-9 * np.trace(normal, axis1=1, axis2=2)[:, None, None] * np.eye(6)
    right = np.einsum("nki,nk->ni", weighed, heights)
    return np.asarray(np.linalg.solve(normal, right[..., None])[..., 0], dtype=np.float64)
