"""Moving whole things by hand: a drag moves, turns or scales what the card holds."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.drag_points import typed_motion
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.bench.placing import Placing
from usual_clay.core.arrays import Floats
from usual_clay.core.build.affine import PlaceSettings
from usual_clay.core.numbers import NumberError, read_number

HINT = (
    "<b>Drag</b> the thing, or one of the arrows; <b>X Y Z</b> hold it to an axis, digits say how"
    " much. <b>Click</b> takes further things. <b>Enter</b> keeps it, <b>Esc</b> drops it."
)
# How near to an arrow a press must be, and how far a click may slip, in pixels.
NEAR, SLIPS = 10.0, 4.0
LEAST = 1e-3


def place(pane: Canvas, press: Pointer) -> Gesture:
    """Move, turn or scale by a drag; a mere click offers what lies there."""
    hand, start = pane.session.hand, pane.session.hand.placing
    if start is None:
        return
    grabbed = pane.target_at(press.x, press.y)
    pane.hold, pane.typed = _arrow_under(pane, press) or "f", ""
    origin = start.stays if grabbed is None or pane.hold != "f" else grabbed.hit.point
    moved, event = False, press
    while event.kind != "release":
        event = yield
        if not moved and np.hypot(event.x - press.x, event.y - press.y) < SLIPS:
            continue
        moved = True
        made = _dragged(pane, press, event, origin, start)
        if made is not None:
            start.changed(made)
    pane.typed = ""
    if not moved and grabbed is not None:
        hand.offered.emit(grabbed.item)


def _arrow_under(pane: Canvas, press: Pointer) -> str:
    """Return the axis whose arrow is under a press; empty for none."""
    for sign in pane.session.sight.signs:
        if sign.words not in ("x", "y", "z"):
            continue
        places = pane.view.project(sign.places)[:, :2]
        away = np.linalg.norm(places - [press.x, press.y], axis=1).min()
        if away < NEAR * pane.devicePixelRatioF():
            return sign.words
    return ""


def _dragged(
    pane: Canvas, press: Pointer, event: Pointer, origin: Floats, start: Placing
) -> PlaceSettings | None:
    settings, typed = start.settings, _number(pane.typed)
    if settings.does == "move":
        by = typed_motion(pane, _motion(pane, press, event, origin))
        whole = np.array(settings.by) + by
        return replace(settings, by=tuple(whole.tolist()))
    middle = pane.view.project(start.stays[None])[0, :2]
    before, after = np.array([press.x, press.y]) - middle, np.array([event.x, event.y]) - middle
    if settings.does == "turn":
        axis = pane.hold if pane.hold in "xyz" else settings.axis
        turn = np.arctan2(-after[1], after[0]) - np.arctan2(-before[1], before[0])
        # Seen from behind it turns the other way.
        facing = -pane.view.camera.sight["xyz".index(axis)]
        angle = turn * (1.0 if facing >= 0 else -1.0)
        angle = (angle + np.pi) % (2 * np.pi) - np.pi
        whole_turn = settings.angle + angle if typed is None else np.radians(typed)
        return replace(settings, angle=float(whole_turn), axis=axis)  # type: ignore[arg-type]
    if settings.does == "scale":
        factor = float(np.linalg.norm(after) / max(float(np.linalg.norm(before)), 1e-9))
        factor = max(factor, LEAST) if typed is None or typed == 0 else typed
        along = [pane.hold == name or pane.hold not in "xyz" for name in "xyz"]
        factors = [
            old * factor if mine else old for old, mine in zip(settings.factors, along, strict=True)
        ]
        return replace(settings, factors=tuple(factors))
    return None


def _number(typed: str) -> float | None:
    try:
        return read_number(typed)
    except NumberError:
        return None


def _motion(pane: Canvas, press: Pointer, event: Pointer, origin: Floats) -> Floats:
    """Return how far a place goes with the hand: flat in the view, or along an axis."""
    if pane.hold in "xyz":
        axis = np.eye(3)["xyz".index(pane.hold)]
        start, stop = (pane.view.along_line(at.x, at.y, origin, axis) for at in (press, event))
    else:
        start, stop = (pane.view.level_with(at.x, at.y, origin) for at in (press, event))
    return stop - start
