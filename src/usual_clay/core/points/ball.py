"""From the centre of a probe's ball to the surface it touched."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.errors import GeometryError
from usual_clay.core.points.course import smooth_course

Side = Literal["in", "out", "left", "right"]


class BallError(GeometryError):
    """A run that cannot be offset."""


@dataclass(frozen=True)
class BallSettings:
    """The probe's ball, mm, and the side on which the surface lies."""

    diameter: float = 3.0
    side: Side = "in"

    def __post_init__(self) -> None:
        if self.side not in ("in", "out", "left", "right"):
            raise BallError(f"the side must be in, out, left or right, not {self.side!r}")


@dataclass(frozen=True, eq=False)
class BallOffset:
    """A run moved from the ball's centre to the touched surface.

    Attributes
    ----------
    points : (m, 2) array
    kept : (n,) mask
        Which points of the run they belong to; the others fell into cusps.
    too_tight : int
        How many points were trimmed because the run's inside radius is smaller than the ball's.
    """

    points: Floats
    kept: Bools
    too_tight: int


def offset_for_ball(points: Floats, radius: float, side: Side, closed: bool = False) -> BallOffset:
    """Move a run by the ball's radius to one side, in its plane, and trim cusps.

    The direction is square to the run's smooth course, so that noise turns it little. A moved
    point that comes nearer than the radius to another part of the run lies in a cusp, where the
    ball could not have been, and is left out.

    Parameters
    ----------
    points : (n, 2) array
        In order, slips removed.
    radius : float
        Of the ball, mm.
    side : {"in", "out", "left", "right"}
        Seen along the run for left and right; in and out of the area it encloses.

    Raises
    ------
    BallError
        For fewer than three points, or a radius that is not positive.
    """
    if len(points) < 3:
        raise BallError(f"a run of {len(points)} points has no sides: at least 3 are needed")
    if not (np.isfinite(radius) and radius > 0):
        raise BallError(f"the ball's diameter must be more than 0 mm, not {2 * radius:g}")
    course = smooth_course(points, closed)
    if closed:
        tangent = np.roll(course, -1, axis=0) - np.roll(course, 1, axis=0)
    else:
        tangent = np.gradient(course, axis=0)
    left = np.stack([-tangent[:, 1], tangent[:, 0]], axis=1)
    length = np.linalg.norm(left, axis=1, keepdims=True)
    left = np.divide(left, length, out=np.zeros_like(left), where=length > 0)
    moved = points + radius * _sign(points, side) * left
    kept = _clear_of(points, moved, radius, closed)
    return BallOffset(moved[kept], kept, int(np.sum(~kept)))


def _sign(points: Floats, side: Side) -> float:
    if side in ("left", "right"):
        return 1.0 if side == "left" else -1.0
    x, y = points.T
    # The area is positive when the run goes round with its inside at the left.
    area = float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1)))
    return float(np.sign(area) or 1.0) * (1.0 if side == "in" else -1.0)


def _clear_of(run: Floats, moved: Floats, radius: float, closed: bool) -> Bools:
    """Tell which moved points are no nearer to the run than the radius, but for its noise."""
    ring = np.concatenate([run, run[:1]]) if closed else run
    steps = np.linalg.norm(np.diff(ring, axis=0), axis=1)
    spacing = max(float(np.median(steps)), 1e-9)
    # Dense enough that the nearest sample is as near as the nearest place between two points.
    fine = int(np.clip(np.ceil(4 * spacing / radius), 1, 16))
    share = np.arange(fine) / fine
    dense = (ring[:-1, None] + share[:, None] * np.diff(ring, axis=0)[:, None]).reshape(-1, 2)
    nearest = cKDTree(dense).query(moved)[0]
    stray = float(np.median(np.linalg.norm(run - smooth_course(run, closed), axis=1)))
    return np.asarray(nearest >= radius - max(5 * stray, 0.02 * radius))
