"""To tolerance: the fewest control points with which a drape stays within tolerance."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats, frozen
from usual_clay.core.check.deviation import Aim, Report, at_share, distance_levels, judge, percent
from usual_clay.core.fit.adaptive import Attempt, Laid
from usual_clay.core.fit.base import Base, DrapeSettings, Sizes, lay_flat
from usual_clay.core.fit.drape import (
    COARSE_ROUNDS,
    Drape,
    drape,
    evened,
    laid_for_knots,
    stiffness_of,
    with_images,
)
from usual_clay.core.fit.knot_search import KnotSearch
from usual_clay.core.fit.sample import Sample
from usual_clay.core.fit.slide import Start
from usual_clay.core.progress import Cancelled, Progress, silent
from usual_clay.core.spline.surface import BSplineSurface

# So often each candidate is fitted, and so many points it takes for each control point.
TRIAL_ROUNDS, LEAST_POINTS = 3, 2
# Searching works on an even choice of so many points; the result is fitted to all of them.
SEARCH_POINTS = 20_000
LIMIT = 50
GROWTH = 1.3
# Less gain than this from a step of growth, near the noise, and more points only copy noise.
LEAST_GAIN = 0.02


@dataclass(frozen=True, eq=False)
class Candidate:
    """One computed balance of control points against deviation.

    Attributes
    ----------
    nu, nv : int
    levels : (201,) array
        Distances at the shares 0, 0.5 % ... 100 %, mm.
    """

    nu: int
    nv: int
    levels: Floats

    def __post_init__(self) -> None:
        object.__setattr__(self, "levels", frozen(self.levels))

    @property
    def total(self) -> int:
        return self.nu * self.nv

    def deviation(self, share: float) -> float:
        return at_share(self.levels, share)


@dataclass(frozen=True, eq=False)
class Search:
    """The outcome of a search.

    Attributes
    ----------
    drape : Drape
        The best found, fitted to all points.
    settings : DrapeSettings
        With its counts.
    report : Report
    candidates : tuple of Candidate
        Everything that was computed.
    words : str
        What came of it, in a sentence.
    cancelled : bool
    """

    drape: Drape
    settings: Sizes
    report: Report
    candidates: tuple[Candidate, ...]
    words: str
    cancelled: bool = False


def candidate_of(settings: DrapeSettings, signed: Floats) -> Candidate:
    """Keep of a drape what Balance shows."""
    return Candidate(settings.nu, settings.nv, distance_levels(signed))


def front_of(candidates: Sequence[Candidate], share: float) -> list[Candidate]:
    """Return the candidates that no other beats in both control points and deviation."""
    front: list[Candidate] = []
    for candidate in sorted(candidates, key=lambda c: (c.total, c.deviation(share))):
        if not front or candidate.deviation(share) < front[-1].deviation(share):
            front.append(candidate)
    return front


def knee_of(front: Sequence[Candidate], share: float) -> Candidate | None:
    """Return the candidate at the knee of a front: past it control points buy little.

    The one farthest below the straight line between the front's ends, both on logarithmic scales
    (compare Satopaa and others 2011). None for a front of fewer than three.
    """
    if len(front) < 3:
        return None
    x = np.log([candidate.total for candidate in front])
    y = np.log([max(candidate.deviation(share), 1e-12) for candidate in front])
    x, y = (x - x[0]) / (x[-1] - x[0]), (y - y[-1]) / max(y[0] - y[-1], 1e-12)
    return front[int(np.argmax(1 - x - y))]


class _Trials:
    """The candidates tried so far, each started from where the nearest of them came to rest."""

    def __init__(
        self,
        sample: Sample,
        settings: DrapeSettings,
        aim: Aim,
        found: Callable[[Candidate], None],
        progress: Progress,
    ) -> None:
        self.sample, self.settings, self.aim = sample, settings, aim
        self.found, self.progress = found, progress
        self.base: Base = lay_flat(sample, settings.sized(settings.degree + 3, settings.degree + 3))
        self.fewest = self.base.fewest(settings.degree)
        self.stiffness = stiffness_of(settings.smoothness, self.base)
        self.seen: dict[tuple[int, int], Candidate] = {}
        self.made: dict[tuple[int, int], BSplineSurface] = {}
        start = Start(self.base.u, self.base.v, np.ones(len(sample.points)))
        self._laid = laid_for_knots(sample, self.base, self.stiffness, start)
        self._ends: dict[tuple[int, int], Laid] = {}

    def laid(self, nu: int, nv: int) -> Laid:
        """Return the points where they came to rest on the nearest surface tried."""
        pairs = sorted(self._ends, key=lambda pair: abs(pair[0] - nu) + abs(pair[1] - nv))
        return self._ends[pairs[0]] if pairs else self._laid

    def deviation(self, nu: int, nv: int) -> float:
        """Return the deviation at the wanted share, computing it where it is not known."""
        if (nu, nv) not in self.seen:
            space = self.base.start_space(self.settings.sized(nu, nv))
            # The first one starts from parameters that were never corrected.
            rounds = TRIAL_ROUNDS if self.seen else COARSE_ROUNDS
            self._ends[nu, nv], attempt = self.laid(nu, nv).settled(space, rounds)
            self.made[nu, nv] = evened(self._ends[nu, nv], attempt, self.base)
            self.note(attempt)
        return self.seen[nu, nv].deviation(self.aim.share)

    def note(self, attempt: Attempt) -> None:
        """Keep what a search has come to as a candidate."""
        nu, nv = attempt.space.counts
        made, known = Candidate(nu, nv, distance_levels(attempt.distances)), self.seen.get((nu, nv))
        if known is None or made.deviation(self.aim.share) < known.deviation(self.aim.share):
            self.seen[nu, nv] = made
            self.found(made)
        self.progress(len(self.seen) / (len(self.seen) + 8), f"{nu} × {nv} control points")

    def allows(self, nu: int, nv: int, limit: int) -> bool:
        """Tell whether counts are not too few, nor too many."""
        least_u, least_v = self.fewest
        return nu >= least_u and nv >= least_v and max(nu, nv) <= limit

    def enough_points(self, nu: int, nv: int) -> bool:
        return LEAST_POINTS * nu * nv <= len(self._laid.points)


def to_tolerance(
    sample: Sample,
    settings: DrapeSettings,
    aim: Aim,
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
    settings : DrapeSettings
        All but its counts are kept.
    limit : int
        The most control points along one direction.
    found : callable, optional
        Told of each candidate as it is computed, from the computing thread.

    Raises
    ------
    FitError, FoldsOverError
        When the region cannot be draped at all. `Cancelled` is not passed on: the best so far
        is returned, with `cancelled` set.
    """
    part = with_images(sample.part(SEARCH_POINTS), settings)
    trials = _Trials(part, settings, aim, found or (lambda _: None), progress)
    if settings.knots != "even":
        return _with_knots(sample, trials, limit)
    cancelled = False
    try:
        best = _grow(trials, limit)
        if trials.deviation(*best) <= aim.tolerance:
            best = _draw_in(trials, best, limit)
    except Cancelled:
        cancelled = True
        if not trials.seen:
            raise
        best = _best_so_far(trials)
    chosen, fitted, report = _settle(sample, trials, best, limit, cancelled)
    return _outcome(sample, trials, fitted, chosen, report, limit, cancelled)


def _outcome(
    sample: Sample,
    trials: _Trials,
    fitted: Drape,
    chosen: DrapeSettings,
    report: Report,
    limit: int,
    cancelled: bool,
) -> Search:
    trials.seen[chosen.nu, chosen.nv] = candidate_of(chosen, fitted.feet.signed)
    words = in_words(chosen, report, trials.aim, sample.noise, limit, cancelled)
    return Search(fitted, chosen, report, tuple(trials.seen.values()), words, cancelled)


def _with_knots(sample: Sample, trials: _Trials, limit: int) -> Search:
    """Search with adaptive knots, and fit what is found to all points."""
    search, cancelled = _knot_search(trials, limit), False
    try:
        search.run()
    except Cancelled:
        cancelled = True
    while True:
        surface = evened(search.laid, search.attempt, trials.base)
        chosen = trials.settings.sized(*surface.counts)
        fitted = drape(sample, chosen, begin=surface)
        report = judge(fitted.feet.signed, trials.aim)
        if report.met or cancelled or not search.goes_on():
            break
    return _outcome(sample, trials, fitted, chosen, report, limit, cancelled)


def _knot_search(trials: _Trials, limit: int) -> KnotSearch:
    """Return a search that stands at the coarsest surface."""
    settings, base = trials.settings, trials.base
    most = min(limit, int(np.sqrt(len(trials.laid(0, 0).points) / LEAST_POINTS)))
    # Even in one direction: as many there as it takes, found before.
    counts = [
        fewest if settings.is_adaptive(direction) else _even_count(trials, name, limit)
        for direction, name, fewest in zip("uv", ("nu", "nv"), trials.fewest, strict=True)
    ]
    space = base.start_space(settings.sized(counts[0], counts[1]))
    laid, attempt = trials.laid(*counts).settled(space, COARSE_ROUNDS)
    ends = [
        max(count, most) if settings.is_adaptive(direction) else count
        for direction, count in zip("uv", counts, strict=True)
    ]
    return KnotSearch(laid, attempt, base, settings, trials.aim, (ends[0], ends[1]), trials.note)


def _grow(trials: _Trials, limit: int) -> tuple[int, int]:
    aim = trials.aim
    floor = aim.noise_floor(trials.sample.noise)
    nu, nv = trials.fewest
    error = trials.deviation(nu, nv)
    idle = 0
    while error > aim.tolerance:
        steps = [
            pair
            for pair in ((_more(nu, limit), nv), (nu, _more(nv, limit)))
            if pair != (nu, nv) and trials.enough_points(*pair)
        ]
        if not steps:
            break
        gains = [
            np.log(error / trials.deviation(*pair)) / np.log(pair[0] * pair[1] / (nu * nv))
            for pair in steps
        ]
        best = int(np.argmax(gains))
        if gains[best] < LEAST_GAIN:
            # Neither alone helps: features may need both, unless only noise is left to copy.
            idle += 1
            both = (_more(nu, limit), _more(nv, limit))
            if (idle > 1 and error < 1.15 * floor) or not trials.enough_points(*both):
                break
            nu, nv = both
        else:
            idle = 0
            nu, nv = steps[best]
        error = trials.deviation(nu, nv)
    return (nu, nv) if error <= aim.tolerance else _best_so_far(trials)


def _even_count(trials: _Trials, name: str, limit: int) -> int:
    """Return how many even control points one direction takes, with many in the other."""
    count = trials.fewest[0 if name == "nu" else 1]
    rich = min(limit, 4 * count)
    last = np.inf
    while count < limit:
        pair = (count, rich) if name == "nu" else (rich, count)
        error = trials.deviation(*pair)
        if error <= trials.aim.tolerance or error > 0.97 * last:
            break
        last, count = error, _more(count, limit)
    return count


def _more(count: int, limit: int) -> int:
    return min(limit, max(count + 1, round(count * GROWTH)))


def _draw_in(trials: _Trials, best: tuple[int, int], limit: int) -> tuple[int, int]:
    """Take control points out again while the tolerance holds."""
    tolerance = trials.aim.tolerance

    def holds(nu: int, nv: int) -> bool:
        fits = trials.allows(nu, nv, limit)
        return fits and trials.deviation(nu, nv) <= tolerance

    def narrowed(pair: tuple[int, int], direction: int) -> tuple[int, int]:
        """Halve the way to the fewest in one direction."""
        low, high = trials.fewest[direction], pair[direction]
        while low < high:
            middle = (low + high) // 2
            trial = (middle, pair[1]) if direction == 0 else (pair[0], middle)
            low, high = (low, middle) if holds(*trial) else (middle + 1, high)
        return (high, pair[1]) if direction == 0 else (pair[0], high)

    best = narrowed(narrowed(best, 0), 1)
    for leaner in _of_smaller_budget(best, max(trials.fewest)):
        if leaner[0] * leaner[1] < best[0] * best[1] and holds(*leaner):
            best = narrowed(narrowed(leaner, 0), 1)
    better = True
    while better:
        nu, nv = best
        moves = ((nu - 1, nv), (nu, nv - 1), (nu - 2, nv + 1), (nu + 1, nv - 2), (nu + 1, nv - 1),
                 (nu - 1, nv + 1))  # fmt: skip
        leaner_moves = sorted(
            (m for m in moves if m[0] * m[1] < nu * nv), key=lambda m: m[0] * m[1]
        )
        found = next((move for move in leaner_moves if holds(*move)), None)
        best, better = found or best, found is not None
    return best


def _of_smaller_budget(best: tuple[int, int], fewest: int) -> list[tuple[int, int]]:
    """Return pairs of other proportions with a tenth fewer control points than `best`.

    Growth follows the steepest way down and may have gone past a leaner pair that is much
    longer or much wider.
    """
    budget = 0.9 * best[0] * best[1]
    counts = np.unique(np.geomspace(fewest, budget / fewest, 9).round().astype(int))
    return [(int(budget // nv), int(nv)) for nv in counts]


def _best_so_far(trials: _Trials) -> tuple[int, int]:
    """Return the leanest candidate within tolerance, or the leanest of the nearest to it."""
    share, tolerance = trials.aim.share, trials.aim.tolerance
    known = [(c.total, c.deviation(share), pair) for pair, c in trials.seen.items()]
    met = [entry for entry in known if entry[1] <= tolerance]
    if met:
        return min(met)[2]
    least = min(deviation for _, deviation, _ in known)
    return min(entry for entry in known if entry[1] <= 1.02 * least)[2]


def _settle(
    sample: Sample, trials: _Trials, best: tuple[int, int], limit: int, cancelled: bool
) -> tuple[DrapeSettings, Drape, Report]:
    """Fit the chosen counts to all points; add a few control points should that fall short."""
    aim = trials.aim
    expected = trials.deviation(*best) <= aim.tolerance
    nu, nv = best
    while True:
        chosen = trials.settings.sized(nu, nv)
        fitted = drape(sample, chosen, begin=trials.made.get((nu, nv)))
        report = judge(fitted.feet.signed, aim)
        if report.met or cancelled or not expected or nu * nv > 1.3 * best[0] * best[1]:
            return chosen, fitted, report
        wider = nu < limit and (nu <= nv * best[0] / best[1] or nv >= limit)
        nu, nv = (nu + 1, nv) if wider else (nu, nv + 1)
        if max(nu, nv) > limit or not trials.enough_points(nu, nv):
            return chosen, fitted, report


def in_words(
    chosen: Sizes, report: Report, aim: Aim, noise: float, limit: int, cancelled: bool
) -> str:
    """Say what a search came to."""
    found = f"{chosen.nu} × {chosen.nv} = {chosen.nu * chosen.nv} control points"
    reached = f"{percent(aim.share)} of the points lie within {report.at_share:.3f} mm"
    floor = aim.noise_floor(noise)
    if report.met:
        if aim.tolerance < floor:
            return (
                f"{found}: {reached}. That is below the scan's noise ({floor:.3f} mm at"
                f" {percent(aim.share)}): part of it copies noise."
            )
        return f"{found}: {reached}."
    if cancelled:
        return f"Stopped. The best so far has {found}: {reached}."
    if aim.tolerance < floor:
        return (
            f"The tolerance {aim.tolerance:.3f} mm lies below the scan's noise ({floor:.3f} mm at"
            f" {percent(aim.share)}): more control points would only copy noise."
            f" {found}: {reached}."
        )
    return (
        f"The tolerance {aim.tolerance:.3f} mm was not met with up to {limit} × {limit}."
        f" The nearest has {found}: {reached}."
    )
