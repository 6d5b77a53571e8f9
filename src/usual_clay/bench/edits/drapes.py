"""Draping in a session: a first drape, its settings, and the search for the leanest one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, cast

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.fit.budget import Candidate, Search, to_tolerance
from usual_clay.core.fit.drape import Drape, DrapeSettings
from usual_clay.core.progress import Progress
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.items import Followed, PointList, Region, Surface
from usual_clay.job.recipes import Made, Recipe
from usual_clay.job.remake import basis_of, remake, with_drape


def start_drape(session: Session, region: Region | PointList, settings: DrapeSettings) -> None:
    """Add a surface over a region; its first shape comes as soon as it is computed."""
    # A place holder that no one sees: the item is added with its first real shape.
    blank = BSplineSurface(even_knots(2, 1), even_knots(2, 1), np.zeros((2, 2, 3)))
    surface = Surface(
        id=session.job.new_id("surface"),
        name=session.job.free_name(f"{region.name} drape"),
        geometry=blank,
        recipe=Recipe("drape", (region.id,), settings),
    )
    basis, sample = basis_of(session.job, surface), session.making.sample(region)
    assert basis is not None

    def task(progress: Progress, _partial: object) -> tuple[Followed, Made]:
        return remake(surface, basis, [sample], None, progress)

    def done(result: tuple[Followed, Made]) -> None:
        made, drape = result
        if region.id in session.job.items and made.id not in session.job.items:
            session.making.remember(made.id, sample, settings, cast(Drape, drape))
            session.commit(session.job.with_item(made), f"drape {region.name}")
            session.fresh = made.id
            session.choose(made.id)

    session.work.start(
        "drape", f"Draping {region.name}", task, done,
        failed=lambda error: session.fail(region.id, error),
    )  # fmt: skip


def set_drape(session: Session, surface: Surface, settings: DrapeSettings, words: str) -> None:
    """Change a drape's settings and fit it anew, live."""
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
    assert surface.recipe is not None
    region = session.measured(surface)
    if region is None or surface.locked:
        reason = "its region is gone" if region is None else "it is locked"
        session.told.emit("trouble", f"{surface.name} cannot be fitted: {reason}")
        return
    recipe, aim = surface.recipe, session.job.aim
    sample = session.making.sample(region)
    session.found = []

    def task(progress: Progress, partial: Callable[[Any], None]) -> Search:
        return to_tolerance(sample, recipe.settings, aim, progress=progress, found=partial)

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
        session.making.remember(surface.id, sample, settings, found.drape)
        session.search_words[surface.id] = found.words
        made = with_drape(changed, found.drape, basis_of(session.job, changed))
        session.commit(session.job.with_item(made), "to tolerance")
        session.told.emit("news", found.words)

    session.work.start(
        f"search {surface.id}", "To tolerance:", task, done, partial,
        failed=lambda error: session.fail(surface.id, error),
    )  # fmt: skip
