"""Casts of many sizes on a choice of the points: grown to tolerance, then drawn in again."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import COARSE_ROUNDS, laid_for_knots, surface_of
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.region import CastSettings, Parameterization, fewest_of
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.fairness import Calm
from usual_clay.core.fit.search.knot_search import HOPELESS, LEAST_POINTS, KnotSearch
from usual_clay.core.fit.solve.laid import Attempt, Laid
from usual_clay.core.fit.solve.system import stiffness_of
from usual_clay.core.progress import Progress
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.surface import BSplineSurface

# So often each candidate is fitted.
TRIAL_ROUNDS = 3
GROWTH = 1.3
# Less gain than this from a step of growth, near the noise, and more points only copy noise.
LEAST_GAIN = 0.02


class Trials:
    """The candidates tried so far, each started from where the nearest of them came to rest."""

    def __init__(
        self,
        sample: Sample,
        settings: CastSettings,
        tolerance: Tolerance,
        found: Callable[[Candidate], None],
        progress: Progress,
    ) -> None:
        self.sample, self.settings, self.tolerance = sample, settings, tolerance
        self.found, self.progress = found, progress
        least = fewest_of(settings.degree)
        self.base: Parameterization = parameterize(sample, settings.sized(least, least))
        self.fewest = self.base.fewest(settings.degree)
        self.first = self.base.first(settings.degree)
        self.stiffness = stiffness_of(settings.smoothness, self.base.size)
        self.seen: dict[tuple[int, int], Candidate] = {}
        self.made: dict[tuple[int, int], BSplineSurface] = {}
        self._start = self.base.begun(sample)
        # The most control points that are tried, and only while the points tell so many.
        self.most = np.inf
        self._laid = laid_for_knots(sample, self.base, self.stiffness, self._start)
        self._ends: dict[tuple[int, int], Laid] = {}

    def laid(self, nu: int, nv: int) -> Laid:
        """Return the points where they came to rest on the nearest surface tried."""
        pairs = sorted(self._ends, key=lambda pair: abs(pair[0] - nu) + abs(pair[1] - nv))
        return self._ends[pairs[0]] if pairs else self._laid

    def all_laid(self) -> Laid:
        """Return all of the sample's points, as they lay at first."""
        count = len(self.sample.points)
        return laid_for_knots(self.sample, self.base, self.stiffness, self._start, count)

    def deviation(self, nu: int, nv: int) -> float:
        """Return the deviation at the wanted share, computing it where it is not known."""
        if (nu, nv) not in self.seen:
            space = self.base.start_space(self.settings.sized(nu, nv))
            # The first one starts from parameters that were never corrected.
            rounds = TRIAL_ROUNDS if self.seen else COARSE_ROUNDS
            laid, attempt = self.laid(nu, nv).settled(space, rounds)
            if 1 < attempt.within(self.tolerance.share) / self.tolerance.deviation < HOPELESS:
                laid, attempt = laid.rested(attempt)
            self._ends[nu, nv] = laid
            self.made[nu, nv] = surface_of(self._ends[nu, nv], attempt, self.base)
            self.note(attempt)
        return self.seen[nu, nv].deviation(self.tolerance.share)

    def note(self, attempt: Attempt) -> None:
        """Keep what a search has come to as a candidate."""
        nu, nv = attempt.space.counts
        # Knots of a symmetric surface are settled at the end of a search only.
        surface = attempt.surface if self.base.mirror is None else None
        made = Candidate(nu, nv, attempt.levels, surface)
        known = self.seen.get((nu, nv))
        if known is None or made.deviation(self.tolerance.share) < known.deviation(
            self.tolerance.share
        ):
            self.seen[nu, nv] = made
            self.found(made)
        self.progress(len(self.seen) / (len(self.seen) + 8), f"{nu} × {nv} control points")

    def allows(self, nu: int, nv: int, limit: int) -> bool:
        """Tell whether counts are not too few, nor too many."""
        least_u, least_v = self.fewest
        return nu >= least_u and nv >= least_v and max(nu, nv) <= limit

    def enough_points(self, nu: int, nv: int) -> bool:
        return nu * nv <= min(self.most, len(self._laid.points) / LEAST_POINTS)


def grow(trials: Trials, limit: int) -> tuple[int, int]:
    tolerance = trials.tolerance
    floor = tolerance.noise_floor(trials.sample.noise)
    nu, nv = trials.first
    error = trials.deviation(nu, nv)
    idle = 0
    while error > tolerance.deviation:
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
    return (nu, nv) if error <= tolerance.deviation else best_so_far(trials)


def _even_count(trials: Trials, name: str, limit: int) -> int:
    """Return how many even control points one direction takes, with many in the other."""
    count = trials.first[0 if name == "nu" else 1]
    rich = min(limit, 4 * count)
    last = np.inf
    while count < limit:
        pair = (count, rich) if name == "nu" else (rich, count)
        error = trials.deviation(*pair)
        if error <= trials.tolerance.deviation or error > 0.97 * last:
            break
        last, count = error, _more(count, limit)
    return count


def _more(count: int, limit: int) -> int:
    return min(limit, max(count + 1, round(count * GROWTH)))


def draw_in(trials: Trials, best: tuple[int, int], limit: int) -> tuple[int, int]:
    """Take control points out again while the tolerance holds."""
    tolerance, calm = trials.tolerance.deviation, Calm.of(trials.made[best], trials.base)

    def holds(nu: int, nv: int) -> bool:
        if not trials.allows(nu, nv, limit) or trials.deviation(nu, nv) > tolerance:
            return False
        return calm.allows(trials.made[nu, nv], trials.base)

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
        moves = (
            (nu - 1, nv),
            (nu, nv - 1),
            (nu - 2, nv + 1),
            (nu + 1, nv - 2),
            (nu + 1, nv - 1),
            (nu - 1, nv + 1),
        )
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


def best_so_far(trials: Trials) -> tuple[int, int]:
    """Return the leanest candidate within tolerance, or the leanest of the nearest to it."""
    share, tolerance = trials.tolerance.share, trials.tolerance.deviation
    known = [(c.total, c.deviation(share), pair) for pair, c in trials.seen.items()]
    met = [entry for entry in known if entry[1] <= tolerance]
    if met:
        return min(met)[2]
    least = min(deviation for _, deviation, _ in known)
    return min(entry for entry in known if entry[1] <= 1.02 * least)[2]


def knot_search(trials: Trials, limit: int) -> KnotSearch:
    """Return a search that stands at the coarsest surface."""
    settings, base = trials.settings, trials.base
    total = int(len(trials.laid(0, 0).points) / LEAST_POINTS)
    # Even in one direction: as many there as it takes, found before.
    counts = [
        first if settings.is_adaptive(direction) else _even_count(trials, name, limit)
        for direction, name, first in zip("uv", ("nu", "nv"), trials.first, strict=True)
    ]
    space = base.start_space(settings.sized(counts[0], counts[1]))
    ends = [
        max(count, min(limit, total // across)) if settings.is_adaptive(direction) else count
        for direction, count, across in zip("uv", counts, counts[::-1], strict=True)
    ]
    laid = trials.laid(*counts)
    return KnotSearch(
        laid, space, base, settings, trials.tolerance, (ends[0], ends[1]), trials.note,
        denser=trials.all_laid,
    )  # fmt: skip
