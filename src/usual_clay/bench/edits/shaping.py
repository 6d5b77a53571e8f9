"""Edits of a curve's points: control points, or the points that it is drawn through."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.edits.curves import reshape
from usual_clay.bench.edits.surfaces import reshape_surface
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats
from usual_clay.core.check.live import LiveFeet
from usual_clay.core.errors import sentence
from usual_clay.core.fit.curve.fair import SlimSettings, Spare, slim
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError, greville
from usual_clay.core.spline.knots import insert_knot, raise_degree, reverse
from usual_clay.core.spline.make import DrawnSettings, Handle
from usual_clay.job.edits.shaping import (
    Shaped,
    places_of,
    removal,
    with_drawing,
    with_handle,
    with_moved,
    with_places,
)
from usual_clay.job.edits.surfaces import live_of_surface
from usual_clay.job.items import Curve, Surface

# How far gathering in draws points towards their middle.
GATHER = 0.5


def put_places(
    session: Session,
    curve: Shaped,
    places: Floats,
    words: str,
    last: bool = False,
    live: LiveFeet | None = None,
) -> None:
    """Keep the edited points of a curve or a surface elsewhere.

    Parameters
    ----------
    live : LiveFeet, optional
        Of what judges a surface, as it is, where they are known.
    """
    if not session.may_change(curve):
        return
    if live is None and isinstance(curve, Surface):
        live = live_of_surface(session.job, curve)
    try:
        made = with_places(session.job, curve, session.choice.point_kind, places, live)
        job, _ = with_moved(session.job, made)
    except SplineError as error:
        session.told.emit("trouble", sentence(error))
        return
    before = session.job.report(curve)
    if before is not None:
        session.sight.before_move[curve.id] = before
    session.notes.pop(curve.id, None)
    session.commit(job, words, onto_last=last)


def put_drawing(session: Session, curve: Curve, settings: DrawnSettings) -> None:
    """Keep a drawn curve with other settings."""
    if not session.may_change(curve):
        return
    try:
        job, _ = with_moved(session.job, with_drawing(session.job, curve, settings))
    except SplineError as error:
        session.told.emit("trouble", sentence(error))
        # Its card shows the settings that it has.
        session.job_changed.emit()
        return
    session.commit(job, f"{curve.name}'s numbers")


def _chosen(session: Session, curve: Shaped, least: int) -> tuple[Floats, Any] | None:
    places = places_of(curve, session.choice.point_kind).copy()
    chosen = np.array(sorted(session.choice.points), dtype=np.int64)
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


def gather_in(session: Session, curve: Shaped) -> None:
    """Draw the chosen points half way to their middle, to sharpen a corner."""
    scale_points(session, curve, GATHER, 0.0, None, np.array([0.0, 0, 1]))


def type_place(session: Session, curve: Curve, index: int, place: Floats) -> None:
    """Put one point where numbers say."""
    places = places_of(curve, session.choice.point_kind).copy()
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


def remove_point(session: Session, curve: Curve, near: int | None) -> None:
    """Remove a control point and say how far that moved the curve."""
    found = removal(curve, near)
    if found is None:
        session.told.emit("trouble", f"{curve.name} has no inner control point to remove.")
        return
    reshape(session, curve, found[0], f"remove a point of {curve.name}")
    session.told.emit("news", f"One control point less moved the curve by up to {found[1]:.4f} mm.")


def take_out(session: Session, curve: Curve, spare: Spare) -> None:
    """Take out all control points that a curve can do without, and say how far that moved it."""
    reshape(session, curve, spare.curve, f"take points out of {curve.name}")
    session.told.emit(
        "news",
        f"{spare.count} control points less moved the curve by up to {spare.moved:.4f} mm.",
    )


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
