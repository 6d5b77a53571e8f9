"""Dragging points of a curve; keys hold the motion to an axis or a leg, digits say how far."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.edits.shaping import put_places
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.bench.item_views import view_of
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats
from usual_clay.core.check.live import LiveFeet
from usual_clay.core.errors import sentence
from usual_clay.core.numbers import NumberError, read_number
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives
from usual_clay.job.edits.shaping import Shaped, live_of_item, places_of, shaped, with_places
from usual_clay.job.edits.surfaces import chosen_with, neighbours_of, reach_weights
from usual_clay.job.items import Surface

HINT = (
    "<b>Drag</b> a point; <b>Shift</b> takes several. While dragging, <b>X Y Z</b> hold it to an"
    " axis, <b>N</b> square to the curve, <b>L</b> to its leg, <b>F</b> flat; digits say how far."
)
GRAB = 9.0

Spline = BSplineCurve | BSplineSurface


def point_under(pane: Canvas, x: float, y: float) -> int | None:
    """Return the edited point of the chosen curve or surface at a pixel."""
    curve = pane.session.choice.fitted()
    if curve is None or not curve.visible:
        return None
    layer = view_of(curve).layer
    if layer and not (pane.scene.shown.net and getattr(pane.scene.shown, layer)):
        return None
    place = pane.view.project(places_of(curve, pane.session.choice.point_kind))[:, :2]
    away = np.hypot(place[:, 0] - x, place[:, 1] - y)
    nearest = int(np.argmin(away))
    return nearest if away[nearest] < GRAB * pane.devicePixelRatioF() else None


def drag_points(pane: Canvas, press: Pointer, grabbed: int) -> Gesture:
    """Move the grabbed point and those chosen with it; keep it on release."""
    session = pane.session
    curve = shaped(session.job, session.choice.item)
    if curve is None:
        return
    chosen = set(session.choice.points)
    taken = {grabbed}
    if isinstance(curve.geometry, BSplineSurface):
        taken = set(chosen_with(curve.geometry, grabbed, session.hand.pick))
    if press.shift or press.ctrl:
        session.choice.choose_points(chosen | taken if grabbed not in chosen else chosen - taken)
        return
    if grabbed not in chosen:
        chosen = taken
        session.choice.choose_points(chosen)
    if not session.may_change(curve) or not _may_shape(session, curve):
        return
    kind = session.choice.point_kind
    before = places_of(curve, kind)
    which = np.array(sorted(chosen), dtype=np.int64)
    live = live_of_item(session.job, curve)
    follow = np.zeros(len(before))
    follow[which] = 1.0
    if isinstance(curve.geometry, BSplineSurface):
        follow = reach_weights(curve.geometry, which, session.hand.soft_reach, session.hand.falloff)
    made, places = None, before
    event = press
    pane.hold, pane.typed = "f", ""
    while event.kind != "release":
        event = yield
        if made is None and float(np.hypot(event.x - press.x, event.y - press.y)) < 3:
            continue
        by = typed_motion(pane, _motion(pane, event, before, grabbed, curve))
        places = before + follow[:, None] * by
        try:
            made = with_places(session.job, curve, kind, places, live)
        except SplineError as error:
            session.told.emit("trouble", sentence(error))
            continue
        session.show_moved(made)
    pane.typed, pane.snapped = "", None
    if made is not None:
        # A curve is measured anew, all of it, as it is kept; a surface beside the window.
        followed = live if isinstance(live, LiveFeet) else None
        put_places(session, curve, places, f"move points of {curve.name}", live=followed)


def _may_shape(session: Session, shaped: Shaped) -> bool:
    """Tell whether a hand may move control points; of a surface that is fitted ask once before."""
    may = session.hand.may_shape
    if not isinstance(shaped, Surface) or shaped.recipe is None or shaped.id in may:
        return True
    may.add(shaped.id)
    session.told.emit(
        "trouble",
        f"{shaped.name} follows what it was made from. Drag again to shape it by hand: it follows"
        " no more then, until Fit again.",
    )
    return False


def typed_motion(pane: Canvas, by: Floats) -> Floats:
    """Return a motion as long as the typed number, in its own direction."""
    try:
        wanted = read_number(pane.typed)
    except NumberError:
        return by
    size = float(np.linalg.norm(by))
    if pane.hold in "xyz":
        # Along an axis the sign is the axis's own, wherever the hand is.
        return wanted * np.eye(3)["xyz".index(pane.hold)]
    return by if size < 1e-12 else wanted * by / size


def _motion(pane: Canvas, at: Pointer, points: Floats, grabbed: int, curve: Shaped) -> Floats:
    """Return how far the grabbed point goes: flat in the view, or along what it is held to."""
    start = points[grabbed]
    origin, direction = pane.view.ray(at.x, at.y)
    along = _held(pane.hold, points, grabbed, curve.geometry, (origin, direction))
    if pane.hold == "t" and (flat := _tangent(curve.geometry, start)) is not None:
        # Where the line of sight meets the tangent plane; seen edge on it stays.
        normal, slope = flat[2], float(direction @ flat[2])
        if abs(slope) < 0.05:
            return np.zeros(3)
        return origin + float((start - origin) @ normal) / slope * direction - start
    if along is None:
        faces = pane.session.choice.point_kind == "through"
        pane.snapped = pane.snap_at(at.x, at.y, curve.id, faces)
        if pane.snapped is not None:
            return pane.snapped.place - start
        return pane.view.level_with(at.x, at.y, start) - start
    return pane.view.along_line(at.x, at.y, start, along) - start


def _held(
    hold: str, points: Floats, grabbed: int, shape: Spline, ray: tuple[Floats, Floats]
) -> Floats | None:
    if hold in "xyz":
        return np.eye(3)["xyz".index(hold)]
    if hold == "n":
        return _normal(shape, points[grabbed])
    if hold in "uv":
        flat = _tangent(shape, points[grabbed])
        return None if flat is None else flat["uv".index(hold)]
    if hold != "l":
        return None
    origin, direction = ray
    # Of the two legs the one that the cursor lies nearer to.
    best: tuple[float, Floats] | None = None
    legs = [grabbed - 1, grabbed + 1]
    if isinstance(shape, BSplineSurface):
        legs = neighbours_of(shape, grabbed)
    for other in legs:
        if 0 <= other < len(points):
            leg = points[other] - points[grabbed]
            length = float(np.linalg.norm(leg))
            if length < 1e-12:
                continue
            leg = leg / length
            away = float(np.linalg.norm(np.cross(points[grabbed] + leg - origin, direction)))
            if best is None or away < best[0]:
                best = (away, leg)
    return None if best is None else best[1]


def _tangent(shape: Spline, place: Floats) -> tuple[Floats, Floats, Floats] | None:
    """Return a surface's directions of u and v and its normal, nearest to a place."""
    if not isinstance(shape, BSplineSurface):
        return None
    feet = foot_points(shape, place[None])
    _, along_u, along_v = surface_derivatives(shape, feet.u, feet.v, 1)[:, :, 0]
    found = [along_u, along_v, np.cross(along_u, along_v)]
    sizes = [float(np.linalg.norm(part)) for part in found]
    if min(sizes) < 1e-12:
        return None
    return found[0] / sizes[0], found[1] / sizes[1], found[2] / sizes[2]


def _normal(shape: Spline, place: Floats) -> Floats | None:
    """Return a surface's normal nearest to a place; of a curve the direction in which it bends."""
    if isinstance(shape, BSplineSurface):
        flat = _tangent(shape, place)
        return None if flat is None else flat[2]
    t = curve_foot_points(shape, place[None])[0]
    _, first, second = curve_derivatives(shape, t, 2)[:, 0]
    bend = second - (second @ first) / max(float(first @ first), 1e-300) * first
    size = float(np.linalg.norm(bend))
    return bend / size if size > 1e-9 * float(np.linalg.norm(first)) else None


def nudge(pane: Canvas, step: tuple[int, int]) -> None:
    """Move the chosen points by the nudge step across or up the view."""
    session = pane.session
    curve = shaped(session.job, session.choice.item)
    if curve is None:
        return
    camera = pane.view.camera
    places = places_of(curve, session.choice.point_kind).copy()
    places[sorted(session.choice.points)] += session.hand.nudge_step * (
        step[0] * camera.right + step[1] * camera.up
    )
    put_places(session, curve, places, f"nudge points of {curve.name}", last=True)
