"""Triangles of a body as near as they are wanted, and how far measured points lie from them."""

from __future__ import annotations

import numpy as np

from usual_clay.core.apart import apart
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.core.spline.tessellate import grid_triangles, parameters_for_chord

# Corners no farther apart than this share of a body's size are one.
TOGETHER = 1e-9


def triangles_at(body: BodyShape, chord: float) -> tuple[Floats, Ints]:
    """Return a body's triangles within a chord height; those of faces that meet share corners."""
    vertices, triangles = apart("the body", _triangles, body.exact, chord)
    size = float(np.ptp(vertices, axis=0).max())
    grid = np.round(vertices / (TOGETHER * size)).astype(np.int64)
    _, first, which = np.unique(grid, axis=0, return_index=True, return_inverse=True)
    joined = which.ravel()[triangles]
    own = (joined != np.roll(joined, 1, axis=1)).all(axis=1)
    return vertices[first], joined[own]


def mesh_of(shape: BSplineSurface | BodyShape, chord: float) -> TriangleMesh:
    """Return a surface or a body as triangles within a chord height, mm."""
    if isinstance(shape, BodyShape):
        return TriangleMesh(*triangles_at(shape, chord))
    u, v = parameters_for_chord(shape, chord)
    return TriangleMesh(surface_grid(shape, u, v).reshape(-1, 3), grid_triangles(len(u), len(v)))


def _triangles(exact: tuple[bytes, tuple[str, ...]], chord: float) -> tuple[Floats, Ints]:
    from usual_clay.core.body.meshing import triangles_of
    from usual_clay.core.body.shapes import FACE, parts, read

    shape = read(exact).shape
    vertices, _, triangles, _ = triangles_of(shape, parts(shape, FACE), chord)
    return vertices, triangles


def deviation_from(body: BodyShape, points: Floats, chord: float) -> Floats:
    """Return how far points lie from a body, (n,), mm: positive outside of it.

    Triangles within a chord height stand for the body: it is off by no more than that.
    """
    vertices, triangles = triangles_at(body, chord)
    away, which, nearest = tree_of(TriangleMesh(vertices, triangles)).nearest(points)
    a, b, c = (vertices[triangles[which, k]] for k in range(3))
    side = ((points - nearest) * np.cross(b - a, c - a)).sum(axis=1)
    signed: Floats = np.where(side < 0, -away, away)
    return signed
