"""What a surface from curves keeps at its borders: poles, joints, and curves exactly."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.build.guide import Guide
from usual_clay.core.errors import FitError
from usual_clay.core.spline.boundary import BORDERS, SAME_KNOT, Border, border_rows, knots_along
from usual_clay.core.spline.four_borders import make_compatible
from usual_clay.core.spline.surface import BSplineSurface

# Rows of a guide that are source curves count for this share of all its rows.
LINE_SHARE = 1.0
# A pole counts for so many rows.
POLE = 1e4


def weights_of(guide: Guide, name: str) -> Floats:
    """Return how much each row of a guide's grid counts: those that are curves, and poles, more."""
    weights, on = np.ones(len(guide.u if name == "u" else guide.v)), guide.curve_rows(name)
    weights[on] = max(1.0, LINE_SHARE * len(weights) / max(int(on.sum()), 1))
    for border, end in ((f"{name}0", 0), (f"{name}1", -1)):
        if border in guide.poles:
            # It is put in its one place: no row beside is to make up for that.
            weights[end] = POLE * weights.max()
    return weights


@dataclass(frozen=True, eq=False)
class Held:
    """What is kept at an end of a direction: values or a derivative over the border, (n, 3)."""

    border: Border
    order: int
    rows: Floats
    scale: Floats

    @property
    def end(self) -> int:
        return int(self.border[1])


def held_at(guide: Guide, name: str, within: float) -> list[Held]:
    """Return what is kept at the ends of a direction."""
    found = []
    for border in BORDERS:
        if border[0] != name:
            continue
        if border in guide.exact:
            row = border_rows(guide.grid, border)[0]
            found.append(Held(border, 0, row, np.zeros_like(row)))
        if (smooth := guide.smooth.get(border)) is not None:
            parts = zip(smooth.rows, smooth.scales(within), strict=True)
            found += [Held(border, k, *each) for k, each in enumerate(parts, 1)]
    return found


def with_held(guide: Guide, held: list[Held]) -> tuple[Floats, Floats]:
    """Return a guide's grid with further rows and columns for what is kept at its borders.

    Returns
    -------
    grid : (n + k, m + l, 3) array
        Where two borders meet it has how the one changes along the other.
    joints : the same
        What the rows and columns that were added count along, mm.
    """
    n, m, _ = guide.grid.shape
    over_u = [each for each in held if each.border[0] == "u"]
    over_v = [each for each in held if each.border[0] == "v"]
    grid = np.zeros((n + len(over_u), m + len(over_v), 3))
    joints = np.zeros_like(grid)
    grid[:n, :m] = guide.grid
    for k, each in enumerate(over_v):
        grid[:n, m + k], joints[:n, m + k] = each.rows, each.scale
    for k, each in enumerate(over_u):
        grid[n + k, :m], joints[n + k, :m] = each.rows, each.scale
    for j, one in enumerate(over_u):
        for k, other in enumerate(over_v):
            along_v = scipy.interpolate.CubicSpline(guide.v, one.rows)(
                float(other.end), other.order
            )
            along_u = scipy.interpolate.CubicSpline(guide.u, other.rows)(float(one.end), one.order)
            grid[n + j, m + k] = (along_v + along_u) / 2
    return grid, joints


def knots_of(guide: Guide, name: str, degree: int) -> Floats:
    """Return the inner knots along a direction that the exact borders along it have."""
    needed: dict[float, int] = {}
    for border, curve in guide.exact.items():
        if border[0] == name:
            continue
        if curve.weights is not None:
            raise FitError("a rational edge is no border of a surface exactly: rebuild it")
        if curve.degree > degree:
            raise FitError(
                f"to be exact takes the degree of the edges, {curve.degree}: ask for that"
            )
        inner = curve.knots[curve.degree + 1 : -curve.degree - 1]
        for knot, times in zip(*np.unique(inner, return_counts=True), strict=True):
            have = next((k for k in needed if abs(k - knot) < SAME_KNOT), float(knot))
            needed[have] = max(needed.get(have, 0), int(times) + degree - curve.degree)
    return np.repeat(np.array(sorted(needed)), [needed[k] for k in sorted(needed)])


def with_exact(surface: BSplineSurface, guide: Guide) -> BSplineSurface:
    """Put the very control points of exact borders in, on the surface's own knots."""
    points = surface.points.copy()
    for border, curve in guide.exact.items():
        knots, p = knots_along(surface, border), surface.degrees[1 if border[0] == "u" else 0]
        alike = make_compatible([curve], p, knots[p + 1 : -p - 1])[0]
        border_rows(points, border)[0] = alike.points
    return replace(surface, points=points)


def with_poles(surface: BSplineSurface, guide: Guide) -> BSplineSurface:
    """Put the borders of a surface that are one place there."""
    points = surface.points.copy()
    for border, place in guide.poles.items():
        rows = border_rows(points, border)
        rows[0] = place
        if (axis := guide.level.get(border)) is not None:
            # Square to a direction: the next row is level with the pole.
            rows[1] -= ((rows[1] - place) @ axis)[:, None] * axis
    return replace(surface, points=points)
