"""Brushing: a drag over the scan adds to the region, with Ctrl it takes away."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.edits.regions import put_region, region_mask
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.scan.region import brush as within_brush
from usual_clay.core.scan.region import within_creases

HINT = (
    "<b>Drag</b> over the scan to add to the region, with <b>Ctrl</b> to take away."
    " <b>[</b> <b>]</b> halve and double the brush. <b>Enter</b> casts it."
)


def brush(pane: Canvas, press: Pointer) -> Gesture:
    """Light up what the brush passes over; keep it on release, drop it on Escape."""
    session = pane.session
    under = pane.scene.scan_under(*pane.view.ray(press.x, press.y))
    if under is None:
        session.told.emit("trouble", pane.scene.why_no_scan("the brush"))
        return
    scan, _ = under
    model = pane.scene.model(scan)
    if model is None:
        return
    before = region_mask(session, scan)
    mask, takes_away = before.copy(), press.ctrl
    event, last = press, press
    try:
        while event.kind != "release":
            for x, y in _between(last, event, pane):
                under = pane.scene.scan_under(*pane.view.ray(x, y))
                if under is not None and under[0] is scan:
                    point, normals = under[1].point, scan.mesh.vertex_normals
                    sight = -pane.view.ray(x, y)[1]
                    near = within_brush(
                        model.vertices, normals, point, session.hand.brush_radius, sight
                    )
                    mask[near] = not takes_away
            changed = np.flatnonzero(mask != before)
            pane.light_up(scan.mesh.vertices[changed], takes_away, scan.mesh.edge_length)
            last = event
            event = yield
    finally:
        pane.light_up(None, False, 0.0)
    if session.hand.stop_at_creases and not takes_away:
        mask = before | within_creases(scan.mesh, mask & ~before)
    if (mask != before).any():
        session.hand.seed = None
        put_region(session, scan, mask, "take away" if takes_away else "brush")


def _between(last: Pointer, event: Pointer, pane: Canvas) -> list[tuple[float, float]]:
    """Return places along a quick move, close enough that the brush leaves no gaps."""
    under = pane.scene.scan_under(*pane.view.ray(event.x, event.y))
    point = pane.view.camera.focus if under is None else under[1].point
    pixels = max(pane.session.hand.brush_radius / pane.view.mm_per_pixel(point), 2.0)
    length = float(np.hypot(event.x - last.x, event.y - last.y))
    steps = min(int(length / (0.6 * pixels)) + 1, 60)
    shares = np.arange(1, steps + 1) / steps
    return [
        (last.x + share * (event.x - last.x), last.y + share * (event.y - last.y))
        for share in shares
    ]
