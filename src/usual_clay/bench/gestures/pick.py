"""Picking: a click chooses what is under the cursor."""

from __future__ import annotations

from typing import TYPE_CHECKING

from usual_clay.bench.gestures.drag_handle import drag_handle, paddle_under
from usual_clay.bench.gestures.drag_picture import drag_picture, handle_under
from usual_clay.bench.gestures.drag_points import drag_points, point_under
from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release
from usual_clay.bench.stage import picking
from usual_clay.job.items import Picture

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane

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
    event = yield from until_release()
    if abs(event.x - press.x) + abs(event.y - press.y) > 8:
        return
    target = picking.under(pane.scene, pane.view, press.x, press.y)
    pane.session.choose(None if target is None else target.item)
