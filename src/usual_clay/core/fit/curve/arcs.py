"""How far a run is an arc: its longest straight or round stretch, and splines for the rest."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.sequence import Leave, PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import Traced, trace
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.make import arc_through

FEWEST, SEARCHED = 8, 800
# An arc of less than so many tolerances of rise over its chord is a line.
FLATTEST = 2.0


@dataclass(frozen=True, eq=False)
class Stretch:
    """The longest stretch of a run that is a line or an arc.

    Attributes
    ----------
    start, stop : int
        Its first point, and the one past its last.
    curve : BSplineCurve
        A line of two control points, or a rational arc.
    radius : float
        mm; infinite for a line.
    centre : (3,) array
        Of the arc; the middle of a line.
    worst : float
        The farthest that one of its points lies from it, mm.
    """

    start: int
    stop: int
    curve: BSplineCurve
    radius: float
    centre: Floats
    worst: float


@dataclass(frozen=True, eq=False)
class Parted:
    """A run as a line or an arc with splines before and after it, in order."""

    stretch: Stretch
    before: Traced | None
    after: Traced | None


def longest_arc(points: Floats, tolerance: float, share: float = 0.95) -> Stretch:
    """Find the longest stretch of an ordered run that is a line or an arc within a tolerance.

    Two ends move along the run, the later as far as an arc will do and the earlier after it;
    then the best is grown point by point. Circles are fitted algebraically (Kasa 1976) in the
    plane of the run.

    Parameters
    ----------
    points : (n, 3) array
    tolerance, share : float
        The share of the stretch's points that must lie within the tolerance, mm; none may lie
        more than three tolerances away.

    Raises
    ------
    FitError
        When no stretch of eight points is one.
    """
    if len(points) < FEWEST:
        raise FitError(f"{len(points)} points are too few to tell an arc: it takes {FEWEST}")
    middle = points.mean(axis=0)
    frame = np.linalg.svd(points - middle, full_matrices=False)[2]
    flat = (points - middle) @ frame[:2].T
    step = max(1, len(points) // SEARCHED)
    coarse = flat[::step]
    best, start, stop = (0, 0), 0, FEWEST
    while stop <= len(coarse):
        if _fits(coarse[start:stop], tolerance, share):
            if stop - start > best[1] - best[0]:
                best = (start, stop)
            stop += 1
        else:
            start += 1
            stop = max(stop, start + FEWEST)
    if best[1] == 0:
        raise FitError("no stretch of it is a line or an arc within tolerance")
    start, stop = best[0] * step, min((best[1] - 1) * step + 1, len(flat))
    start, stop = _grown(flat, start, stop, tolerance, share)
    return _stretch(points, flat, (middle, frame), start, stop, tolerance)


def _grown(flat: Floats, start: int, stop: int, tolerance: float, share: float) -> tuple[int, int]:
    """Move both ends outward while the points beyond still lie on the arc."""
    jump = max(1, (stop - start) // 8)
    while jump:
        while stop + jump <= len(flat) and _fits(flat[start : stop + jump], tolerance, share):
            stop += jump
        while start - jump >= 0 and _fits(flat[start - jump : stop], tolerance, share):
            start -= jump
        jump //= 2
    return start, stop


def _fits(flat: Floats, tolerance: float, share: float) -> bool:
    away = np.abs(_away(flat)[0])
    # The ends must lie on it too, or a stretch would run on into what bends off.
    ends = np.concatenate([away[:3], away[-3:]])
    return bool(
        np.quantile(away, share) <= tolerance
        and away.max() <= 3 * tolerance
        and np.median(ends) <= tolerance
    )


def _away(flat: Floats) -> tuple[Floats, Floats, float]:
    """Return distances from the line or circle of least squares, (n,), with centre and radius."""
    middle = flat.mean(axis=0)
    own = flat - middle
    _, size, axes = np.linalg.svd(own, full_matrices=False)
    line = own @ axes[1]
    matrix = np.column_stack([2 * own, np.ones(len(own))])
    solved = np.linalg.lstsq(matrix, (own**2).sum(axis=1), rcond=1e-12)[0]
    radius = float(np.sqrt(max(solved[2] + solved[:2] @ solved[:2], 0.0)))
    if radius < 1e4 * max(float(size[0]), 1e-12):
        away = np.linalg.norm(own - solved[:2], axis=1) - radius
        if np.abs(away).mean() < np.abs(line).mean():
            return away, solved[:2] + middle, radius
    return line, middle, float("inf")


def _stretch(
    points: Floats, flat: Floats, frame: tuple[Floats, Floats], start: int, stop: int, near: float
) -> Stretch:
    part = flat[start:stop]
    away, centre, radius = _away(part)
    middle, axes = frame

    def space(place: Floats) -> Floats:
        return middle + place @ axes[:2]

    chord = float(np.linalg.norm(part[-1] - part[0]))
    if np.isfinite(radius) and chord**2 / (8 * radius) > FLATTEST * near:
        ends = part[[0, len(part) // 2, -1]] - centre
        ends = centre + radius * ends / np.linalg.norm(ends, axis=1, keepdims=True)
        curve = arc_through(*space(ends))
    else:
        own = part - part.mean(axis=0)
        along = np.linalg.svd(own, full_matrices=False)[2][0]
        away, radius = own @ np.array([-along[1], along[0]]), float("inf")
        centre = part.mean(axis=0)
        ends = centre + np.outer(own[[0, -1]] @ along, along)
        curve = BSplineCurve(even_knots(2, 1), space(ends))
    return Stretch(start, stop, curve, radius, space(centre), float(np.abs(away).max()))


def with_splines(
    points: Floats,
    tolerance: Tolerance,
    smooth: Literal[1, 2] = 1,
    progress: Progress = silent,
) -> Parted:
    """Return the longest arc of a run, and lean splines for what is left before and after it.

    They meet the arc with its tangent, and with G2 with its curvature too.

    Raises
    ------
    FitError
    """
    stretch = longest_arc(points, tolerance.deviation, tolerance.share)
    ends = curve_derivatives(stretch.curve, [0.0, 1.0], 2)
    rest: list[Traced | None] = []
    for side, part in enumerate((points[: stretch.start], points[stretch.stop :])):
        if len(part) < 6:
            rest.append(None)
            continue
        speed = float(np.linalg.norm(ends[1, side]))
        ahead = ends[1, side] / speed
        bend = (ends[2, side] - (ends[2, side] @ ahead) * ahead) / speed**2
        leave = Leave(ahead, bend if smooth == 2 else None)
        meets = ends[0, side][None]
        run = (
            PointSequence(np.concatenate([part, meets]), held=(False, True), leaves=(None, leave))
            if side == 0
            else PointSequence(
                np.concatenate([meets, part]), held=(True, False), leaves=(leave, None)
            )
        )
        rest.append(trace(run, TraceSettings(knots="adaptive"), tolerance, progress=progress))
    return Parted(stretch, rest[0], rest[1])
