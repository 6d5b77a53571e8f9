"""Borders that are curves exactly: a guide laid out anew by the parameters of those curves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import scipy
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats
from usual_clay.core.build.guide import Gap, Guide, Line, Own, evenly_in
from usual_clay.core.build.sections import BuildError
from usual_clay.core.spline.boundary import BORDERS, border_rows
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.parts import beginning_at, part_of

# Borders that are exact meet others no farther away than this, mm.
TOUCH = 1e-4
# Places at which a curve's own parameter is told from the guide's.
TOLD = 800
# A closed curve that turns more than this where it begins, radians, has a kink there.
KINK = 2e-3
# Rows of a guide that runs round which are seen again past its seam.
ROUND = 6


def own_of(curve: Measured, share: Callable[[Floats], Floats], called: str) -> Own:
    """Return the part of a curve that a border takes.

    Parameters
    ----------
    share : callable
        Gives the shares of the curve's length at the guide's parameters.
    called : str
        The curve, in messages.

    Raises
    ------
    BuildError
        For a closed curve with a kink where the surface's seam is to be, and a rational one.
    """
    if curve.curve.weights is not None:
        raise BuildError(f"{called} is rational, and no border of a surface can be it: rebuild it")
    at = evenly_in(TOLD + 1)
    t = curve.parameters(share(at))
    if not curve.closed:
        t = np.maximum.accumulate(t)
        part = part_of(curve.curve, float(t[0]), float(t[-1]))
        return Own(part, (t - t[0]) / (t[-1] - t[0]), at)
    t = np.unwrap(t, period=1.0)
    made = beginning_at(curve.curve, float(t[0] % 1.0))
    check_seam(made, called)
    t = np.clip(np.maximum.accumulate(t - t[0]), 0, 1)
    t[-1] = 1.0
    return Own(made, t, at)


def check_seam(curve: BSplineCurve, called: str) -> None:
    """Refuse a closed curve with a kink where it begins and ends.

    Raises
    ------
    BuildError
    """
    places, slopes = curve_derivatives(curve, np.array([0.0, 1.0]), 1)
    ahead = slopes / np.maximum(np.linalg.norm(slopes, axis=1, keepdims=True), 1e-300)
    if np.linalg.norm(ahead[1] - ahead[0]) > KINK:
        raise BuildError(
            f"{called} has a kink where the surface begins and ends: exact borders that run round"
            " are smooth there",
            places[0],
        )


def check_touching(gaps: tuple[Gap, ...]) -> None:
    """Refuse borders that are to be exact and do not meet.

    Raises
    ------
    BuildError
    """
    worst = max(gaps, key=lambda gap: gap.gap, default=None)
    if worst is not None and worst.gap > TOUCH:
        raise BuildError(
            f"{worst.between} are {worst.gap:.4f} mm apart: exact borders take edges that meet",
            np.array(worst.at),
        )


def laid_exactly(guide: Guide) -> Guide:
    """Lay a guide out anew so that borders run by their own curves' parameters.

    Between two such borders the parameters are blended, so that curves inside run aslant of the
    new grid; every place of it is to lie within the distance then, or most where it follows
    measured points.
    """
    along_u, along_v = (
        [guide.own[border] for border in BORDERS if border in guide.own and border[0] == name]
        for name in "vu"
    )
    u, v = _parameters(guide.u, along_u), _parameters(guide.v, along_v)
    if guide.closed:
        u, v = (x[x < 1] if guide.closed == name else x for name, x in (("u", u), ("v", v)))
    flat_u, flat_v = np.meshgrid(u, v, indexing="ij")
    at_u = _blended(flat_u, flat_v, along_u)
    at_v = _blended(flat_v, flat_u, along_v)
    grid = _evaluated(guide, at_u, at_v)
    for border, each in guide.own.items():
        border_rows(grid, border)[0] = curve_points(each.curve, v if border[0] == "u" else u)
    tree = cKDTree(np.column_stack([at_u.ravel(), at_v.ravel()]))
    lines = []
    for line in guide.lines:
        _, near = tree.query(np.column_stack([line.u, line.v]))
        lines.append(Line(line.points, flat_u.ravel()[near], flat_v.ravel()[near]))
    exact = {border: each.curve for border, each in guide.own.items()}
    ends = np.array([0.0, 1.0]) if guide.whole else None
    laid = replace(guide, lines=tuple(lines), u=u, v=v, grid=grid, exact=exact, own={})
    return replace(laid, lines_u=ends if along_v else None, lines_v=ends if along_u else None)


def _parameters(t: Floats, ways: list[Own]) -> Floats:
    """Return the new parameters of a guide's rows: as close as they were."""
    if not ways:
        return t
    return np.asarray(np.mean([np.interp(t, way.at, way.t) for way in ways], axis=0))


def _blended(t: Floats, across: Floats, ways: list[Own]) -> Floats:
    """Return the guide's parameters at new ones, from one border to the other."""
    if not ways:
        return t
    first, last = (np.interp(t, way.t, way.at) for way in (ways[0], ways[-1]))
    return np.asarray((1 - across) * first + across * last)


def _evaluated(guide: Guide, u: Floats, v: Floats) -> Floats:
    """Return places of a guide's grid between its rows, by bicubic splines."""
    t, grid = {"u": guide.u, "v": guide.v}, guide.grid
    if guide.closed:
        name, axis = guide.closed, "uv".index(guide.closed)
        own = t[name]
        t[name] = np.concatenate([own[-ROUND:] - 1, own, own[:ROUND] + 1])
        count = len(own)
        around = np.arange(-ROUND, count + ROUND) % count
        grid = grid.take(around, axis=axis)
    splines = [
        scipy.interpolate.RectBivariateSpline(t["u"], t["v"], grid[:, :, k], s=0) for k in range(3)
    ]
    return np.stack([spline.ev(u, v) for spline in splines], axis=-1)
