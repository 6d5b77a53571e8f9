"""Curves made from curves: twins, bridges, pairs into space, and parts of surfaces."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.run import Run, RunSettings, fit_run
from usual_clay.core.spline.basis import SplineError, collocation, even_knots
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.surface import sample_parameters

Smooth = Literal[0, 1, 2, 3]
PAIR_SAMPLES = 400
# Extents that differ by less than this, mm, are the same to the user.
LEAST_GAP = 0.0005


@dataclass(frozen=True)
class TwinSettings:
    """A mirror plane: its axis, and where it lies along it, mm."""

    axis: Literal["x", "y", "z"] = "y"
    at: float = 0.0


@dataclass(frozen=True)
class BridgeSettings:
    """How two curves are joined.

    Attributes
    ----------
    first_end, second_end : {0, 1}
        Start or end of each.
    first_smooth, second_smooth : {0, 1, 2, 3}
        G0 to G3 there.
    first_strength, second_strength : float
        Length of the tangent, as a share of the gap.
    """

    first_end: int = 1
    second_end: int = 0
    first_smooth: Smooth = 2
    second_smooth: Smooth = 2
    first_strength: float = 1.0
    second_strength: float = 1.0

    def __post_init__(self) -> None:
        if not (0 <= self.first_smooth <= 3 and 0 <= self.second_smooth <= 3):
            raise SplineError("a bridge joins with G0 to G3")
        if min(self.first_strength, self.second_strength) <= 0:
            raise SplineError("a bridge's strength must be more than 0")


@dataclass(frozen=True)
class PairSettings:
    """Two curves of two true views as one in space: the axis they share, and the tolerance."""

    axis: Literal["x", "y", "z"] = "x"
    match: bool = False
    controls: int = 12


def twin(curve: BSplineCurve, settings: TwinSettings) -> BSplineCurve:
    """Return a curve mirrored in a plane square to an axis."""
    points = curve.points.copy()
    axis = "xyz".index(settings.axis)
    points[:, axis] = 2 * settings.at - points[:, axis]
    return BSplineCurve(curve.knots, points, curve.weights)


def bridge(first: BSplineCurve, second: BSplineCurve, settings: BridgeSettings) -> BSplineCurve:
    """Return a curve from an end of one curve to an end of another, smooth to both.

    It has just the control points that the conditions fix: its derivatives at the ends are those
    of the curves, reparametrised so that each tangent is as long as its strength says. With G3
    the third derivative is met too, up to the freedom of that reparametrisation.

    Raises
    ------
    SplineError
        When the ends are on one spot.
    """
    start = _end_derivatives(first, settings.first_end, leaving=True)
    end = _end_derivatives(second, settings.second_end, leaving=False)
    gap = float(np.linalg.norm(end[0] - start[0]))
    if gap < 1e-9:
        raise SplineError("the two ends are on one spot: there is no gap to bridge")
    wanted_start = _with_speed(start, settings.first_strength * gap)[: settings.first_smooth + 1]
    wanted_end = _with_speed(end, settings.second_strength * gap)[: settings.second_smooth + 1]
    count = len(wanted_start) + len(wanted_end)
    degree = count - 1
    knots = even_knots(count, degree)
    ends = np.array([0.0, 1.0])
    rows = [collocation(knots, degree, ends, k) for k in range(max(len(wanted_start),
                                                                   len(wanted_end)))]  # fmt: skip
    matrix = np.array([rows[k][0] for k in range(len(wanted_start))]
                      + [rows[k][1] for k in range(len(wanted_end))])  # fmt: skip
    right = np.concatenate([wanted_start, wanted_end])
    return BSplineCurve(knots, np.linalg.solve(matrix, right))


def _end_derivatives(curve: BSplineCurve, end: int, leaving: bool) -> Floats:
    """Return place and three derivatives at an end, in the direction that the bridge runs."""
    t = np.array([curve.domain[end]])
    orders = min(3, curve.degree) if curve.weights is None else 3
    found = np.zeros((4, 3))
    found[: orders + 1] = curve_derivatives(curve, t, orders)[:, 0]
    # A bridge leaves the end of a curve as the curve runs, and its start against it.
    if (end == 0) == leaving:
        found[[1, 3]] *= -1
    return found


def _with_speed(derivatives: Floats, speed: float) -> Floats:
    """Reparametrise derivatives to arc length, times a speed: the geometry stays the same."""
    place, first, second, third = derivatives
    v = float(np.linalg.norm(first))
    if v < 1e-12:
        raise SplineError("a curve has no direction at its end")
    # With respect to arc length s: dt/ds = 1/v, and so on (chain rule).
    a = float(first @ second) / v**4
    b = float(second @ second + first @ third) / v**5 - 4 * float(first @ second) ** 2 / v**7
    d1 = first / v
    d2 = second / v**2 - first * a
    d3 = third / v**3 - 3 * second * a / v - first * b
    return np.stack([place, d1 * speed, d2 * speed**2, d3 * speed**3])


@dataclass(frozen=True, eq=False)
class Paired:
    """A curve in space from two views, and how their extents along the shared axis differ."""

    curve: BSplineCurve
    words: str


def pair_into_space(first: BSplineCurve, second: BSplineCurve, settings: PairSettings) -> Paired:
    """Make one curve in space from two that are drawn in two true views.

    Along the shared axis the place of each comes from both; the first gives the coordinate in
    which it varies and the second does not, and the other way round. Where their extents differ
    the common stretch is used, or with `match` the second is stretched to the first.

    Raises
    ------
    SplineError
        When a curve turns back along the shared axis, or the extents do not meet.
    """
    axis = "xyz".index(settings.axis)
    lines = [_rising(curve, axis) for curve in (first, second)]
    (low_a, high_a), (low_b, high_b) = ((line[0, axis], line[-1, axis]) for line in lines)
    low, high = max(low_a, low_b), min(high_a, high_b)
    gap = max(abs(low_a - low_b), abs(high_a - high_b))
    told = f"extents along {settings.axis} differ by up to {gap:.3f} mm"
    words = told if gap > LEAST_GAP else ""
    if settings.match:
        scale = (high_a - low_a) / (high_b - low_b)
        lines[1][:, axis] = low_a + (lines[1][:, axis] - low_b) * scale
        low, high = low_a, high_a
    if high - low <= 1e-9 * max(high_a - low_a, 1e-9):
        raise SplineError(f"the two curves do not meet along {settings.axis}: they are"
                          f" {low - high:.2f} mm apart")  # fmt: skip
    others = [k for k in range(3) if k != axis]
    spans = np.array([[np.ptp(line[:, k]) for k in others] for line in lines])
    # Each gives the coordinate in which it varies more than the other does.
    of_first = int(np.argmax(spans[0] - spans[1]))
    at = (1 - np.cos(np.linspace(0, np.pi, PAIR_SAMPLES))) / 2 * (high - low) + low
    points = np.zeros((PAIR_SAMPLES, 3))
    points[:, axis] = at
    for line, which in zip(lines, (of_first, 1 - of_first), strict=True):
        points[:, others[which]] = np.interp(at, line[:, axis], line[:, others[which]])
    fit = fit_run(Run(points), RunSettings(settings.controls))
    return Paired(fit.curve, words)


def _rising(curve: BSplineCurve, axis: int) -> Floats:
    """Return samples of a curve, rising along an axis."""
    line = curve_points(curve, sample_parameters(curve.knots, 60))
    if line[-1, axis] < line[0, axis]:
        line = line[::-1]
    back = np.diff(line[:, axis])
    if (back < -1e-6 * max(float(np.ptp(line[:, axis])), 1e-12)).any():
        raise SplineError(f"a curve turns back along {'xyz'[axis]}: pair one that does not")
    keep = np.concatenate([[True], back > 0])
    return line[keep].copy()
