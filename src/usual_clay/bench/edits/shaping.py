"""Edits of a curve's points: control points, or the points that it is drawn through."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.edits.curves import live_of, reshape, reshaped
from usual_clay.bench.edits.surfaces import live_of_surface, reshape_surface, reshaped_surface
from usual_clay.bench.session import Session, sentence
from usual_clay.core.arrays import Floats, as_place, as_places
from usual_clay.core.check.live import LiveDistance, LiveFeet
from usual_clay.core.fit.curve.fair import SlimSettings, slim
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError, greville
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.knots import insert_knot, raise_degree, remove_knot, reverse
from usual_clay.core.spline.make import DrawnSettings, Handle
from usual_clay.job.items import Curve, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS, CurveMade
from usual_clay.job.remake import basis_of, source_of

# How far gathering in draws points towards their middle.
GATHER = 0.5
Shaped = Curve | Surface
Live = LiveDistance | LiveFeet | None


def has_through(curve: Curve) -> bool:
    """Tell whether a curve is drawn by other points than its control points."""
    recipe = curve.recipe
    return recipe is not None and recipe.kind == "drawn" and recipe.settings.kind != "controls"


def places_of(curve: Shaped, kind: str) -> Floats:
    """Return the points that are edited, (n, 3): control points or through-points."""
    if isinstance(curve, Surface):
        return curve.geometry.points.reshape(-1, 3)
    if kind == "through" and has_through(curve):
        return curve.recipe.settings.array  # type: ignore[union-attr]
    return curve.geometry.points


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
    sources = [source_of(job, source) for source in recipe.sources if source in job.items]
    drawn = KINDS["drawn"].make(settings, sources)
    assert isinstance(drawn, CurveMade)
    made = replace(curve, geometry=drawn.curve, recipe=recipe)
    return replace(made, made_of=basis_of(job, made))


def put_places(
    session: Session, curve: Shaped, places: Floats, words: str, last: bool = False
) -> None:
    """Keep the edited points of a curve or a surface elsewhere."""
    if not session.may_change(curve):
        return
    try:
        made = with_places(session.job, curve, session.point_kind, places)
    except SplineError as error:
        session.told.emit("trouble", sentence(error))
        return
    before = session.job.report(curve)
    if before is not None:
        session.before_move[curve.id] = before
    session.search_words.pop(curve.id, None)
    session.commit(session.job.with_item(made), words, onto_last=last)


def _chosen(session: Session, curve: Shaped, least: int) -> tuple[Floats, Any] | None:
    places = places_of(curve, session.point_kind).copy()
    chosen = np.array(sorted(p for p in session.control_points if p < len(places)), dtype=np.int64)
    if len(chosen) < least:
        session.told.emit(
            "trouble",
            "Choose two points or more: Shift adds."
            if least > 1
            else "Choose a point on the stage first.",
        )
        return None
    return places, chosen


def level_points(session: Session, curve: Shaped, axis: int) -> None:
    """Give the chosen points the same x, y or z: their mean."""
    if (found := _chosen(session, curve, 2)) is not None:
        places, chosen = found
        places[chosen, axis] = places[chosen, axis].mean()
        put_places(session, curve, places, f"level points of {curve.name}")


def flatten_points(session: Session, curve: Shaped, onto: str) -> None:
    """Bring the chosen points onto the line through the outermost two, or onto their plane."""
    if (found := _chosen(session, curve, 3)) is None:
        return
    places, chosen = found
    own = places[chosen]
    if onto == "line":
        start, way = own[0], own[-1] - own[0]
        way = way / max(float(np.linalg.norm(way)), 1e-12)
        places[chosen] = start + ((own - start) @ way)[:, None] * way
    else:
        middle = own.mean(axis=0)
        normal = np.linalg.svd(own - middle, full_matrices=False)[2][-1]
        places[chosen] = own - ((own - middle) @ normal)[:, None] * normal
    put_places(session, curve, places, f"level points of {curve.name} onto a {onto}")


def scale_points(
    session: Session, curve: Shaped, factor: float, turn: float, centre: Floats | None, axis: Floats
) -> None:
    """Scale and turn the chosen points about their middle or a centre; `axis` is turned about."""
    if (found := _chosen(session, curve, 2)) is None:
        return
    places, chosen = found
    middle = places[chosen].mean(axis=0) if centre is None else centre
    own = (places[chosen] - middle) * factor
    axis = axis / np.linalg.norm(axis)
    # Rodrigues' formula.
    along = (own @ axis)[:, None] * axis
    turned = own * np.cos(turn) + np.cross(axis, own) * np.sin(turn) + along * (1 - np.cos(turn))
    places[chosen] = middle + turned
    put_places(session, curve, places, f"scale and turn points of {curve.name}")


def gather_in(session: Session, curve: Curve) -> None:
    """Draw the chosen points half way to their middle, to sharpen a corner."""
    scale_points(session, curve, GATHER, 0.0, None, np.array([0.0, 0, 1]))


def type_place(session: Session, curve: Curve, index: int, place: Floats) -> None:
    """Put one point where numbers say."""
    places = places_of(curve, session.point_kind).copy()
    places[index] = place
    put_places(session, curve, places, f"place a point of {curve.name}", last=True)


def set_weight(session: Session, item: Shaped, which: Sequence[int], weight: float) -> None:
    """Give control points a weight; with all of them 1 the spline is polynomial again."""
    old = item.geometry.weights
    weights = np.ones(item.control_points) if old is None else old.ravel().copy()
    weights[list(which)] = weight
    none = bool(np.allclose(weights, weights[0]))
    words = f"weight of {item.name}"
    if isinstance(item, Surface):
        shaped = None if none else weights.reshape(item.geometry.counts)
        reshape_surface(session, item, replace(item.geometry, weights=shaped), words)
    else:
        reshape(session, item, replace(item.geometry, weights=None if none else weights), words)


# ---- handles ---------------------------------------------------------------------------------


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


def put_handle(session: Session, curve: Curve, handle: Handle | None, index: int) -> None:
    """Keep a handle; None takes that of a point away, and with index -1 all."""
    if session.may_change(curve):
        try:
            made = with_handle(session.job, curve, handle, index)
        except SplineError as error:
            session.told.emit("trouble", sentence(error))
            return
        session.commit(session.job.with_item(made), f"tangent of {curve.name}", onto_last=True)


# ---- more points and fewer -------------------------------------------------------------------


def insert_point(session: Session, curve: Curve, near: int | None) -> None:
    """Insert a control point where legs are longest, or beside a chosen one; the shape stays."""
    geometry = curve.geometry
    breaks = np.unique(geometry.knots)
    middles = (breaks[:-1] + breaks[1:]) / 2
    if near is None:
        t = float(middles[np.argmax(np.diff(breaks))])
    else:
        site = greville(geometry.knots, geometry.degree)[near]
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


def lower_curve(session: Session, curve: Curve) -> None:
    """Lower a curve's degree, with a control point less for each, and say how far it moved."""
    degree = curve.geometry.degree - 1
    if degree < 1:
        session.told.emit("trouble", "The degree is already 1.")
        return
    made = slim(curve.geometry, SlimSettings(curve.control_points - 1, degree, knots="even"))
    reshape(session, curve, made.curve, f"lower the degree of {curve.name}")
    session.told.emit("news", f"Degree {degree} moved the curve by up to {made.moved:.4f} mm.")


def turn_round(session: Session, curve: Curve) -> None:
    """Let a curve run the other way."""
    reshape(session, curve, reverse(curve.geometry), f"reverse {curve.name}")
