"""Profiles carried along rails: two-rail, and sweeps along one path."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Floats, Ints, as_place, told_at
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
from usual_clay.core.errors import FitError
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.measured import Measured

ALONG, ACROSS = 60, 40
# A profile whose ends lie farther from its rails than this share of its chord belongs elsewhere.
FAR = 0.5
# Rails that come so near, as a share of their greatest distance, meet.
MEETING = 1e-4
# A profile that stands so near to an end of its rails, as a share of their lengths, is there.
AT_END = 1e-5


@dataclass(frozen=True)
class TwoRailSettings(Spend):
    """How profiles are carried along two rails.

    Attributes
    ----------
    height : {"scaled", "kept"}
        Whether a profile's height grows with the distance of the rails, or stays.
    brought : {"both", "moved", "scaled"}
        How a profile comes to rails that it does not meet: moved and scaled as a whole; its ends
        moved and what lies between with them, by its share; or scaled from rail to rail only, as
        high as it was drawn.
    borders : {"within", "exact"}
        Whether the rails, and profiles at their ends, lie within the distance, or are borders
        exactly.
    marks : tuple of float
        Shares of the rails' lengths that belong together, pair by pair: the first rail's, the
        second's, and so on.
    """

    height: Literal["scaled", "kept"] = "scaled"
    brought: Literal["both", "moved", "scaled"] = "both"
    borders: Literal["within", "exact"] = "within"
    marks: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        super().__post_init__()
        if len(self.marks) % 2 or not all(0 <= at <= 1 for at in self.marks):
            raise FitError(
                "marks are pairs of shares from 0 to 1: the first rail's, then the second's"
            )


@dataclass(frozen=True)
class SweepSettings(Spend):
    """How profiles are carried along a path.

    Attributes
    ----------
    way : {"square", "upright", "parallel"}
        Square to the path with the least twist, square to it and upright, or always parallel to
        themselves.
    """

    way: Literal["square", "upright", "parallel"] = "square"


def two_rail_guide(
    rails: tuple[BSplineCurve, ...], profiles: tuple[BSplineCurve, ...], settings: TwoRailSettings
) -> Guide:
    """Carry profiles along two rails, in frames of chord, height and way of the rails.

    Places of the rails belong together where a profile meets both, and between by equal shares of
    their lengths. A profile that does not meet its rails is brought there. In its frame a profile
    is a fixed shape, or a blend of those before and after.

    Raises
    ------
    BuildError
    """
    if len(rails) != 2:
        raise BuildError(f"it takes two rails, not {len(rails)}")
    if not profiles:
        raise BuildError("it takes a profile or more")
    check_curves(rails, "rail")
    check_curves(profiles, "profile")
    pair = _alike(rails)
    closed = pair[0].closed
    placed = [_stationed(pair, profile, number) for number, profile in enumerate(profiles, 1)]
    turned, stations = [each[0] for each in placed], [each[1] for each in placed]
    gaps = [each[2] for each in placed]
    order = np.argsort([station[0] for station in stations]).tolist()
    at = np.array([stations[k] for k in order])
    _check_stations(at, order)
    maps = [_paired(at, k, closed, _marked(settings, at)) for k in range(2)]
    count = rows_for(rails, ALONG)
    t = evenly_in(count, closed)
    own = maps[0][1]
    t = np.union1d(t, own) if not closed else np.unique(np.concatenate([t, own % 1.0]))

    def rail(k: int, where: Floats) -> Floats:
        share = np.asarray(maps[k][0](where))
        return pair[k].at(share % 1.0 if closed else np.clip(share, 0, 1))

    at_own = _chord_frames(rail(0, own), rail(1, own), pair, maps, own)
    share, scaled = evenly_in(rows_for(profiles, SAMPLES)), settings.height == "scaled"
    local = [
        _local(Measured(turned[index]).at(share), start, frame, wide, settings)
        for index, start, frame, wide in zip(order, *at_own, strict=True)
    ]
    shapes = _blended(own, np.stack(local), closed)(t)
    starts, axes, width = _chord_frames(rail(0, t), rail(1, t), pair, maps, t)
    _check_rails(starts, axes, width)
    grid = _in_space(shapes, starts, axes, width, scaled)
    keep = _some(profiles)
    seen = rows_for(rails, SAMPLES)
    fine = evenly_in(seen, closed)
    lines = [Line(rail(k, fine), fine, np.full(seen, float(k))) for k in range(2)]
    for k, _ in enumerate(order):
        here = int(np.argmin(np.abs(t - (own[k] % 1.0 if closed else own[k]))))
        lines.append(Line(grid[here], np.full(len(share), t[here]), share))
    told = tuple(
        Gap(f"profile {k + 1} and its rails", gap, as_place(pair[0].at(np.array([at_rail]))[0]))
        for k, (gap, (at_rail, _)) in enumerate(zip(gaps, stations, strict=True))
        if gap > 1e-6
    )
    words = words_of_gaps(told, 0.1 * settings.within, "brought there")
    names = ("rail 1", "rail 2", *(f"profile {k + 1}" for k in order))
    # Where rails meet the surface runs to a point.
    ends: tuple[tuple[Border, int], ...] = () if closed else (("u0", 0), ("u1", -1))
    poles = {border: starts[end] for border, end in ends if width[end] <= MEETING * width.max()}
    guide = Guide(tuple(lines), t, share[keep], grid[:, keep], "u" if closed else "", poles)
    exact: dict[Border, Own] = {}
    if settings.borders == "exact":
        rims: tuple[Border, Border] = "v0", "v1"
        exact = {b: own_of(pair[k], maps[k][0], f"rail {k + 1}") for k, b in enumerate(rims)}
        exact |= {} if closed else _at_ends(turned, order, own, told)
    own = own % 1.0 if closed else own
    guide = replace(guide, gaps=told, words=words, names=names, own=exact)
    return replace(guide, lines_u=own, lines_v=np.array([0.0, 1.0]))


def _at_ends(
    profiles: list[BSplineCurve], order: list[int], own: Floats, gaps: tuple[Gap, ...]
) -> dict[Border, Own]:
    """Return the profiles that stand at the ends of their rails, as borders.

    Raises
    ------
    BuildError
        For one that does not meet its rails.
    """
    found: dict[Border, Own] = {}
    ends: tuple[tuple[Border, int, float], ...] = (("u0", 0, 0.0), ("u1", -1, 1.0))
    for border, place, end in ends:
        if own[place] != end:
            continue
        name = f"profile {order[place] + 1}"
        check_touching(tuple(gap for gap in gaps if gap.between == f"{name} and its rails"))
        profile = Measured(profiles[order[place]])
        found[border] = own_of(profile, lambda share: share, name)
    return found


def sweep_guide(
    path: BSplineCurve, profiles: tuple[BSplineCurve, ...], settings: SweepSettings
) -> Guide:
    """Carry profiles along one path, in frames that twist least, stand upright or stay parallel.

    Raises
    ------
    BuildError
    """
    if not profiles:
        raise BuildError("it takes a profile or more")
    check_curves((path, *profiles), "curve")
    way = Measured(path)
    kink = kink_of(way)
    if kink is not None:
        where = told_at(kink)
        raise BuildError(
            f"the path has a kink near {where}: round it, or sweep each part by itself", kink
        )
    t = evenly_in(rows_for((path,), ALONG))
    at = np.array([way.nearest(Measured(each).at(evenly_in(24))) for each in profiles])
    order = np.argsort(at)
    at, ordered = at[order], [profiles[k] for k in order]
    if (np.diff(at) < 1e-6).any():
        raise BuildError("two profiles stand at the same place of the path: take one out")
    t = np.union1d(t, at)
    places, axes = way.at(t), frames_along(way, t, settings.way)
    round_ = all(Measured(each).closed for each in ordered)
    seen = rows_for(profiles, SAMPLES)
    share = evenly_in(seen, round_)
    local, first = [], None
    for each, station in zip(ordered, at.tolist(), strict=True):
        here = int(np.argmin(np.abs(t - station)))
        mine = min(
            (
                (Measured(one).at(share) - places[here]) @ axes[here].T
                for one in (each, reverse(each))
            ),
            key=lambda shape: 0.0 if first is None else float(((shape - first) ** 2).sum()),
        )
        first = mine
        local.append(mine)
    shapes = _blended(at, np.stack(local), False)(t)
    grid = places[:, None] + np.einsum("tnk,tkd->tnd", shapes, axes)
    keep = _some(profiles)
    lines = []
    for station in at.tolist():
        here = int(np.argmin(np.abs(t - station)))
        lines.append(Line(grid[here], np.full(len(share), t[here]), share))
    # What the profile draws along the path is as much wanted as the profile itself.
    for k in keep[:: max(1, len(keep) // 6)]:
        lines.append(Line(grid[:, k], t, np.full(len(t), share[k])))
    names = tuple(f"profile {k + 1}" for k in order.tolist())
    closed = "v" if round_ else ""
    return Guide(tuple(lines), t, share[keep], grid[:, keep], closed, names=names)


def frames_along(way: Measured, t: Floats, kind: str) -> Floats:
    """Return frames along a path, (n, 3, 3): rows across, across and ahead.

    Those that twist least are made by double reflection (Wang and others 2008).
    """
    ahead = way.ahead(t)
    if kind == "parallel":
        return np.broadcast_to(_frame(ahead[0]), (len(t), 3, 3)).copy()
    if kind == "upright":
        up = np.array([0.0, 0, 1])
        side = np.cross(up, ahead)
        size = np.linalg.norm(side, axis=1)
        if (size < 1e-6).any():
            raise BuildError("the path runs straight up: upright is not possible there")
        side /= size[:, None]
        return np.stack([side, np.cross(ahead, side), ahead], axis=1)
    fine = np.unique(np.concatenate([t, evenly_in(max(400, 4 * len(t)))]))
    places, along = way.at(fine), way.ahead(fine)
    frames = np.empty((len(fine), 3, 3))
    frames[0] = _frame(along[0])
    for k in range(len(fine) - 1):
        step = places[k + 1] - places[k]
        square = max(float(step @ step), 1e-300)
        side = frames[k, 0] - 2 / square * (step @ frames[k, 0]) * step
        turned = along[k] - 2 / square * (step @ along[k]) * step
        off = along[k + 1] - turned
        size = float(off @ off)
        if size > 1e-300:
            side = side - 2 / size * (off @ side) * off
        frames[k + 1] = side, np.cross(along[k + 1], side), along[k + 1]
    return frames[np.searchsorted(fine, t)]


def _frame(ahead: Floats) -> Floats:
    other = np.eye(3)[int(np.argmin(np.abs(ahead)))]
    side = np.cross(other, ahead)
    side /= np.linalg.norm(side)
    return np.stack([side, np.cross(ahead, side), ahead])


def kink_of(way: Measured) -> Floats | None:
    """Return where a path turns sharply, if it does."""
    fine = evenly_in(2001)
    ahead = way.ahead(fine)
    turn = np.einsum("nk,nk->n", ahead[1:], ahead[:-1])
    at = int(np.argmin(turn))
    return way.at(fine[[at]])[0] if turn[at] < np.cos(np.radians(20)) else None


def _some(profiles: tuple[BSplineCurve, ...]) -> Ints:
    """Return which samples of profiles tell how they run."""
    last = rows_for(profiles, SAMPLES) - 1
    return np.linspace(0, last, rows_for(profiles, ACROSS)).round().astype(int)


def _alike(rails: tuple[BSplineCurve, ...]) -> list[Measured]:
    one, other = Measured(rails[0]), Measured(rails[1])
    if one.closed != other.closed:
        raise BuildError("one rail is closed and the other is open: both are to be alike")
    t = evenly_in(24)
    back = other.turned()
    same, turned = (
        float(np.linalg.norm(one.at(t) - each.at(t), axis=1).sum()) for each in (other, back)
    )
    if one.closed:
        # The second begins where it is nearest to the first's beginning.
        other, back = (
            each.beginning_at(each.nearest(one.at(np.zeros(1)))) for each in (other, back)
        )
        same, turned = (
            float(np.linalg.norm(one.at(t) - each.at(t), axis=1).sum()) for each in (other, back)
        )
    return [one, other if same <= turned else back]


def _stationed(
    rails: list[Measured], profile: BSplineCurve, number: int
) -> tuple[BSplineCurve, tuple[float, float], float]:
    """Return a profile from the first rail to the second, its stations, and how far it misses."""
    best = None
    for way in (profile, reverse(profile)):
        ends = curve_points(way, np.array(way.domain))
        at = rails[0].nearest(ends[:1]), rails[1].nearest(ends[1:])
        miss = [
            float(np.linalg.norm(r.at(np.array([t]))[0] - e))
            for r, t, e in zip(rails, at, ends, strict=True)
        ]
        if best is None or sum(miss) < sum(best[2]):
            best = (way, at, miss, float(np.linalg.norm(ends[1] - ends[0])))
    assert best is not None
    way, at, miss, chord = best
    if max(miss) > FAR * max(chord, 1e-12):
        raise BuildError(
            f"profile {number} lies {max(miss):.2f} mm from its rails: bring it there, or take it"
            " out"
        )
    return way, (at[0], at[1]), max(miss)


def _check_rails(starts: Floats, axes: Floats, width: Floats) -> None:
    """Refuse rails that cross: the way from one to the other turns round there.

    Raises
    ------
    BuildError
    """
    across = axes[:, 0]
    turned = np.einsum("nk,nk->n", across[1:], across[:-1]) < 0
    if turned.any():
        at = int(np.argmax(turned))
        at += int(width[at + 1] < width[at])
        where = told_at(starts[at])
        raise BuildError(
            f"the rails cross near {where}: part them there, or take another rail", starts[at]
        )


def _check_stations(at: Floats, order: list[int]) -> None:
    for k in range(len(at) - 1):
        if at[k + 1, 0] - at[k, 0] < 1e-6:
            raise BuildError(f"profiles {order[k] + 1} and {order[k + 1] + 1} stand at one place")
        if at[k + 1, 1] - at[k, 1] < 1e-6:
            raise BuildError(
                f"profiles {order[k] + 1} and {order[k + 1] + 1} cross: on one rail the one comes"
                " first, on the other the other"
            )


def _marked(settings: TwoRailSettings, at: Floats) -> Floats:
    """Return which places of the rails belong together, (n, 2): profiles' and marks.

    Raises
    ------
    BuildError
        For a mark that crosses a profile or another mark.
    """
    marks = np.array(settings.marks, dtype=np.float64).reshape(-1, 2)
    away = np.abs(marks[:, None] - at).max(axis=2).min(axis=1, initial=np.inf)
    every = np.concatenate([at, marks[away > 1e-6]])
    every = every[np.argsort(every[:, 0])]
    crossed = np.flatnonzero((np.diff(every, axis=0) <= 1e-6).any(axis=1))
    if len(crossed):
        first, second = every[crossed[0] : crossed[0] + 2].tolist()
        raise BuildError(
            f"the places {first[0]:.2f} to {first[1]:.2f} and {second[0]:.2f} to {second[1]:.2f} of"
            " the rails cross: take a mark out, or move it"
        )
    return np.asarray(every)


def _paired(
    stations: Floats, k: int, closed: bool, at: Floats
) -> tuple[scipy.interpolate.PchipInterpolator, Floats]:
    """Return the share of a rail's length at common parameters, and the profiles' parameters.

    Parameters
    ----------
    stations, at : (n, 2) and (m, 2) arrays
        The shares of the rails at which profiles stand, and all that belong together.
    """
    mean = at.mean(axis=1)
    if closed:
        x = np.concatenate([mean, mean[:1] + 1])
        y = np.concatenate([at[:, k], at[:1, k] + 1])
        x, y = (
            np.concatenate([x[:-1] - 1, x, x[1:] + 1]),
            np.concatenate([y[:-1] - 1, y, y[1:] + 1]),
        )
    else:
        x, y = np.concatenate([[0.0], mean, [1.0]]), np.concatenate([[0.0], at[:, k], [1.0]])
    keep = np.concatenate([[True], np.diff(x) > AT_END])
    # A profile at an end is the end.
    own = np.clip(stations.mean(axis=1), 0, 1)
    if not closed:
        own = np.where(own < AT_END, 0.0, np.where(own > 1 - AT_END, 1.0, own))
    return scipy.interpolate.PchipInterpolator(x[keep], y[keep], extrapolate=True), own


def _chord_frames(
    first: Floats,
    second: Floats,
    rails: list[Measured],
    maps: list[tuple[scipy.interpolate.PchipInterpolator, Floats]],
    t: Floats,
) -> tuple[Floats, Floats, Floats]:
    """Return frames of the chord from rail to rail: starts, axes (n, 3, 3) and widths."""
    chord = second - first
    width = np.linalg.norm(chord, axis=1)
    if (width < 1e-9).any():
        # Where rails meet the frame is that of the places beside.
        near = np.flatnonzero(width > 1e-9)
        if not len(near):
            raise BuildError("the rails lie on each other")
        fill = near[np.argmin(np.abs(near[:, None] - np.arange(len(width))), axis=0)]
        across = (chord / np.maximum(width, 1e-300)[:, None])[fill]
    else:
        across = chord / width[:, None]
    ahead = np.zeros_like(first)
    for rail, (share, _) in zip(rails, maps, strict=True):
        s = np.asarray(share(t))
        ahead += rail.ahead(s % 1.0 if rail.closed else np.clip(s, 0, 1))
    ahead -= np.einsum("nk,nk->n", ahead, across)[:, None] * across
    ahead /= np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-300)
    return first, np.stack([across, np.cross(ahead, across), ahead], axis=1), width


def _local(
    points: Floats, start: Floats, axes: Floats, width: float, settings: TwoRailSettings
) -> Floats:
    """Return a profile in a frame in which its ends are 0 and 1 across, brought there."""
    if settings.brought == "moved":
        share = evenly_in(len(points))[:, None]
        first, last = start - points[0], start + width * axes[0] - points[-1]
        points = points + (1 - share) * first + share * last
    local = (points - points[0]) @ axes.T
    chord = local[-1]
    size = float(np.linalg.norm(chord))
    if size <= 1e-12:
        return local
    # Turned and scaled so that its chord is the frame's.
    local = local @ _turn(chord / size).T
    local[:, 0] /= size
    if settings.height == "scaled":
        local[:, 1:] /= max(width, 1e-12) if settings.brought == "scaled" else size
    return local


def _turn(direction: Floats) -> Floats:
    """Return the rotation that takes a direction to the first axis by the shortest way."""
    goal = np.array([1.0, 0, 0])
    axis = np.cross(direction, goal)
    cos = float(direction @ goal)
    if cos < -0.9999:
        return np.diag([-1.0, -1.0, 1.0])
    cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.eye(3) + cross + cross @ cross / (1 + cos)


def _in_space(shapes: Floats, starts: Floats, axes: Floats, width: Floats, scaled: bool) -> Floats:
    size = np.stack([width, *([width if scaled else np.ones_like(width)] * 2)], axis=1)
    return starts[:, None] + np.einsum("tnk,tk,tkd->tnd", shapes, size, axes)


def _blended(at: Floats, shapes: Floats, closed: bool) -> Callable[[Floats], Floats]:
    """Return the shape of a profile at any station; before the first and past the last it stays."""
    if len(at) == 1:
        return lambda t: np.repeat(shapes, len(t), axis=0)
    if closed:
        ends = np.append(at, at[0] + 1), np.concatenate([shapes, shapes[:1]])
        if len(at) > 2:
            spline = scipy.interpolate.CubicSpline(*ends, bc_type="periodic")
            return lambda t: spline((t - at[0]) % 1.0 + at[0])
        pair = scipy.interpolate.PchipInterpolator(*ends)
        return lambda t: pair((t - at[0]) % 1.0 + at[0])
    spline = scipy.interpolate.make_interp_spline(at, shapes, k=min(3, len(at) - 1))
    return lambda t: spline(np.clip(t, at[0], at[-1]))
