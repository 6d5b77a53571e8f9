"""Picking: a click chooses what is under the cursor."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from usual_clay.bench.edits.shaping import places_of
from usual_clay.bench.gestures.drag_handle import drag_handle, paddle_under
from usual_clay.bench.gestures.drag_picture import drag_picture, handle_under
from usual_clay.bench.gestures.drag_points import drag_points, point_under
from usual_clay.bench.gestures.outline_select import drawn_line, inside_of
from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release
from usual_clay.bench.stage import picking
from usual_clay.core.arrays import Floats
from usual_clay.job.items import Picture

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane


def choose_inside(pane: Pane, path: Floats, press: Pointer) -> None:
    """Choose the control points inside an outline; Shift adds them, Ctrl takes them away."""
    session = pane.session
    item = session.chosen_fitted()
    if item is None:
        return
    inside = set(
        np.flatnonzero(inside_of(pane, places_of(item, session.point_kind), path)).tolist()
    )
    had = set(session.control_points)
    session.choose_points(had - inside if press.ctrl else had | inside if press.shift else inside)


HINT = (
    "<b>Click</b> to choose. <b>Middle-drag</b> turns, <b>Shift+middle</b> pans,"
    " the <b>wheel</b> zooms. <b>Tab</b> swaps the views."
)


def pick(pane: Pane, press: Pointer) -> Gesture:
    """Choose the item under the press; on nothing, choose nothing."""
    picture = pane.session.shown.get(pane.session.chosen, Picture)
    if picture is not None and picture.visible and not picture.locked:
        handle = handle_under(pane, press, picture)
        target = picking.under(pane.scene, pane.view, press.x, press.y)
        # What lies before the picture is picked; the picture's own handles are grabbed.
        if handle is not None and (handle != "move" or (target and target.item == picture.id)):
            yield from drag_picture(pane, press, picture, handle)
            return
    paddle = paddle_under(pane, press.x, press.y)
    if paddle is not None:
        yield from drag_handle(pane, paddle)
        return
    grabbed = point_under(pane, press.x, press.y)
    if grabbed is not None:
        yield from drag_points(pane, press, grabbed)
        return
    if pane.session.chosen_fitted() is not None and pane.scene.shown.net:
        yield from drawn_line(pane, press, box=pane.session.outline == "box")
        path = pane.last_drawn
        if float(np.ptp(path, axis=0).max()) > 6:
            choose_inside(pane, path, press)
            return
    else:
        event = yield from until_release()
        if abs(event.x - press.x) + abs(event.y - press.y) > 8:
            return
    target = picking.under(pane.scene, pane.view, press.x, press.y)
    pane.session.choose(None if target is None else target.item)
