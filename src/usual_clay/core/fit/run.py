"""A spline through an ordered run of points, by least squares with corrected parameters."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.system import FitError
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.basis import HIGHEST_DEGREE, collocation, even_knots, gram
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve

ROUNDS, WORTHWHILE = 12, 0.002
# The least stiffness that settles control points between which no point of the run lies.
LEAST_STIFFNESS = 1e-9


@dataclass(frozen=True)
class RunSettings:
    """What the user sets of a spline that follows a run: control points and degree."""

    controls: int = 12
    degree: int = 3

    def __post_init__(self) -> None:
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not self.degree < self.controls <= 400:
            raise FitError(
                f"degree {self.degree} needs {self.degree + 1} to 400 control points,"
                f" not {self.controls}"
            )


@dataclass(frozen=True, eq=False)
class Run:
    """An ordered run: (n, 3) points in mm, and whether the last is followed by the first."""

    points: Floats
    closed: bool = False


@dataclass(frozen=True, eq=False)
class RunFit:
    """A fitted curve and the distance of each point from it, (n,) in mm."""

    curve: BSplineCurve
    signed: Floats


def fit_run(run: Run, settings: RunSettings, progress: Progress = silent) -> RunFit:
    """Fit a spline of given control points to a run.

    Parameters start as chord lengths and are set to the foot points until that no longer pays
    (Hoschek 1988). The ends of a closed run meet, with one tangent and one curvature.

    Raises
    ------
    FitError
        For fewer points than control points.
    """
    points = np.concatenate([run.points, run.points[:1]]) if run.closed else run.points
    if len(points) < settings.controls:
        raise FitError(
            f"{len(run.points)} points are too few for {settings.controls} control points"
        )
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    if not length[-1] > 0:
        raise FitError("all points of the run are on one spot")
    knots = even_knots(settings.controls, settings.degree)
    t, best, before = length / length[-1], None, np.inf
    for number in range(ROUNDS):
        progress(number / ROUNDS, f"round {number + 1}")
        curve = BSplineCurve(knots, _solved(knots, settings, t, points, run.closed))
        foot, _, distance = curve_foot_points(curve, points, t)
        rms = float(np.sqrt(np.mean(distance**2)))
        if rms < before:
            best = RunFit(curve, distance[: len(run.points)])
        if rms > (1 - WORTHWHILE) * before:
            break
        before, t = rms, foot
    assert best is not None
    return best


def _solved(
    knots: Floats, settings: RunSettings, t: Floats, points: Floats, closed: bool
) -> Floats:
    matrix = collocation(knots, settings.degree, t)
    order = min(2, settings.degree)
    normal = matrix.T @ matrix / len(t)
    stiff = gram(knots, settings.degree, order)
    normal += LEAST_STIFFNESS * np.trace(normal) / max(np.trace(stiff), 1e-300) * stiff
    right = matrix.T @ points / len(t)
    if not closed:
        return np.asarray(np.linalg.solve(normal, right))
    # Ends that meet in place and derivatives, by Lagrange multipliers.
    ends = np.array([0.0, 1.0])
    rows = [collocation(knots, settings.degree, ends, k) for k in range(order + 1)]
    joins = np.array([row[0] - row[1] for row in rows])
    joins /= np.linalg.norm(joins, axis=1, keepdims=True)
    count, more = len(normal), len(joins)
    system = np.zeros((count + more, count + more))
    system[:count, :count] = normal
    system[count:, :count], system[:count, count:] = joins, joins.T
    whole = np.concatenate([right, np.zeros((more, points.shape[1]))])
    return np.asarray(np.linalg.solve(system, whole))[:count]
