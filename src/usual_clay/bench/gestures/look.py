"""Turning, panning and zooming a view."""

from __future__ import annotations

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.arrays import Floats

# A drag across the whole height of the view turns by so many radians.
FULL_TURN = 3.6


def turn(pane: Canvas, press: Pointer) -> Gesture:
    """Turn about what was under the cursor, or about the middle of what is shown."""
    about = _grabbed(pane, press)
    last = press
    while True:
        event = yield
        if event.kind == "release":
            break
        scale = FULL_TURN / pane.view.size[1]
        right, up = (event.x - last.x) * scale, (event.y - last.y) * scale
        pane.move_camera(pane.view.camera.turned(right, up, about))
        last = event
    pane.rest()


def pan(pane: Canvas, press: Pointer) -> Gesture:
    """Move the view across its own plane; what was grabbed stays under the cursor."""
    scale = pane.view.mm_per_pixel(_grabbed(pane, press))
    last = press
    while True:
        event = yield
        if event.kind == "release":
            break
        right, up = (last.x - event.x) * scale, (event.y - last.y) * scale
        pane.move_camera(pane.view.camera.panned(right, up))
        last = event
    pane.rest()


def _grabbed(pane: Canvas, press: Pointer) -> Floats:
    target = pane.scene.target(*pane.view.ray(press.x, press.y))
    if target is not None:
        return target.hit.point
    outline = pane.scene.outline()
    return pane.view.camera.focus if outline is None else outline.mean(axis=0)


def zoom(pane: Canvas, x: float, y: float, notches: float) -> None:
    """Zoom to the cursor."""
    origin, direction = pane.view.ray(x, y)
    target = pane.scene.target(origin, direction)
    camera = pane.view.camera
    if target is not None:
        towards = target.hit.point
    else:
        depth = (camera.focus - origin) @ camera.sight / (direction @ camera.sight)
        towards = origin + direction * depth
    pane.move_camera(camera.zoomed(0.86**notches, towards))
    pane.rest_soon()
