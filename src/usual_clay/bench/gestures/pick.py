"""Picking: a click chooses what is under the cursor."""

from __future__ import annotations

from typing import TYPE_CHECKING

from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane

HINT = (
    "<b>Click</b> to choose. <b>Middle-drag</b> turns, <b>Shift+middle</b> pans,"
    " the <b>wheel</b> zooms. <b>Tab</b> swaps the views."
)


def pick(pane: Pane, press: Pointer) -> Gesture:
    """Choose the item under the press; on nothing, choose nothing."""
    event = yield from until_release()
    if abs(event.x - press.x) + abs(event.y - press.y) > 8:
        return
    target = pane.scene.target(*pane.view.ray(press.x, press.y))
    pane.session.choose(None if target is None else target.item)
