"""Four-corner patches in a session: their borders, the surface inside, joints to neighbours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from usual_clay.bench.edits.curves import drawn_curve
from usual_clay.bench.edits.drapes import blank_surface
from usual_clay.bench.session import Session, sentence
from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.fit.meet import Grade, edge_strays
from usual_clay.core.fit.patch import PatchSettings
from usual_clay.core.fit.system import FitError
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.job.items import Curve, ItemId, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipes import Recipe

# Two corners at the ends of a curve, to so many mm, mean that curve.
ON_END = 1e-6


def legs_of(places: Floats, corners: Sequence[int]) -> list[Floats]:
    """Return the places of each border, from corner to corner, the last back to the first."""
    ends = [*corners, len(places)]
    ring = np.concatenate([places, places[:1]])
    return [ring[a : b + 1] for a, b in pairwise(ends)]


def bordered(job: Job, scan: Scan, legs: Sequence[Floats]) -> tuple[Job, list[Curve]]:
    """Return a job with a curve on the scan for each leg; one that is there already is taken.

    Raises
    ------
    SplineError
    """
    borders = []
    for leg in legs:
        known = _between(job, leg) if len(leg) == 2 else None
        if known is None:
            settings = DrawnSettings("through", as_places(leg), within=job.aim.tolerance)
            known = drawn_curve(job, settings, "Border 1", scan)
            job = job.with_item(known)
        borders.append(known)
    return job, borders


def _between(job: Job, leg: Floats) -> Curve | None:
    """Return the curve that runs from one corner to the other already."""
    for curve in job.all(Curve):
        ends = curve.geometry.points[[0, -1]]
        if min(float(np.abs(e - leg).max()) for e in (ends, ends[::-1])) < ON_END:
            return curve
    return None


def new_patch(job: Job, scan: Scan, borders: Sequence[Curve], closing: float) -> Surface:
    """Return a patch that is not yet made, nor in the job; gaps up to `closing` mm are closed."""
    settings = PatchSettings(closing=closing)
    recipe = Recipe("patch", (scan.id, *(curve.id for curve in borders)), settings)
    return blank_surface(job, job.free_name("Patch 1"), recipe)


def neighbour_at(job: Job, surface: Surface, side: int) -> Surface | None:
    """Return another surface with a patch's border as its edge, that does not follow from it."""
    assert surface.recipe is not None
    border = job.get(surface.recipe.sources[1 + side], Curve)
    if border is None:
        return None
    follows = downstream(job, surface.id)
    for other in job.all(Surface):
        free = other.id not in follows and other.geometry.weights is None
        if free and edge_strays(other.geometry, border.geometry) is not None:
            return other
    return None


def downstream(job: Job, item_id: ItemId) -> set[ItemId]:
    """Return an item and all that is made from it, near or far."""
    found, going = {item_id}, [item_id]
    while going:
        fresh = [item.id for item in job.followers(going.pop()) if item.id not in found]
        found.update(fresh)
        going += fresh
    return found


def set_joint(session: Session, surface: Surface, side: int, grade: Grade) -> None:
    """Let a patch go on from its neighbour at a border; with G0 it only shares the border."""
    recipe = surface.recipe
    if recipe is None or not session.may_change(surface):
        return
    settings: PatchSettings = recipe.settings
    joints, besides = list(settings.joints), list(settings.beside)
    neighbours = [recipe.sources[5 + k] if k >= 0 else "" for k in besides]
    if grade == "G0":
        neighbours[side] = ""
    else:
        other = neighbour_at(session.job, surface, side)
        if other is None:
            name = session.job.items[recipe.sources[1 + side]].name
            session.told.emit("trouble", f"No other surface has {name} as its edge: make one there"
                              " first, or take that surface's edge as the border.")  # fmt: skip
            session.job_changed.emit()
            return
        neighbours[side] = other.id
    joints[side] = grade
    others = list(dict.fromkeys(name for name in neighbours if name))
    beside = tuple(others.index(name) if name else -1 for name in neighbours)
    changed = replace(settings, joints=tuple(joints), beside=beside)  # type: ignore[arg-type]
    whole = replace(recipe, sources=(*recipe.sources[:5], *others), settings=changed)
    session.search_words.pop(surface.id, None)
    session.change(surface, f"{grade} joint of {surface.name}", recipe=whole, candidates=())


def add_patch(session: Session, job: Job, surface: Surface, words: str) -> None:
    """Keep a patch with its borders."""
    try:
        session.commit(job.with_item(surface), words)
    except FitError as error:
        session.told.emit("trouble", sentence(error))
        return
    session.fresh = surface.id
    session.choose(surface.id)
