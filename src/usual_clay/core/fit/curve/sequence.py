"""Ordered runs of points: what is set of splines through them, and their parts between corners."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Place
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.corners import find_corners
from usual_clay.core.points.course import noise_of, roughness_of
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.curve import BSplineCurve

# Longer runs are thinned to so many points until knots and parameters are settled.
SETTLING_POINTS = 700


@dataclass(frozen=True)
class TraceSettings:
    """What the user sets of a spline that follows a run.

    Attributes
    ----------
    controls, degree : int
        Control points, more than the degree, and the degree.
    knots : {"even", "adaptive"}
        Spread evenly along the run, or closer where its shape needs them.
    corners : float
        The run is parted where it turns by more than this, radians; 0 parts it nowhere.
    part : int
        Which of the parts is followed.
    cuts : tuple of (x, y, z)
        The run is parted as well at the points nearest to these places, whatever its turn there.
    inner, pace : tuples of float
        Inner knots, and the parameters at even shares of the run's length, as a search found them;
        without them they are found for the count.
    any_degree : bool
        Whether a search for adaptive knots tries degrees 2 to 5, and keeps the leanest.
    """

    controls: int = 12
    degree: int = 3
    knots: Literal["even", "adaptive"] = "even"
    corners: float = 0.0
    part: int = 0
    cuts: tuple[Place, ...] = ()
    inner: tuple[float, ...] = ()
    pace: tuple[float, ...] = ()
    any_degree: bool = False

    def __post_init__(self) -> None:
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not self.degree < self.controls <= 400:
            raise FitError(
                f"degree {self.degree} needs {self.degree + 1} to 400 control points,"
                f" not {self.controls}"
            )
        if self.knots not in ("even", "adaptive"):
            raise FitError(f"knots must be even or adaptive, not {self.knots!r}")

    def sized(self, controls: int) -> TraceSettings:
        return replace(self, controls=controls, inner=(), pace=())


@dataclass(frozen=True, eq=False)
class Leave:
    """How a spline leaves an end of a run.

    Attributes
    ----------
    ahead : (3,) array
        Its direction there, as the run runs; of length 1.
    bend : (3,) array or None
        Its curvature vector, 1/mm, where that is held too.
    """

    ahead: Floats
    bend: Floats | None = None


@dataclass(frozen=True, eq=False)
class PointSequence:
    """An ordered run.

    Attributes
    ----------
    points : (n, 3) array
        mm.
    closed : bool
        Whether the last is followed by the first.
    held : (bool, bool)
        Whether a spline through an open run starts and ends just at its ends, as parts do that
        meet at a corner.
    leaves : (Leave or None, Leave or None)
        Directions that are held at held ends.
    """

    points: Floats
    closed: bool = False
    held: tuple[bool, bool] = (False, False)
    leaves: tuple[Leave | None, Leave | None] = (None, None)

    @cached_property
    def noise(self) -> float:
        """The standard deviation of one coordinate's noise, mm."""
        return noise_of(self.points)

    @cached_property
    def roughness(self) -> float:
        """What noise comes to at the most, mm; of sparse points shape is in it."""
        return roughness_of(self.points)


@dataclass(frozen=True, eq=False)
class CurveFit:
    """A fitted curve, the distance of each point from it, (n,) in mm, and which do not stray."""

    curve: BSplineCurve
    signed: Floats
    believed: Bools


def parts_of(
    run: PointSequence, corners: float, cuts: tuple[Place, ...] = ()
) -> list[PointSequence]:
    """Part a run at its corners and cuts; both parts hold the point there.

    A run without corners comes back whole, closed if it was.
    """
    at = (
        find_corners(run.points, run.closed, corners, run.roughness)
        if corners > 0
        else np.zeros(0, np.int64)
    )
    if cuts:
        away = np.linalg.norm(run.points[:, None] - np.array(cuts), axis=2)
        at = np.union1d(at, away.argmin(axis=0))
    if not len(at):
        return [run]
    if run.closed:
        points = np.roll(run.points, -at[0], axis=0)
        points, ends = np.concatenate([points, points[:1]]), at - at[0]
    else:
        points, ends = run.points, np.concatenate([[0], at])
    ends = np.append(ends, len(points) - 1)
    stretches = [(a, b) for a, b in pairwise(ends.tolist()) if b > a]
    last = len(stretches) - 1
    return [
        PointSequence(points[a : b + 1], held=(run.closed or k > 0, run.closed or k < last))
        for k, (a, b) in enumerate(stretches)
    ]


def most_controls(run: PointSequence, degree: int) -> int:
    """Return how many control points a run can tell: those of a closed curve meet at its ends."""
    return len(run.points) + (min(degree, 3) if run.closed else 0)


def thinned(run: PointSequence) -> PointSequence:
    """Return a run of enough points to settle parameters and knots by, both ends kept."""
    step = max(1, round(len(run.points) / SETTLING_POINTS))
    points = run.points[::step]
    if not run.closed and (len(run.points) - 1) % step:
        points = np.concatenate([points, run.points[-1:]])
    return replace(run, points=points)
