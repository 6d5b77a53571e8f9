"""Edits of whole curves: job in, job out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.placed import drawn_on
from usual_clay.core.check.live import LiveDistance, live_distance
from usual_clay.core.fit.curve.holds import ClashError, Hold, HoldSettings, apply_holds
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings, parts_of
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.job.edits.make import add
from usual_clay.job.items import Curve, ItemId, PointList, Scan
from usual_clay.job.job import Job
from usual_clay.job.recipe import Recipe
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
    if scan is None:
        made, recipe = make_curve(settings), Recipe.of("drawn", settings)
    else:
        made, recipe = drawn_on(settings, scan.mesh), Recipe.of("drawn", settings, scan=scan.id)
    return new_curve(job, made, name, recipe)


def with_twin(job: Job, curve: Curve) -> tuple[Job, Curve, str]:
    """Add a mirrored copy in y = 0 that follows its original.

    Where a curve that is shaped by hand ends on the plane, and nearly square to it, that end is
    kept square from now on, so that curve and twin meet smoothly; the words say so.
    """
    settings, words = TwinSettings(), ""
    on_plane = [end for end in (0, 1) if _meets_plane(curve, end, settings)]
    if on_plane and not curve.locked and may_hold(curve):
        across = [Hold("across", float(end), axis="y", value=settings.at) for end in on_plane]
        try:
            job = job.with_item(with_holds(job, curve, across, ()))
            where = " and ".join(("start", "end")[end] for end in on_plane)
            words = (
                f"{curve.name} is kept square to the mirror plane at its {where}, so that both"
                " meet smoothly. Holds can take that back."
            )
        except ClashError:
            # What it keeps already says otherwise: it stays as it is.
            words = ""
    job, item, _ = add(job, "twin", settings, curve=curve.id)
    twin = job.get(item.id, Curve)
    assert twin is not None
    return job, twin, words


def _meets_plane(curve: Curve, end: int, plane: TwinSettings) -> bool:
    axis = "xyz".index(plane.axis)
    place, ahead = curve_derivatives(curve.geometry, [float(end)], 1)[:, 0]
    square = abs(float(ahead[axis])) / max(float(np.linalg.norm(ahead)), 1e-12)
    return abs(float(place[axis]) - plane.at) < ON_PLANE and square > np.cos(CORNER)


def may_hold(curve: Curve) -> bool:
    """Tell whether a curve is shaped by its control points, so that it can keep holds."""
    drawn = curve.made_by(DrawnSettings)
    return (
        curve.recipe is None
        or curve.made_by(HoldSettings) is not None
        or (drawn is not None and drawn.kind == "controls")
    )


def holds_of(curve: Curve) -> tuple[Hold, ...]:
    """Return the holds that a curve keeps."""
    settings = curve.made_by(HoldSettings)
    return () if settings is None else settings.holds


def with_holds(
    job: Job, curve: Curve, more: list[Hold], others: tuple[ItemId, ...], drop: int = -1
) -> Curve:
    """Return a curve with further holds; `others` are the neighbours that these name.

    A hold's neighbour is told by its place among `others`. With `drop`, one of those that
    there were is taken away.

    Raises
    ------
    ClashError
    """
    had = list(holds_of(curve))
    ids = list(curve.recipe.sources) if had and curve.recipe is not None else []
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
    return _held(job, curve, Recipe.of("held", settings, neighbours=tuple(ids)))


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
    """Return a curve with a geometry made by hand; it keeps its holds and follows no run any more.

    A drawn curve of control points stays drawn. What it was fitted to still judges it; while a
    hand drags, `live` tells how far its points lay before.
    """
    recipe, traced = curve.recipe, curve.made_by(TraceSettings)
    held, drawn = curve.made_by(HoldSettings), curve.made_by(DrawnSettings)
    if traced is not None:
        curve = replace(curve, watched=traced)
    made = replace(curve, geometry=geometry, recipe=None, made_of=None, candidates=())
    if recipe is not None and held is not None:
        settings = replace(_settings_of(geometry), holds=held.holds)
        made = _held(job, made, replace(recipe, settings=settings))
    elif (
        recipe is not None
        and drawn is not None
        and drawn.kind == "controls"
        and len(geometry.points) == len(drawn.points)
    ):
        places = _settings_of(geometry).points
        recipe = replace(recipe, settings=replace(drawn, points=places))
        made = replace(made, recipe=recipe)
        made = replace(made, made_of=basis_of(job, made))
    if live is not None:
        return replace(made, signed=live.follow(made.geometry).distance)
    points = judging_points(job, made)
    signed = None if points is None else live_distance(made.geometry, points).distance
    return replace(made, signed=signed)


def judging_points(job: Job, curve: Curve) -> Floats | None:
    """Return the points that judge a curve: those of its run, or of its part of it."""
    run = job.get(curve.watches, PointList)
    if run is None:
        return None
    settings = curve.made_by(TraceSettings) or curve.watched
    whole = PointSequence(run.points[run.kept], run.closed)
    if settings is None:
        return whole.points
    parts = parts_of(whole, settings.corners, settings.cuts)
    return parts[min(settings.part, len(parts) - 1)].points


def live_of(job: Job, curve: Curve) -> LiveDistance | None:
    """Return the distances of what judges a curve, for the drag that begins."""
    points = judging_points(job, curve)
    return None if points is None else live_distance(curve.geometry, points)
