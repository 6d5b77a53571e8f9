"""Splines through ordered runs: least squares in which points slide and knots move."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.found import Found
from usual_clay.core.fit.curve.guides import guided, runs_to_and_fro
from usual_clay.core.fit.curve.pulls import Along, Conditions, System, knot_slopes, pulls_of
from usual_clay.core.fit.curve.sequence import (
    PointSequence,
    most_controls,
)
from usual_clay.core.fit.solve.adaptive import spread_knots
from usual_clay.core.points.course import (
    LONGEST_SLIP,
    lone_strays,
    noise_of,
    suggest_slips,
    usual_slip_limit,
)
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.basis import basis_functions, clamped, even_knots
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.knots import removal_residuals

ROUNDS, WORTHWHILE = 8, 0.005
# Rounds that leave so many times the wanted deviation will not come down to it.
HOPELESS = 1.6
# Points that stray so many times the noise from a smooth course do not draw the spline; more than
# this share of a run does not stray.
STRAYS, MOST_STRAYS = 10.0, 0.1
# Those beside what strays from a curve alone lie off by less than this share of it.
ALONE = 0.4
# Where most points leave the course by so many times as much they are too few to have one.
NO_COURSE = 2.0
LEAST_NOISE = 2e-5
# A larger share of the other points is not asked for to make up for those that stray.
MOST_OF_OTHERS = 0.99
# Rounds with even points before knots move, and those in which they move; a gain below which no
# more are made.
FIRST_ROUNDS, EASING_ROUNDS, SMALL_GAIN = 2, 25, 0.004
# So many of the knots that seem to be needed least are taken out for trial.
TRIED_OUT = 3
# It is tried again where knots at rest leave less than this share of the squared error.
WORTH_RESTING = 0.95
# A round's gain is not kept up for longer.
PACE_KEPT = 12
# A span is no narrower than this share of the run, nor than so many points; it changes by no more
# than so much, as a logarithm, in one round.
NARROWEST, POINTS_EACH, BOLDEST = 0.001, 1.5, 0.7
# How a step is damped to begin with, and tried again.
DAMPING, LEAST_DAMPING, TRIES = 0.01, 1e-6, 4
# Parameters move by no more than this at a time.
BOLDEST_STEP = 0.05
# The parameters that a search has come to are kept at so many places for each control point.
PACE_EACH = 4


@dataclass(frozen=True, eq=False)
class State:
    """A curve on the way, and what the points are to it.

    Attributes
    ----------
    curve : BSplineCurve
    t : (n,) array
        The points' parameters.
    places : (3, n, 3) array
        The curve and its derivatives there.
    pulls : (6, n) array
        How the points pull, weights included.
    distance : (n,) array
        Of the run's points from the curve, mm.
    square : float
        The mean of the squared distances.
    """

    curve: BSplineCurve
    t: Floats
    places: Floats
    pulls: Floats
    distance: Floats
    square: float


def counted(distance: Floats, believed: Bools, share: float) -> Floats:
    """Return the distances that a search aims at for a share of the points.

    Strays are brought nearer by nothing: where they are so many that hardly any other point could
    be farther off, it is the same share of the others.
    """
    return distance if share <= MOST_OF_OTHERS * np.mean(believed) else distance[believed]


class SequenceFitter:
    """A run being fitted: parameters, knots and curve, each round a little better.

    Attributes
    ----------
    points : (n, 3) array
        Of the run and the guides between them; a closed run's first comes once more at its end.
    weights : (n,) array
        0 for points that stray, and little for guides.
    chord : (n,) array
        Chord lengths, as parameters.
    """

    def __init__(
        self,
        run: PointSequence,
        degree: int,
        settled: tuple[BSplineCurve, Floats] | None = None,
    ) -> None:
        """Begin with chord lengths, or with a curve and about where the points lie on it."""
        self.run, self.degree = run, degree
        self._guided = guided(run.points, run.closed)
        self.points = self._guided.points
        if settled is None:
            self._take(self._strays())
            return
        curve, seed = settled
        t, _, away = curve_foot_points(curve, self.points, seed, most=4)
        away = away[self._guided.own]
        limit = max(STRAYS * run.roughness, STRAYS * float(np.median(away)), 1e-12)
        self._take((away > limit) & (np.mean(away > limit) < MOST_STRAYS))
        self.state = self._at_rest(curve, t)

    def _take(self, out: Bools) -> None:
        """Leave points of the run out: neither do they lengthen the way from one to the next."""
        # What is held is no stray.
        out = out.copy()
        out[[0, -1]] &= ~np.array(self.run.held)
        self.weights = self._guided.weights(out)
        kept = np.flatnonzero(self.weights > 0)
        legs = np.linalg.norm(np.diff(self.points[kept], axis=0), axis=1)
        along = np.concatenate([[0], np.cumsum(legs)])
        if not along[-1] > 0:
            raise FitError("all points of the run are on one spot")
        self.length = float(along[-1])
        self.ends = kept[[0, -1]]
        self.chord = np.interp(np.arange(len(self.points)), kept, along / self.length)

    def _strays(self) -> Bools:
        run = self.run
        if not self._may_stray:
            return np.zeros(len(run.points), dtype=bool)
        limit = STRAYS * run.roughness
        lone = lone_strays(run.points, limit, run.closed)
        if self.has_course:
            out = suggest_slips(run.points, max(limit, self._usual_limit), run.closed)
            # Where much strays, on the whole or in a place, it is the shape.
            near = np.convolve(out, np.ones(2 * LONGEST_SLIP + 1), "same")
            lone |= out & (near <= LONGEST_SLIP) & (out.mean() < MOST_STRAYS)
        return lone & (lone.mean() < MOST_STRAYS)

    @property
    def _may_stray(self) -> bool:
        # A run without noise has no strays: what leaves its course is shape.
        least = LEAST_NOISE * float(np.ptp(self.run.points, axis=0).max())
        return len(self.run.points) > 40 and self.run.roughness >= least

    @cached_property
    def _usual_limit(self) -> float:
        return usual_slip_limit(self.run.points, self.run.closed)

    @property
    def has_course(self) -> bool:
        """Whether points lie so near a smooth course that strays are told by it, or there is none
        that could stray."""
        return not self._may_stray or self._usual_limit <= NO_COURSE * STRAYS * self.run.roughness

    @property
    def t(self) -> Floats:
        """The parameters of the run's points."""
        return self.state.t[self._guided.own]

    @property
    def believed(self) -> Bools:
        """Which points of the run do not stray."""
        return self.weights[self._guided.own] > 0

    @property
    def noise(self) -> float:
        """The standard deviation of one coordinate's noise, mm, without what strays."""
        return noise_of(self.run.points[self.believed])

    def found(self, state: State) -> Found:
        """Return what a curve has come to, for a fit that sets out from there."""
        curve = state.curve
        even = np.linspace(0, 1, PACE_EACH * len(curve.points) + 1)
        pace = np.maximum.accumulate(np.interp(even, self.chord, state.t))
        inner = curve.knots[self.degree + 1 : -self.degree - 1]
        return Found(tuple(inner.tolist()), tuple(np.round(pace, 6).tolist()))

    def within(self, share: float) -> float:
        """Return the distance within which such a share of what counts lies, mm."""
        return float(np.quantile(self.counted(self.state, share), share))

    def counted(self, state: State, share: float) -> Floats:
        """Return how far the points that count lie from a curve, mm."""
        return counted(state.distance, self.believed, share)

    def doubt(self) -> bool:
        """Leave out what lies far off alone, between points that do not; tell whether any does.

        Of a run so sparse that there is no course to leave, the curve tells what strays.
        """
        if self.has_course:
            return False
        away = self.state.distance
        usual = max(self.noise, float(np.median(away[self.believed])))
        about = np.pad(away, 2, mode="wrap" if self.run.closed else "edge")
        beside = np.stack([about[k : len(away) + k] for k in (0, 1, 3, 4)]).max(axis=0)
        out = (away > STRAYS * usual) & (beside < ALONE * away) & self.believed
        if not out.any() or np.mean(out | ~self.believed) > MOST_STRAYS:
            return False
        self._take(out | ~self.believed)
        return True

    def believe(self, within: float) -> bool:
        """Take those strays back that lie within a distance of the curve, mm; tell if any do.

        What a curve follows that was not drawn by it is shape: a sharp turn, say.
        """
        near = self.state.distance <= within
        out = ~self.believed & ~near
        found = int(out.sum()) < int((~self.believed).sum())
        if found:
            self._take(out)
        return found

    def runs_to_and_fro(self) -> bool:
        """Tell whether the curve turns back and on again between two points."""
        return runs_to_and_fro(self.state.curve, self.state.t[self.weights > 0])

    def fit(
        self,
        controls: int,
        rule: str,
        progress: Progress = silent,
        enough: float = 0.0,
        share: float = 0.95,
        found: Found | None = None,
    ) -> tuple[BSplineCurve, Floats]:
        """Return the best curve of so many control points, and the points' distances.

        It is done as soon as a share of the points lies within `enough` mm, or is far from it.

        Each fit begins anew with chord lengths, as a curve that was too lean may have led
        parameters astray; adaptive knots begin with what a richer curve shows of the shape. Knots
        that a search has found stay where they are.
        """
        if most_controls(self.run, self.degree) < controls:
            raise FitError(
                f"{len(self.run.points)} points are too few for {controls} control points"
            )

        def done() -> bool:
            return enough > 0 and self.within(share) <= enough

        if found is not None:
            t = np.interp(self.chord, np.linspace(0, 1, len(found.pace)), found.pace)
            self.state = self._first(clamped(found.inner, self.degree), t)
        elif rule == "even":
            self.state = self._first(even_knots(controls, self.degree), self.chord)
        if found is not None or rule == "even":
            self._slide(ROUNDS, done)
            return self.state.curve, self.state.distance
        self._begin(controls, done)
        self._ease(progress, done, enough, share)
        return self.state.curve, self.state.distance

    def leaner(self, enough: float, share: float, progress: Progress = silent) -> bool:
        """Go on with one knot less, if a share of the points still lies within `enough` mm.

        Each of the knots that the curve seems to need least is tried, and the others move to make
        up for it; where none can go, once more from where the knots have come to rest.
        """
        if self._without_one(enough, share, progress):
            return True
        met = self.state
        self._ease(progress, lambda: False, 0.0, share)
        rested = self.state
        if rested.square < WORTH_RESTING * met.square and self._without_one(
            enough, share, progress
        ):
            return True
        self.state = met
        return False

    def _without_one(self, enough: float, share: float, progress: Progress) -> bool:
        before = self.state
        curve = before.curve
        residuals = removal_residuals(curve.knots, curve.points)
        for least in np.argsort(residuals, kind="stable")[:TRIED_OUT]:
            self.state = before
            self.refine(np.delete(curve.knots, self.degree + 1 + int(least)))
            self._ease(progress, lambda: self.within(share) <= enough, enough, share)
            if self.within(share) <= enough and not self.runs_to_and_fro():
                return True
        self.state = before
        return False

    def _begin(self, controls: int, done: Callable[[], bool]) -> None:
        """Spread knots as a richer curve shows the shape."""
        first = min(2 * controls, max(controls, len(self.run.points) // 3))
        self.state = self._first(even_knots(first, self.degree), self.chord)
        for _ in range(FIRST_ROUNDS):
            self.refine(spread_knots(self.state.curve.knots, self.state.curve.points, controls))
        self._slide(FIRST_ROUNDS, done)

    def _slide(self, rounds: int, done: Callable[[], bool]) -> None:
        """Let the points slide while that pays."""
        best = self.state
        for _ in range(rounds):
            if done():
                return
            self.refine(self.state.curve.knots)
            gain = 1 - self.state.square / max(best.square, 1e-300)
            best = min(best, self.state, key=lambda state: state.square)
            if gain < WORTHWHILE:
                break
        self.state = best

    def refine(self, knots: Floats) -> None:
        """Do one round: control points, parameters."""
        self.state = self._solved(knots, self.state)

    def _ease(
        self, progress: Progress, done: Callable[[], bool], enough: float, share: float
    ) -> None:
        """Move the knots to where the squared error is least.

        Gauss and Newton's method with Levenberg and Marquardt's damping; the control points are
        eliminated (variable projection: Golub and Pereyra 1973). Its unknowns are logarithms of the
        spans, which keeps knots in order (Jupp 1978).
        """
        damping = DAMPING
        for number in range(EASING_ROUNDS):
            if done() or len(self.state.curve.points) <= self.degree + 1:
                return
            progress(number / EASING_ROUNDS, f"knots, round {number + 1}")
            before = self.state
            slopes, right, spans = self._slopes()
            scale = np.diag(slopes)
            if not scale.max() > 0:
                return
            scale = np.maximum(scale, 1e-9 * scale.max())
            for _ in range(TRIES):
                step = np.linalg.solve(slopes + damping * np.diag(scale), right)
                moved = self._moved(spans * np.exp(np.clip(step, -BOLDEST, BOLDEST)))
                tried = self._solved(moved, before)
                if tried.square < before.square:
                    damping = max(damping / 4, LEAST_DAMPING)
                    self.state = tried
                    break
                damping *= 6
            gain = 1 - self.state.square / before.square if before.square > 0 else 0.0
            # At the pace of this round, all that are left come to so much.
            hope = max(1 - gain, 1e-9) ** (0.5 * min(EASING_ROUNDS - number, PACE_KEPT))
            if gain < SMALL_GAIN or (enough > 0 and hope * self.within(share) > enough):
                return

    def _slopes(self) -> tuple[Floats, Floats, Floats]:
        """Return the normal equations of the spans' logarithms, and the spans."""
        state, degree = self.state, self.degree
        knots = state.curve.knots
        system = self._system(knots, state)
        curve = BSplineCurve(knots, system.control_points(self.points))
        inner = knots[degree : len(knots) - degree]
        spans = np.diff(inner)
        # How the knots change with the logarithms: all spans together stay as long as they are.
        below = np.arange(len(spans)) <= np.arange(len(spans) - 1)[:, None]
        chain = spans * (below - inner[1:-1, None])
        slopes = knot_slopes(curve, state.t) @ chain
        xx, yy, zz, xy, xz, yz = state.pulls[:, :, None]
        x, y, z = np.moveaxis(slopes, 1, 0)
        rows = (xx * x + xy * y + xz * z, xy * x + yy * y + yz * z, xz * x + yz * y + zz * z)
        counted = np.stack(rows, axis=1)
        flat = slopes.reshape(-1, len(spans))
        across = system.summed(counted)
        gap = (self.points - curve_points(curve, state.t)).ravel()
        pulled_flat = counted.reshape(-1, len(spans))
        square = flat.T @ pulled_flat - across.T @ system.answers(across)
        return square, gap @ pulled_flat, spans

    def _moved(self, spans: Floats) -> Floats:
        """Return knots of given spans, none of them too narrow."""
        least = max(NARROWEST, POINTS_EACH / len(self.run.points))
        least = min(least, 0.5 / len(spans))
        spans = np.maximum(spans / spans.sum(), least)
        inner = np.cumsum(spans / spans.sum())[:-1]
        ends = self.degree + 1
        return np.concatenate([np.zeros(ends), inner, np.ones(ends)])

    def _system(self, knots: Floats, near: State) -> System:
        conditions = self._conditions(knots, near.curve)
        along = Along(near.curve, near.square)
        return System.of(knots, self.degree, near.t, near.pulls, conditions, along)

    def _first(self, knots: Floats, t: Floats) -> State:
        """Fit knots to points that do not slide."""
        pulls = self.weights * np.repeat([1.0, 0.0], 3)[:, None]
        conditions = self._conditions(knots, None)
        system = System.of(knots, self.degree, t, pulls, conditions)
        return self._at_rest(BSplineCurve(knots, system.control_points(self.points)), t)

    def _solved(self, knots: Floats, near: State) -> State:
        """Fit knots to points that slide along a curve."""
        control = self._system(knots, near).control_points(self.points)
        return self._at_rest(BSplineCurve(knots, control), near.t)

    def _at_rest(self, curve: BSplineCurve, t: Floats) -> State:
        """Bring parameters nearly to the feet, by one of Newton's steps."""
        place, first, second = curve_derivatives(curve, t, 2)
        gap = place - self.points
        slope, speed = _dots(gap, first), _dots(first, first)
        bend = speed + _dots(gap, second)
        step = slope / np.where(bend > 0.2 * speed, bend, np.maximum(speed, 1e-300))
        t = np.clip(t - np.clip(step, -BOLDEST_STEP, BOLDEST_STEP), 0.0, 1.0)
        if not self.run.closed:
            # A curve ends where its run does, however well it would go on.
            t[self.ends] = 0.0, 1.0
        places = curve_derivatives(curve, t, 2)
        inside = (t > 0) & (t < 1)
        gap, first = places[0] - self.points, places[1]
        # To first order what is left is the part of the gap across the curve.
        along = np.where(
            inside, _dots(gap, first) ** 2 / np.maximum(_dots(first, first), 1e-300), 0.0
        )
        distance = np.sqrt(np.maximum(_dots(gap, gap) - along, 0.0))
        square = float(np.average(distance**2, weights=self.weights))
        pulls = self.weights * pulls_of(places, inside, self.points, self.weights)
        return State(curve, t, places, pulls, distance[self._guided.own], square)

    def _conditions(self, knots: Floats, near: BSplineCurve | None) -> Conditions | None:
        """Return what must hold of the control points, if anything."""
        if not (self.run.closed or any(self.run.held)):
            return None
        degree, count = self.degree, len(knots) - self.degree - 1
        ends = np.zeros((3, 2, count))
        for order, value in enumerate(basis_functions(knots, degree, np.array([0.0, 1.0]), 2)[1]):
            ends[order, 0, : degree + 1], ends[order, 1, -degree - 1 :] = value.T
        if self.run.closed:
            orders = min(2, degree - 1) + 1
            return Conditions(ends[:orders, 0] - ends[:orders, 1], np.zeros((orders, 3)))
        rows: list[Floats] = []
        values: list[Floats] = []
        for end, held, leave in zip((0, -1), self.run.held, self.run.leaves, strict=True):
            if not held:
                continue
            rows.append(ends[0, end])
            values.append(self.points[end])
            if leave is None:
                continue
            # How fast the curve of the last round runs there; chord lengths to begin with.
            speed = (
                self.length
                if near is None
                else float(np.linalg.norm(curve_derivatives(near, [-float(end)], 1)[1, 0]))
            )
            rows.append(ends[1, end])
            values.append(leave.ahead * speed)
            if leave.bend is not None and degree > 1:
                rows.append(ends[2, end])
                values.append(leave.bend * speed**2)
        return Conditions(np.array(rows), np.array(values))


def _dots(one: Floats, other: Floats) -> Floats:
    return np.asarray(np.einsum("nk,nk->n", one, other))
