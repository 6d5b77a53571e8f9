"""Tracing: the fewest control points with which splines follow a run within tolerance."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.check.deviation import Report, Tolerance, distance_levels, judge, percent
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.fitter import SequenceFitter, State, counted
from usual_clay.core.fit.curve.sequence import (
    CurveFit,
    PointSequence,
    TraceSettings,
    most_controls,
    parts_of,
    thinned,
)
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.degrees import leanest
from usual_clay.core.fit.search.knot_search import CAUTION
from usual_clay.core.progress import Cancelled, Progress, silent

LIMIT = 200
# So much more is tried each time; of runs so sparse that only the curve tells what strays, less.
GROWTH, SLOW = 2.5, 1.7
# What looks like noise is tried with so many times the control points; where these come nearer
# than this share of what chance would have, it is shape.
RICHER, FAR_BETTER = 2, 0.6
# So many counts from the leanest on are tried on all points, or a quarter more.
MORE = 4


@dataclass(frozen=True, eq=False)
class Traced:
    """The outcome of a search over one run.

    Attributes
    ----------
    fit : CurveFit
        The leanest within tolerance, fitted to all points.
    settings : TraceSettings
        With its count.
    report : Report
    candidates : tuple of Candidate
        Everything that was computed; a curve's have one direction.
    words : str
    tolerance : Tolerance
        What it was searched for.
    stopped : bool
        Whether it was stopped.
    """

    fit: CurveFit
    settings: TraceSettings
    report: Report
    candidates: tuple[Candidate, ...]
    words: str
    tolerance: Tolerance
    stopped: bool = False


def trace(
    run: PointSequence,
    settings: TraceSettings,
    tolerance: Tolerance,
    limit: int = LIMIT,
    progress: Progress = silent,
    found: Callable[[Candidate], None] = lambda _candidate: None,
) -> Traced:
    """Find the fewest control points that bring the wanted share of a run within tolerance.

    The count grows by a third at a time, and is then halved back to the least that will do. Where
    the run has corners, one of its parts is traced.

    Raises
    ------
    FitError
    """
    if settings.any_degree and settings.knots == "adaptive":

        def one(degree: int, part: Progress) -> Traced:
            plain = replace(settings.sized(max(settings.controls, degree + 1)), degree=degree)
            return trace(run, replace(plain, any_degree=False), tolerance, limit, part, found)

        best = leanest(one, _cost, lambda each: each.stopped, progress)
        return replace(best, settings=replace(best.settings, any_degree=True))
    parts = parts_of(run, settings.corners, settings.cuts)
    if settings.part >= len(parts):
        raise FitError(f"the run has only {len(parts)} parts between corners now")
    search = _Search(parts[settings.part], settings, tolerance, found, progress)
    most = min(limit, most_controls(search.part, settings.degree))
    fewest = settings.degree + 1
    if most < fewest:
        raise FitError(f"{len(search.part.points)} points are too few for degree {settings.degree}")
    cancelled = False
    try:
        search.run(fewest, most)
    except Cancelled:
        cancelled = True
    return search.settled(run, cancelled)


def _cost(traced: Traced) -> tuple[bool, int]:
    aimed = judge(traced.fit.signed[traced.fit.believed], traced.tolerance)
    return not aimed.met, traced.settings.controls


class _Search:
    def __init__(
        self,
        part: PointSequence,
        settings: TraceSettings,
        tolerance: Tolerance,
        found: Callable[[Candidate], None],
        progress: Progress,
    ) -> None:
        self.settings, self.tolerance = settings, tolerance
        self.found, self.progress = found, progress
        self.part = part
        self.fitter = SequenceFitter(thinned(part), settings.degree)
        self.noise = self.fitter.noise
        self.seen: dict[int, Candidate] = {}
        self.states: dict[int, State] = {}
        # Those that turn to and fro between points: they meet nothing.
        self.wild: set[int] = set()
        # Whether it was given up as more control points would only copy noise, and the most tried.
        self.at_noise, self.most = False, 0

    def run(self, fewest: int, most: int) -> None:
        """Grow until it is met; then take knots out, or halve back where they are even."""
        self.most = most
        count, failed = self._grown(fewest, most)
        if failed < count and self._strays_are_shape(count, most):
            count, failed = self._grown(fewest, most)
        if self.settings.knots == "adaptive":
            self._wear(count, fewest)
            return
        while count - failed > 1:
            middle = (count + failed) // 2
            if self._meets(middle):
                count = middle
            else:
                failed = middle

    def _grown(self, fewest: int, most: int) -> tuple[int, int]:
        """Return the count that met it first, and the last that did not; the same if none met."""
        count, failed = fewest, fewest - 1
        growth = GROWTH if self.fitter.has_course else SLOW
        while not self._meets(count):
            if self.fitter.doubt():
                self._forget()
                continue
            self.at_noise = count < most and self._only_noise(count, most)
            if count >= most or self.at_noise:
                return count, count
            failed, count = count, min(most, max(count + 1, round(count * growth)))
        return count, failed

    def _strays_are_shape(self, count: int, most: int) -> bool:
        """Take strays back that a richer curve follows though it was not drawn by them."""
        if self.fitter.believed.all():
            return False
        self._meets(min(most, round(count * GROWTH)))
        if not self.fitter.believe(self.tolerance.deviation):
            return False
        self._forget()
        return True

    def _forget(self) -> None:
        """Begin anew: other points count than did before."""
        self.seen.clear()
        self.states.clear()
        self.wild.clear()

    def _wear(self, count: int, fewest: int) -> None:
        """Take one knot after the other out while the tolerance holds."""
        if not self._meets(count):
            return
        self.fitter.state = self.states[count]
        while count > fewest and self.fitter.leaner(*self._aim, self._within(count - 1)):
            count -= 1
            self._keep(count)

    def _meets(self, count: int) -> bool:
        if count not in self.seen:
            self.fitter.fit(count, self.settings.knots, self._within(count), *self._aim)
            self._keep(count)
        return (
            count not in self.wild
            and self.seen[count].deviation(self.tolerance.share) <= self._aim[0]
        )

    def _within(self, count: int) -> Progress:
        """Return the progress of a fit with a count."""
        tried = len(self.seen)
        self.progress(tried / (tried + 6), f"{count} control points")

        def report(fraction: float, _words: str) -> None:
            reached = tried + min(fraction, 1.0)
            self.progress(reached / (reached + 6), f"{count} control points")

        return report

    @property
    def _aim(self) -> tuple[float, float]:
        return CAUTION * self.tolerance.deviation, self.tolerance.share

    def _keep(self, count: int) -> None:
        """Keep the curve that was found with a count, and tell of it."""
        self.states[count] = self.fitter.state
        levels = distance_levels(self.fitter.counted(self.fitter.state, self.tolerance.share))
        self.seen[count] = Candidate(count, 1, levels)
        if self.fitter.runs_to_and_fro():
            self.wild.add(count)
        else:
            self.wild.discard(count)
            self.found(self.seen[count])

    def _only_noise(self, count: int, most: int) -> bool:
        """Tell whether the deviation has come down to the noise, and more would only copy it.

        Of a sparse run the shape looks like noise: then more control points do far better.
        """
        share, floor = self.tolerance.share, self.tolerance.noise_floor(self.noise)
        best = min(c.deviation(share) for c in self.seen.values())
        if floor <= self.tolerance.deviation or best >= 1.1 * floor:
            return False
        richer, points = min(RICHER * count, most), len(self.fitter.run.points)
        if self._meets(richer):
            return False
        by_chance = np.sqrt(max(points - richer, 1) / max(points - count, 1))
        return self.seen[richer].deviation(share) > FAR_BETTER * by_chance * best

    def settled(self, run: PointSequence, cancelled: bool) -> Traced:
        """Fit the best found to all points."""
        share = self.tolerance.share
        if not self.seen:
            self._meets(self.settings.sized(self.settings.degree + 1).controls)
        calm = {n: c for n, c in self.seen.items() if n not in self.wild} or dict(self.seen)
        met = [n for n in calm if self._meets(n)]
        count = min(met) if met else min(calm, key=lambda n: calm[n].deviation(share))
        settings, fit, report = self._fitted(run, count, met)
        calm[settings.controls] = Candidate(settings.controls, 1, distance_levels(fit.signed))
        ordered = tuple(calm[n] for n in sorted(calm))
        words = self._in_words(fit, settings.controls, report, cancelled)
        return Traced(fit, settings, report, ordered, words, self.tolerance, cancelled)

    def _fitted(
        self, run: PointSequence, count: int, met: list[int]
    ) -> tuple[TraceSettings, CurveFit, Report]:
        """Fit all points, which may ask for a little more than the choice that the search saw."""
        share, nearest = self.tolerance.share, (np.inf, count)
        tried: dict[int, tuple[TraceSettings, CurveFit, Report]] = {}
        without: int | None = None
        more = range(count, min(count + max(MORE, count // 4), self.most + 1))
        for controls in (*more, *sorted(n for n in met if n > more[-1])):
            settings = self._settings(controls)
            fit = fit_sequence(run, settings)
            aimed = judge(counted(fit.signed, fit.believed, share), self.tolerance)
            tried[controls] = settings, fit, judge(fit.signed, self.tolerance)
            nearest = min(nearest, (aimed.at_share, controls))
            if not met or aimed.met:
                return tried[controls]
            if without is None and judge(fit.signed[fit.believed], self.tolerance).met:
                without = controls
            if without is not None and controls >= more[-1]:
                # Only strays are left that many more control points would have to make up for.
                return tried[without]
        return tried[nearest[1]]

    def _settings(self, controls: int) -> TraceSettings:
        """Return settings of so many control points, with the knots that were found for them."""
        sized = self.settings.sized(controls)
        if self.settings.knots == "even" or controls not in self.states:
            return sized
        found = self.fitter.found(self.states[controls])
        return replace(sized, inner=found.inner, pace=found.pace)

    def _in_words(self, fit: CurveFit, count: int, report: Report, cancelled: bool) -> str:
        words = f"{count} control points: {percent(self.tolerance.share)} of the points lie within"
        words += f" {report.at_share:.3f} mm."
        if cancelled:
            return f"Stopped. {words}"
        if report.met:
            return words
        without = judge(fit.signed[fit.believed], self.tolerance)
        if without.met:
            stray = percent(1 - float(np.mean(fit.believed)))
            return (
                f"{words} {stray} of the points stray far from their run; without them"
                f" {percent(self.tolerance.share)} lie within {without.at_share:.3f} mm. Leave them"
                " out, or ask for a smaller share."
            )
        floor = self.tolerance.noise_floor(self.noise)
        if self.at_noise:
            return f"{words} The tolerance lies below the run's noise, {floor:.3f} mm."
        return f"{words} The tolerance cannot be met with {self.most} control points."


def trace_parts(
    run: PointSequence, settings: TraceSettings, tolerance: Tolerance, progress: Progress = silent
) -> list[Traced]:
    """Trace each part of a run between its corners."""
    count = len(parts_of(run, settings.corners, settings.cuts))
    made = []
    for part in range(count):

        def report(fraction: float, words: str, part: int = part) -> None:
            progress((part + fraction) / count, f"part {part + 1} of {count}: {words}")

        made.append(trace(run, replace(settings, part=part), tolerance, progress=report))
    return made
