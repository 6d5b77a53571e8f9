"""Moving the lamp whose lines lie on surfaces and bodies."""

from __future__ import annotations

from scipy.spatial.transform import Rotation

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.look import FULL_TURN
from usual_clay.bench.gestures.pointer import Gesture, Pointer

HINT = (
    "<b>Drag</b> to move the lamp: its lines run over the shape with the hand."
    " <b>Middle-drag</b> turns the view. <b>Esc</b> leaves the lamp where it is."
)


def move_lamp(pane: Canvas, press: Pointer) -> Gesture:
    """Turn the lamp with the hand: across the whole height of the view by half a turn or so."""
    last = press
    while True:
        event = yield
        if event.kind == "release":
            return
        camera, scale = pane.view.camera, FULL_TURN / pane.view.size[1]
        right, up = (event.x - last.x) * scale, (last.y - event.y) * scale
        pane.scene.sights.turn_lamp(Rotation.from_rotvec(right * camera.up - up * camera.right))
        last = event
