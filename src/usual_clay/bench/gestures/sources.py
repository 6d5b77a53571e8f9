"""Taking sources: a click on the stage gives what lies there to the card that asks for it."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release

HINT = (
    "<b>Click</b> what it is made from, once more to leave it out; an arrow to turn it round."
    " <b>Enter</b> keeps what is shown, <b>Esc</b> drops it."
)
# How near a click must come to a sign, and how far a click may slip, in pixels.
NEAR, SLIPS = 11, 8


def take_sources(pane: Canvas, press: Pointer) -> Gesture:
    """Offer what is under a click; on a sign that can be clicked, do what it does."""
    event = yield from until_release()
    if abs(event.x - press.x) + abs(event.y - press.y) > SLIPS:
        return
    ratio = pane.devicePixelRatioF()
    for sign in pane.session.sight.signs:
        if sign.clicked is None:
            continue
        places = pane.view.project(sign.places)[:, :2]
        if np.linalg.norm(places - [press.x, press.y], axis=1).min() < NEAR * ratio:
            sign.clicked()
            return
    target = pane.target_at(press.x, press.y)
    if target is not None:
        pane.session.hand.offered.emit(target.item)
