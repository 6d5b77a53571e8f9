"""Placing a picture by hand: inside it moves, a corner scales, the stem above it turns."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import (
    Placement,
    corners,
    from_space,
    meets,
    moved_by,
    scaled_about,
    to_space,
    turned_about,
)
from usual_clay.job.items import Picture

GRAB = 12.0
STEM = 0.12


def turn_handle(placement: Placement) -> Floats:
    """Return where the handle that turns a picture is, in space, (3,)."""
    c, s = np.cos(placement.turn), np.sin(placement.turn)
    away = (0.5 + STEM) * placement.height
    flat = np.array([[placement.x - s * away, placement.y + c * away]])
    return to_space(placement, flat)[0]


def handle_under(pane: Canvas, press: Pointer, picture: Picture) -> str | None:
    """Return which handle of a picture a press grabs: "turn", a corner's number, or "move"."""
    placement = picture.placement
    places = np.concatenate([corners(placement), turn_handle(placement)[None]])
    seen = pane.view.project(places)[:, :2]
    away = np.linalg.norm(seen - [press.x, press.y], axis=1)
    nearest = int(np.argmin(away))
    if away[nearest] < GRAB * pane.devicePixelRatioF():
        return "turn" if nearest == 4 else str(nearest)
    flat = _flat(pane, press, placement)
    if flat is None:
        return None
    c, s = np.cos(placement.turn), np.sin(placement.turn)
    x, y = flat - [placement.x, placement.y]
    inside = abs(c * x + s * y) < placement.width / 2 and abs(c * y - s * x) < placement.height / 2
    return "move" if inside else None


def drag_picture(pane: Canvas, press: Pointer, picture: Picture, handle: str) -> Gesture:
    """Move, scale or turn a picture with the cursor; keep it on release."""
    session, before = pane.session, picture.placement
    start = _flat(pane, press, before)
    if start is None or picture.locked:
        if picture.locked:
            session.told.emit("trouble", f"{picture.name} is locked: unlock it in the Shelf first")
        return
    words = {"turn": "turn picture", "move": "move picture"}.get(handle, "scale picture")
    now = before
    event = press
    while event.kind != "release":
        event = yield
        flat = _flat(pane, event, before)
        if flat is None:
            continue
        if handle == "move":
            now = moved_by(before, *(flat - start))
        elif handle == "turn":
            middle = np.array([before.x, before.y])
            a, b = start - middle, flat - middle
            angle = float(np.arctan2(b[1], b[0]) - np.arctan2(a[1], a[0]))
            now = turned_about(before, angle, middle)
        else:
            fixed = from_space(before, corners(before))[(int(handle) + 2) % 4]
            reach = float(np.linalg.norm(start - fixed))
            along = float((flat - fixed) @ (start - fixed)) / max(reach**2, 1e-12)
            now = scaled_about(before, max(along, 0.02), fixed)
        session.propose(session.job.changed(picture.id, placement=now))
    if now is not before:
        session.change(picture, words, placement=now)


def _flat(pane: Canvas, at: Pointer, placement: Placement) -> Floats | None:
    """Return where a line of sight meets the picture's plane, (2,) in its own coordinates."""
    met = meets(placement, *pane.view.ray(at.x, at.y))
    return None if met is None else np.asarray(from_space(placement, met[0][None])[0])
