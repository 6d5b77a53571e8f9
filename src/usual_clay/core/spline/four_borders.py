"""Four curves as the borders of a surface: their order, their gaps, and the surface between."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.basis import SplineError, greville
from usual_clay.core.spline.boundary import LOOP, SAME_KNOT, Border
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.knots import insert_knot, raise_degree, reverse
from usual_clay.core.spline.parts import length_of
from usual_clay.core.spline.surface import BSplineSurface

# What each border becomes when u and v are exchanged.
TURNED: dict[Border, Border] = {"u0": "v0", "v0": "u0", "u1": "v1", "v1": "u1"}


class GapError(SplineError):
    """Borders whose ends do not meet."""


@dataclass(frozen=True, eq=False)
class Borders:
    """Four curves round a patch.

    Attributes
    ----------
    sides : mapping of border to BSplineCurve
        Each runs as its parameter does.
    order : mapping of border to int
        Which of the curves that were given each one is.
    gap : float
        The largest gap between ends that was closed, mm.
    """

    sides: Mapping[Border, BSplineCurve]
    order: Mapping[Border, int]
    gap: float

    def turned(self) -> Borders:
        """Return the same with u and v exchanged, which turns the normal round."""
        sides = {border: self.sides[TURNED[border]] for border in LOOP}
        order = {border: self.order[TURNED[border]] for border in LOOP}
        return Borders(sides, order, self.gap)

    @property
    def size(self) -> tuple[float, float]:
        """The mean lengths along u and v, mm."""
        long = {border: length_of(curve) for border, curve in self.sides.items()}
        return (long["v0"] + long["v1"]) / 2, (long["u0"] + long["u1"]) / 2


def four_borders(curves: Sequence[BSplineCurve], most: float) -> Borders:
    """Arrange four curves to a loop and close its gaps up to a width; corners go to the middle.

    Parameters
    ----------
    curves : four BSplineCurve
        In any order and direction; not rational.
    most : float
        mm.

    Raises
    ------
    GapError
        When ends are farther apart; the message says how far.
    """
    if len(curves) != 4:
        raise SplineError(f"a patch has four borders, not {len(curves)}")
    if any(curve.weights is not None for curve in curves):
        raise SplineError("a border must not be rational")
    line, order = [curves[0]], [0]
    left = [1, 2, 3]
    while left:
        at = line[-1].points[-1]
        away = {
            (k, end): float(np.linalg.norm(curves[k].points[end] - at))
            for k in left
            for end in (0, -1)
        }
        k, end = min(away, key=lambda key: away[key])
        line.append(curves[k] if end == 0 else reverse(curves[k]))
        order.append(k)
        left.remove(k)
    ends = [(line[k], line[(k + 1) % 4]) for k in range(4)]
    gaps = [float(np.linalg.norm(a.points[-1] - b.points[0])) for a, b in ends]
    if max(gaps) > most:
        k = int(np.argmax(gaps))
        raise GapError(
            f"borders {order[k] + 1} and {order[(k + 1) % 4] + 1} are {max(gaps):.3f} mm apart:"
            f" ends up to {most:g} mm apart are closed. Move an end, or allow a wider gap"
        )
    corners = [(a.points[-1] + b.points[0]) / 2 for a, b in ends]
    size = max(float(np.ptp(np.array(corners), axis=0).max()), 1e-12)
    for k in range(4):
        if np.linalg.norm(corners[k] - corners[k - 1]) < 1e-6 * size:
            raise SplineError(f"border {order[k] + 1} begins and ends on one spot")
        line[k] = _with_ends(line[k], corners[k - 1], corners[k])
    line[2], line[3] = reverse(line[2]), reverse(line[3])
    sides = dict(zip(LOOP, line, strict=True))
    return Borders(sides, dict(zip(LOOP, order, strict=True)), max(gaps))


def _with_ends(curve: BSplineCurve, start: Floats, end: Floats) -> BSplineCurve:
    points = curve.points.copy()
    points[0], points[-1] = start, end
    return replace(curve, points=points)


def make_compatible(
    curves: Sequence[BSplineCurve], degree: int, knots: Floats
) -> list[BSplineCurve]:
    """Bring curves to one degree and one knot vector, which holds all theirs; shapes stay.

    Parameters
    ----------
    degree : int
        At least that of each curve.
    knots : array
        Inner knots that the vector is to hold besides.
    """
    raised = []
    for curve in curves:
        while curve.degree < degree:
            curve = raise_degree(curve)
        raised.append(curve)
    wanted = merged([_inner(curve) for curve in raised] + [knots])
    return [_refined(curve, wanted) for curve in raised]


def _inner(curve: BSplineCurve) -> Floats:
    return curve.knots[curve.degree + 1 : -curve.degree - 1]


def merged(parts: Sequence[Floats]) -> Floats:
    """Return the inner knots that hold all of several lists, each as often as it occurs most."""
    every = np.sort(np.concatenate(parts))
    groups = np.split(every, np.flatnonzero(np.diff(every) > SAME_KNOT) + 1)
    made = []
    for group in groups:
        if len(group):
            times = max(int((np.abs(part - group[0]) <= SAME_KNOT).sum()) for part in parts)
            made += [float(group[0])] * times
    return np.array(made)


def _refined(curve: BSplineCurve, inner: Floats) -> BSplineCurve:
    have = _inner(curve)
    for t in np.unique(inner):
        missing = int(
            (np.abs(inner - t) <= SAME_KNOT).sum() - (np.abs(have - t) <= SAME_KNOT).sum()
        )
        if missing > 0:
            curve = insert_knot(curve, float(t), missing)
    # Knots that are one up to rounding become one.
    ends = curve.degree + 1
    return replace(curve, knots=np.concatenate([np.zeros(ends), inner, np.ones(ends)]))


def coons_patch(borders: Borders) -> BSplineSurface:
    """Return the surface that blends four borders, of one degree and one knot vector each way.

    The sum of both ruled surfaces less the bilinear one (Coons 1967), on the control points at
    their Greville parameters.
    """
    south, north, west, east = (borders.sides[border] for border in ("v0", "v1", "u0", "u1"))
    s = greville(south.knots, south.degree)[:, None, None]
    t = greville(west.knots, west.degree)[None, :, None]
    ruled_v = (1 - t) * south.points[:, None] + t * north.points[:, None]
    ruled_u = (1 - s) * west.points[None] + s * east.points[None]
    a, b = south.points[0], south.points[-1]
    c, d = north.points[0], north.points[-1]
    both = (1 - s) * ((1 - t) * a + t * c) + s * ((1 - t) * b + t * d)
    return BSplineSurface(south.knots, west.knots, ruled_u + ruled_v - both)
