"""Tracing: the fewest control points with which splines follow a run within tolerance."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from usual_clay.core.check.deviation import Report, Tolerance, distance_levels, judge, percent
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.sequence import (
    CurveFit,
    PointSequence,
    SequenceFitter,
    TraceSettings,
    fit_sequence,
    parts_of,
    thinned,
)
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.progress import Cancelled, Progress, silent

LIMIT = 200
GROWTH = 1.35


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
    """

    fit: CurveFit
    settings: TraceSettings
    report: Report
    candidates: tuple[Candidate, ...]
    words: str


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
    parts = parts_of(run, settings.corners, settings.cuts)
    if settings.part >= len(parts):
        raise FitError(f"the run has only {len(parts)} parts between corners now")
    search = _Search(parts[settings.part], settings, tolerance, found, progress)
    most = min(limit, len(search.part.points) - 1)
    fewest = settings.degree + 1
    if most < fewest:
        raise FitError(f"{len(search.part.points)} points are too few for degree {settings.degree}")
    cancelled = False
    try:
        search.run(fewest, most)
    except Cancelled:
        cancelled = True
    return search.settled(run, cancelled)


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
        self.noise = part.noise
        self.seen: dict[int, Candidate] = {}

    def run(self, fewest: int, most: int) -> None:
        """Grow until it is met, then halve back."""
        count, failed = fewest, fewest - 1
        while not self._meets(count):
            failed = count
            if count >= most or self._only_noise():
                return
            count = min(most, max(count + 1, round(count * GROWTH)))
        while count - failed > 1:
            middle = (count + failed) // 2
            if self._meets(middle):
                count = middle
            else:
                failed = middle

    def _meets(self, count: int) -> bool:
        if count not in self.seen:
            tried = len(self.seen)
            self.progress(tried / (tried + 6), f"{count} control points")
            _, distance = self.fitter.fit(
                count,
                self.settings.knots,
                enough=self.tolerance.deviation,
                share=self.tolerance.share,
            )
            self.seen[count] = Candidate(count, 1, distance_levels(distance))
            self.found(self.seen[count])
        return self.seen[count].deviation(self.tolerance.share) <= self.tolerance.deviation

    def _only_noise(self) -> bool:
        """Tell whether the deviation has come down to the noise."""
        floor = self.tolerance.noise_floor(self.noise)
        best = min(c.deviation(self.tolerance.share) for c in self.seen.values())
        return floor > self.tolerance.deviation and best < 1.1 * floor

    def settled(self, run: PointSequence, cancelled: bool) -> Traced:
        """Fit the best found to all points."""
        share = self.tolerance.share
        met = [n for n, c in self.seen.items() if c.deviation(share) <= self.tolerance.deviation]
        if not self.seen:
            self._meets(self.settings.sized(self.settings.degree + 1).controls)
        count = min(met) if met else min(self.seen, key=lambda n: self.seen[n].deviation(share))
        # The search saw a choice of the points: all of them may ask for a little more.
        larger = sorted(n for n in met if n > count + 3)
        for controls in (count, count + 1, count + 2, count + 3, *larger):
            settings = self.settings.sized(controls)
            fit = fit_sequence(run, settings)
            report = judge(fit.signed, self.tolerance)
            if report.met or not met:
                break
        self.seen[settings.controls] = Candidate(settings.controls, 1, distance_levels(fit.signed))
        ordered = tuple(self.seen[n] for n in sorted(self.seen))
        words = self._in_words(settings.controls, report, cancelled)
        return Traced(fit, settings, report, ordered, words)

    def _in_words(self, count: int, report: Report, cancelled: bool) -> str:
        words = f"{count} control points: {percent(self.tolerance.share)} of the points lie within"
        words += f" {report.at_share:.3f} mm."
        if cancelled:
            return f"Stopped. {words}"
        if report.met:
            return words
        floor = self.tolerance.noise_floor(self.noise)
        if floor > self.tolerance.deviation:
            return f"{words} The tolerance lies below the run's noise, {floor:.3f} mm."
        return f"{words} The tolerance cannot be met with {LIMIT} control points."


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
