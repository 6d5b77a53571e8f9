"""Curves made from curves: twins, copies, bridges, pairs into space."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.basis import SplineError, collocation, even_knots
from usual_clay.core.spline.chain import chain
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.parts import extremes, part_of
from usual_clay.core.spline.surface import sample_parameters

Smooth = Literal[0, 1, 2, 3]
PAIR_SAMPLES = 400
# Extents that differ by less than this, mm, are the same to the user.
LEAST_GAP = 0.0005


@dataclass(frozen=True)
class TwinSettings:
    """A mirror plane: its axis, and where it lies along it, mm; a picked plane has the say."""

    axis: Literal["x", "y", "z"] = "y"
    at: float = 0.0

    @property
    def plane(self) -> tuple[Floats, Floats]:
        """A place on it and its normal."""
        normal = np.eye(3)["xyz".index(self.axis)]
        return self.at * normal, normal


@dataclass(frozen=True)
class CopySettings:
    """A copy along an axis, mm."""

    axis: Literal["x", "y", "z"] = "x"
    by: float = 10.0


@dataclass(frozen=True)
class BridgeSettings:
    """How two curves are joined.

    Attributes
    ----------
    first_at, second_at : float
        Where on each, as a parameter from 0 (start) to 1 (end).
    first_way, second_way : {"before", "after"}
        Inside a curve: whether the bridge goes on from the part before the place, or from the
        part after it. At an end there is but one way.
    first_smooth, second_smooth : {0, 1, 2, 3}
        G0 to G3 there.
    first_strength, second_strength : float
        Length of the tangent, as a share of the gap.
    whole : bool
        Whether what the bridge replaces is trimmed away and all is joined to one curve.
    """

    first_at: float = 1.0
    second_at: float = 0.0
    first_way: Literal["before", "after"] = "before"
    second_way: Literal["before", "after"] = "after"
    first_smooth: Smooth = 2
    second_smooth: Smooth = 2
    first_strength: float = 1.0
    second_strength: float = 1.0
    whole: bool = False

    def __post_init__(self) -> None:
        if not (0 <= self.first_smooth <= 3 and 0 <= self.second_smooth <= 3):
            raise SplineError("a bridge joins with G0 to G3")
        if min(self.first_strength, self.second_strength) <= 0:
            raise SplineError("a bridge's strength must be more than 0")
        if not (0 <= self.first_at <= 1 and 0 <= self.second_at <= 1):
            raise SplineError("a place on a curve is told by a parameter from 0 to 1")


@dataclass(frozen=True)
class PairSettings:
    """Two curves of two true views as one in space.

    Attributes
    ----------
    axis : {"x", "y", "z"}
        What both views show.
    match : bool
        Whether the second is stretched to the first's extent.
    within : float
        How near the lean spline stays to what the views say, mm.
    """

    axis: Literal["x", "y", "z"] = "x"
    match: bool = False
    within: float = 0.01


def twin(curve: BSplineCurve, plane: tuple[Floats, Floats]) -> BSplineCurve:
    """Return a curve mirrored in a plane, which is told by a place on it and its normal."""
    return BSplineCurve(curve.knots, mirrored(curve.points, plane), curve.weights)


def mirrored(points: Floats, plane: tuple[Floats, Floats]) -> Floats:
    """Return points, (..., 3), mirrored in a plane."""
    place, normal = plane
    return np.asarray(points - 2 * ((points - place) @ normal)[..., None] * normal)


def plane_picked(
    settings: TwinSettings, picked: SimpleShape | PointSequence | None
) -> tuple[Floats, Floats]:
    """Return the plane to mirror in: the picked one, or the one of the settings.

    Raises
    ------
    SplineError
        Where what was picked is no plane.
    """
    if picked is None:
        return settings.plane
    if not isinstance(picked, SimpleShape):
        return plane_through(picked.points)
    if picked.kind != "plane":
        raise SplineError(f"a {picked.kind} is no mirror plane: pick a plane, or three points")
    return picked.point, picked.axis


def plane_through(points: Floats) -> tuple[Floats, Floats]:
    """Return the plane that lies nearest to points: a place on it and its normal.

    Raises
    ------
    SplineError
        For fewer than three, or on a line.
    """
    middle = points.mean(axis=0)
    if len(points) > 2:
        _, spread, axes = np.linalg.svd(points - middle, full_matrices=False)
        if spread[1] > 1e-6 * spread[0]:
            return middle, axes[2]
    raise SplineError("a plane takes three points that do not lie on a line")


def copied(curve: BSplineCurve, settings: CopySettings) -> BSplineCurve:
    """Return a curve moved along an axis."""
    by = settings.by * np.eye(3)["xyz".index(settings.axis)]
    return replace(curve, points=curve.points + by)


def bridge(first: BSplineCurve, second: BSplineCurve, settings: BridgeSettings) -> BSplineCurve:
    """Return a curve from a place on one curve to a place on another, smooth to both.

    It has just the control points that the conditions fix: its derivatives at the ends are those
    of the curves, reparametrised so that each tangent is as long as its strength says. With G3
    the third derivative is met too, up to the freedom of that reparametrisation.

    Raises
    ------
    SplineError
        When the places are on one spot.
    """
    at = settings.first_at, settings.second_at
    ways = settings.first_way == "before", settings.second_way == "before"
    start, end = _leaving(first, at[0], ways[0]), _leaving(second, at[1], ways[1])
    end[[1, 3]] *= -1
    gap = float(np.linalg.norm(end[0] - start[0]))
    if gap < 1e-9:
        raise SplineError("the two ends are on one spot: there is no gap to bridge")
    wanted_start = _with_speed(start, settings.first_strength * gap)[: settings.first_smooth + 1]
    wanted_end = _with_speed(end, settings.second_strength * gap)[: settings.second_smooth + 1]
    count = len(wanted_start) + len(wanted_end)
    degree = count - 1
    knots = even_knots(count, degree)
    ends = np.array([0.0, 1.0])
    most = max(len(wanted_start), len(wanted_end))
    rows = [collocation(knots, degree, ends, k) for k in range(most)]
    matrix = np.array(
        [rows[k][0] for k in range(len(wanted_start))]
        + [rows[k][1] for k in range(len(wanted_end))]
    )
    right = np.concatenate([wanted_start, wanted_end])
    made = BSplineCurve(knots, np.linalg.solve(matrix, right))
    if not settings.whole:
        return made
    kept = [_kept(curve, t, on) for curve, t, on in zip((first, second), at, ways, strict=True)]
    parts = [part for part in (kept[0], made, kept[1]) if part is not None]
    return chain(parts).curve if len(parts) > 1 else made


def places_of(settings: BridgeSettings, first: BSplineCurve, second: BSplineCurve) -> Floats:
    """Return the ends of a bridge and the tips of its tangents, (2, 2, 3): first, then second."""
    made = bridge(first, second, replace(settings, whole=False))
    degree = made.degree
    ends = made.points[[0, -1]]
    tips = ends + degree * (made.points[[1, -2]] - ends) / 3
    return np.stack([ends, tips], axis=1)


def _kept(curve: BSplineCurve, at: float, on: bool) -> BSplineCurve | None:
    """Return the part of a curve that runs up to a bridge; None where there is none."""
    low, high = (0.0, at) if _runs_on(at, on) else (at, 1.0)
    return part_of(curve, low, high) if high - low > 1e-9 else None


def _runs_on(at: float, on: bool) -> bool:
    """Tell whether a bridge leaves a place as the curve runs: from an end there is one way."""
    return on if 0 < at < 1 else at == 1


def _leaving(curve: BSplineCurve, at: float, on: bool) -> Floats:
    """Return place and three derivatives at a place, in the direction that leaves the curve."""
    orders = min(3, curve.degree) if curve.weights is None else 3
    found = np.zeros((4, 3))
    found[: orders + 1] = curve_derivatives(curve, np.array([at]), orders)[:, 0]
    if not _runs_on(at, on):
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
    which it varies and the second does not, and the other way round. A curve that turns back
    along the axis is paired stretch by stretch, where the other turns back as often. Where their
    extents differ the common stretch is used, or with `match` the second is stretched to the
    first. The result is the leanest spline within the tolerance.

    Raises
    ------
    SplineError
        When one turns back along the shared axis and the other does not, or the extents do not
        meet.
    """
    axis = "xyz".index(settings.axis)
    lines = [_stretches(curve, axis) for curve in (first, second)]
    if len(lines[0]) != len(lines[1]):
        raise SplineError(
            f"along {settings.axis} the first curve turns back {_times(len(lines[0]) - 1)} and the"
            f" second {_times(len(lines[1]) - 1)}: they do not show one curve"
        )
    # Both run the same way along the axis to begin with.
    rises = [part[0][-1, axis] > part[0][0, axis] for part in lines]
    if rises[0] != rises[1]:
        lines[1] = [part[::-1] for part in lines[1][::-1]]
    made: list[Floats] = []
    gap = 0.0
    for one, other in zip(*lines, strict=True):
        points, apart = _paired(one, other, axis, settings)
        made.append(points if not made else points[1:])
        gap = max(gap, apart)
    told = f"extents along {settings.axis} differ by up to {gap:.3f} mm"
    tolerance = Tolerance(settings.within, 0.999)
    run = PointSequence(np.concatenate(made), held=(True, True))
    lean = trace(run, TraceSettings(knots="adaptive"), tolerance).fit.curve
    return Paired(lean, told if gap > LEAST_GAP else "")


def _times(count: int) -> str:
    return f"{count} time{'' if count == 1 else 's'}"


def _paired(one: Floats, other: Floats, axis: int, settings: PairSettings) -> tuple[Floats, float]:
    """Pair two stretches that do not turn back; return points, and how their extents differ."""
    falls = one[0, axis] > one[-1, axis]
    a, b = (line[::-1].copy() if line[0, axis] > line[-1, axis] else line for line in (one, other))
    (low_a, high_a), (low_b, high_b) = ((line[0, axis], line[-1, axis]) for line in (a, b))
    low, high = max(low_a, low_b), min(high_a, high_b)
    if settings.match:
        scale = (high_a - low_a) / max(high_b - low_b, 1e-12)
        b[:, axis] = low_a + (b[:, axis] - low_b) * scale
        low, high = low_a, high_a
    if high - low <= 1e-9 * max(high_a - low_a, 1e-9):
        raise SplineError(
            f"the two curves do not meet along {settings.axis}: they are {low - high:.2f} mm apart"
        )
    others = [k for k in range(3) if k != axis]
    spans = np.array([[np.ptp(line[:, k]) for k in others] for line in (a, b)])
    # Each gives the coordinate in which it varies more than the other does.
    of_first = int(np.argmax(spans[0] - spans[1]))
    at = (1 - np.cos(np.linspace(0, np.pi, PAIR_SAMPLES))) / 2 * (high - low) + low
    points = np.zeros((PAIR_SAMPLES, 3))
    points[:, axis] = at
    for line, which in zip((a, b), (of_first, 1 - of_first), strict=True):
        points[:, others[which]] = np.interp(at, line[:, axis], line[:, others[which]])
    gap = max(abs(low_a - low_b), abs(high_a - high_b))
    return (points[::-1] if falls else points), gap


def _stretches(curve: BSplineCurve, axis: int) -> list[Floats]:
    """Return samples of a curve, parted where it turns back along an axis."""
    turns = extremes(curve, axis)
    t = np.union1d(sample_parameters(curve.knots, 120), turns)
    line = curve_points(curve, t)
    size = float(np.ptp(line[:, axis]))
    made: list[Floats] = []
    for a, b in pairwise([0, *np.searchsorted(t, turns).tolist(), len(t) - 1]):
        part = line[a : b + 1]
        # Less than this is no turning back but rounding.
        if b > a and abs(part[-1, axis] - part[0, axis]) > 1e-4 * max(size, 1e-12):
            steps = np.diff(part[:, axis]) * np.sign(part[-1, axis] - part[0, axis])
            made.append(part[np.concatenate([[True], steps > 0])].copy())
    if not made:
        raise SplineError(f"a curve does not extend along {'xyz'[axis]}")
    return made
