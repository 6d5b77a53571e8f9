"""Rigid motions: the value, and those that set a scan straight."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats, frozen
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.scan.symmetry import MirrorPlane


class MotionError(GeometryError):
    """Points or directions from which no motion follows."""


@dataclass(frozen=True, eq=False)
class Motion:
    """A turn and a shift: ``new = turn @ old + shift``.

    Attributes
    ----------
    turn : (3, 3) array
    shift : (3,) array
        mm.
    """

    turn: Floats
    shift: Floats

    def __post_init__(self) -> None:
        object.__setattr__(self, "turn", frozen(self.turn))
        object.__setattr__(self, "shift", frozen(self.shift))

    def apply(self, points: Floats) -> Floats:
        return points @ self.turn.T + self.shift

    def then(self, after: Motion) -> Motion:
        return Motion(after.turn @ self.turn, after.apply(self.shift[None])[0])

    @property
    def inverse(self) -> Motion:
        return Motion(self.turn.T, -self.shift @ self.turn)

    @property
    def angle(self) -> float:
        """The angle of the turn, radians."""
        return float(np.arccos(np.clip((np.trace(self.turn) - 1) / 2, -1, 1)))


def still() -> Motion:
    return Motion(np.eye(3), np.zeros(3))


def onto_axes(rows: Floats, origin: Floats) -> Motion:
    """Return the motion that takes three unit directions, (3, 3), to x, y, z and a point to 0."""
    return Motion(rows, -rows @ origin)


def by_three_points(points: Floats) -> Motion:
    """Take the first point to 0, the second onto the x axis and the third into the xy plane.

    Raises
    ------
    MotionError
        When the points lie on a line.
    """
    if points.shape != (3, 3):
        raise MotionError(f"three points are needed, not {len(points)}")
    along, beside = points[1] - points[0], points[2] - points[0]
    up = np.cross(along, beside)
    if np.linalg.norm(up) < 1e-6 * max(float(np.linalg.norm(along) * np.linalg.norm(beside)), 1e-9):
        raise MotionError("the three points lie on a line: pick one beside it")
    x, z = unit(along), unit(up)
    return onto_axes(np.stack([x, np.cross(z, x), z]), points[0])


def by_plane_and_direction(
    ground: Floats | None, direction: Floats | None, origin: Floats | None, middle: Floats
) -> Motion:
    """Take a normal to z, a direction to x as far as the normal allows, and a point to 0.

    What is not given stays as it is: without a normal the direction goes to x by the shortest
    turn, without a point what lies at `middle` stays there.

    Raises
    ------
    MotionError
    """
    turn = np.eye(3)
    if ground is not None:
        turn = shortest_turn(unit(ground), np.array([0.0, 0, 1]))
    if direction is not None:
        along = turn @ unit(direction)
        if ground is None:
            turn = shortest_turn(along, np.array([1.0, 0, 0]))
        else:
            flat = np.hypot(along[0], along[1])
            if flat < 0.02:
                raise MotionError("the direction is square to the ground: choose another one")
            c, s = along[0] / flat, along[1] / flat
            turn = np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]]) @ turn
    shift = -turn @ origin if origin is not None else middle - turn @ middle
    return Motion(turn, shift)


def shortest_turn(start: Floats, end: Floats) -> Floats:
    """Return the rotation matrix that takes one unit vector to another the shortest way."""
    axis, c = np.cross(start, end), float(start @ end)
    if c < -1 + 1e-12:
        helper = unit(np.cross(start, np.eye(3)[np.argmin(np.abs(start))]))
        return 2 * np.outer(helper, helper) - np.eye(3)
    x, y, z = axis
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.eye(3) + cross + cross @ cross / (1 + c)


def by_principal_axes(mesh: TriangleMesh) -> Motion:
    """Take the middle to 0, the longest axis to x and the shortest to y; right-handed."""
    middle, axes = _principal(mesh)
    rows = np.stack([axes[0], axes[2], axes[1]])
    # As little turned as may be: each axis points the way that the world's does.
    rows *= np.where(np.abs(rows.diagonal()) > 1e-9, np.sign(rows.diagonal()), 1.0)[:, None]
    if np.linalg.det(rows) < 0:
        rows[1] *= -1
    return onto_axes(rows, middle)


def by_symmetry(mesh: TriangleMesh, plane: MirrorPlane) -> Motion:
    """Take the plane of mirror symmetry to y = 0 and the longest direction in it to x."""
    middle, axes = _principal(mesh)
    y = plane.normal * (1.0 if plane.normal[1] >= 0 else -1.0)
    along = axes[0] - (axes[0] @ y) * y
    if np.linalg.norm(along) < 0.3:
        along = axes[1] - (axes[1] @ y) * y
    x = unit(along) * (1.0 if along[0] >= 0 else -1.0)
    on_plane = middle - (middle @ plane.normal - plane.offset) * plane.normal
    return onto_axes(np.stack([x, y, np.cross(x, y)]), on_plane)


def _principal(mesh: TriangleMesh) -> tuple[Floats, Floats]:
    """Return the middle of the surface and its principal axes, the longest first."""
    areas = np.linalg.norm(mesh.face_vectors, axis=1)
    centres = mesh.vertices[mesh.triangles].mean(axis=1)
    middle = np.average(centres, axis=0, weights=areas)
    away = centres - middle
    spread = (away * areas[:, None]).T @ away / areas.sum()
    return middle, np.linalg.eigh(spread)[1].T[::-1]
