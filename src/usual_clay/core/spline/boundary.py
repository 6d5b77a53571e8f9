"""The four borders of a surface: their names, their control rows, and how a surface leaves them.

A border is named after the parameter that is constant along it, ``u0``, ``u1``, ``v0`` or ``v1``;
everything that is listed border by border is in that order.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.basis import SplineError, collocation
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.knots import insert_knot, reverse
from usual_clay.core.spline.surface import BSplineSurface

Border = Literal["u0", "u1", "v0", "v1"]
BORDERS: tuple[Border, Border, Border, Border] = ("u0", "u1", "v0", "v1")
# The same in order round the surface.
LOOP: tuple[Border, Border, Border, Border] = ("v0", "u1", "v1", "u0")
# Two knots nearer than this are one.
SAME_KNOT = 1e-7


@dataclass(frozen=True, eq=False)
class Edge:
    """A border of a surface, and how the surface leaves it inward.

    Attributes
    ----------
    curve, first, second : BSplineCurve
        The border, and on its knots the first and second derivative inward.
    """

    curve: BSplineCurve
    first: BSplineCurve
    second: BSplineCurve

    def reversed(self) -> Edge:
        return Edge(reverse(self.curve), reverse(self.first), reverse(self.second))


def runs_along(border: Border) -> Literal["u", "v"]:
    """Return the direction in which a border runs."""
    return "v" if border[0] == "u" else "u"


def is_far(border: Border) -> bool:
    """Tell whether a border lies at the end of the other direction, not at its start."""
    return border[1] == "1"


def border_rows(net: Any, border: Border) -> Any:
    """Return a view of a net, (nu, nv, ...), as rows inward from a border, (rows, along, ...)."""
    across = net if border[0] == "u" else net.swapaxes(0, 1)
    return across[::-1] if is_far(border) else across


def knots_along(surface: BSplineSurface, border: Border) -> Floats:
    """Return the knots that run along a border."""
    return surface.knots_v if border[0] == "u" else surface.knots_u


def knots_across(surface: BSplineSurface, border: Border) -> tuple[Floats, int]:
    """Return the knots that run inward from a border, and their degree."""
    if border[0] == "u":
        return surface.knots_u, surface.degrees[0]
    return surface.knots_v, surface.degrees[1]


def border_curve(surface: BSplineSurface, border: Border) -> BSplineCurve:
    """Return a border as a curve, rational where the surface is."""
    weights = None if surface.weights is None else border_rows(surface.weights, border)[0].copy()
    points = border_rows(surface.points, border)[0].copy()
    return BSplineCurve(knots_along(surface, border), points, weights)


def edge_of(surface: BSplineSurface, border: Border) -> Edge:
    """Return a border with the surface's inward derivatives.

    Raises
    ------
    SplineError
        For a rational surface.
    """
    if surface.weights is not None:
        raise SplineError("a rational surface is no neighbour that can be gone on from")
    rows = border_rows(surface.points, border)
    across, degree = knots_across(surface, border)
    near, far = steps_inward(across, degree, border)
    first = (rows[1] - rows[0]) / near
    second = np.zeros_like(first)
    if degree > 1:
        second = (degree - 1) / (degree * near) * ((rows[2] - rows[1]) / far - first)
    along = knots_along(surface, border)
    return Edge(*(BSplineCurve(along, part.copy()) for part in (rows[0], first, second)))


def third_inward(surface: BSplineSurface, border: Border) -> BSplineCurve:
    """Return the third derivative inward over a border, on its knots."""
    rows = border_rows(surface.points, border)
    across, degree = knots_across(surface, border)
    inward = 1 - across[::-1] if is_far(border) else across
    third = collocation(inward, degree, np.zeros(1), 3)[0]
    return BSplineCurve(knots_along(surface, border), np.tensordot(third, rows, axes=1))


def steps_inward(knots: Floats, degree: int, border: Border) -> tuple[float, float]:
    """Return what the first and second leg inward are divided by to be derivatives."""
    inward = 1 - knots[::-1] if is_far(border) else knots
    far = inward[degree + 2] if len(inward) > degree + 2 else 1.0
    return float(inward[degree + 1]) / degree, float(far) / degree


def rows_inward(
    edge: Floats, first: Floats, second: Floats, knots: Floats, degree: int, border: Border
) -> tuple[Floats, Floats]:
    """Return the second and third row of a net that has such derivatives inward at a border."""
    near, far = steps_inward(knots, degree, border)
    row = edge + near * first
    if degree < 2:
        return row, row
    return row, row + far * (first + degree * near / (degree - 1) * second)


def join_ratio(first: Floats, second: Floats) -> float:
    """Return how long the first inward derivatives, (n, 3), are for the second ones over a border.

    Both surfaces leave the border to their own side, so that a good joint has a ratio above 0.
    """
    return -float((first * second).sum()) / max(float((second**2).sum()), 1e-300)


def with_knots(surface: BSplineSurface, direction: str, wanted: Floats) -> BSplineSurface:
    """Insert the knots of a direction that are missing, each as often as wanted; shapes stay."""
    have = surface.knots_u if direction == "u" else surface.knots_v
    for t in _between_ends(wanted):
        missing = _copies(wanted, t) - _copies(have, t)
        if missing > 0:
            surface = insert_knot(surface, t, missing, direction)
    return surface


def _copies(knots: Floats, t: float) -> int:
    return int((np.abs(knots - t) <= SAME_KNOT).sum())


def _between_ends(knots: Floats) -> Sequence[float]:
    inner = np.unique(knots)
    return [float(t) for t in inner if SAME_KNOT < t < 1 - SAME_KNOT]
