"""Curves made into one, and curves made longer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.curve import (
    BSplineCurve,
    curve_derivatives,
    from_homogeneous,
    homogeneous,
)
from usual_clay.core.spline.knots import raise_degree, remove_knot, reverse, split
from usual_clay.core.spline.make import arc_through
from usual_clay.core.spline.parts import length_of, part_of

# A knot whose removal moves the curve by less than this, mm, does nothing.
IDLE = 1e-7
Ongoing = Literal["as it runs", "straight", "round"]


@dataclass(frozen=True)
class ChainSettings:
    """How far apart ends may be, mm, and still be joined."""

    most: float = 0.1


@dataclass(frozen=True, eq=False)
class Chained:
    """One curve of several, and the largest gap that was closed, mm."""

    curve: BSplineCurve
    gap: float


def chain(curves: Sequence[BSplineCurve]) -> Chained:
    """Make one curve of several that meet end to end, in their order; each is turned as needed.

    Ends that do not quite meet are both moved to their middle. Where curves meet smoothly the
    result does: knots that do nothing are taken out.

    Raises
    ------
    SplineError
    """
    if len(curves) < 2:
        raise SplineError("there is nothing to join: choose two curves or more")
    turned = _in_line(curves)
    degree = max(curve.degree for curve in turned)
    raised = []
    for curve in turned:
        while curve.degree < degree:
            curve = raise_degree(curve)
        raised.append(curve)
    gaps = [float(np.linalg.norm(a.points[-1] - b.points[0])) for a, b in pairwise(raised)]
    for k in range(len(raised) - 1):
        middle = (raised[k].points[-1] + raised[k + 1].points[0]) / 2
        raised[k] = _with_end(raised[k], -1, middle)
        raised[k + 1] = _with_end(raised[k + 1], 0, middle)
    joined = raised[0]
    for curve in raised[1:]:
        joined = without_idle_knots(_appended(joined, curve))
    return Chained(joined, max(gaps))


def _in_line(curves: Sequence[BSplineCurve]) -> list[BSplineCurve]:
    """Turn curves so that each starts near where the one before ends."""
    first, second = curves[0], curves[1]
    ends = second.points[[0, -1]]
    to_start = np.linalg.norm(ends - first.points[0], axis=1).min()
    if to_start < np.linalg.norm(ends - first.points[-1], axis=1).min():
        first = reverse(first)
    line = [first]
    for curve in curves[1:]:
        away = np.linalg.norm(curve.points[[0, -1]] - line[-1].points[-1], axis=1)
        line.append(curve if away[0] <= away[1] else reverse(curve))
    return line


def _with_end(curve: BSplineCurve, end: int, place: Floats) -> BSplineCurve:
    points = curve.points.copy()
    points[end] = place
    return replace(curve, points=points)


def _appended(first: BSplineCurve, second: BSplineCurve) -> BSplineCurve:
    """Return both as one curve on [0, 1], with a knot of full multiplicity between them."""
    rational = first.weights is not None or second.weights is not None
    parts = []
    for curve in (first, second):
        weights = np.ones(len(curve.points)) if rational and curve.weights is None else None
        parts.append(homogeneous(curve.points, curve.weights if weights is None else weights))
    if rational:
        # One factor for all of a curve's weights changes nothing; it makes the ends alike.
        parts[1] = parts[1] * (parts[0][-1, 3] / parts[1][0, 3])
    before = float(np.linalg.norm(curve_derivatives(first, [first.domain[1]], 1)[1, 0]))
    after = float(np.linalg.norm(curve_derivatives(second, [second.domain[0]], 1)[1, 0]))
    # With speeds alike at the joint, a smooth joint is smooth in the parameter too.
    stretch = float(np.clip(after / max(before, 1e-300), 1e-3, 1e3))
    knots = np.concatenate([first.knots[:-1], 1 + stretch * second.knots[first.degree + 1 :]])
    points, weights = from_homogeneous(np.concatenate([parts[0], parts[1][1:]]))
    return BSplineCurve(knots / knots[-1], points, weights)


def without_idle_knots(curve: BSplineCurve, limit: float = IDLE) -> BSplineCurve:
    """Take out inner knots, and copies of them, that change the shape by less than `limit` mm."""
    for t in np.unique(curve.knots)[1:-1]:
        while np.isclose(curve.knots, t, atol=1e-12).any():
            slimmer, moved = remove_knot(curve, float(t))
            if moved > limit:
                break
            curve = slimmer
    return curve


def extend(curve: BSplineCurve, end: int, by: float, how: Ongoing = "as it runs") -> BSplineCurve:
    """Make a curve longer at an end.

    Parameters
    ----------
    end : {0, 1}
        Start or end.
    by : float
        Length, mm.
    how : str
        As its last span runs on, straight (G1), or round with its last radius (G2).

    Raises
    ------
    SplineError
    """
    if not by > 0:
        raise SplineError("a curve is extended by more than 0 mm")
    if end == 0:
        return reverse(extend(reverse(curve), 1, by, how))
    if how == "as it runs":
        return _run_on(curve, by)
    place, first, second = curve_derivatives(curve, [1.0], 2)[:, 0]
    speed = float(np.linalg.norm(first))
    if speed < 1e-12:
        raise SplineError("the curve has no direction at its end")
    ahead = first / speed
    bend = (second - (second @ ahead) * ahead) / speed**2
    radius = 1 / max(float(np.linalg.norm(bend)), 1e-12)
    if how == "straight" or radius > 1e4 * by:
        piece = BSplineCurve(np.array([0.0, 0, 1, 1]), np.stack([place, place + by * ahead]))
    else:
        side = bend * radius
        turn = np.array([by / 2, by]) / radius
        if turn[1] > 2 * np.pi - 1e-3:
            raise SplineError(f"with its radius of {radius:.2f} mm it would run round into itself")
        on = radius * (np.sin(turn)[:, None] * ahead + (1 - np.cos(turn))[:, None] * side)
        piece = arc_through(place, *(place + on))
    return chain([curve, piece]).curve


def _run_on(curve: BSplineCurve, by: float) -> BSplineCurve:
    """Continue the last span's polynomial to a length past its end."""
    breaks = np.unique(curve.knots)
    head, tail = split(curve, float(breaks[-2])) if len(breaks) > 2 else (None, curve)
    speed = float(np.linalg.norm(curve_derivatives(tail, [1.0], 1)[1, 0]))
    past = by / max(speed, 1e-12)
    for _ in range(12):
        longer = _past(tail, 1 + past)
        past *= by / max(length_of(part_of(longer, 1 / (1 + past), 1.0)), 1e-12)
    longer = _past(tail, 1 + past)
    return longer if head is None else chain([head, longer]).curve


def _past(tail: BSplineCurve, end: float) -> BSplineCurve:
    """Return a Bezier piece on [0, end] instead of [0, 1], by de Casteljau's scheme."""
    level = homogeneous(tail.points, tail.weights)
    first = [level[0]]
    for _ in range(tail.degree):
        level = (1 - end) * level[:-1] + end * level[1:]
        first.append(level[0])
    points, weights = from_homogeneous(np.array(first))
    return BSplineCurve(np.repeat([0.0, 1.0], tail.degree + 1), points, weights)
