"""Edits of curves that the interface can make in a session."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.fit.budget import Candidate
from usual_clay.core.fit.run import Run, RunSettings
from usual_clay.core.fit.trace import Traced, trace
from usual_clay.core.progress import Progress
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError, greville
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.knots import insert_knot, raise_degree, remove_knot, reverse
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.job.items import Curve, ItemId, PointList
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS, CurveMade, Recipe
from usual_clay.job.remake import basis_of


def drawn_curve(job: Job, settings: DrawnSettings, name: str) -> Curve:
    """Return a curve drawn by its points, not yet in the job.

    Raises
    ------
    SplineError
    """
    curve = Curve(
        id=job.new_id("curve"),
        name=job.free_name(name),
        geometry=make_curve(settings),
        recipe=Recipe("drawn", (), settings),
    )
    return replace(curve, made_of=basis_of(job, curve))


def add_following(
    session: Session, kind: str, sources: tuple[ItemId, ...], settings: Any, name: str
) -> None:
    """Add a curve that follows others: a twin, a bridge, or a pair in space."""
    job = session.job
    try:
        made = KINDS[kind].make(settings, session.making.sources_of(sources))
    except SplineError as error:
        session.told.emit("trouble", f"{name} was not made: {error}.")
        return
    assert isinstance(made, CurveMade)
    curve = Curve(
        id=job.new_id("curve"), name=job.free_name(name), geometry=made.curve,
        recipe=Recipe(kind, sources, settings),
    )  # fmt: skip
    session.add(replace(curve, made_of=basis_of(job, curve)), name)
    if made.words:
        session.told.emit("news", f"{made.words[:1].upper()}{made.words[1:]}.")


def add_twin(session: Session, curve: Curve) -> None:
    """Add a mirrored copy in y = 0 that follows its original."""
    add_following(session, "twin", (curve.id,), TwinSettings(), f"{curve.name} twin")


def moved_points(job: Job, curve: Curve, which: Ints, by: Floats) -> Curve:
    """Return a curve with control points moved; shaped by hand, it follows nothing any more.

    A drawn curve of control points stays drawn. What it was fitted to still judges it.
    """
    points = curve.geometry.points.copy()
    points[which] += by
    return reshaped(job, curve, replace(curve.geometry, points=points))


def reshaped(job: Job, curve: Curve, geometry: BSplineCurve) -> Curve:
    """Return a curve with a geometry made by hand."""
    recipe = curve.recipe
    watched = curve.watches
    if recipe is not None and recipe.kind == "spline":
        watched = recipe.sources[0]
    keeps = recipe is not None and recipe.kind == "drawn" and recipe.settings.kind == "controls"
    if keeps and recipe is not None and len(geometry.points) == len(recipe.settings.points):
        places = tuple((float(x), float(y), float(z)) for x, y, z in geometry.points)
        recipe = replace(recipe, settings=replace(recipe.settings, points=places))
    else:
        recipe = None
    run = job.get(watched, PointList)
    signed = None
    if run is not None:
        signed = curve_foot_points(geometry, run.points[run.kept])[2]
    made = replace(
        curve, geometry=geometry, recipe=recipe, made_of=None, signed=signed, watches=watched,
        candidates=(),
    )  # fmt: skip
    return made if recipe is None else replace(made, made_of=basis_of(job, made))


def reshape(session: Session, curve: Curve, geometry: BSplineCurve, words: str) -> None:
    """Put a geometry made by hand into a curve."""
    if session.may_change(curve):
        session.commit(session.job.with_item(reshaped(session.job, curve, geometry)), words)


def insert_point(session: Session, curve: Curve, near: int | None) -> None:
    """Insert a control point where legs are longest, or beside a chosen one; the shape stays."""
    geometry = curve.geometry
    knots = geometry.knots
    breaks = np.unique(knots)
    middles = (breaks[:-1] + breaks[1:]) / 2
    if near is None:
        t = float(middles[np.argmax(np.diff(breaks))])
    else:
        site = greville(knots, geometry.degree)[near]
        t = float(middles[np.argmin(np.abs(middles - site))])
    reshape(session, curve, insert_knot(geometry, t), f"insert a point in {curve.name}")


def removal(curve: Curve, near: int | None) -> tuple[BSplineCurve, float] | None:
    """Return a curve with one control point less and what that costs in mm.

    The knot nearest to the chosen point goes, or the one that costs least; None where there is no
    inner knot.
    """
    geometry = curve.geometry
    inner = np.unique(geometry.knots[geometry.degree + 1 : -geometry.degree - 1])
    if not len(inner):
        return None
    if near is not None:
        site = greville(geometry.knots, geometry.degree)[near]
        inner = inner[[int(np.argmin(np.abs(inner - site)))]]
    return min((remove_knot(geometry, float(t)) for t in inner), key=lambda pair: pair[1])


def remove_point(session: Session, curve: Curve, near: int | None) -> None:
    """Remove a control point and say how far that moved the curve."""
    found = removal(curve, near)
    if found is None:
        session.told.emit("trouble", f"{curve.name} has no inner control point to remove.")
        return
    reshape(session, curve, found[0], f"remove a point of {curve.name}")
    session.told.emit("news", f"One control point less moved the curve by up to {found[1]:.4f} mm.")


def raise_curve(session: Session, curve: Curve) -> None:
    """Raise a curve's degree; its shape stays."""
    if curve.geometry.degree >= HIGHEST_DEGREE:
        session.told.emit("trouble", f"The degree is already {HIGHEST_DEGREE}.")
        return
    reshape(session, curve, raise_degree(curve.geometry), f"raise the degree of {curve.name}")


def turn_round(session: Session, curve: Curve) -> None:
    """Let a curve run the other way."""
    reshape(session, curve, reverse(curve.geometry), f"reverse {curve.name}")


def level_points(session: Session, curve: Curve, which: Sequence[int], axis: int) -> None:
    """Give control points the same x, y or z: their mean."""
    points = curve.geometry.points.copy()
    chosen = np.array(which, dtype=np.int64)
    if len(chosen) < 2:
        session.told.emit("trouble", "Choose two control points or more: Shift adds.")
        return
    points[chosen, axis] = points[chosen, axis].mean()
    geometry = replace(curve.geometry, points=points)
    reshape(session, curve, geometry, f"level points of {curve.name}")


def search_curve(session: Session, curve: Curve) -> None:
    """Look for the fewest control points within tolerance."""
    recipe = curve.recipe
    run = session.job.get(recipe.sources[0], PointList) if recipe is not None else None
    if recipe is None or recipe.kind != "spline" or run is None or not session.may_change(curve):
        session.told.emit("trouble", f"{curve.name} follows no run of points.")
        return
    aim, source = session.job.aim, Run(run.points[run.kept], run.closed)
    session.found = []

    def task(progress: Progress, partial: Callable[[Any], None]) -> Traced:
        return trace(source, recipe.settings, aim, progress=progress, found=partial)

    def partial(candidate: Candidate) -> None:
        session.found = [c for c in session.found if c.nu != candidate.nu] + [candidate]
        session.searching.emit()

    def done(found: Traced) -> None:
        session.found = []
        now = session.job.get(curve.id, Curve)
        if now is None or now.recipe != recipe:
            return
        changed = replace(
            now, recipe=replace(recipe, settings=found.settings), geometry=found.fit.curve,
            signed=found.fit.signed, candidates=found.candidates,
        )  # fmt: skip
        session.search_words[curve.id] = found.words
        made = replace(changed, made_of=basis_of(session.job, changed))
        session.commit(session.job.with_item(made), "to tolerance")
        session.told.emit("news", found.words)

    session.work.start(
        f"search {curve.id}", "To tolerance:", task, done, partial,
        failed=lambda error: session.fail(curve.id, error),
    )  # fmt: skip


def set_run(session: Session, curve: Curve, settings: RunSettings, words: str) -> None:
    """Change how a spline follows its run; it is fitted anew, live."""
    assert curve.recipe is not None
    old = curve.recipe.settings
    keeps = settings.sized(old.controls) == old
    session.search_words.pop(curve.id, None)
    session.set_recipe(curve, settings, words, candidates=curve.candidates if keeps else ())
