"""How a fitted surface meets its borders and its neighbours: the control rows that this settles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Place
from usual_clay.core.errors import FitError
from usual_clay.core.fit.solve.system import FixedControlPoints, Space
from usual_clay.core.spline.boundary import (
    BORDERS,
    Border,
    Edge,
    border_rows,
    edge_of,
    join_ratio,
    rows_inward,
    runs_along,
)
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.four_borders import Borders, make_compatible
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.surface import BSplineSurface

Continuity = Literal["G0", "G1", "G2"]
CONTINUITIES: tuple[Continuity, ...] = ("G0", "G1", "G2")
# A neighbour's edge that strays so far from a border, mm, is not the same line.
SAME_LINE = 2e-3
LOOKED_AT = np.linspace(0, 1, 17)


@dataclass(frozen=True, eq=False)
class Meeting:
    """A side of a patch that goes on from a neighbour.

    Attributes
    ----------
    side : {"u0", "u1", "v0", "v1"}
    edge : Edge
        The neighbour's, running as the side does.
    grade : {"G0", "G1", "G2"}
    ratio : float
        How long the patch's inward derivative is for the neighbour's.
    """

    side: Border
    edge: Edge
    grade: Continuity
    ratio: float = 1.0


@dataclass(frozen=True)
class Ribbon:
    """How patches that were solved together leave a border that they share.

    Attributes
    ----------
    border : int
        Which of the patch's borders, as they are given.
    start : (x, y, z)
        The end that it runs from, mm.
    knots : floats
    inward : of (x, y, z)
        Control points of the first derivative inward, mm.
    """

    border: int
    start: Place
    knots: tuple[float, ...]
    inward: tuple[Place, ...]

    def __post_init__(self) -> None:
        if self.border not in range(4):
            raise FitError(f"a ribbon runs along border 0 to 3, not {self.border!r}")
        if not np.isfinite([*self.start, *self.knots, *np.ravel(self.inward)]).all():
            raise FitError("a ribbon holds numbers that are not finite")
        # Refuses knots and control points that make no curve.
        BSplineCurve(np.array(self.knots), np.array(self.inward))

    def meeting(self, borders: Borders) -> Meeting:
        """Return it as a side that goes on, with the direction in which the side runs."""
        side = next(name for name, which in borders.order.items() if which == self.border)
        ends = borders.sides[side].points[[0, -1]]
        first = BSplineCurve(np.array(self.knots), -np.array(self.inward))
        away = np.linalg.norm(ends - np.array(self.start), axis=1)
        if away[1] < away[0]:
            first = reverse(first)
        level = replace(first, points=np.zeros_like(first.points))
        return Meeting(side, Edge(first, first, level), "G1")


def edge_strays(neighbour: BSplineSurface, border: BSplineCurve) -> float | None:
    """Return how far a surface's nearest edge strays from a border, mm; None if it is no edge."""
    away = _nearest_edge(neighbour, border)[0]
    return away if away <= SAME_LINE else None


def _nearest_edge(neighbour: BSplineSurface, border: BSplineCurve) -> tuple[float, Edge]:
    own = curve_points(border, LOOKED_AT)
    edges = [edge_of(neighbour, border) for border in BORDERS]
    edges += [edge.reversed() for edge in edges]
    away = [
        float(np.linalg.norm(curve_points(edge.curve, LOOKED_AT) - own, axis=1).max())
        for edge in edges
    ]
    nearest = int(np.argmin(away))
    return away[nearest], edges[nearest]


def meeting(
    borders: Borders, side: Border, neighbour: BSplineSurface, grade: Continuity
) -> Meeting:
    """Find the neighbour's edge that a side lies on.

    Raises
    ------
    FitError
        When none does; the message says how far the nearest strays.
    """
    away, edge = _nearest_edge(neighbour, borders.sides[side])
    if away > SAME_LINE:
        raise FitError(
            f"border {borders.order[side] + 1} is no edge of the neighbour: its nearest edge"
            f" strays by {away:.3f} mm. Use that edge as the border"
        )
    return Meeting(side, edge, grade)


@dataclass(frozen=True, eq=False)
class Frame:
    """Borders and meetings that a patch is held to.

    Attributes
    ----------
    borders : Borders
    meetings : tuple of Meeting
    """

    borders: Borders
    meetings: tuple[Meeting, ...] = ()

    def least(self, degree: int) -> Space:
        """Return the space with just the knots that the borders need."""
        sides = self.borders.sides
        edges: dict[str, list[BSplineCurve]] = {
            "u": [sides["v0"], sides["v1"]],
            "v": [sides["u1"], sides["u0"]],
        }
        for each in self.meetings:
            edges[runs_along(each.side)].append(each.edge.curve)
        none = np.zeros(0)
        knots, degrees = [], []
        for direction in "uv":
            curves = edges[direction]
            most = max(degree, *(curve.degree for curve in curves))
            knots.append(make_compatible(curves, most, none)[0].knots)
            degrees.append(most)
        return Space(knots[0], knots[1], degrees[0], degrees[1])

    def in_space(self, space: Space) -> Borders:
        """Return the borders on the knots of a space."""
        inner_u = space.knots_u[space.degree_u + 1 : -space.degree_u - 1]
        inner_v = space.knots_v[space.degree_v + 1 : -space.degree_v - 1]
        old = self.borders.sides
        made: dict[Border, BSplineCurve] = {}
        pairs: tuple[tuple[Border, Border], ...] = (("v0", "v1"), ("u1", "u0"))
        for pair, degree, inner in zip(
            pairs, (space.degree_u, space.degree_v), (inner_u, inner_v), strict=True
        ):
            one, two = make_compatible([old[pair[0]], old[pair[1]]], degree, inner)
            made |= {pair[0]: one, pair[1]: two}
        return replace(self.borders, sides=made)

    def held(self, space: Space) -> FixedControlPoints:
        """Return the control points that borders and meetings settle in a space."""
        points = np.zeros((*space.counts, 3))
        which = np.zeros(space.counts, dtype=bool)
        for side, curve in self.in_space(space).sides.items():
            border_rows(points, side)[0] = curve.points
            border_rows(which, side)[0] = True
        for each in self.meetings:
            if each.grade != "G0":
                self._go_on(space, each, points, which)
        return FixedControlPoints(which, points)

    def _go_on(self, space: Space, each: Meeting, points: Floats, which: Bools) -> None:
        """Settle the second row, and for G2 the third, from a neighbour's derivatives."""
        along_u = runs_along(each.side) == "u"
        knots, degree = (
            (space.knots_u, space.degree_u) if along_u else (space.knots_v, space.degree_v)
        )
        across, depth = (
            (space.knots_v, space.degree_v) if along_u else (space.knots_u, space.degree_u)
        )
        inner = knots[degree + 1 : -degree - 1]
        edge = make_compatible([each.edge.curve, each.edge.first, each.edge.second], degree, inner)
        rows, chosen = border_rows(points, each.side), border_rows(which, each.side)
        first, second = -each.ratio * edge[1].points, each.ratio**2 * edge[2].points
        second_row, third_row = rows_inward(rows[0], first, second, across, depth, each.side)
        ends = slice(1, -1)
        rows[1, ends] = second_row[ends]
        chosen[1, ends] = True
        if each.grade == "G2" and len(rows) > 4 and depth > 1:
            rows[2, ends] = third_row[ends]
            chosen[2, ends] = True

    def with_ratios(self, surface: BSplineSurface) -> Frame:
        """Return the frame with each ratio as a surface, fitted without it, has it in the mean.

        Raises
        ------
        FitError
            When the surface folds back under its neighbour.
        """
        made = []
        for each in self.meetings:
            own = curve_points(edge_of(surface, each.side).first, LOOKED_AT)
            theirs = curve_points(each.edge.first, LOOKED_AT)
            ratio = join_ratio(own, theirs)
            if ratio < 0.02:
                raise FitError(
                    f"over border {self.borders.order[each.side] + 1} the scan folds back under"
                    " the neighbour: they cannot meet there with one tangent plane"
                )
            made.append(replace(each, ratio=ratio))
        return replace(self, meetings=tuple(made))
