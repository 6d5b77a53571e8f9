"""How the leanest fit of each kind that has control points to spare is searched for and judged."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.guide import Spend
from usual_clay.core.check.deviation import Tolerance, distance_levels
from usual_clay.core.errors import FitError, sentence
from usual_clay.core.fit.cast import with_images
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.curve.trace import LIMIT as MOST_OF_A_CURVE
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.budget import patch_front, patch_to_tolerance
from usual_clay.core.fit.patch.patch import PatchSettings, lay_out
from usual_clay.core.fit.price import price_of_cast, price_of_patch
from usual_clay.core.fit.search.budget import LIMIT, Search, to_tolerance
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.fairness import Fairness, fairness_of
from usual_clay.core.fit.search.front import front
from usual_clay.core.progress import Progress, stretch
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.made import Given, SurfaceMade


@dataclass(frozen=True, eq=False)
class Outcome:
    """What a search came to.

    Attributes
    ----------
    settings : dataclass
        What is made by them is what was found.
    candidates : tuple of Candidate
    words : str
    made : object
        What is made by the settings; None where the search was stopped before.
    """

    settings: Any
    candidates: tuple[Candidate, ...]
    words: str
    made: Any


Noted = Callable[[Candidate], None]


@dataclass(frozen=True)
class Searching:
    """What a kind of recipe offers besides being made.

    Attributes
    ----------
    to_tolerance : callable
        ``to_tolerance(settings, given, tolerance, limit, progress, found)`` gives an `Outcome`.
    limit : int
        The most control points of a direction, unless another limit is asked for.
    front : callable or None
        ``front(settings, given, tolerance, progress, found)``, told candidate by candidate.
    fairness : callable or None
        ``fairness(settings, given, surface, signed, tolerance)``.
    price : callable or None
        ``price(settings, given, surface, signed, progress)`` says what its conditions cost.
    """

    to_tolerance: Callable[[Any, Given, Tolerance, int, Progress, Noted], Outcome]
    limit: int
    front: Callable[[Any, Given, Tolerance, Progress, Noted], object] | None = None
    fairness: Callable[[Any, Given, BSplineSurface, Floats, Tolerance], Fairness] | None = None
    price: Callable[[Any, Given, BSplineSurface, Floats, Progress], str] | None = None


def beside(settings: PatchSettings, given: Given) -> list[BSplineSurface | None]:
    """Return for each border of a patch the surface on its other side."""
    surfaces = given.all("beside")
    return [surfaces[k] if 0 <= k < len(surfaces) else None for k in settings.beside]


def _outcome(found: Search) -> Outcome:
    remarks = "" if found.cast is None else found.cast.words
    words = f"{found.words} {sentence(remarks)}" if remarks else found.words
    return Outcome(found.settings, found.candidates, words, found.cast)


def _search_cast(
    settings: CastSettings,
    given: Given,
    tolerance: Tolerance,
    limit: int,
    progress: Progress,
    found: Noted,
) -> Outcome:
    return _outcome(
        to_tolerance(given.one("measured"), settings, tolerance, limit, progress, found)
    )


def _front_of_cast(
    settings: CastSettings, given: Given, tolerance: Tolerance, progress: Progress, found: Noted
) -> object:
    return front(given.one("measured"), settings, tolerance, progress=progress, found=found)


def _fairness_of_cast(
    settings: CastSettings,
    given: Given,
    surface: BSplineSurface,
    signed: Floats,
    tolerance: Tolerance,
) -> Fairness:
    sample = given.one("measured")
    base = parameterize(with_images(sample, settings), settings)
    return fairness_of(sample, base, settings, surface, signed, tolerance)


def _search_patch(
    settings: PatchSettings,
    given: Given,
    tolerance: Tolerance,
    limit: int,
    progress: Progress,
    found: Noted,
) -> Outcome:
    mesh, borders = given.one("scan"), given.all("borders")
    near = beside(settings, given)
    return _outcome(
        patch_to_tolerance(mesh, borders, near, settings, tolerance, limit, progress, found)
    )


def _front_of_patch(
    settings: PatchSettings, given: Given, tolerance: Tolerance, progress: Progress, found: Noted
) -> object:
    mesh, borders = given.one("scan"), given.all("borders")
    return patch_front(mesh, borders, beside(settings, given), settings, tolerance, progress, found)


def _fairness_of_patch(
    settings: PatchSettings,
    given: Given,
    surface: BSplineSurface,
    signed: Floats,
    tolerance: Tolerance,
) -> Fairness:
    ground = lay_out(given.one("scan"), given.all("borders"), beside(settings, given), settings)
    return fairness_of(ground.sample, ground.base, settings, surface, signed, tolerance)


def _search_spline(
    settings: TraceSettings,
    given: Given,
    tolerance: Tolerance,
    limit: int,
    progress: Progress,
    found: Noted,
) -> Outcome:
    made = trace(given.one("points"), settings, tolerance, limit, progress, found)
    return Outcome(made.settings, made.candidates, made.words, made.fit)


def _price_of_cast(
    settings: CastSettings,
    given: Given,
    _surface: BSplineSurface,
    signed: Floats,
    progress: Progress,
) -> str:
    return price_of_cast(given.one("measured"), settings, signed, progress)


def _price_of_patch(
    settings: PatchSettings,
    given: Given,
    surface: BSplineSurface,
    _signed: Floats,
    progress: Progress,
) -> str:
    mesh, borders = given.one("scan"), given.all("borders")
    return price_of_patch(mesh, borders, beside(settings, given), settings, surface, progress)


# What a front asks for, as shares of the tolerance.
DISTANCES = (4.0, 2.0, 1.4, 1.0, 0.6, 0.35)


def built_search(make: Callable[[Any, Given, Progress, Any], SurfaceMade]) -> Searching:
    """Return how a surface from curves is searched for: it is lean for each distance asked for."""

    def tried(
        settings: Spend, given: Given, distance: float, progress: Progress
    ) -> tuple[Spend, SurfaceMade, Candidate]:
        wanted = replace(settings, nu=0, nv=0, within=distance)
        made = make(wanted, given, progress, None)
        sample = given.maybe("near")
        areas = None
        if made.signed is None:
            if not made.away:
                raise FitError(
                    "no curve lies on it to judge it by: set on its card within what it is made"
                )
            signed = np.concatenate([*made.away.values()])
        else:
            signed = made.signed
            areas = sample.areas if made.inside is None else sample.areas[made.inside]
        levels = distance_levels(signed, areas)
        return wanted, made, Candidate(*made.surface.counts, levels, within=distance)

    def search(
        settings: Spend, given: Given, tolerance: Tolerance, _limit: int, progress: Progress,
        found: Noted,
    ) -> Outcome:  # fmt: skip
        wanted, made, mine = tried(settings, given, tolerance.deviation, progress)
        found(mine)
        nu, nv = made.surface.counts
        words = f"{nu} × {nv} = {nu * nv} control points bring its curves within tolerance."
        return Outcome(wanted, (mine,), (made.words and f"{words} {sentence(made.words)}") or words,
                       made)  # fmt: skip

    def look_round(
        settings: Spend, given: Given, tolerance: Tolerance, progress: Progress, found: Noted
    ) -> object:
        for k, share in enumerate(DISTANCES):
            part = stretch(progress, k / len(DISTANCES), (k + 1) / len(DISTANCES))
            found(tried(settings, given, share * tolerance.deviation, part)[2])
        return None

    return Searching(search, 0, look_round)


CAST_SEARCH = Searching(_search_cast, LIMIT, _front_of_cast, _fairness_of_cast, _price_of_cast)
PATCH_SEARCH = Searching(_search_patch, LIMIT, _front_of_patch, _fairness_of_patch, _price_of_patch)
SPLINE_SEARCH = Searching(_search_spline, MOST_OF_A_CURVE)
