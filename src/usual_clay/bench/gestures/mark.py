"""Marking: clicks set the marks that a card asked for; a drag moves one, or draws a stroke."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.bench.marking import Marking
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import TRUE_PLANES, Placement, Plane, meets

GRAB = 11.0


def mark(pane: Canvas, press: Pointer) -> Gesture:
    """Set a mark, or take hold of the one that is under the cursor."""
    session, marking = pane.session, pane.session.hand.marking
    if marking is None:
        return
    pane.hold_camera()
    if marking.stroke:
        yield from _stroke(pane, press, marking)
        return
    before = marking.points
    grabbed = _held(pane, press, before)
    if grabbed is None:
        # Where all marks are set, a further click begins anew.
        before = before[:0] if marking.is_full else before
        grabbed = len(before)
        if marking.passing is not None and press.shift and grabbed:
            marking = replace(marking, passing=marking.passing | {grabbed})
    event = press
    while True:
        place = marked_place(pane, event, marking)
        if place is not None:
            points = np.concatenate([before[:grabbed], place[None], before[grabbed + 1 :]])
            normal = plane_facing(pane, marking).normal
            facing = (float(normal[0]), float(normal[1]), float(normal[2]))
            session.hand.set_marking(replace(marking.with_places(points), facing=facing))
        elif event is press:
            session.told.emit("trouble", "There is nothing to mark under the cursor.")
        if event.kind == "release":
            break
        event = yield
    now = session.hand.marking
    if now is not None:
        now.changed(now)


def marked_place(pane: Canvas, at: Pointer, marking: Marking) -> Floats | None:
    """Return where a mark lands: what it is drawn to, its plane, or what is under the cursor."""
    plane = marking.plane
    if marking.snaps and (found := pane.snap_at(at.x, at.y)) is not None:
        if plane is None:
            return found.place
        # On a plane the mark lies square before what it is drawn to.
        normal = np.asarray(plane.normal)
        return found.place - ((found.place - np.asarray(plane.origin)) @ normal) * normal
    if plane is None:
        place = pane.place_at(at.x, at.y, marking.on)
        if place is not None or not marking.in_view:
            return place
        plane = plane_facing(pane, marking)
    met = meets(Placement(plane), *pane.view.ray(at.x, at.y))
    return None if met is None else met[0]


def plane_facing(pane: Canvas, marking: Marking | None = None) -> Plane:
    """Return the plane that marks are set on, or the true one that faces the view most."""
    sight = pane.view.camera.sight
    facing = max(TRUE_PLANES.values(), key=lambda each: -float(each.normal @ sight))
    return facing if marking is None else marking.plane or facing


def place_on_plane(pane: Canvas, x: float, y: float) -> Floats | None:
    """Return where the line of sight meets the plane that marks are set on."""
    met = meets(Placement(plane_facing(pane, pane.session.hand.marking)), *pane.view.ray(x, y))
    return None if met is None else met[0]


def _stroke(pane: Canvas, press: Pointer, marking: Marking) -> Gesture:
    """Follow the cursor until it is let go."""
    places: list[Floats] = []
    event = press
    while event.kind != "release":
        if marking.in_view:
            place = place_on_plane(pane, event.x, event.y)
        else:
            place = pane.place_at(event.x, event.y, marking.on)
        if place is not None:
            places.append(place)
            pane.session.hand.set_marking(marking.with_places(np.array(places)))
        event = yield
    now = pane.session.hand.marking
    if now is not None:
        now.changed(now)


def _held(pane: Canvas, press: Pointer, points: Floats) -> int | None:
    if not len(points):
        return None
    place = pane.view.project(points)[:, :2]
    away = np.linalg.norm(place - [press.x, press.y], axis=1)
    nearest = int(np.argmin(away))
    return nearest if away[nearest] < GRAB * pane.devicePixelRatioF() else None
