"""Dragging control points of a curve; a held key keeps the motion to an axis or to a leg."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from usual_clay.bench.edits.curves import moved_points
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.arrays import Floats
from usual_clay.job.items import Curve

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane

HINT = (
    "<b>Drag</b> a control point; <b>Shift</b> takes several. While dragging, <b>X Y Z</b> hold it"
    " to an axis, <b>N</b> to its leg, <b>F</b> flat in the view. Arrows nudge."
)
GRAB = 9.0


def point_under(pane: Pane, x: float, y: float) -> int | None:
    """Return the control point of the chosen curve at a pixel."""
    curve = pane.session.shown.get(pane.session.chosen, Curve)
    if curve is None or not curve.visible:
        return None
    place = pane.view.project(curve.geometry.points)[:, :2]
    away = np.hypot(place[:, 0] - x, place[:, 1] - y)
    nearest = int(np.argmin(away))
    return nearest if away[nearest] < GRAB * pane.devicePixelRatioF() else None


def drag_points(pane: Pane, press: Pointer, grabbed: int) -> Gesture:
    """Move the grabbed control point and those chosen with it; keep it on release."""
    session = pane.session
    curve = session.job.get(session.chosen, Curve)
    if curve is None:
        return
    chosen = set(session.control_points)
    if press.shift or press.ctrl:
        session.choose_points(chosen ^ {grabbed})
        return
    if grabbed not in chosen:
        chosen = {grabbed}
        session.choose_points(chosen)
    if not session.may_change(curve):
        return
    which = np.array(sorted(chosen), dtype=np.int64)
    start = curve.geometry.points[grabbed]
    made = None
    event = press
    pane.hold = "f"
    while event.kind != "release":
        event = yield
        by = _motion(pane, event, start, curve.geometry.points, grabbed)
        if made is None and float(np.hypot(event.x - press.x, event.y - press.y)) < 3:
            continue
        made = moved_points(session.job, curve, which, by)
        session.propose(session.job.with_item(made))
    if made is not None:
        session.commit(session.job.with_item(made), f"move points of {curve.name}")


def _motion(pane: Pane, at: Pointer, start: Floats, points: Floats, grabbed: int) -> Floats:
    """Return how far the grabbed point goes: flat in the view, along an axis, or along a leg."""
    origin, direction = pane.view.ray(at.x, at.y)
    sight = pane.view.camera.sight
    along = _held(pane.hold, points, grabbed, origin, direction)
    if along is None:
        share = float((start - origin) @ sight) / float(direction @ sight)
        return origin + share * direction - start
    # The place on the held line that is nearest to the line of sight.
    across = np.cross(along, direction)
    size = float(across @ across)
    if size < 1e-9:
        return np.zeros(3)
    length = float(np.cross(origin - start, direction) @ across) / size
    return length * along


def _held(
    hold: str, points: Floats, grabbed: int, origin: Floats, direction: Floats
) -> Floats | None:
    if hold in "xyz":
        return np.eye(3)["xyz".index(hold)]
    if hold != "n":
        return None
    # Of the two legs the one that the cursor lies nearer to.
    best: tuple[float, Floats] | None = None
    for other in (grabbed - 1, grabbed + 1):
        if 0 <= other < len(points):
            leg = points[other] - points[grabbed]
            length = float(np.linalg.norm(leg))
            if length < 1e-12:
                continue
            leg = leg / length
            away = float(np.linalg.norm(np.cross(points[grabbed] + leg - origin, direction)))
            if best is None or away < best[0]:
                best = (away, leg)
    return None if best is None else best[1]


def nudge(pane: Pane, step: tuple[int, int]) -> None:
    """Move the chosen control points by the nudge step across or up the view."""
    session = pane.session
    curve = session.job.get(session.chosen, Curve)
    if curve is None or not session.may_change(curve):
        return
    camera = pane.view.camera
    by = session.nudge_step * (step[0] * camera.right + step[1] * camera.up)
    made = moved_points(session.job, curve, np.array(sorted(session.control_points)), by)
    session.commit(session.job.with_item(made), f"nudge points of {curve.name}", onto_last=True)
