"""To tolerance, for a four-corner patch: the fewest control points that its borders allow."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from usual_clay.core.check.deviation import Tolerance, at_share, distance_levels, judge
from usual_clay.core.fit.cast import Cast, laid_for_knots, settled, surface_of
from usual_clay.core.fit.parameterize.region import Parameterization, with_knots_of
from usual_clay.core.fit.patch.patch import Ground, PatchSettings, finished, lay_out
from usual_clay.core.fit.search.budget import (
    LIMIT,
    SEARCH_POINTS,
    SEARCHING,
    Search,
    in_words,
    stopped,
)
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.front import RICHER, finer
from usual_clay.core.fit.search.knot_search import KnotSearch
from usual_clay.core.fit.search.trials import GROWTH
from usual_clay.core.fit.solve.laid import Attempt
from usual_clay.core.fit.solve.system import stiffness_of
from usual_clay.core.progress import Cancelled, Progress, silent, stretch
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface

Pair = tuple[int, int]


class _Patches:
    """Patches of the sizes tried so far, on a choice of the points."""

    def __init__(
        self,
        ground: Ground,
        settings: PatchSettings,
        tolerance: Tolerance,
        found: Callable[[Candidate], None],
        progress: Progress,
    ) -> None:
        self.settings, self.tolerance, self.found, self.progress = (
            settings,
            tolerance,
            found,
            progress,
        )
        step = max(1, len(ground.sample.points) // SEARCH_POINTS)
        base = ground.base
        self.base: Parameterization = replace(base, u=base.u[::step], v=base.v[::step])
        whole = ground.sample
        self.sample = Sample(whole.points[::step], whole.normals[::step], area=whole.areas[::step])
        assert base.least is not None
        self.fewest = base.least.counts
        self.made: dict[Pair, Cast] = {}
        self.seen: dict[Pair, Candidate] = {}

    def note(self, made: Candidate) -> None:
        """Keep a candidate, and tell of it."""
        pair = (made.nu, made.nv)
        known = self.seen.get(pair)
        if known is None or made.deviation(self.tolerance.share) < known.deviation(
            self.tolerance.share
        ):
            self.seen[pair] = made
            self.found(made)
        self.progress(len(self.seen) / (len(self.seen) + 8), f"{pair[0]} × {pair[1]}")

    def deviation(self, pair: Pair) -> float:
        """Return the deviation at the wanted share of a patch of that size."""
        if pair not in self.made:
            near = min(self.made.values(), key=lambda d: d.surface.points.size, default=None)
            start = None if near is None else near.start
            made = settled(self.sample, self.settings.sized(*pair), self.base, start)
            self.made[pair] = made
            # A symmetric one may have a knot more than asked for.
            levels = distance_levels(made.feet.signed, self.sample.areas)
            self.note(Candidate(*made.surface.counts, levels, made.surface))
        levels = distance_levels(self.made[pair].feet.signed, self.sample.areas)
        return at_share(levels, self.tolerance.share)


def patch_to_tolerance(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
    tolerance: Tolerance,
    limit: int = LIMIT,
    progress: Progress = silent,
    found: Callable[[Candidate], None] | None = None,
) -> Search:
    """Find the fewest control points with which a four-corner patch stays within tolerance.

    Borders and joints stay exact throughout. Adaptive knots are put in one by one and
    taken out again where they are not needed; even ones grow by a third at a time, then single
    rows and columns are added or taken out.

    Raises
    ------
    FitError
        As `patch`. `Cancelled` is not passed on once a patch is made: the best so far is returned.
    """
    ground = lay_out(mesh, curves, neighbours, settings)
    searching, fitting = stretch(progress, 0.0, SEARCHING), stretch(progress, SEARCHING, 1.0)
    aim = tolerance.above(ground.sample.noise)
    tried = _Patches(ground, settings, aim, found or (lambda _: None), searching)
    best = tried.fewest
    search: KnotSearch | None = None
    try:
        error = tried.deviation(best)
        if settings.knots == "even":
            best = _lean(tried, _grow_even(tried, limit) if error > aim.deviation else best)
        elif error > aim.deviation:
            search = _knot_search(tried, limit)
            search.run()
        while True:
            chosen = settings.sized(*best)
            if search is not None:
                surface = surface_of(search.laid, search.attempt, tried.base)
                chosen = with_knots_of(settings, surface)
            made = settled(ground.sample, chosen, ground.base, None, fitting)
            fitted = finished(ground, made)
            report = judge(fitted.feet.signed, aim, fitted.areas)
            if report.met or search is None or not search.goes_on(report.at_share):
                break
    except Cancelled:
        if not tried.made:
            raise
        best = _nearest(tried)
        return stopped(settings.sized(*best), tried.seen, tried.deviation(best), tolerance)
    report = judge(fitted.feet.signed, tolerance, fitted.areas)
    counts = fitted.surface.counts
    tried.seen[counts] = Candidate(*counts, distance_levels(fitted.feet.signed, fitted.areas))
    words = in_words(chosen, report, tolerance, tried.sample.noise, tried.seen)
    return Search(chosen, tuple(tried.seen.values()), words, fitted, report)


def patch_front(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
    tolerance: Tolerance,
    progress: Progress = silent,
    found: Callable[[Candidate], None] | None = None,
) -> tuple[Candidate, ...]:
    """Compute the candidates of a patch from the leanest that its borders allow; see `front`.

    Raises
    ------
    FitError
        As `patch`.
    """
    ground = lay_out(mesh, curves, neighbours, settings)
    tried = _Patches(ground, settings, tolerance, found or (lambda _: None), progress)
    tried.deviation(tried.fewest)
    if settings.knots == "even":
        _lean(tried, _grow_even(tried, LIMIT))
    else:
        search = _knot_search(tried, LIMIT)
        search.run()
        search.go_past(finer(tolerance, tried.sample.noise), RICHER)
    return tuple(tried.seen.values())


def _grow_even(tried: _Patches, limit: int) -> Pair:
    pair = tried.fewest
    while tried.deviation(pair) > tried.tolerance.deviation:
        nu, nv = pair
        steps = [
            step
            for step in ((round(nu * GROWTH) + 1, nv), (nu, round(nv * GROWTH) + 1))
            if max(step) <= limit and step[0] * step[1] < len(tried.sample.points) / 2
        ]
        if not steps:
            break
        old = tried.deviation(pair)
        best = max(
            steps,
            key=lambda s: np.log(old / tried.deviation(s)) / np.log(s[0] * s[1] / (nu * nv)),
        )
        if tried.deviation(best) > 0.98 * old:
            break
        pair = best
    return pair if tried.deviation(pair) <= tried.tolerance.deviation else _nearest(tried)


def _knot_search(tried: _Patches, limit: int) -> KnotSearch:
    """Return a search that stands at the surface with just the knots that the borders need."""
    base, settings = tried.base, tried.settings
    assert base.least is not None
    first = tried.made[tried.fewest]
    stiffness = stiffness_of(settings.smoothness, base.size)
    laid = laid_for_knots(tried.sample, base, stiffness, first.start)
    ends = [
        limit if settings.is_adaptive(direction) else fewest
        for direction, fewest in zip("uv", tried.fewest, strict=True)
    ]

    def noted(attempt: Attempt) -> None:
        tried.note(Candidate(*attempt.space.counts, attempt.levels))

    return KnotSearch(laid, base.least, base, settings, tried.tolerance, (ends[0], ends[1]), noted)


def _lean(tried: _Patches, best: Pair) -> Pair:
    """Take rows and columns out again while the tolerance holds."""
    tolerance = tried.tolerance.deviation
    while tried.deviation(best) <= tolerance:
        nu, nv = best
        steps = ((nu, nv - 1), (nu - 1, nv), (nu - 1, nv + 1), (nu + 1, nv - 1))
        leaner = [
            pair
            for pair in steps
            if pair[0] * pair[1] < nu * nv
            and all(n >= least for n, least in zip(pair, tried.fewest, strict=True))
        ]
        found = next((pair for pair in leaner if tried.deviation(pair) <= tolerance), None)
        if found is None:
            break
        best = found
    return best


def _nearest(tried: _Patches) -> Pair:
    """Return the leanest patch within tolerance, or the leanest of those that come nearest."""
    tolerance = tried.tolerance.deviation
    errors = {pair: tried.deviation(pair) for pair in tried.made}
    least = max(tolerance, 1.02 * min(errors.values()))
    return min((p for p in errors if errors[p] <= least), key=lambda p: p[0] * p[1])
