"""Loft: a lean surface through sections, in order."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.build.exact import check_seam
from usual_clay.core.build.guide import Guide, Line, Spend, evenly_in, rows_for
from usual_clay.core.build.sections import SAMPLES, BuildError, check_crossing, matched, spaced
from usual_clay.core.build.smooth import Smooth, faded, smooth_to
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.surface import BSplineSurface

ACROSS, ALONG = 48, 40
TIPS = ("sharp", "round")
# Sections out of order make the way from one to the next so many times as long.
CROSSED = 1.3
# A tip with no place of its own stands so many times its section's size past it.
PAST = 0.5
# What lies beside a section is no farther from it than so many times the distance asked for.
BESIDE = 10.0
End = Literal["free", "square", "G1", "G2", "sharp", "round"]


@dataclass(frozen=True)
class LoftSettings(Spend):
    """How a loft goes through its sections.

    Attributes
    ----------
    start, stop : {"free", "square", "G1", "G2", "sharp", "round"}
        How it leaves its first and its last section: as it comes, square to its plane, smooth to
        the surface beside it, or on to a tip.
    flips : tuple of int
        Sections that run the other way than they were matched, counted from 1.
    turn : bool
        Whether all of them do, which turns the surface's normal.
    borders : {"within", "exact"}
        Whether its first and last section lie within the distance, or are borders of it exactly.
    """

    start: End = "free"
    stop: End = "free"
    flips: tuple[int, ...] = ()
    turn: bool = False
    borders: Literal["within", "exact"] = "within"


def loft_guide(
    sections: tuple[BSplineCurve, ...],
    settings: LoftSettings,
    tips: Floats | None = None,
    beside: tuple[BSplineSurface, ...] = (),
) -> Guide:
    """Lay sections out as lines of equal v, and a spline through them at each u between them.

    Places at equal shares of the sections' lengths belong together; v is chosen by how far the
    sections lie apart (skinning: Piegl and Tiller, The NURBS Book, ch. 10.3).

    Parameters
    ----------
    tips : (n, 3) array, optional
        Places of tips; without one a tip stands ahead of its section.
    beside : surfaces that it goes on from

    Raises
    ------
    BuildError
    """
    ends = {end: way for end, way in ((0, settings.start), (1, settings.stop)) if way in TIPS}
    if len(sections) + len(ends) < 2:
        raise BuildError("a loft goes through two sections or more: one was given")
    made = sections_of(sections, settings)
    closed = made[0].closed
    seen, count = rows_for(sections, SAMPLES), rows_for(sections, ACROSS)
    share = evenly_in(seen, closed)
    exact: dict[Border, BSplineCurve] = {}
    if settings.borders == "exact":
        if closed:
            made = [each.laid_anew() for each in made]
            for number, each in enumerate(made, 1):
                check_seam(each.curve, f"section {number}")
        exact = {b: made[k].curve for b, k in (("v0", 0), ("v1", -1)) if abs(k) not in ends}  # type: ignore[misc]
    places = Measured.by_parameter if exact else Measured.at
    rows = np.stack([places(each, share) for each in made])
    _check_order(rows)
    tip = {end: _tip(rows, end, tips) for end in ends}
    v = spaced(_with_tips(rows, tip))
    u = evenly_in(count, closed)
    fine = np.union1d(evenly_in(ALONG), v)
    through = _with_tips(np.stack([places(each, u) for each in made]), tip)
    grid, smooth = _through(v, through, fine, settings, beside)
    own = v[0 in tip : len(v) - (1 in tip)]
    lines = tuple(
        Line(row, share, np.full(seen, at)) for row, at in zip(rows, own.tolist(), strict=True)
    )
    borders: tuple[Border, Border] = ("v0", "v1")
    poles: dict[Border, Floats] = {borders[end]: place for end, place in tip.items()}
    level = {borders[end]: _axis(through, end) for end, way in ends.items() if way == "round"}
    guide = Guide(lines, u, fine, grid, "u" if closed else "", poles, level=level, smooth=smooth)
    names = tuple(f"section {k + 1}" for k in range(len(made)))
    return replace(guide, names=names, exact=exact)


def sections_of(sections: tuple[BSplineCurve, ...], settings: LoftSettings) -> list[Measured]:
    """Return sections as a loft takes them: directions and seams matched, then as asked.

    Raises
    ------
    BuildError
    """
    made = matched(sections)
    check_crossing(sections, "section")
    return [
        each.turned() if settings.turn != (k in settings.flips) else each
        for k, each in enumerate(made, 1)
    ]


def _with_tips(rows: Floats, tip: dict[int, Floats]) -> Floats:
    ends = [np.repeat(tip[k][None], rows.shape[1], 0)[None] if k in tip else None for k in (0, 1)]
    return np.concatenate([x for x in (ends[0], rows, ends[1]) if x is not None])


def _tip(rows: Floats, end: int, tips: Floats | None) -> Floats:
    """Return the place of a tip: the given one that is nearest, or one ahead of its section."""
    row = rows[0 if end == 0 else -1]
    middle = row.mean(axis=0)
    if tips is not None and len(tips):
        return np.asarray(tips[int(np.argmin(np.linalg.norm(tips - middle, axis=1)))])
    normal = np.linalg.svd(row - middle, full_matrices=False)[2][2]
    away = middle - rows.mean(axis=(0, 1))
    size = float(np.linalg.norm(row - middle, axis=1).max())
    return np.asarray(middle + 2 * PAST * size * normal * (np.sign(away @ normal) or 1.0))


def _axis(through: Floats, end: int) -> Floats:
    """Return the direction from the section before a tip to it."""
    tip, row = (through[0, 0], through[1]) if end == 0 else (through[-1, 0], through[-2])
    away = tip - row.mean(axis=0)
    return np.asarray(away / max(float(np.linalg.norm(away)), 1e-300))


def _check_order(rows: Floats) -> None:
    """Refuse sections whose order runs to and fro.

    Raises
    ------
    BuildError
    """
    middles = rows.mean(axis=1)
    if len(middles) < 3:
        return
    legs = np.linalg.norm(np.diff(middles, axis=0), axis=1)
    order = _nearest_way(middles)
    best = np.linalg.norm(np.diff(middles[order], axis=0), axis=1).sum()
    if legs.sum() > CROSSED * best:
        names = ", ".join(str(k + 1) for k in order)
        raise BuildError(
            f"the sections lie to and fro in this order: pick them in the order {names}"
        )


def _nearest_way(places: Floats) -> list[int]:
    """Return the shortest of the ways that go to the nearest next place, from each start."""
    away = np.linalg.norm(places[:, None] - places, axis=2)
    best: tuple[float, list[int]] = (np.inf, [])
    for first in range(len(places)):
        way, left, length = [first], set(range(len(places))) - {first}, 0.0
        while left:
            step = min(left, key=lambda k: float(away[way[-1], k]))
            length += float(away[way[-1], step])
            way.append(step)
            left.remove(step)
        best = min(best, (length, way))
    return best[1] if best[1][0] <= best[1][-1] else best[1][::-1]


def _through(
    v: Floats,
    rows: Floats,
    fine: Floats,
    settings: LoftSettings,
    beside: tuple[BSplineSurface, ...],
) -> tuple[Floats, dict[Border, Smooth]]:
    """Return the grid of splines through rows of places, and how it is smooth to what is beside.

    Raises
    ------
    BuildError
        Where nothing lies beside a section.
    """
    free = scipy.interpolate.CubicSpline(v, rows, bc_type="not-a-knot")
    smooth: dict[Border, Smooth] = {}
    ends: list[tuple[int, Floats]] = []
    for end, way, border in ((0, settings.start, "v0"), (1, settings.stop, "v1")):
        row, slope, bend = rows[-1 if end else 0], free(end, 1), free(end, 2)
        if way in ("G1", "G2"):
            made = smooth_to(row, slope, bend, end, beside, int(way[1]), BESIDE * settings.within)
            if made is None:
                which = ("first", "last")[end]
                raise BuildError(
                    f"no surface lies beside the {which} section, within"
                    f" {BESIDE * settings.within:g} mm: pick the one that it goes on from, or let"
                    " it be free"
                )
            smooth[border] = made  # type: ignore[index]
            ends.append((1, made.slope))
        elif way == "square":
            normal = np.linalg.svd(row - row.mean(axis=0), full_matrices=False)[2][2]
            normal = normal * np.sign(float((slope @ normal).mean()) or 1.0)
            ends.append((1, np.linalg.norm(slope, axis=1)[:, None] * normal))
        elif way == "round":
            ends.append((1, _dome(v, rows, end)))
        else:
            ends.append((2, bend))
    alone = all(order == 2 for order, _ in ends)
    spline = free if alone else scipy.interpolate.CubicSpline(v, rows, bc_type=tuple(ends))
    grid = np.asarray(spline(fine).swapaxes(0, 1))
    for border, made in smooth.items():
        if made.bend is None:
            continue
        end, leg = (0, v[1]) if border == "v0" else (1, 1 - v[-2])
        grid = faded(grid, fine, border, made.bend - spline(end, 2), float(leg))
    return grid, smooth


def _dome(v: Floats, rows: Floats, end: int) -> Floats:
    """Return the slope of half an ellipsoid at its tip, which the section before it leads to."""
    axis = _axis(rows, end)
    row, leg = (rows[1], v[1]) if end == 0 else (rows[-2], 1 - v[-2])
    ring = row - row.mean(axis=0)
    ring = ring - (ring @ axis)[:, None] * axis
    return np.asarray((1 if end == 0 else -1) * ring * (np.pi / 2) / leg)
