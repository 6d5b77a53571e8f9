"""Recognising: a click on the scan grows the simple shape that lies there."""

from __future__ import annotations

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.edits.scans import recognise
from usual_clay.bench.gestures.pointer import Gesture, Pointer, seed_under, until_release

HINT = (
    "<b>Click</b> a flat, a drilled hole or a ball seat of the scan: its plane, cylinder, cone or"
    " sphere is fitted, with its region."
)


def shape(pane: Canvas, press: Pointer) -> Gesture:
    """Grow a simple shape from the vertex nearest to the click."""
    yield from until_release()
    found = seed_under(pane, press)
    if found is None:
        return
    scan, seed = found
    recognise(pane.session, scan, seed)
