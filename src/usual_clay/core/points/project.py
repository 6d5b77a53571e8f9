"""Points brought down onto a plane, a line or a scan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh

Onto = Literal["xy", "yz", "zx", "x", "y", "z", "shape", "scan"]


class ProjectError(GeometryError):
    """Nothing to project onto."""


@dataclass(frozen=True)
class OntoSettings:
    """What points are brought down onto.

    Attributes
    ----------
    onto : str
        A plane or a line of the world's axes; "shape" for a plane or an axis, or "scan", each
        the second source.
    at : float
        How far a plane lies along its normal, mm.
    """

    onto: Onto = "xy"
    at: float = 0.0


def onto_plane(points: Floats, origin: Floats, normal: Floats) -> Floats:
    """Return the feet of points, (n, 3), on a plane."""
    return points - ((points - origin) @ normal)[:, None] * normal


def onto_line(points: Floats, origin: Floats, direction: Floats) -> Floats:
    """Return the feet of points, (n, 3), on a line."""
    return origin + ((points - origin) @ direction)[:, None] * direction


def onto_mesh(points: Floats, mesh: TriangleMesh) -> Floats:
    """Return the nearest points of a mesh to points, (n, 3)."""
    return tree_of(mesh).nearest(points)[2]


def onto_world(points: Floats, onto: str, at: float = 0.0) -> Floats:
    """Bring points, (n, 3), onto a plane or a line of the world's axes."""
    axes = ["xyz".index(letter) for letter in onto]
    if len(axes) == 1:
        return onto_line(points, np.zeros(3), np.eye(3)[axes[0]])
    square = np.eye(3)[3 - sum(axes)]
    return onto_plane(points, at * square, square)
