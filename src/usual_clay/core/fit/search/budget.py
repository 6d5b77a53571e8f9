"""To tolerance: the fewest control points with which a cast stays within tolerance."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np

from usual_clay.core.arrays import Bools
from usual_clay.core.check.deviation import Report, Tolerance, judge, percent
from usual_clay.core.errors import FitError
from usual_clay.core.fit.cast import BELIEVED, Cast, cast, surface_of, with_images
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.region import CastSettings, Sizes, with_knots_of
from usual_clay.core.fit.parameterize.sides import bend_better, bends_round, follows_better
from usual_clay.core.fit.search.candidates import Candidate, candidate_of
from usual_clay.core.fit.search.degrees import leanest
from usual_clay.core.fit.search.knot_search import CAUTION
from usual_clay.core.fit.search.trials import Trials, best_so_far, draw_in, grow, knot_search
from usual_clay.core.fit.solve.run_out import is_pinched
from usual_clay.core.fit.solve.slide import sides_of
from usual_clay.core.progress import Cancelled, Progress, silent, stretch
from usual_clay.core.scan.sample import FEW, MOST_SPIKES, Sample, beside
from usual_clay.core.spline.surface import runs_round

# Searching works on an even choice of so many points; the result is fitted to all of them.
SEARCH_POINTS = 20_000
LIMIT = 50
# What is not believed lies side by side where it is the shape that is missed: of its neighbours
# this share lies off alike, beyond what chance would have it.
SIDE_BY_SIDE = 0.1
# More spikes than this share of the area are left out of what a search aims at.
MANY_SPIKES = 0.01
# The others make up for fewer, where noise alone lies within this part of the tolerance.
MADE_UP = 0.9
# Where all points ask for more than the choice, a finer tolerance is aimed at so often.
FINER_TRIES = 5
# Of the time of a search so much is the search itself, the rest the fit to all points.
SEARCHING = 0.85
# So few control points are looked for with the other sides too; the first search is so much of it.
SMALL, FIRST = 24, 0.8


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

    @cached_property
    def pinched(self) -> bool:
        """Whether the surface turns sharply where there are no points."""
        return self.cast is not None and is_pinched(
            self.cast.surface, (self.cast.feet.u, self.cast.feet.v)
        )

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
    if settings.any_degree and settings.knots != "even":
        return _over_degrees(sample, settings, tolerance, limit, progress, found)
    made = _searched(sample, settings, tolerance, limit, stretch(progress, 0.0, FIRST), found)
    other = _laid_otherwise(sample, settings, made)
    if other is None:
        return made
    try:
        tried = _searched(sample, other, tolerance, limit, stretch(progress, FIRST, 1.0), found)
    except (Cancelled, FitError):
        return made
    return min(made, tried, key=_cost)


def _laid_otherwise(sample: Sample, settings: CastSettings, made: Search) -> CastSettings | None:
    """Return settings with the frame or sides that were not taken, where so few are found
    that one row less is more than a tenth, and there is one that may go; or none was met, or
    not without a pinch."""
    count = made.settings.nu * made.settings.nv
    if settings.sides != "best" or settings.closed or settings.pull or settings.symmetric:
        return None
    if made.report is None or made.cancelled:
        return None
    met = made.report.met and not made.pinched
    if met and not (settings.degree + 1) ** 2 < count <= SMALL:
        return None
    if any(runs_round(made.made.surface, 0.0)):
        return None
    laid = settings.sized(made.settings.nu, made.settings.nv)
    if parameterize(sample.part(SEARCH_POINTS), laid).winds:
        return None
    if made.pinched and bends_round(sample):
        return replace(settings, sides="along")
    follows = follows_better(sample, settings.frame, settings.plane)
    if not follows and settings.frame == "best" and bend_better(sample):
        return replace(settings, frame="outline")
    if not made.report.met:
        return None
    return replace(settings, sides="straight" if follows else "follow")


def _searched(
    sample: Sample,
    settings: CastSettings,
    tolerance: Tolerance,
    limit: int,
    progress: Progress,
    found: Callable[[Candidate], None] | None,
) -> Search:
    """Search with the sides that are asked for."""
    part = with_images(sample.part(SEARCH_POINTS), settings)
    searching, fitting = stretch(progress, 0.0, SEARCHING), stretch(progress, SEARCHING, 1.0)
    aim = tolerance.above(part.noise)
    trials = Trials(part, settings, aim, found or (lambda _: None), searching)
    try:
        search = _even if settings.knots == "even" else _with_knots
        return _outcome(sample, trials, search(sample, trials, limit, fitting), tolerance)
    except Cancelled:
        if not trials.seen:
            raise
        chosen, deviation = _best_settings(trials)
        return stopped(chosen, trials.seen, deviation, tolerance)
    except FitError:
        if not trials.seen:
            raise
        # The points hold no more control points than it had come to.
        made = _fitted(sample, _best_settings(trials)[0], aim, fitting)
        return _outcome(sample, trials, made, tolerance)


def _best_settings(trials: Trials) -> tuple[CastSettings, float]:
    """Return the settings of the best candidate so far, and its deviation."""
    best = best_so_far(trials)
    chosen = trials.settings.sized(*best)
    if best in trials.made:
        chosen = with_knots_of(chosen, trials.made[best])
    return chosen, trials.deviation(*best)


def _over_degrees(
    sample: Sample,
    settings: CastSettings,
    tolerance: Tolerance,
    limit: int,
    progress: Progress,
    found: Callable[[Candidate], None] | None,
) -> Search:
    """Return the leanest of searches with several degrees."""

    def search(degree: int, part: Progress) -> Search:
        more = max(settings.nu, degree + 1), max(settings.nv, degree + 1)
        one = replace(settings.sized(*more), degree=degree, any_degree=False)
        made = to_tolerance(sample, one, tolerance, limit, part, found)
        assert isinstance(made.settings, CastSettings)
        return replace(made, settings=replace(made.settings, any_degree=True))

    return leanest(search, _cost, lambda each: each.cancelled, progress)


def _cost(search: Search) -> tuple[bool, bool, float]:
    report = search.report
    if report is None or not report.met:
        return True, False, np.inf if report is None else report.at_share
    return False, search.pinched, search.settings.nu * search.settings.nv


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


class Found(NamedTuple):
    """A fit to all points, its settings, and how it is judged by what the search aims at."""

    cast: Cast
    settings: CastSettings
    report: Report
    # Whether it is spikes alone that it misses, and what share of the area they are.
    but_spikes: bool = False
    spiky: float = 0.0

    def nearer(self, other: Found | None) -> Found:
        """Return the one of two, if there is another, that lies nearer."""
        return self if other is None or self.report.at_share < other.report.at_share else other


def _outcome(sample: Sample, trials: Trials, found: Found, tolerance: Tolerance) -> Search:
    fitted, chosen = found.cast, found.settings
    report = found.report
    if found.spiky or trials.tolerance is not tolerance:
        report = judge(fitted.feet.signed, tolerance, sample.areas)
    mine = candidate_of(chosen, fitted.feet.signed, sample.areas)
    known = trials.seen.get((chosen.nu, chosen.nv))
    surface = None if known is None else known.surface
    trials.seen[chosen.nu, chosen.nv] = replace(mine, surface=surface)
    words = in_words(chosen, report, tolerance, sample.noise, trials.seen)
    if not report.met:
        words = " ".join(filter(None, [words, spikes_in_words(fitted, tolerance, sample)]))
    return Search(chosen, tuple(trials.seen.values()), words, fitted, report)


def spikes_in_words(fitted: Cast, tolerance: Tolerance, sample: Sample) -> str:
    """Say where it is spikes alone that keep a fit from its tolerance."""
    believed = ~_spikes(fitted, sample)
    if believed.all() or fitted.areas is None:
        return ""
    without = judge(fitted.feet.signed[believed], tolerance, fitted.areas[believed])
    if not without.met:
        return ""
    share = float(np.average(~believed, weights=fitted.areas))
    return (
        f"{percent(share)} of the area are spikes far off it; without them"
        f" {percent(tolerance.share)} lies within {without.at_share:.3f} mm. Mend the scan, or ask"
        " for a smaller share."
    )


def _spikes(fitted: Cast, sample: Sample) -> Bools:
    """Tell which points are spikes: not believed, and scattered, as no missed shape is."""
    off: Bools = fitted.weights <= BELIEVED
    near = off & ~sample.scattered
    if not near.any():
        return off
    # Where they lie on the surface: off it, spikes have other spikes about them in space.
    places = fitted.start.places(sides_of(fitted.surface))
    about, signed = beside(sample.points, sample.neighbours, places)[near], fitted.feet.signed
    alike = near[about] & (np.sign(signed[about]) == np.sign(signed[near])[:, None])
    missed = float(alike.mean()) > SIDE_BY_SIDE + float(near.mean())
    return off & ~near if missed else off


def _with_knots(sample: Sample, trials: Trials, limit: int, progress: Progress) -> Found:
    """Search with adaptive knots, and fit what is found to all points."""
    search = knot_search(trials, limit)
    search.run()
    first: Found | None = None
    nearest: Found | None = None
    while True:
        surface = surface_of(search.laid, search.attempt, trials.base)
        chosen = with_knots_of(trials.settings, surface)
        found = _fitted(sample, chosen, trials.tolerance, progress)
        if first is None and found.but_spikes:
            first = found
        nearest = found.nearer(nearest)
        report = found.report
        if found.spiky > MOST_SPIKES and len(sample.points) <= FEW:
            # What few points have for spikes is a feature that has too few knots.
            report = judge(found.cast.feet.signed, trials.tolerance, sample.areas)
        if report.met or not search.goes_on(report.at_share):
            return found if report.met else first or nearest


def _even(sample: Sample, trials: Trials, limit: int, progress: Progress) -> Found:
    """Search with even knots, and fit what is found to all points.

    Where all points ask for more than the choice did, the search goes on to a finer tolerance.
    """
    aim = trials.tolerance
    finer = CAUTION * aim.deviation
    nearest: Found | None = None
    for _ in range(FINER_TRIES):
        trials.tolerance = replace(aim, deviation=finer)
        best = grow(trials, limit)
        expected = trials.deviation(*best) <= finer
        if expected:
            best = draw_in(trials, best, limit)
        chosen = trials.settings.sized(*best)
        if best in trials.made:
            chosen = with_knots_of(chosen, trials.made[best])
        found = _fitted(sample, chosen, aim, progress)
        nearest = found.nearer(nearest)
        if found.report.met or not expected:
            break
        finer *= CAUTION * aim.deviation / found.report.at_share
    assert nearest is not None
    return nearest


def _fitted(sample: Sample, chosen: CastSettings, aim: Tolerance, progress: Progress) -> Found:
    """Fit what was chosen to all points, and judge it by what the search aims at."""
    made = cast(sample, chosen, progress)
    report = judge(made.feet.signed, aim, sample.areas)
    if report.met:
        return Found(made, chosen, report)
    believed = ~_spikes(made, sample)
    spiky = float(np.average(~believed, weights=sample.areas))
    if spiky < MANY_SPIKES:
        return Found(made, chosen, report)
    without = judge(made.feet.signed[believed], aim, sample.areas[believed])
    # Spikes are not brought within a tolerance by more control points.
    makes_up = _makes_up(aim, spiky, sample.noise)
    return Found(made, chosen, report if makes_up else without, without.met, spiky)


def _makes_up(aim: Tolerance, spiky: float, noise: float) -> bool:
    """Tell whether the other points can come so near that the share is met with the spikes."""
    share = aim.share / max(1 - spiky, aim.share)
    floor = replace(aim, share=share).noise_floor(noise)
    return share < 1 and floor < MADE_UP * aim.deviation


def counts_in_words(chosen: Sizes) -> str:
    """Return a surface's counts in words."""
    return f"{chosen.nu} × {chosen.nv} = {chosen.nu * chosen.nv} control points"


def in_words(
    chosen: Sizes,
    report: Report,
    tolerance: Tolerance,
    noise: float,
    seen: Mapping[tuple[int, int], Candidate],
) -> str:
    """Say what a search came to, and of a refusal what was tried."""
    found = counts_in_words(chosen)
    reached = f"{percent(tolerance.share)} of the area lies within {report.at_share:.3f} mm"
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
    most = max(seen, key=lambda pair: pair[0] * pair[1])
    tried = f"{len(seen)} sizes were tried, up to {most[0]} × {most[1]}. The nearest has {found}"
    if len(seen) == 1:
        tried = f"One size was tried. It has {found}"
    return f"The tolerance {tolerance.deviation:.3f} mm was not met. {tried}: {reached}."
