"""Recognising: a click on the scan grows the simple shape that lies there."""

from __future__ import annotations

from typing import TYPE_CHECKING

from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release
from usual_clay.bench.scan_edits import recognise

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane

HINT = (
    "<b>Click</b> a flat, a drilled hole or a ball seat of the scan: its plane, cylinder, cone or"
    " sphere is fitted, with its region."
)


def shape(pane: Pane, press: Pointer) -> Gesture:
    """Grow a simple shape from the vertex nearest to the click."""
    yield from until_release()
    under = pane.scene.scan_under(*pane.view.ray(press.x, press.y))
    if under is None:
        pane.session.told.emit("trouble", pane.scene.why_no_scan("the cursor"))
        return
    scan, hit = under
    recognise(pane.session, scan, scan.mesh.nearest_corner(hit.triangle, hit.point))
