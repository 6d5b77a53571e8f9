"""The leanest tensor-product spline through a grid of places: least squares, one way at a time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from scipy.linalg import null_space

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.spline.basis import clamped, collocation
from usual_clay.core.spline.boundary import Border, border_rows
from usual_clay.core.spline.knots import among, removal_residuals
from usual_clay.core.spline.surface import BSplineSurface

# A span that knots part further is no narrower than this.
NARROWEST = 0.004
# Where most of all places are to lie within a distance, so many.
MOST = 0.95
ENDS = np.array([0.0, 1.0])
# A little stiffness settles control points between which no place lies.
STIFFNESS = 1e-10
# Rounds in which knots are moved.
ROUNDS = 4
# Of so many knots or fewer all are moved, of more those about the worst place.
MOVED = 12
# A surface that is so many times as far off as the nearest is about as near.
ABOUT = 1.15


@dataclass(frozen=True, eq=False)
class Way:
    """One direction of a grid.

    Attributes
    ----------
    t : (n,) array
        Parameters of the grid's rows.
    weights : (n,) array
        How much each row counts.
    degree : int
    closed : bool
        Whether it runs round; the control points are then such that it has no seam.
    inner : array
        The knots between the ends.
    held : tuple of (end, order)
        Values and derivatives at the ends, 0 and 1, that are kept exactly; the grid has a further
        row for each of them.
    kept : array
        The knots among them that neither go nor move.
    """

    t: Floats
    weights: Floats
    degree: int
    closed: bool
    inner: Floats
    held: tuple[tuple[int, int], ...] = ()
    kept: Floats = field(default_factory=lambda: np.zeros(0))

    @property
    def free(self) -> Bools:
        """Which of the inner knots may go and move."""
        return ~among(self.inner, self.kept)

    @property
    def count(self) -> int:
        return len(self.inner) + self.degree + 1

    @property
    def fewest(self) -> int:
        """Control points that it takes at least."""
        if self.closed:
            return 2 * self.degree
        return max(self.degree + 1, len(self.held) + 2)

    @cached_property
    def solver(self) -> Floats:
        """What makes control points of the values of rows, and of what is held, (count, n + k)."""
        rows, fixed = np.split(self.rows, [len(self.t)])
        given = fixed
        if self.closed:
            fixed = np.array([start - stop for start, stop in self._ends[: self.degree]])
            fixed = fixed / np.linalg.norm(fixed, axis=1, keepdims=True)
        bends = np.diff(np.eye(self.count), min(2, self.degree), axis=0)
        square = rows.T @ (self.weights[:, None] * rows)
        square += STIFFNESS * float((rows**2).sum()) * (bends.T @ bends)
        # What is kept settles a part of the control points, the rows what that leaves free.
        free = null_space(fixed) if len(fixed) else np.eye(self.count)
        own = free @ np.linalg.solve(free.T @ square @ free, free.T)
        made = own @ (rows.T * self.weights)
        if not len(given):
            return np.asarray(made)
        kept = np.linalg.pinv(given)
        return np.concatenate([made, kept - own @ (square @ kept)], axis=1)

    @cached_property
    def rows(self) -> Floats:
        """What makes the values of rows of control points, and what is held, (n + k, count)."""
        values = collocation(clamped(self.inner, self.degree), self.degree, self.t)
        return np.concatenate([values, *(self._ends[order][[end]] for end, order in self.held)])

    @cached_property
    def _ends(self) -> Floats:
        """What makes values, slopes and bends at both ends of control points, (3, 2, count)."""
        knots = clamped(self.inner, self.degree)
        return np.stack([collocation(knots, self.degree, ENDS, order) for order in range(3)])

    def parted(self, error: Floats) -> Way | None:
        """Return it with one more knot, in the middle of what the worst span holds.

        Parameters
        ----------
        error : (n + k,) array
            What each row misses; of what is held nothing is asked.
        """
        error = error[: len(self.t)]
        breaks = np.concatenate([[0.0], self.inner, [1.0]])
        span = np.clip(np.searchsorted(breaks, self.t, side="right") - 1, 0, len(breaks) - 2)
        missed = np.bincount(span, self.weights * error**2, len(breaks) - 1)
        held = np.bincount(span, minlength=len(breaks) - 1)
        missed[(np.diff(breaks) < 2 * NARROWEST) | (held < 3)] = 0.0
        worst = int(np.argmax(missed))
        if not missed[worst] > 0:
            return None
        here = span == worst
        middle = float(np.average(self.t[here], weights=error[here] ** 2 + 1e-300))
        low, high = breaks[worst], breaks[worst + 1]
        at = float(np.clip(middle, low + 0.25 * (high - low), high - 0.25 * (high - low)))
        return replace(self, inner=np.sort(np.append(self.inner, at)))

    def without(self, number: int) -> Way:
        return replace(self, inner=np.delete(self.inner, number))

    def moved(self, number: int, share: float) -> Way:
        """Return it with a knot a share of the way to its neighbour, back where negative."""
        breaks = np.concatenate([[0.0], self.inner, [1.0]])
        step = breaks[number + 2 if share > 0 else number] - breaks[number + 1]
        inner = self.inner.copy()
        inner[number] += abs(share) * step
        return replace(self, inner=inner)


@dataclass(frozen=True, eq=False)
class Tried:
    """A surface through a grid, and how far each place lies off it, mm."""

    u: Way
    v: Way
    points: Floats
    off: Floats
    worst: float
    square: float

    @property
    def total(self) -> int:
        return self.u.count * self.v.count

    @property
    def surface(self) -> BSplineSurface:
        knots = clamped(self.u.inner, self.u.degree), clamped(self.v.inner, self.v.degree)
        return BSplineSurface(*knots, self.points)


def _both(one: Floats, grid: Floats, other: Floats) -> Floats:
    """Return a grid multiplied along both of its directions."""
    count = grid.shape[0]
    half = (one @ grid.reshape(count, -1)).reshape(len(one), *grid.shape[1:])
    return np.asarray(other @ half)


class TensorSearch:
    """A search for the fewest control points over a grid.

    Attributes
    ----------
    grid : (n, m, 3) array
        With further rows and columns for derivatives that are held.
    watched : (n, m) mask
        What is to lie within a distance.
    mostly : bool
        Whether of all places most are to lie within it too.
    joints : (n, m, 3) array or None
        What derivatives that are off count along, mm for each unit; 0 for places.
    rims : mapping
        Of borders with joints: what a step between neighbouring places that is
        off counts along, mm for each mm, (n - 1, 3). A border that runs askew turns its joint.
    """

    def __init__(
        self,
        grid: Floats,
        watched: Bools,
        ends: tuple[int, int],
        mostly: bool = False,
        joints: Floats | None = None,
        rims: Mapping[Border, Floats] | None = None,
    ) -> None:
        self.grid, self.watched, self.ends, self.mostly = grid, watched, ends, mostly
        self.joints, self.rims = joints, rims or {}

    def fitted(self, u: Way, v: Way) -> Tried:
        """Fit both ways one after the other, which is least squares over all where weights part."""
        points = _both(u.solver, self.grid, v.solver)
        gap = _both(u.rows, points, v.rows) - self.grid
        off = np.sqrt(np.einsum("nmk,nmk->nm", gap, gap))
        n, m = len(u.t), len(v.t)
        if self.joints is not None:
            turned = np.abs(np.einsum("nmk,nmk->nm", gap, self.joints))
            off[n:], off[:, m:] = turned[n:], turned[:, m:]
        for border, counts in self.rims.items():
            rim = border_rows(gap[:n, :m], border)[0]
            askew = np.abs(np.einsum("nk,nk->n", np.diff(rim, axis=0), counts))
            row = border_rows(off[:n, :m], border)[0]
            row[1:] = np.maximum(row[1:], askew)
        seen = off[self.watched]
        worst, square = float(seen.max()), float((seen**2).mean())
        if self.mostly:
            worst = max(worst, float(np.quantile(off[:n, :m], MOST)))
            square = float((off**2).mean())
        return Tried(u, v, points, off, worst, square)

    def within(self, u: Way, v: Way, aim: float) -> Tried:
        """Return the leanest found within a distance; else the nearest."""
        grown = self.grown(self.fitted(u, v), aim)
        return self.worn(grown, aim) if grown.worst <= aim else grown

    def grown(self, tried: Tried, aim: float) -> Tried:
        """Put knots in where most is missed, the way that gains more for what it adds.

        Where that does not lead within the distance the leanest is returned that is about as near
        as any.
        """
        way = [tried]
        while tried.worst > aim:
            off = np.where(self.watched | self.mostly, tried.off, 0.0)
            richer = []
            for name, axis, most in (("u", 1, self.ends[0]), ("v", 0, self.ends[1])):
                one: Way = getattr(tried, name)
                more = one.parted(np.sqrt((off**2).mean(axis=axis))) if one.count < most else None
                if more is not None:
                    pair = (more, tried.v) if name == "u" else (tried.u, more)
                    richer.append(self.fitted(*pair))
            if not richer:
                nearest = min(each.worst for each in way)
                return next(each for each in way if each.worst <= ABOUT * nearest)
            before = tried
            tried = max(
                richer, key=lambda new: (before.square - new.square) / (new.total - before.total)
            )
            way.append(tried)
        return tried

    def worn(self, tried: Tried, aim: float) -> Tried:
        """Take knots out while the distance holds, those left moving to make up for it.

        A direction that can spare none can do so even less with fewer of the other's: it is tried
        again only when that has none to spare either.
        """
        shut = set[str]()
        while True:
            again = bool(shut)
            trials = [(self._leaner(tried, name), name) for name in "uv" if name not in shut]
            for leaner, name in sorted(
                trials, key=lambda each: [(one.total, one.worst) for one in each[0][:1]]
            ):
                found = self._held(leaner, aim)
                if found is not None:
                    tried = found
                    break
                shut.add(name)
            else:
                if not again:
                    return tried
                shut.clear()

    def _held(self, leaner: Sequence[Tried], aim: float) -> Tried | None:
        """Return the first of several that lies within a distance, its knots moved where needed."""
        for lean in leaner:
            eased = self._eased(lean, aim) if lean.worst > aim else lean
            if eased.worst <= aim:
                return eased
        return None

    def settled(self, tried: Tried) -> Tried:
        """Return it with its knots where less is missed."""
        return self._eased(tried, 0.0)

    def _leaner(self, tried: Tried, name: str) -> list[Tried]:
        """Return trials with one knot less in a direction, the most promising first."""
        way: Way = getattr(tried, name)
        if not len(way.inner) or way.count <= way.fewest:
            return []
        rows = tried.points if name == "u" else tried.points.swapaxes(0, 1)
        knots = clamped(way.inner, way.degree)
        cost = removal_residuals(knots, rows.reshape(way.count, -1))
        least = np.argsort(np.where(way.free, cost, np.inf))[: min(2, int(way.free.sum()))]
        less = [way.without(number) for number in least.tolist()]
        pairs = [(each, tried.v) if name == "u" else (tried.u, each) for each in less]
        return sorted((self.fitted(*pair) for pair in pairs), key=lambda each: each.worst)

    def _worth_moving(self, tried: Tried, name: str, aim: float) -> list[int]:
        """Return the knots of a direction that may go; of very many those about the worst place."""
        way: Way = getattr(tried, name)
        free = np.flatnonzero(way.free)
        if aim > 0 and len(free) > MOVED:
            off = np.where(self.watched, tried.off, 0.0)[: len(tried.u.t), : len(tried.v.t)]
            worst = np.unravel_index(int(np.argmax(off)), off.shape)["uv".index(name)]
            far = np.abs(way.inner[free] - way.t[worst])
            free = np.sort(free[np.argsort(far, kind="stable")[:MOVED]])
        return free.tolist()

    def _eased(self, tried: Tried, aim: float) -> Tried:
        """Move knots to where less is missed, while there is hope."""
        if aim > 0 and tried.worst > 4 * aim:
            return tried
        share = 0.3
        for left in reversed(range(ROUNDS)):
            before = tried
            for name in "uv":
                for number in self._worth_moving(tried, name, aim):
                    for way in (share, -share):
                        moved = getattr(tried, name).moved(number, way)
                        pair = (moved, tried.v) if name == "u" else (tried.u, moved)
                        other = self.fitted(*pair)
                        if other.square < tried.square:
                            tried = other
                            break
                    if tried.worst <= aim:
                        return tried
            if tried.worst - aim > left * (before.worst - tried.worst) and aim > 0:
                # At this pace it does not get there.
                break
            if tried.square > 0.97 * before.square:
                share /= 2
        return tried
