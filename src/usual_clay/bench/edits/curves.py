"""Edits of whole curves that the interface can make in a session."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.session import Session, sentence
from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.check.live import LiveDistance, live_distance
from usual_clay.core.fit.curve.holds import ClashError, Hold, HoldSettings, apply_holds
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings, parts_of
from usual_clay.core.fit.curve.trace import Traced, trace
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.progress import Progress
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.job.items import Curve, ItemId, PointList, Scan
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS, CurveMade, Recipe
from usual_clay.job.remake import basis_of

# An end no farther from a mirror plane than this, mm, is meant to lie on it.
ON_PLANE = 0.2
# More than so many radians from square it is meant as a corner.
CORNER = 0.35


def new_curve(job: Job, geometry: BSplineCurve, name: str, recipe: Recipe | None) -> Curve:
    """Return a curve that is not yet in the job."""
    curve = Curve(
        id=job.new_id("curve"), name=job.free_name(name), geometry=geometry, recipe=recipe
    )
    return replace(curve, made_of=basis_of(job, curve))


def drawn_curve(job: Job, settings: DrawnSettings, name: str, scan: Scan | None = None) -> Curve:
    """Return a curve drawn by its points, on a scan or free, not yet in the job.

    Raises
    ------
    SplineError
    """
    sources = [] if scan is None else [scan]
    made = KINDS["drawn"].make(settings, [each.mesh for each in sources])
    assert isinstance(made, CurveMade)
    recipe = Recipe("drawn", tuple(each.id for each in sources), settings)
    return new_curve(job, made.curve, name, recipe)


def add_twin(session: Session, curve: Curve) -> None:
    """Add a mirrored copy in y = 0 that follows its original.

    Where a curve that is shaped by hand ends on the plane, and nearly square to it, that end is
    kept square from now on, so that curve and twin meet smoothly.
    """
    settings = TwinSettings()
    job = session.job
    held = [end for end in (0, 1) if _meets_plane(curve, end, settings)]
    if held and not curve.locked and may_hold(curve):
        across = [Hold("across", float(end), axis="y", value=settings.at) for end in held]
        try:
            job = job.with_item(related(job, curve, across, ()))
        except ClashError:
            held = []
    else:
        held = []
    source = job.get(curve.id, Curve)
    assert source is not None
    made = KINDS["twin"].make(settings, [source.geometry])
    assert isinstance(made, CurveMade)
    recipe = Recipe("twin", (curve.id,), settings)
    fresh = new_curve(job, made.curve, f"{curve.name} twin", recipe)
    session.commit(job.with_item(fresh), f"twin of {curve.name}")
    session.choose(fresh.id)
    if held:
        where = " and ".join(("start", "end")[end] for end in held)
        session.told.emit(
            "news",
            f"{curve.name} is kept square to the mirror plane at its {where},"
            " so that both meet smoothly. Holds can take that back.",
        )


def _meets_plane(curve: Curve, end: int, plane: TwinSettings) -> bool:
    axis = "xyz".index(plane.axis)
    place, ahead = curve_derivatives(curve.geometry, [float(end)], 1)[:, 0]
    square = abs(float(ahead[axis])) / max(float(np.linalg.norm(ahead)), 1e-12)
    return abs(float(place[axis]) - plane.at) < ON_PLANE and square > np.cos(CORNER)


# ---- shaping by hand -------------------------------------------------------------------------


def may_hold(curve: Curve) -> bool:
    """Tell whether a curve is shaped by its control points, so that it can hold holds."""
    recipe = curve.recipe
    if recipe is None or recipe.kind == "related":
        return True
    return recipe.kind == "drawn" and recipe.settings.kind == "controls"


def holds_of(curve: Curve) -> tuple[Hold, ...]:
    """Return the holds that a curve holds."""
    recipe = curve.recipe
    return recipe.settings.holds if recipe is not None and recipe.kind == "related" else ()


def related(
    job: Job, curve: Curve, more: list[Hold], others: tuple[ItemId, ...], drop: int = -1
) -> Curve:
    """Return a curve with further holds; `others` are the neighbours that these name.

    A hold's neighbour is told by its place among `others`. With `drop`, one of those that
    there were is taken away.

    Raises
    ------
    ClashError
    """
    recipe = curve.recipe
    had = list(holds_of(curve))
    ids = list(recipe.sources) if recipe is not None and recipe.kind == "related" else []
    if 0 <= drop < len(had):
        had.pop(drop)
    for hold in more:
        if hold.other >= 0:
            neighbour = others[hold.other]
            if neighbour not in ids:
                ids.append(neighbour)
            hold = replace(hold, other=ids.index(neighbour))
        had.append(hold)
    kept = sorted({r.other for r in had if r.other >= 0})
    had = [replace(r, other=kept.index(r.other)) if r.other >= 0 else r for r in had]
    ids = [ids[k] for k in kept]
    if not had:
        return replace(curve, recipe=None, made_of=None)
    settings = replace(_settings_of(curve.geometry), holds=tuple(had))
    return _held(job, curve, Recipe("related", tuple(ids), settings))


def _settings_of(geometry: BSplineCurve) -> HoldSettings:
    weights = () if geometry.weights is None else tuple(map(float, geometry.weights))
    return HoldSettings(as_places(geometry.points), tuple(map(float, geometry.knots)), weights)


def _held(job: Job, curve: Curve, recipe: Recipe) -> Curve:
    others = [job.items[i].geometry for i in recipe.sources if i in job.items]  # type: ignore[attr-defined]
    if len(others) < len(recipe.sources):
        return replace(curve, geometry=recipe.settings.asked, recipe=recipe, made_of=None)
    geometry = apply_holds(recipe.settings.asked, recipe.settings.holds, others)
    made = replace(curve, geometry=geometry, recipe=recipe, candidates=(), made_of=None)
    return replace(made, made_of=basis_of(job, made))


def reshaped(
    job: Job, curve: Curve, geometry: BSplineCurve, live: LiveDistance | None = None
) -> Curve:
    """Return a curve with a geometry made by hand; it holds its holds and follows no run more.

    A drawn curve of control points stays drawn. What it was fitted to still judges it; while a
    hand drags, `live` tells how far its points lay before.
    """
    recipe = curve.recipe
    if recipe is not None and recipe.kind == "spline":
        curve = replace(curve, watches=recipe.sources[0], watched=recipe.settings)
    drawn = recipe is not None and recipe.kind == "drawn" and recipe.settings.kind == "controls"
    made = replace(curve, geometry=geometry, recipe=None, made_of=None, candidates=())
    if recipe is not None and recipe.kind == "related":
        settings = replace(_settings_of(geometry), holds=recipe.settings.holds)
        made = _held(job, made, replace(recipe, settings=settings))
    elif drawn and recipe is not None and len(geometry.points) == len(recipe.settings.points):
        places = _settings_of(geometry).points
        recipe = replace(recipe, settings=replace(recipe.settings, points=places))
        made = replace(made, recipe=recipe)
        made = replace(made, made_of=basis_of(job, made))
    if live is not None:
        return replace(made, signed=live.follow(made.geometry).distance)
    points = judging_points(job, made)
    signed = None if points is None else live_distance(made.geometry, points).distance
    return replace(made, signed=signed)


def judging_points(job: Job, curve: Curve) -> Floats | None:
    """Return the points that judge a curve: those of its run, or of its part of it."""
    recipe = curve.recipe
    fits = recipe is not None and recipe.kind == "spline"
    run = job.get(recipe.sources[0] if fits else curve.watches, PointList)  # type: ignore[union-attr]
    if run is None:
        return None
    settings: TraceSettings | None = recipe.settings if fits else curve.watched  # type: ignore[union-attr]
    whole = PointSequence(run.points[run.kept], run.closed)
    if settings is None:
        return whole.points
    parts = parts_of(whole, settings.corners, settings.cuts)
    return parts[min(settings.part, len(parts) - 1)].points


def live_of(job: Job, curve: Curve) -> LiveDistance | None:
    """Return the distances of what judges a curve, for the drag that begins."""
    points = judging_points(job, curve)
    return None if points is None else live_distance(curve.geometry, points)


def reshape(session: Session, curve: Curve, geometry: BSplineCurve, words: str) -> None:
    """Put a geometry made by hand into a curve."""
    if session.may_change(curve):
        try:
            session.commit(session.job.with_item(reshaped(session.job, curve, geometry)), words)
        except SplineError as error:
            session.told.emit("trouble", sentence(error))


def add_hold(session: Session, curve: Curve, hold: Hold, other: ItemId | None) -> str:
    """Add a hold to a curve; return why it cannot be, or nothing."""
    others = () if other is None else (other,)
    try:
        made = related(session.job, curve, [hold], others)
    except SplineError as error:
        return sentence(error)
    if session.may_change(curve):
        session.commit(session.job.with_item(made), f"hold of {curve.name}")
    return ""


def let_go(session: Session, curve: Curve, index: int) -> None:
    """Take a hold away; the curve stays as it is."""
    if session.may_change(curve):
        made = related(session.job, curve, [], (), drop=index)
        session.commit(session.job.with_item(made), f"hold of {curve.name}")


# ---- fitting ---------------------------------------------------------------------------------


def search_curve(session: Session, curve: Curve) -> None:
    """Look for the fewest control points within tolerance."""
    recipe = curve.recipe
    run = session.job.get(recipe.sources[0], PointList) if recipe is not None else None
    if recipe is None or recipe.kind != "spline" or run is None or not session.may_change(curve):
        session.told.emit("trouble", f"{curve.name} follows no run of points.")
        return
    tolerance, source = session.job.tolerance, PointSequence(run.points[run.kept], run.closed)
    session.found = []

    def task(progress: Progress, partial: Callable[[Any], None]) -> Traced:
        return trace(source, recipe.settings, tolerance, progress=progress, found=partial)

    def partial(candidate: Candidate) -> None:
        session.found = [c for c in session.found if c.nu != candidate.nu] + [candidate]
        session.searching.emit()

    def done(found: Traced) -> None:
        session.found = []
        now = session.job.get(curve.id, Curve)
        if now is None or now.recipe != recipe:
            return
        changed = replace(
            now,
            recipe=replace(recipe, settings=found.settings),
            geometry=found.fit.curve,
            signed=found.fit.signed,
            candidates=found.candidates,
        )
        session.search_words[curve.id] = found.words
        made = replace(changed, made_of=basis_of(session.job, changed))
        session.commit(session.job.with_item(made), "to tolerance")
        session.told.emit("news", found.words)

    session.work.start(
        f"search {curve.id}",
        "To tolerance:",
        task,
        done,
        partial,
        failed=lambda error: session.fail(curve.id, error),
    )


def set_run(session: Session, curve: Curve, settings: TraceSettings, words: str) -> None:
    """Change how a spline follows its run; it is fitted anew, live."""
    assert curve.recipe is not None
    old = curve.recipe.settings
    keeps = settings.sized(old.controls) == old
    session.search_words.pop(curve.id, None)
    session.set_recipe(curve, settings, words, candidates=curve.candidates if keeps else ())
