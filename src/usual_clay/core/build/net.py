"""Net: a lean surface through two families of crossing curves."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Floats, as_place
from usual_clay.core.build.crossings import (
    Crossings,
    check_gaps,
    corners,
    crossings,
    with_kept,
)
from usual_clay.core.build.exact import check_touching, own_of
from usual_clay.core.build.guide import (
    Gap,
    Guide,
    Line,
    Own,
    Spend,
    evenly_in,
    rows_for,
    words_of_gaps,
)
from usual_clay.core.build.sections import SAMPLES, BuildError, check_curves
from usual_clay.core.spline.boundary import BORDERS, Border
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.measured import Measured

# How far from the first family to the second the place lies that they are brought to.
SHARES = {"both": 0.5, "along": 0.0, "across": 1.0}
GRID = 30


@dataclass(frozen=True)
class NetSettings(Spend):
    """How a net takes its curves.

    Attributes
    ----------
    mend : float
        Curves that pass each other at no more than this are brought together, mm.
    keeps : {"both", "along", "across"}
        Whether both give way by half, or one family stays and the other does.
    borders : {"within", "exact"}
        Whether its outermost curves lie within the distance, or are its borders exactly; the
        others are brought to them.
    """

    mend: float = 0.5
    keeps: Literal["both", "along", "across"] = "both"
    borders: Literal["within", "exact"] = "within"


def net_guide(
    along: tuple[BSplineCurve, ...],
    across: tuple[BSplineCurve, ...],
    settings: NetSettings,
    called: tuple[str, str] = ("along", "across"),
) -> Guide:
    """Lay two families of curves out over each other, and the Gordon surface between them.

    The families are sorted, and their directions chosen, by where they cross. A curve's
    parameters are such that it crosses the others at equal ones (Gordon 1969; for the choice of
    parameters Lin and others 2007). Where curves pass at a distance both give way by half of it.
    A curve that runs past its outermost crossing is used only as far as that.

    Parameters
    ----------
    called : two str
        What curves of either family are called in messages.

    Raises
    ------
    BuildError
    """
    for curves, name in zip((along, across), called, strict=True):
        if len(curves) < 2:
            raise BuildError(f"it takes two curves {name} or more: {len(curves)} was given")
        check_curves(curves, f"curve {name}")
    names = (
        [f"{called[0]} {k + 1}" for k in range(len(along))],
        [f"{called[1]} {k + 1}" for k in range(len(across))],
    )
    met = crossings(along, across, SHARES[settings.keeps])
    check_gaps(met, names, settings.mend)
    along, across, met, names = _sorted(along, across, met, names)
    closed = _closed(along, across)
    poles: dict[Border, Floats] = {}
    if closed != "u":
        met = _with_poles(along, met, "u", poles, settings.mend)
    if closed != "v":
        met = _turned(_with_poles(across, _turned(met), "v", poles, settings.mend))
    u, v = (
        _parameters(along, _inside(met.along, "v", poles), closed == "u"),
        _parameters(across, _inside(met.across, "u", poles).T, closed == "v"),
    )
    own_u, own_v = _own(len(u), "u", poles), _own(len(v), "v", poles)
    outer = _outermost(closed, poles) if settings.borders == "exact" else ()
    if outer:
        met = with_kept(along, across, met, outer)
        check_touching(corners(met, names, poles, closed, (along, across)))
    lines = [
        _Laid(c, met.along[own_v][i], u, met.place[own_v][i], closed == "u")
        for i, c in enumerate(along)
    ]
    rows = [
        _Laid(c, met.across[:, own_u][:, j], v, met.place[:, own_u][:, j], closed == "v")
        for j, c in enumerate(across)
    ]
    guide = _guide(lines, rows, (u, v), (own_u, own_v), met, names, closed, settings)
    own: dict[Border, Own] = {}
    for border in outer:
        family, of = (lines, names[0]) if border[0] == "v" else (rows, names[1])
        laid = family[-int(border[1])]
        own[border] = own_of(laid.curve, laid.shares, of[-int(border[1])])
    return replace(guide, poles=poles, own=own)


def _outermost(closed: str, poles: dict[Border, Floats]) -> tuple[Border, ...]:
    """Return the borders that are curves."""
    return tuple(b for b in BORDERS if b not in poles and b[0] != closed)


def _own(count: int, direction: str, poles: dict[Border, Floats]) -> slice:
    """Return which of the crossings along a direction are with curves, not with poles."""
    first, last = (f"{direction}{end}" in poles for end in (0, 1))
    return slice(int(first), count - int(last))


def _inside(share: Floats, direction: str, poles: dict[Border, Floats]) -> Floats:
    """Return shares of a family's own curves alone."""
    count = share.shape[0] if direction == "v" else share.shape[1]
    own = _own(count, direction, poles)
    return np.asarray(share[own] if direction == "v" else share[:, own])


def _turned(met: Crossings) -> Crossings:
    return Crossings(met.across.T, met.along.T, met.gap.T, met.place.swapaxes(0, 1))


def _with_poles(
    curves: tuple[BSplineCurve, ...],
    met: Crossings,
    direction: str,
    poles: dict[Border, Floats],
    most: float,
) -> Crossings:
    """Let curves that run on past their outermost crossings into one place cross there too.

    Parameters
    ----------
    met : Crossings
        The curves are its first family, the rows.
    poles : dict
        Written: the borders that are such places.
    """
    for end, border in ((0, f"{direction}0"), (1, f"{direction}1")):
        ends = np.stack([curve_points(c, [c.domain[end]])[0] for c in curves])
        place = ends.mean(axis=0)
        column = 0 if end == 0 else -1
        there = np.linalg.norm(met.place[:, column] - place, axis=1)
        apart = np.linalg.norm(ends - place, axis=1)
        if apart.max() > most or there.max() <= 4 * most or Measured(curves[0]).closed:
            continue
        poles[border] = place  # type: ignore[index]
        share = np.full((len(curves), 1), float(end))
        # On the place that is a border's whole, any share is as good: those of the next curve.
        other = met.across[:, [column]]
        where = np.tile(place, (len(curves), 1, 1))
        parts = [(share, met.along), (other, met.across), (apart[:, None], met.gap),
                 (where, met.place)]  # fmt: skip
        met = Crossings(*(np.concatenate(x if end == 0 else x[::-1], axis=1) for x in parts))
    return met


def _guide(
    lines: list[_Laid],
    rows: list[_Laid],
    at: tuple[Floats, Floats],
    own: tuple[slice, slice],
    met: Crossings,
    names: tuple[list[str], list[str]],
    closed: str,
    settings: NetSettings,
) -> Guide:
    u, v = at
    ends_u, ends_v = (
        np.append(u, 1.0) if closed == "u" else u,
        np.append(v, 1.0) if closed == "v" else v,
    )
    # Towards a pole the shape turns quickly: there the grid is closer.
    fine_u = np.union1d(_rows(lines, own[0] != slice(0, len(u))), u)
    fine_v = np.union1d(_rows(rows, own[1] != slice(0, len(v))), v)
    if closed == "u":
        fine_u = fine_u[:-1]
    if closed == "v":
        fine_v = fine_v[:-1]
    over_u = _with_places(np.stack([line.mended(fine_u) for line in lines], axis=1), own[1], met, 1)
    over_v = _with_places(np.stack([row.mended(fine_v) for row in rows], axis=0), own[0], met, 0)
    if closed == "u":
        over_v = np.concatenate([over_v, over_v[:1]])
    if closed == "v":
        over_u = np.concatenate([over_u, over_u[:, :1]], axis=1)
    cross = met.place.transpose(1, 0, 2)
    if closed == "u":
        cross = np.concatenate([cross, cross[:1]])
    if closed == "v":
        cross = np.concatenate([cross, cross[:, :1]], axis=1)
    first = _spline(ends_v, over_u, 1, closed == "v")(fine_v)
    second = _spline(ends_u, over_v, 0, closed == "u")(fine_u)
    third = _spline(ends_u, _spline(ends_v, cross, 1, closed == "v")(fine_v), 0, closed == "u")(
        fine_u
    )
    grid = first + second - third
    made = [
        *(
            Line(points, share, np.full(len(share), t))
            for (points, share), t in zip(
                (line.sampled() for line in lines), v[own[1]].tolist(), strict=True
            )
        ),
    ]
    for row, t in zip(rows, u[own[0]].tolist(), strict=True):
        points, share = row.sampled()
        made.append(Line(points, np.full(len(share), t), share))
    gaps = tuple(
        Gap(
            f"{names[0][i]} and {names[1][j]}",
            float(met.gap[own[1], own[0]][i, j]),
            as_place(met.place[own[1], own[0]][i, j]),
        )
        for i, j in np.argwhere(met.gap[own[1], own[0]] > 1e-6)
    )
    mended = {"both": "closed by half each", "along": "the one across was brought there",
              "across": "the one along was brought there"}[settings.keeps]  # fmt: skip
    words = words_of_gaps(gaps, 0.1 * settings.within, mended)
    every = (*names[0], *names[1])
    guide = Guide(tuple(made), fine_u, fine_v, grid, closed, gaps=gaps, words=words)
    return replace(guide, lines_u=u, lines_v=v, names=every)


def _rows(family: list[_Laid], to_pole: bool) -> Floats:
    """Return parameters along a family of curves that tell how it runs."""
    count = rows_for([each.curve.curve for each in family], GRID)
    return (1 - np.cos(np.pi * evenly_in(2 * count))) / 2 if to_pole else evenly_in(count)


def _with_places(rows: Floats, own: slice, met: Crossings, axis: int) -> Floats:
    """Return rows of places with those of poles before and behind."""
    middle = met.place.shape[axis] // 2
    place = met.place[:, middle] if axis == 1 else met.place[middle]
    shape = list(rows.shape)
    shape[axis] = 1
    parts = [rows]
    if own.start:
        parts.insert(0, np.broadcast_to(place[0], shape))
    if own.stop < len(place):
        parts.append(np.broadcast_to(place[-1], shape))
    return np.concatenate(parts, axis=axis)


def _spline(t: Floats, values: Floats, axis: int, closed: bool) -> scipy.interpolate.CubicSpline:
    return scipy.interpolate.CubicSpline(
        t, values, axis=axis, bc_type="periodic" if closed else "not-a-knot"
    )


class _Laid:
    """A curve of a net, with the parameters at which it crosses the others."""

    def __init__(
        self, curve: BSplineCurve, share: Floats, t: Floats, place: Floats, closed: bool
    ) -> None:
        self.curve = Measured(curve)
        if closed:
            share, t = np.append(share, share[0] + 1), np.append(t, 1.0)
            place = np.concatenate([place, place[:1]])
        self.share = scipy.interpolate.PchipInterpolator(t, share)
        self.closed = closed
        off = place - self.at(t)
        if closed:
            off[-1] = off[0]
        self.off = (
            scipy.interpolate.CubicSpline(t, off, bc_type="periodic")
            if closed
            else scipy.interpolate.PchipInterpolator(t, off)
        )

    def shares(self, t: Floats) -> Floats:
        share = np.asarray(self.share(t))
        return share if self.closed else np.clip(share, 0, 1)

    def at(self, t: Floats) -> Floats:
        return self.curve.at(self.shares(t))

    def mended(self, t: Floats) -> Floats:
        """Return places that go through the crossings."""
        return self.at(t) + np.asarray(self.off(t))

    def sampled(self) -> tuple[Floats, Floats]:
        """Return places of the curve itself, and their parameters."""
        count = rows_for([self.curve.curve], SAMPLES)
        t = evenly_in(count, self.closed)
        return self.at(t), t


def _sorted(
    along: tuple[BSplineCurve, ...],
    across: tuple[BSplineCurve, ...],
    met: Crossings,
    names: tuple[list[str], list[str]],
) -> tuple[
    tuple[BSplineCurve, ...], tuple[BSplineCurve, ...], Crossings, tuple[list[str], list[str]]
]:
    """Sort both families by where they cross, and let each curve run as the first of its family."""
    a, b = met.along.copy(), met.across.copy()
    ones, others = list(along), list(across)
    begun = _let_run_alike(ones, a), _let_run_alike(others, b.T)
    columns, rows = np.argsort(a.mean(axis=0)), np.argsort(b.mean(axis=1))
    a, b = a[np.ix_(rows, columns)], b[np.ix_(rows, columns)]
    for values, kind, order in ((a, names[0], rows), (b.T, names[1], columns)):
        tangled = np.flatnonzero((np.diff(values, axis=1) <= 0).any(axis=1))
        if len(tangled):
            raise BuildError(
                f"{kind[int(order[tangled[0]])]} does not cross the others in the order in which"
                " they lie: take it out, or put it with the other family"
            )
    # Of closed curves shares are told from where each begins.
    a, b = a + begun[0][rows, None], b + begun[1][columns]
    sorted_names = [names[0][i] for i in rows], [names[1][j] for j in columns]
    met = Crossings(a, b, met.gap[np.ix_(rows, columns)], met.place[np.ix_(rows, columns)])
    return (
        tuple(ones[i] for i in rows),
        tuple(others[j] for j in columns),
        met,
        sorted_names,
    )


def _let_run_alike(curves: list[BSplineCurve], share: Floats) -> Floats:
    """Turn curves so that each crosses the others in the order in which the first does.

    Of closed ones the shares, (n, m), are told from the first crossing on, whose own share is
    returned for each, (n,).
    """
    begun = np.zeros(len(curves))
    for k, curve in enumerate(curves):
        closed = share.shape[1] > 2 and Measured(curve).closed
        own = (share[k] - share[k, 0]) % 1.0 if closed else share[k]
        used = slice(1, None) if closed else slice(None)
        if k and np.corrcoef(share[0, used], own[used])[0, 1] < 0:
            curves[k], share[k] = reverse(curve), 1 - share[k]
            own = (share[k] - share[k, 0]) % 1.0 if closed else share[k]
        if closed:
            begun[k] = share[k, 0]
        share[k] = own
    return begun


def _closed(along: tuple[BSplineCurve, ...], across: tuple[BSplineCurve, ...]) -> str:
    if len(across) > 2 and all(Measured(curve).closed for curve in along):
        return "u"
    return "v" if len(along) > 2 and all(Measured(curve).closed for curve in across) else ""


def _parameters(curves: tuple[BSplineCurve, ...], share: Floats, closed: bool) -> Floats:
    """Return common parameters of the crossings: the mean of how far they lie along each curve."""
    if closed:
        way = np.concatenate([share, share[:, :1] + 1], axis=1)
        way = (way - way[:, :1]).mean(axis=0)
        return way[:-1]
    length = np.array([Measured(curve).length for curve in curves])[:, None]
    along = (share - share[:, :1]) * length
    mean = along.mean(axis=0)
    return mean / mean[-1]
