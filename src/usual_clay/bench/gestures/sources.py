"""Taking sources: a click on the stage gives what lies there to the card that asks for it."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Canvas, Target
from usual_clay.bench.gestures.pointer import Gesture, Pointer, until_release
from usual_clay.core.spline.boundary import BORDERS, Border, border_curve
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.job.items import Surface

HINT = (
    "<b>Click</b> what it is made from, or a surface's edge; once more to leave it out; an arrow"
    " to turn it round."
    " <b>Enter</b> keeps what is shown, <b>Esc</b> drops it."
)
# How near a click must come to a sign, and how far a click may slip, in pixels.
NEAR, SLIPS = 11, 8
# So near to an edge of a surface it is the edge that is taken, in pixels.
EDGE = 9


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
    if target is None:
        return
    border = _edge_under(pane, target)
    if border is None:
        pane.session.hand.offered.emit(target.item)
    else:
        pane.session.hand.edge_offered.emit(target.item, border)


def _edge_under(pane: Canvas, target: Target) -> Border | None:
    """Return the edge of a surface that a click came near to."""
    surface = pane.session.shown.get(target.item, Surface)
    if surface is None:
        return None
    shape, place = surface.geometry, target.hit.point
    reach = EDGE * pane.devicePixelRatioF() * pane.view.mm_per_pixel(place)
    away = {}
    for border in BORDERS:
        edge = border_curve(shape, border)
        # An edge that is a mere point is no curve.
        if np.ptp(edge.points, axis=0).max() > reach:
            away[border] = float(curve_foot_points(edge, place[None])[2][0])
    nearest = min(away, key=away.__getitem__, default=None)
    return nearest if nearest is not None and away[nearest] <= reach else None
