"""To tolerance: the fewest control points with which a cast stays within tolerance."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from usual_clay.core.check.deviation import Report, Tolerance, judge, percent
from usual_clay.core.fit.cast import Cast, cast, surface_of, with_images
from usual_clay.core.fit.parameterize.region import CastSettings, Sizes
from usual_clay.core.fit.search.candidates import Candidate, candidate_of
from usual_clay.core.fit.search.trials import Trials, best_so_far, draw_in, grow, knot_search
from usual_clay.core.progress import Cancelled, Progress, silent
from usual_clay.core.scan.sample import Sample

# Searching works on an even choice of so many points; the result is fitted to all of them.
SEARCH_POINTS = 20_000
LIMIT = 50


@dataclass(frozen=True, eq=False)
class Search:
    """The outcome of a search.

    Attributes
    ----------
    cast : Cast
        The best found, fitted to all points.
    settings : CastSettings
        With its counts.
    report : Report
    candidates : tuple of Candidate
        Everything that was computed.
    words : str
        What came of it, in a sentence.
    cancelled : bool
    """

    cast: Cast
    settings: Sizes
    report: Report
    candidates: tuple[Candidate, ...]
    words: str
    cancelled: bool = False


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
        When the region cannot be cast at all. `Cancelled` is not passed on: the best so far
        is returned, with `cancelled` set.
    """
    part = with_images(sample.part(SEARCH_POINTS), settings)
    trials = Trials(part, settings, tolerance, found or (lambda _: None), progress)
    if settings.knots != "even":
        return _with_knots(sample, trials, limit)
    cancelled = False
    try:
        best = grow(trials, limit)
        if trials.deviation(*best) <= tolerance.deviation:
            best = draw_in(trials, best, limit)
    except Cancelled:
        cancelled = True
        if not trials.seen:
            raise
        best = best_so_far(trials)
    chosen, fitted, report = _settle(sample, trials, best, limit, cancelled)
    return _outcome(sample, trials, fitted, chosen, report, limit, cancelled)


def _outcome(
    sample: Sample,
    trials: Trials,
    fitted: Cast,
    chosen: CastSettings,
    report: Report,
    limit: int,
    cancelled: bool,
) -> Search:
    trials.seen[chosen.nu, chosen.nv] = candidate_of(chosen, fitted.feet.signed)
    words = in_words(chosen, report, trials.tolerance, sample.noise, limit, cancelled)
    return Search(fitted, chosen, report, tuple(trials.seen.values()), words, cancelled)


def _with_knots(sample: Sample, trials: Trials, limit: int) -> Search:
    """Search with adaptive knots, and fit what is found to all points."""
    search, cancelled = knot_search(trials, limit), False
    try:
        search.run()
    except Cancelled:
        cancelled = True
    while True:
        surface = surface_of(search.laid, search.attempt, trials.base)
        chosen = trials.settings.sized(*surface.counts)
        fitted = cast(sample, chosen, begin=surface)
        report = judge(fitted.feet.signed, trials.tolerance)
        if report.met or cancelled or not search.goes_on(report.at_share):
            break
    return _outcome(sample, trials, fitted, chosen, report, limit, cancelled)


def _settle(
    sample: Sample, trials: Trials, best: tuple[int, int], limit: int, cancelled: bool
) -> tuple[CastSettings, Cast, Report]:
    """Fit the chosen counts to all points; add a few control points should that fall short."""
    tolerance = trials.tolerance
    expected = trials.deviation(*best) <= tolerance.deviation
    nu, nv = best
    while True:
        chosen = trials.settings.sized(nu, nv)
        fitted = cast(sample, chosen, begin=trials.made.get((nu, nv)))
        report = judge(fitted.feet.signed, tolerance)
        if report.met or cancelled or not expected or nu * nv > 1.3 * best[0] * best[1]:
            return chosen, fitted, report
        wider = nu < limit and (nu <= nv * best[0] / best[1] or nv >= limit)
        nu, nv = (nu + 1, nv) if wider else (nu, nv + 1)
        if max(nu, nv) > limit or not trials.enough_points(nu, nv):
            return chosen, fitted, report


def in_words(
    chosen: Sizes, report: Report, tolerance: Tolerance, noise: float, limit: int, cancelled: bool
) -> str:
    """Say what a search came to."""
    found = f"{chosen.nu} × {chosen.nv} = {chosen.nu * chosen.nv} control points"
    reached = f"{percent(tolerance.share)} of the points lie within {report.at_share:.3f} mm"
    floor = tolerance.noise_floor(noise)
    if report.met:
        if tolerance.deviation < floor:
            return (
                f"{found}: {reached}. That is below the scan's noise ({floor:.3f} mm at"
                f" {percent(tolerance.share)}): part of it copies noise."
            )
        return f"{found}: {reached}."
    if cancelled:
        return f"Stopped. The best so far has {found}: {reached}."
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
