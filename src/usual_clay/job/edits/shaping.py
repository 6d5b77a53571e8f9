"""Edits of the points that shape a curve or a surface: job in, job out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from usual_clay.core.arrays import Floats, as_place, as_places
from usual_clay.core.build.placed import drawn_on
from usual_clay.core.check.live import LiveDistance, LiveFeet
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.spline.basis import greville
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.knots import remove_knot
from usual_clay.core.spline.make import DrawnSettings, Handle, make_curve
from usual_clay.job.edits.curves import live_of, reshaped
from usual_clay.job.edits.surfaces import live_of_surface, reshaped_surface
from usual_clay.job.items import Curve, Followed, Item, ItemId, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import basis_of

# Ends of borders so near, mm, are one corner.
SAME_PLACE = 1e-6

Shaped = Curve | Surface

Live = LiveDistance | LiveFeet | None


def shaped(job: Job, item_id: ItemId | None) -> Shaped | None:
    """Return an item if it is a curve or a surface."""
    return job.get(item_id, Curve) or job.get(item_id, Surface)


def has_through(curve: Followed) -> bool:
    """Tell whether a curve is drawn by other points than its control points."""
    drawn = curve.made_by(DrawnSettings)
    return drawn is not None and drawn.kind != "controls"


def places_of(curve: Shaped, kind: str) -> Floats:
    """Return the points that are edited, (n, 3): control points or through-points."""
    if kind == "through" and has_through(curve):
        return curve.recipe.settings.array  # type: ignore[union-attr]
    return curve.geometry.points.reshape(-1, 3)


def with_places(job: Job, curve: Shaped, kind: str, places: Floats, live: Live = None) -> Shaped:
    """Return a curve or a surface with its edited points elsewhere.

    Raises
    ------
    SplineError
        Where they make no curve, or its holds cannot hold.
    """
    if isinstance(curve, Surface):
        net = replace(curve.geometry, points=places.reshape(curve.geometry.points.shape))
        return reshaped_surface(job, curve, net, live if isinstance(live, LiveFeet) else None)
    if kind == "through" and has_through(curve):
        assert curve.recipe is not None
        settings = replace(curve.recipe.settings, points=as_places(places))
        return with_drawing(job, curve, settings)
    along = live if isinstance(live, LiveDistance) else None
    return reshaped(job, curve, replace(curve.geometry, points=places), along)


def live_of_item(job: Job, item: Shaped) -> Live:
    """Return how far what judges an item lies from it, for the drag that begins."""
    return live_of_surface(job, item) if isinstance(item, Surface) else live_of(job, item)


def with_drawing(job: Job, curve: Curve, settings: DrawnSettings) -> Curve:
    """Return a drawn curve with other settings.

    Raises
    ------
    SplineError
    """
    assert curve.recipe is not None
    recipe = replace(curve.recipe, settings=settings)
    scan = job.get(recipe.one("scan"), Scan)
    geometry = make_curve(settings) if scan is None else drawn_on(settings, scan.mesh)
    made = replace(curve, geometry=geometry, recipe=recipe)
    return replace(made, made_of=basis_of(job, made))


def with_moved(job: Job, made: Item) -> tuple[Job, list[ItemId]]:
    """Put an item that a hand shaped in its place, and what has to come with it; tell which.

    Borders of patches that met a border at an end which moved still do: a corner is one place.
    """
    before = job.items[made.id]
    job, ids = job.with_item(made), [made.id]
    if not (isinstance(made, Curve) and isinstance(before, Curve)):
        return job, ids
    borders = {i for s in job.all(Surface) if s.made_by(PatchSettings) for i in _borders(s)}
    if made.id not in borders or not has_through(made) or not has_through(before):
        return job, ids
    were, are = (places_of(each, "through")[[0, -1]] for each in (before, made))
    for other in (curve for curve in job.all(Curve) if curve.id in borders - {made.id}):
        if other.locked or not has_through(other):
            continue
        places = places_of(other, "through").copy()
        for end in (0, -1):
            at = np.abs(were - places[end]).max(axis=1)
            if at.min() < SAME_PLACE:
                places[end] = are[int(np.argmin(at))]
        if not np.array_equal(places, places_of(other, "through")):
            job = job.with_item(with_places(job, other, "through", places))
            ids.append(other.id)
    return job, ids


def _borders(patch: Surface) -> Sequence[ItemId]:
    return () if patch.recipe is None else patch.recipe.all("borders")


def handle_at(curve: Curve, index: int) -> Handle | None:
    """Return the tangent handle at a through-point: its own, or what the curve does there."""
    if not has_through(curve) or curve.recipe is None:
        return None
    settings = curve.recipe.settings
    if settings.kind != "through" or index >= len(settings.points):
        return None
    own = next((handle for handle in settings.handles if handle.index == index), None)
    if own is not None:
        return own
    t = curve_foot_points(curve.geometry, settings.array[[index]])[0]
    ahead = curve_derivatives(curve.geometry, t, 1)[1, 0]
    return Handle(index, as_place(ahead))


def with_handle(job: Job, curve: Curve, handle: Handle | None, index: int) -> Curve:
    """Return a curve with a handle at a through-point, or without one.

    Raises
    ------
    SplineError
    """
    assert curve.recipe is not None
    settings: DrawnSettings = curve.recipe.settings
    rest = tuple(each for each in settings.handles if index not in (each.index, -1))
    handles = rest if handle is None else (*rest, handle)
    return with_drawing(job, curve, replace(settings, handles=handles))


def removal(curve: Curve, near: int | None) -> tuple[BSplineCurve, float] | None:
    """Return a curve with one control point less and what that costs in mm.

    The knot nearest to the chosen point goes, or the one that costs least; None where there is no
    inner knot.
    """
    geometry = curve.geometry
    inner = np.unique(geometry.knots[geometry.degree + 1 : -geometry.degree - 1])
    if not len(inner):
        return None
    # What was chosen on a curve of more control points says nothing of this one.
    if near is not None and near < len(geometry.points):
        site = greville(geometry.knots, geometry.degree)[near]
        inner = inner[[int(np.argmin(np.abs(inner - site)))]]
    return min((remove_knot(geometry, float(t)) for t in inner), key=lambda pair: pair[1])
