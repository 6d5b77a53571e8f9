"""The leanest surface that brings curves within a distance.

Each way to make a surface from curves says where its curves lie on it, and what it wants between
them, as a grid of places; how it is spent is the same for all of them: least squares over that
grid, with knots where they earn most. Near that surface the places may slide along it, as in a
cast, and fewer control points do.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy

from usual_clay.core.arrays import Floats, thinned
from usual_clay.core.build.exact import laid_exactly
from usual_clay.core.build.guide import MOST, Gap, Guide, Spend
from usual_clay.core.build.held import (
    held_at,
    knots_of,
    weights_of,
    with_exact,
    with_held,
    with_poles,
)
from usual_clay.core.build.tensor import TensorSearch, Way
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.region import CastSettings, KnotRule, Parameterization
from usual_clay.core.fit.search.knot_search import KnotSearch
from usual_clay.core.fit.solve.laid import Attempt, Laid
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.boundary import border_rows, with_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface

# What the search leaves past the distance is made up for by asking for a little less.
CLOSER, MOST_ROUNDS, SLID_ROUNDS = 0.9, 5, 2
# Surfaces of more control points are not made leaner by sliding: it takes long.
MOST_SLID = 120
# Rounds in which places come to rest where a knot is taken out.
SETTLING = 5
# So many places along the curves tell enough of where they lie.
MOST_PLACES = 2_500
# While places slide, the guide counts for this share of what the curves count for.
GUIDE_SHARE, SMOOTHNESS = 0.02, 0.15


@dataclass(frozen=True, eq=False)
class Built:
    """A surface from curves.

    Attributes
    ----------
    surface : BSplineSurface
    distances : dict
        By the name of each source curve how far places along it lie off, mm.
    farthest : float
        How far any place lies off that the surface was to pass through, mm.
    gaps : tuple of Gap
    words : str
    """

    surface: BSplineSurface
    distances: dict[str, Floats]
    farthest: float = 0.0
    gaps: tuple[Gap, ...] = ()
    words: str = ""

    @property
    def total(self) -> int:
        return int(np.prod(self.surface.counts))


def lean_surface(guide: Guide, spend: Spend, progress: Progress = silent) -> Built:
    """Return the leanest surface that brings each curve of a guide within a distance.

    Raises
    ------
    FitError
        For a guide that is not finite.
    """
    if not all(np.isfinite(part).all() for part in (guide.grid, *(x.points for x in guide.lines))):
        raise FitError("the curves hold numbers that are not finite")
    if guide.own:
        guide = laid_exactly(guide)
    search, ways = _over(guide, spend)
    if spend.nu and spend.nv:
        return _built(guide, search.settled(search.fitted(*ways)).surface)
    best = _nearest_of(
        guide, spend, lambda aim: search.within(*ways, aim).surface, stretch(progress, 0, 0.5)
    )
    curves = guide.lines_u is not None or guide.lines_v is not None
    may_slide = curves and not guide.poles and not guide.whole
    may_slide = may_slide and not (guide.smooth or guide.exact) and best.total <= MOST_SLID
    if best.farthest <= spend.within and may_slide:
        slid = _Slid(guide, spend, best.surface)
        leaner = _nearest_of(guide, spend, slid.within, stretch(progress, 0.5, 1), SLID_ROUNDS)
        if leaner.farthest <= spend.within and leaner.total < best.total:
            best = leaner
    if best.farthest > spend.within:
        short = (
            f"the farthest curve lies {best.farthest:.3f} mm off: {spend.within:g} mm was not met"
        )
        best = replace(best, words="; ".join(filter(None, [best.words, short])))
    return best


def carried_along(surface: BSplineSurface, before: Guide, now: Guide) -> BSplineSurface:
    """Return a surface moved by as much as its guide is, with twice as many spans to follow it.

    Least squares of the move over the guide's grid: quick, and near while the move is small.
    """
    was = before.grid
    for axis, (t, there) in enumerate(((before.u, now.u), (before.v, now.v))):
        if not np.array_equal(t, there):
            was = scipy.interpolate.CubicSpline(t, was, axis=axis)(there)
    ways = []
    for name, t, p in zip("uv", (now.u, now.v), surface.degrees, strict=True):
        spans = np.unique(surface.knots_u if name == "u" else surface.knots_v)
        halves = np.sort(np.concatenate([spans, (spans[1:] + spans[:-1]) / 2]))
        surface = with_knots(surface, name, halves)
        knots = surface.knots_u if name == "u" else surface.knots_v
        ways.append(Way(t, weights_of(now, name), p, now.closed == name, knots[p + 1 : -p - 1]))
    search = TensorSearch(now.grid - was, np.ones(was.shape[:2], dtype=bool), (MOST, MOST))
    moved = replace(surface, points=surface.points + search.fitted(ways[0], ways[1]).points)
    return with_poles(moved, now)


def _nearest_of(
    guide: Guide,
    spend: Spend,
    search: Callable[[float], BSplineSurface],
    progress: Progress,
    rounds: int = MOST_ROUNDS,
) -> Built:
    """Search for a finer and finer distance, until every curve is within the one that is asked."""
    best: Built | None = None
    aim = spend.within
    for number in range(rounds):
        progress(number / rounds, f"within {aim:.3f} mm")
        made = _built(guide, search(aim))
        if best is None or made.farthest < best.farthest:
            best = made
        if made.farthest <= spend.within:
            break
        aim *= max(CLOSER * spend.within / made.farthest, 0.3)
    assert best is not None
    return best


@dataclass
class _CurveSearch(KnotSearch):
    """A search that brings each place of the curves within the distance, wherever the guide lies
    between them.

    Attributes
    ----------
    lines : int
        So many of the places, the first ones, lie on curves.
    """

    lines: int = 0

    def holds(self, attempt: Attempt) -> bool:
        # What slides off the surface's end lies far from it, however near across.
        return super().holds(attempt) and self._farthest(attempt) <= self.tolerance.deviation

    def _error(self, attempt: Attempt) -> float:
        return float(attempt.distances[: self.lines].max())

    def _farthest(self, attempt: Attempt) -> float:
        u, v = self.laid.start.u[: self.lines], self.laid.start.v[: self.lines]
        feet = foot_points(attempt.surface, self.laid.points[: self.lines], (u, v))
        return float(np.abs(feet.signed).max())


class _Slid:
    """A search that sets out from a surface near the curves, along which their places slide."""

    def __init__(self, guide: Guide, spend: Spend, surface: BSplineSurface) -> None:
        every = max(2, sum(len(line.points) for line in guide.lines) // MOST_PLACES + 1)
        rows, columns = thinned(len(guide.u), every), thinned(len(guide.v), every)
        grid_u, grid_v = (
            x.ravel() for x in np.meshgrid(guide.u[rows], guide.v[columns], indexing="ij")
        )
        runs = [(line, thinned(len(line.points), every)) for line in guide.lines]
        grid = guide.grid[np.ix_(rows, columns)].reshape(-1, 3)
        points = np.concatenate([*(line.points[run] for line, run in runs), grid])
        u = np.concatenate([*(line.u[run] for line, run in runs), grid_u])
        v = np.concatenate([*(line.v[run] for line, run in runs), grid_v])
        count = self.lines = len(points) - len(grid_u)
        areas = np.ones(len(points))
        areas[count:] = GUIDE_SHARE * count / len(grid_u)
        legs = [np.linalg.norm(np.diff(guide.grid, axis=k), axis=2).sum(axis=k) for k in (0, 1)]
        size = max(float(legs[0].mean()), 1e-9), max(float(legs[1].mean()), 1e-9)
        self.base = Parameterization(size, u, v, closed=guide.closed)
        start = Start(u, v, np.ones(len(points)), home=self.base.home)
        lone = np.zeros((len(points), 0), dtype=np.int64)
        stiffness = stiffness_of(SMOOTHNESS, size)
        self.laid = Laid(points, start, stiffness, size, 0.0, lone, areas)
        self.spend = spend
        degree = spend.degree
        self.space = Space(surface.knots_u, surface.knots_v, degree, degree, guide.closed)

    def within(self, aim: float) -> BSplineSurface:
        """Return the leanest surface found, near enough as far as the search can tell."""
        aim *= CLOSER
        spend = self.spend
        nu, nv = self.space.counts
        rule: KnotRule = "adaptive u" if spend.nv else "adaptive v" if spend.nu else "adaptive"
        settings = CastSettings(max(nu, 4), max(nv, 4), spend.degree, knots=rule)
        # Knots only go: it is near enough already.
        search = _CurveSearch(
            self.laid,
            self.space,
            self.base,
            settings,
            Tolerance(aim, 1.0),
            self.space.counts,
            lambda _: None,
            rounds=SETTLING,
            lines=self.lines,
        )
        search.run()
        return search.attempt.surface


def _over(guide: Guide, spend: Spend) -> tuple[TensorSearch, tuple[Way, Way]]:
    """Return a search over a guide's grid, and the ways that it begins with."""
    watched = guide.on_curves
    ways, rows = [], []
    for name, t, count in (("u", guide.u, spend.nu), ("v", guide.v, spend.nv)):
        weights = weights_of(guide, name)
        kept = knots_of(guide, name, spend.degree)
        here = held_at(guide, name, spend.within)
        rows += here
        held = tuple((each.end, each.order) for each in here)
        way = Way(t, weights, spend.degree, guide.closed == name, np.zeros(0), held, kept)
        if way.held and max(order for _, order in way.held) >= spend.degree:
            raise FitError("a joint of G1 takes degree 2 or more, one of G2 degree 3 or more")
        sharp = np.repeat(np.array(guide.creases.get(name, ())), spend.degree)
        sharp = np.concatenate([sharp, kept])
        fewest = way.fewest + len(sharp)
        if count and count < fewest and not way.closed:
            raise FitError(f"its joints and creases take {fewest} control points along {name}")
        # A knot that is kept does for one of its own.
        inner = even_knots(max(max(count, fewest) - len(sharp), spend.degree + 1), spend.degree)
        inner = inner[spend.degree + 1 : -spend.degree - 1]
        ways.append(replace(way, inner=np.sort(np.concatenate([inner, sharp]))))
    if not watched.any():
        watched[:] = True
    ends = spend.nu or MOST, spend.nv or MOST
    if not rows:
        return TensorSearch(guide.grid, watched, ends, guide.whole), (ways[0], ways[1])
    grid, joints = with_held(guide, rows)
    every = np.pad(watched, [(0, len(way.held)) for way in ways], constant_values=True)
    rims = {
        border: smooth.rim(border_rows(guide.grid, border)[0], spend.within)
        for border, smooth in guide.smooth.items()
    }
    return TensorSearch(grid, every, ends, guide.whole, joints, rims), (ways[0], ways[1])


def _built(guide: Guide, surface: BSplineSurface) -> Built:
    surface = with_exact(with_poles(surface, guide), guide)
    away = [
        np.abs(foot_points(surface, line.points, (line.u, line.v)).signed) for line in guide.lines
    ]
    farthest = max((float(each.max()) for each in away), default=0.0)
    named = dict(zip(guide.names, away, strict=False))
    return Built(surface, named, farthest, guide.gaps, guide.words)
