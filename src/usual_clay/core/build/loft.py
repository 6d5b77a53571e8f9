"""Loft: a lean surface through sections, in order."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.interpolate import CubicSpline

from usual_clay.core.arrays import Floats
from usual_clay.core.build.lean import Guide, Line, Spend, evenly_in
from usual_clay.core.build.sections import SAMPLES, BuildError, matched, spaced
from usual_clay.core.spline.curve import BSplineCurve

ACROSS, ALONG = 48, 40
# Sections out of order make the way from one to the next so many times as long.
CROSSED = 1.3
End = Literal["free", "square"]


@dataclass(frozen=True)
class LoftSettings(Spend):
    """How a loft goes through its sections.

    Attributes
    ----------
    start, stop : {"free", "square"}
        How it leaves its first and its last section: as it comes, or square to its plane.
    turn : bool
        Whether the sections run the other way, which turns the surface's normal.
    """

    start: End = "free"
    stop: End = "free"
    turn: bool = False


def loft_guide(sections: tuple[BSplineCurve, ...], settings: LoftSettings) -> Guide:
    """Lay sections out as lines of equal v, and a spline through them at each u between them.

    Places at equal shares of the sections' lengths belong together; v is chosen by how far the
    sections lie apart (skinning: Piegl and Tiller, The NURBS Book, ch. 10.3).

    Raises
    ------
    BuildError
    """
    if len(sections) < 2:
        raise BuildError("a loft goes through two sections or more: one was given")
    made = matched(sections)
    if settings.turn:
        made = [each.turned() for each in made]
    closed = made[0].closed
    share = np.arange(SAMPLES) / SAMPLES if closed else evenly_in(SAMPLES)
    rows = np.stack([each.at(share) for each in made])
    _check_order(rows)
    v = spaced(rows)
    u = np.arange(ACROSS) / ACROSS if closed else evenly_in(ACROSS)
    fine = np.union1d(evenly_in(ALONG), v)
    through = np.stack([each.at(u) for each in made])
    grid = _through(v, through, settings)(fine)
    lines = tuple(
        Line(row, share, np.full(SAMPLES, at)) for row, at in zip(rows, v.tolist(), strict=True)
    )
    names = tuple(f"section {k + 1}" for k in range(len(made)))
    return Guide(lines, u, fine, grid.transpose(1, 0, 2), "u" if closed else "", names=names)


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


def _through(v: Floats, rows: Floats, settings: LoftSettings) -> CubicSpline:
    """Return the spline through rows of places, with the ends as they are asked for."""
    slope = CubicSpline(v, rows, bc_type="not-a-knot")
    ends: list[tuple[int, Floats]] = []
    for place, way, row in ((0.0, settings.start, rows[0]), (1.0, settings.stop, rows[-1])):
        free = slope(place, 1)
        if way == "free":
            ends.append((2, slope(place, 2)))
            continue
        middle = row - row.mean(axis=0)
        normal = np.linalg.svd(middle, full_matrices=False)[2][2]
        normal = normal * np.sign(float((free @ normal).mean()) or 1.0)
        ends.append((1, np.linalg.norm(free, axis=1)[:, None] * normal))
    if settings.start == settings.stop == "free":
        return slope
    return CubicSpline(v, rows, bc_type=tuple(ends))
