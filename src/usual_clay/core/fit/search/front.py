"""The front of a region: the fewest control points for each deviation, without a last fit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from usual_clay.core.check.deviation import AT_NOISE, Tolerance
from usual_clay.core.fit.cast import with_images
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.budget import LIMIT, SEARCH_POINTS
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.trials import Trials, draw_in, grow, knot_search
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.sample import Sample

# The front goes on past the tolerance to this share of it, or to the noise.
FINER = 0.5
# So many times the control points that the tolerance takes are the most that it looks at.
RICHER = 3.0


def finer(tolerance: Tolerance, noise: float) -> Tolerance:
    """Return how far a front goes on past a tolerance: to a share of it, or to the noise."""
    least = max(FINER * tolerance.deviation, AT_NOISE * tolerance.noise_floor(noise))
    return replace(tolerance, deviation=min(least, tolerance.deviation))


def front(
    sample: Sample,
    settings: CastSettings,
    tolerance: Tolerance,
    limit: int = LIMIT,
    progress: Progress = silent,
    found: Callable[[Candidate], None] | None = None,
) -> tuple[Candidate, ...]:
    """Compute candidates from the coarsest surface on, round the tolerance, and some way past it.

    All of it on a choice of the points, with each candidate's points at rest.

    Parameters
    ----------
    found : callable, optional
        Told of each candidate as it is computed, from the computing thread.

    Raises
    ------
    FitError, FoldsOverError
        When the region cannot be cast at all.
    Cancelled
        From `progress`.
    """
    part = with_images(sample.part(SEARCH_POINTS), settings)
    tolerance = tolerance.above(part.noise)
    trials = Trials(part, settings, tolerance, found or (lambda _: None), progress)
    past = finer(tolerance, part.noise)
    if settings.knots == "even":
        best = grow(trials, limit)
        if trials.deviation(*best) <= tolerance.deviation:
            best = draw_in(trials, best, limit)
        trials.tolerance, trials.most = past, RICHER * best[0] * best[1]
        grow(trials, limit)
    else:
        search = knot_search(trials, limit)
        search.run()
        search.go_past(past, RICHER)
    return tuple(trials.seen.values())
