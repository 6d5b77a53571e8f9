"""Casting in a session: a first cast, its settings, and the search for the leanest one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.session import Session, sentence
from usual_clay.core.fit.cast import Cast
from usual_clay.core.fit.parameterize.region import CastSettings, Sizes
from usual_clay.core.fit.patch.budget import patch_to_tolerance
from usual_clay.core.fit.search.budget import Search, to_tolerance
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.progress import Progress
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.items import Followed, PointList, Region, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipes import Made, Recipe, beside
from usual_clay.job.remake import basis_of, remake, with_cast


def blank_surface(job: Job, name: str, recipe: Recipe) -> Surface:
    """Return a surface without a shape yet: it is added to the job with its first one."""
    blank = BSplineSurface(even_knots(2, 1), even_knots(2, 1), np.zeros((2, 2, 3)))
    return Surface(id=job.new_id("surface"), name=name, geometry=blank, recipe=recipe)


def start_cast(session: Session, region: Region | PointList, settings: CastSettings) -> None:
    """Add a surface over a region; its first shape comes as soon as it is computed."""
    name = session.job.free_name(f"{region.name} cast")
    surface = blank_surface(session.job, name, Recipe("cast", (region.id,), settings))
    basis, sample = basis_of(session.job, surface), session.making.sample(region)
    assert basis is not None

    def task(progress: Progress, _partial: object) -> tuple[Followed, Made]:
        return remake(surface, basis, [sample], None, progress)

    def done(result: tuple[Followed, Made]) -> None:
        made, made_cast = result
        assert isinstance(made_cast, Cast)
        if region.id in session.job.items and made.id not in session.job.items:
            session.making.remember(made.id, sample, settings, made_cast)
            session.commit(session.job.with_item(made), f"cast {region.name}")
            session.fresh = made.id
            session.choose(made.id)

    session.work.start(
        "cast",
        f"Casting {region.name}",
        task,
        done,
        failed=lambda error: session.fail(region.id, error),
    )


def set_cast(session: Session, surface: Surface, settings: Sizes, words: str) -> None:
    """Change a cast's or a patch's settings and fit it anew, live."""
    assert surface.recipe is not None
    old = surface.recipe.settings
    if settings == old or not session.may_change(surface):
        return
    # What was computed with other settings is no candidate any more.
    keeps = settings.sized(old.nu, old.nv) == old
    session.search_words.pop(surface.id, None)
    session.set_recipe(surface, settings, words, candidates=surface.candidates if keeps else ())


def search(session: Session, surface: Surface) -> None:
    """Look for the fewest control points within tolerance."""
    region = session.measured(surface)
    if surface.recipe is None:
        session.told.emit(
            "trouble",
            f"{surface.name} is shaped by hand: what it is fitted by is"
            " given up. Slim it, or cast its region again.",
        )
        return
    if region is None or surface.locked:
        reason = "its region is gone" if region is None else "it is locked"
        session.told.emit("trouble", f"{surface.name} cannot be fitted: {reason}")
        return
    recipe, tolerance = surface.recipe, session.job.tolerance
    settings: Any = recipe.settings
    sample = session.making.sample(region)
    sources = session.making.sources_of(recipe.sources)
    session.found = []

    def task(progress: Progress, partial: Callable[[Any], None]) -> Search:
        if recipe.kind == "patch":
            mesh, *others = sources
            neighbours = beside(settings, others[4:])
            return patch_to_tolerance(
                mesh, others[:4], neighbours, settings, tolerance, progress=progress, found=partial
            )
        return to_tolerance(sample, settings, tolerance, progress=progress, found=partial)

    def partial(candidate: Candidate) -> None:
        pair = (candidate.nu, candidate.nv)
        session.found = [c for c in session.found if (c.nu, c.nv) != pair]
        session.found.append(candidate)
        session.searching.emit()

    def done(found: Search) -> None:
        session.found = []
        now = session.job.get(surface.id, Surface)
        if now is None or now.recipe != recipe:
            return
        changed = replace(
            now, recipe=replace(recipe, settings=found.settings), candidates=found.candidates
        )
        if isinstance(found.settings, CastSettings):
            session.making.remember(surface.id, sample, found.settings, found.cast)
        # What its conditions cost is said with it.
        session.search_words[surface.id] = " ".join(
            filter(None, (found.words, sentence(found.cast.words)))
        )
        made = with_cast(changed, found.cast, basis_of(session.job, changed))
        session.commit(session.job.with_item(made), "to tolerance")
        session.told.emit("news", found.words)

    session.work.start(
        f"search {surface.id}",
        "To tolerance:",
        task,
        done,
        partial,
        failed=lambda error: session.fail(surface.id, error),
    )
