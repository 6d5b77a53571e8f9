"""To tolerance: the fewest control points with which a cast stays within tolerance."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from usual_clay.core.check.deviation import Report, Tolerance, judge, percent
from usual_clay.core.fit.cast import Cast, cast, surface_of, with_images
from usual_clay.core.fit.parameterize.region import CastSettings, Sizes, with_knots_of
from usual_clay.core.fit.search.candidates import Candidate, candidate_of
from usual_clay.core.fit.search.trials import Trials, best_so_far, draw_in, grow, knot_search
from usual_clay.core.progress import Cancelled, Progress, silent, stretch
from usual_clay.core.scan.sample import Sample

# Searching works on an even choice of so many points; the result is fitted to all of them.
SEARCH_POINTS = 20_000
LIMIT = 50
# Of the time of a search so much is the search itself, the rest the fit to all points.
SEARCHING = 0.85


@dataclass(frozen=True, eq=False)
class Search:
    """The outcome of a search.

    Attributes
    ----------
    settings : CastSettings
        With the counts, and the knots where they are adaptive, that were found: a fit with them
        is the surface that was found.
    candidates : tuple of Candidate
        Everything that was computed.
    words : str
        What came of it, in a sentence.
    cast : Cast or None
        The fit with these settings to all points; None where the search was stopped before it.
    report : Report or None
        Of the cast.
    """

    settings: Sizes
    candidates: tuple[Candidate, ...]
    words: str
    cast: Cast | None = None
    report: Report | None = None

    @property
    def cancelled(self) -> bool:
        return self.cast is None

    @property
    def made(self) -> Cast:
        """The cast of a search that was not stopped."""
        assert self.cast is not None
        return self.cast


def to_tolerance(
    sample: Sample,
    settings: CastSettings,
    tolerance: Tolerance,
    limit: int = LIMIT,
    progress: Progress = silent,
    found: Callable[[Candidate], None] | None = None,
) -> Search:
    """Find the smallest u x v whose deviation is within tolerance at the wanted share.

    From the fewest control points, the direction is grown that lowers the deviation most for
    what it adds; once within tolerance, each direction is drawn in again, and traded against
    the other, as far as the tolerance allows.

    Parameters
    ----------
    settings : CastSettings
        All but its counts are kept.
    limit : int
        The most control points along one direction.
    found : callable, optional
        Told of each candidate as it is computed, from the computing thread.

    Raises
    ------
    FitError, FoldsOverError
        When the region cannot be cast at all.
    Cancelled
        Where it is stopped before the first candidate. Later the best so far is returned.
    """
    part = with_images(sample.part(SEARCH_POINTS), settings)
    searching, fitting = stretch(progress, 0.0, SEARCHING), stretch(progress, SEARCHING, 1.0)
    trials = Trials(part, settings, tolerance, found or (lambda _: None), searching)
    try:
        if settings.knots == "even":
            best = grow(trials, limit)
            if trials.deviation(*best) <= tolerance.deviation:
                best = draw_in(trials, best, limit)
            return _settle(sample, trials, best, limit, fitting)
        return _with_knots(sample, trials, limit, fitting)
    except Cancelled:
        if not trials.seen:
            raise
    best = best_so_far(trials)
    chosen = settings.sized(*best)
    if best in trials.made:
        chosen = with_knots_of(chosen, trials.made[best])
    return stopped(chosen, trials.seen, trials.deviation(*best), tolerance)


def stopped(
    chosen: Sizes,
    seen: Mapping[tuple[int, int], Candidate],
    deviation: float,
    tolerance: Tolerance,
) -> Search:
    """Return what a search that was stopped had come to."""
    words = (
        f"Stopped. The best so far has {counts_in_words(chosen)}: {percent(tolerance.share)} of"
        f" the points tried lie within {deviation:.3f} mm."
    )
    return Search(chosen, tuple(seen.values()), words)


def _outcome(
    sample: Sample, trials: Trials, fitted: Cast, chosen: CastSettings, report: Report, limit: int
) -> Search:
    mine = candidate_of(chosen, fitted.feet.signed)
    known = trials.seen.get((chosen.nu, chosen.nv))
    surface = None if known is None else known.surface
    trials.seen[chosen.nu, chosen.nv] = replace(mine, surface=surface)
    words = in_words(chosen, report, trials.tolerance, sample.noise, limit)
    return Search(chosen, tuple(trials.seen.values()), words, fitted, report)


def _with_knots(sample: Sample, trials: Trials, limit: int, progress: Progress) -> Search:
    """Search with adaptive knots, and fit what is found to all points."""
    search = knot_search(trials, limit)
    search.run()
    while True:
        surface = surface_of(search.laid, search.attempt, trials.base)
        chosen = with_knots_of(trials.settings, surface)
        fitted = cast(sample, chosen, progress)
        report = judge(fitted.feet.signed, trials.tolerance)
        if report.met or not search.goes_on(report.at_share):
            return _outcome(sample, trials, fitted, chosen, report, limit)


def _settle(
    sample: Sample, trials: Trials, best: tuple[int, int], limit: int, progress: Progress
) -> Search:
    """Fit the chosen counts to all points; add a few control points should that fall short."""
    tolerance = trials.tolerance
    expected = trials.deviation(*best) <= tolerance.deviation
    nu, nv = best
    while True:
        chosen = trials.settings.sized(nu, nv)
        if (nu, nv) in trials.made:
            chosen = with_knots_of(chosen, trials.made[nu, nv])
        fitted = cast(sample, chosen, progress)
        report = judge(fitted.feet.signed, tolerance)
        wider = nu < limit and (nu <= nv * best[0] / best[1] or nv >= limit)
        nu, nv = (nu + 1, nv) if wider else (nu, nv + 1)
        spent = chosen.nu * chosen.nv > 1.3 * best[0] * best[1]
        more = max(nu, nv) <= limit and trials.enough_points(nu, nv)
        if report.met or not expected or spent or not more:
            return _outcome(sample, trials, fitted, chosen, report, limit)


def counts_in_words(chosen: Sizes) -> str:
    """Return a surface's counts in words."""
    return f"{chosen.nu} × {chosen.nv} = {chosen.nu * chosen.nv} control points"


def in_words(chosen: Sizes, report: Report, tolerance: Tolerance, noise: float, limit: int) -> str:
    """Say what a search came to."""
    found = counts_in_words(chosen)
    reached = f"{percent(tolerance.share)} of the points lie within {report.at_share:.3f} mm"
    floor = tolerance.noise_floor(noise)
    if report.met:
        if tolerance.deviation < floor:
            return (
                f"{found}: {reached}. That is below the scan's noise ({floor:.3f} mm at"
                f" {percent(tolerance.share)}): part of it copies noise."
            )
        return f"{found}: {reached}."
    if tolerance.deviation < floor:
        return (
            f"The tolerance {tolerance.deviation:.3f} mm lies below the scan's noise"
            f" ({floor:.3f} mm at {percent(tolerance.share)}): more control points would only copy"
            " noise."
            f" {found}: {reached}."
        )
    return (
        f"The tolerance {tolerance.deviation:.3f} mm was not met with up to {limit} × {limit}."
        f" The nearest has {found}: {reached}."
    )
