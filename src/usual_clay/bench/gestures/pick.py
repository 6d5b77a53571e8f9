"""Picking: a click chooses what is under the cursor."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.drag_handle import drag_handle, paddle_under
from usual_clay.bench.gestures.drag_picture import drag_picture, handle_under
from usual_clay.bench.gestures.drag_points import drag_points, point_under
from usual_clay.bench.gestures.hold_water import hold_under, hold_water
from usual_clay.bench.gestures.outline_select import drawn_line, inside_of
from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release
from usual_clay.core.arrays import Floats
from usual_clay.job.edits.shaping import places_of
from usual_clay.job.items import Picture


def choose_inside(pane: Canvas, path: Floats, press: Pointer) -> None:
    """Choose the control points inside an outline; Shift adds them, Ctrl takes them away."""
    session = pane.session
    item = session.choice.fitted()
    if item is None:
        return
    inside = set(
        np.flatnonzero(inside_of(pane, places_of(item, session.choice.point_kind), path)).tolist()
    )
    had = set(session.choice.points)
    session.choice.choose_points(
        had - inside if press.ctrl else had | inside if press.shift else inside
    )


HINT = (
    "<b>Click</b> to choose. <b>Middle-drag</b> turns, <b>Shift+middle</b> pans,"
    " the <b>wheel</b> zooms. <b>Tab</b> swaps the views."
)


def pick(pane: Canvas, press: Pointer) -> Gesture:
    """Choose the item under the press; on nothing, choose nothing."""
    picture = pane.session.shown.get(pane.session.choice.item, Picture)
    if picture is not None and picture.visible and not picture.locked:
        handle = handle_under(pane, press, picture)
        target = pane.target_at(press.x, press.y)
        # What lies before the picture is picked; the picture's own handles are grabbed.
        if handle is not None and (handle != "move" or (target and target.item == picture.id)):
            yield from drag_picture(pane, press, picture, handle)
            return
    paddle = paddle_under(pane, press.x, press.y)
    if paddle is not None:
        yield from drag_handle(pane, paddle)
        return
    held = hold_under(pane, press.x, press.y)
    if held is not None:
        yield from hold_water(pane, held)
        return
    grabbed = point_under(pane, press.x, press.y)
    if grabbed is not None:
        yield from drag_points(pane, press, grabbed)
        return
    if pane.session.choice.fitted() is not None and pane.scene.shown.net:
        yield from drawn_line(pane, press, box=pane.session.hand.outline == "box")
        path = pane.last_drawn
        if float(np.ptp(path, axis=0).max()) > 6:
            choose_inside(pane, path, press)
            return
    else:
        event = yield from until_release()
        if abs(event.x - press.x) + abs(event.y - press.y) > 8:
            return
    target = pane.target_at(press.x, press.y)
    pane.session.choice.choose(None if target is None else target.item)
