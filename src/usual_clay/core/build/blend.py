"""Blend: a surface from the edge of one to the edge of another, smooth to both exactly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.sections import BuildError
from usual_clay.core.build.surface_edits import nearest_sides
from usual_clay.core.errors import FitError
from usual_clay.core.spline.basis import clamped, collocation, greville
from usual_clay.core.spline.boundary import BORDERS, Border, Edge, edge_of, third_inward
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.four_borders import make_compatible
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.surface import BSplineSurface

Side = Literal["nearest", "u0", "u1", "v0", "v1"]
Smooth = Literal[0, 1, 2, 3]
PLACES = 64


@dataclass(frozen=True)
class BlendSettings:
    """How two surfaces are blended.

    Attributes
    ----------
    first_side, second_side : {"nearest", "u0", "u1", "v0", "v1"}
        Which border of each.
    first_smooth, second_smooth : {0, 1, 2, 3}
        G0 to G3 there.
    first_strength, second_strength : float
        How far it follows each surface, as a share of the gap, where its border begins.
    first_end, second_end : float
        The same where that border ends; 0 for the same all along.
    """

    first_side: Side = "nearest"
    second_side: Side = "nearest"
    first_smooth: Smooth = 2
    second_smooth: Smooth = 2
    first_strength: float = 1.0
    second_strength: float = 1.0
    first_end: float = 0.0
    second_end: float = 0.0

    def __post_init__(self) -> None:
        strengths = self.first_strength, self.second_strength
        if not (all(0 < s <= 5 for s in strengths) and min(self.first_end, self.second_end) >= 0):
            raise FitError("the strength of a blend must be more than 0 and at most 5")

    @property
    def strengths(self) -> tuple[tuple[float, float], tuple[float, float]]:
        """Of each surface's border: where it begins and where it ends."""
        return (
            (self.first_strength, self.first_end or self.first_strength),
            (self.second_strength, self.second_end or self.second_strength),
        )


def blend(first: BSplineSurface, second: BSplineSurface, settings: BlendSettings) -> BSplineSurface:
    """Return the surface from a border of one surface to a border of another.

    Across it is a single span with the derivatives that both surfaces have there (Hermite's
    interpolation), along it has the knots of both borders: so the joints hold everywhere.

    Raises
    ------
    BuildError, SplineError
    """
    among = _sides(settings.first_side), _sides(settings.second_side)
    one, other, turned = nearest_sides(first, second, among)
    edges = edge_of(first, one), edge_of(second, other)
    if turned:
        edges = edges[0], edges[1].reversed()
    gap = np.linalg.norm(
        np.subtract(*(curve_points(e.curve, np.linspace(0, 1, PLACES)) for e in edges)), axis=1
    )
    if not gap.max() > 0:
        raise BuildError("the two borders lie on each other: there is nothing to blend")
    thirds = [third_inward(first, one), third_inward(second, other)]
    if turned:
        thirds[1] = reverse(thirds[1])
    curves = [
        part
        for edge, third in zip(edges, thirds, strict=True)
        for part in (edge.curve, edge.first, edge.second, third)
    ]
    degree = max(curve.degree for curve in curves)
    uneven = any(start != end for start, end in settings.strengths)
    # What is so many times a strength that changes along the border has so many degrees more.
    alike = make_compatible(curves, degree + (3 if uneven else 0), np.zeros(0))
    size = float(gap.mean())
    reach = [tuple(size * each for each in pair) for pair in settings.strengths]
    near = _rows(alike[:4], edges[0], settings.first_smooth, reach[0])
    far = _rows(alike[4:], edges[1], settings.second_smooth, reach[1])
    order = len(near) + len(far)
    steps = _bezier(near, order - 1), _bezier(far, order - 1)
    points = np.stack([*steps[0], *steps[1][::-1]], axis=1)
    return BSplineSurface(alike[0].knots, clamped(np.zeros(0), order - 1), points)


def _sides(side: Side) -> Sequence[Border]:
    """Return which borders a setting leaves to choose from."""
    return BORDERS if side == "nearest" else (side,)


def _rows(
    curves: list[BSplineCurve], edge: Edge, smooth: int, reach: tuple[float, ...]
) -> list[Floats]:
    """Return what a surface has at its border, as rows of control points: place and derivatives.

    They are those outward, as the blend leaves it, at such a pace that it reaches so many mm where
    the border begins and where it ends.
    """
    speed = np.linalg.norm(curve_points(edge.first, np.linspace(0, 1, PLACES)), axis=1)
    if smooth and not speed.min() > 1e-9 * max(float(speed.max()), 1e-300):
        raise BuildError("a border that is a pole has no direction to go on in: choose G0 there")
    start, end = (each / max(float(speed.mean()), 1e-300) for each in reach)
    rows = [curves[0].points]
    for order, curve in enumerate(curves[1 : smooth + 1], 1):
        sign = -1.0 if order % 2 else 1.0
        if start == end:
            rows.append(sign * start**order * curve.points)
            continue
        sites = greville(curve.knots, curve.degree)
        pace = (start + (end - start) * sites) ** order
        values = sign * pace[:, None] * curve_points(curve, sites)
        solved = np.linalg.solve(collocation(curve.knots, curve.degree, sites), values)
        rows.append(np.asarray(solved, dtype=np.float64))
    return rows


def _bezier(rows: list[Floats], degree: int) -> list[Floats]:
    """Return Bezier rows from an end that have a place and derivatives there."""
    made = [rows[0]]
    if len(rows) > 1:
        made.append(rows[0] + rows[1] / degree)
    if len(rows) > 2:
        made.append(2 * made[1] - made[0] + rows[2] / (degree * (degree - 1)))
    if len(rows) > 3:
        last = rows[3] / (degree * (degree - 1) * (degree - 2))
        made.append(3 * made[2] - 3 * made[1] + made[0] + last)
    return made
