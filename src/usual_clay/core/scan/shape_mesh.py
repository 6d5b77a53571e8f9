"""Simple shapes as triangles."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.mesh import unit
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.tessellate import grid_triangles

AROUND = 49


def shape_mesh(shape: SimpleShape) -> tuple[Floats, np.ndarray]:
    """Return a simple shape as triangles, as far as its points go."""
    helper = np.eye(3)[np.argmin(np.abs(shape.axis))]
    first = unit(np.cross(shape.axis, helper))
    second = np.cross(shape.axis, first)
    turn = np.linspace(0, 2 * np.pi, AROUND)
    round_ = np.cos(turn)[:, None] * first + np.sin(turn)[:, None] * second
    low, high = shape.span
    if shape.kind == "plane":
        rings = [0.001 * high * round_, high * round_]
    elif shape.kind == "sphere":
        rise = np.linspace(-np.pi / 2 + 0.01, np.pi / 2 - 0.01, 25)
        rings = [shape.radius * (np.cos(a) * round_ + np.sin(a) * shape.axis) for a in rise]
    elif shape.kind == "cylinder":
        rings = [shape.radius * round_ + h * shape.axis for h in (low, high)]
    else:
        rings = [max(h, 1e-6) * (np.tan(shape.angle) * round_ + shape.axis) for h in (low, high)]
    vertices = shape.point + np.concatenate(rings)
    return vertices, grid_triangles(len(rings), AROUND)
