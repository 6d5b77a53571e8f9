"""Choosing by an outline on the view: a box or a lasso, over a scan's points or a run's."""

from __future__ import annotations

from functools import partial

import numpy as np
from skimage.measure import points_in_poly

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.edits.regions import put_region, region_mask
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.scan.region import within_creases
from usual_clay.job.items import PointList, Scan

HINT = (
    "<b>Drag</b> round what to add to the region, with <b>Ctrl</b> to take away."
    " The card says whether it goes through. <b>Enter</b> casts it."
)
# What lies this much behind the first hit, in edges, is hidden.
BEHIND = 1.5


def drawn_line(pane: Canvas, press: Pointer, box: bool) -> Gesture:
    """Follow the cursor and show the outline; the outline is left in the pane's `drawn`."""
    path = [(press.x, press.y)]
    event = press
    try:
        while event.kind != "release":
            event = yield
            if box:
                path = [
                    (press.x, press.y),
                    (event.x, press.y),
                    (event.x, event.y),
                    (press.x, event.y),
                ]
            else:
                path.append((event.x, event.y))
            pane.show_drawn(np.array(path), event.ctrl)
    finally:
        pane.show_drawn(None, False)
    pane.last_drawn = np.array(path)


def choose_region(pane: Canvas, press: Pointer, box: bool) -> Gesture:
    """Add the scan's points inside the outline to the region; with Ctrl take them away."""
    session = pane.session
    yield from drawn_line(pane, press, box)
    path = pane.last_drawn
    if len(path) < 3 or float(np.ptp(path, axis=0).max()) < 4:
        return
    for scan in session.shown.all(Scan):
        if not (scan.visible and pane.scene.shown.scan):
            continue
        inside = inside_of(pane, scan.mesh.vertices, path)
        if session.hand.front_only:
            inside &= seen(pane, scan, inside)
        if session.hand.stop_at_creases and inside.any():
            inside = within_creases(scan.mesh, inside)
        if inside.any():
            mask = region_mask(session, scan)
            session.hand.seed = None
            words = "take away" if press.ctrl else ("box" if box else "lasso")
            put_region(session, scan, mask & ~inside if press.ctrl else mask | inside, words)
            return
    session.told.emit("news", "No point of a scan lies inside.")


def choose_points(pane: Canvas, press: Pointer) -> Gesture:
    """Mark points of the chosen run: a click one, a drag those in its box; Ctrl unmarks."""
    session = pane.session
    run = session.shown.get(session.choice.item, PointList)
    if run is None:
        session.told.emit("trouble", "Choose a point list first: its points are marked here.")
        return
    yield from drawn_line(pane, press, box=True)
    path = pane.last_drawn
    if float(np.ptp(path, axis=0).max()) < 4:
        place = pane.view.project(run.points)[:, :2]
        away = np.linalg.norm(place - [press.x, press.y], axis=1)
        near = int(np.argmin(away))
        found = np.array([near]) if away[near] < 10 * pane.devicePixelRatioF() else np.zeros(0, int)
        # A click on a marked point lets go of it.
        unmark = press.ctrl or (len(found) > 0 and near in session.choice.ringed)
    else:
        found, unmark = np.flatnonzero(inside_of(pane, run.points, path)), press.ctrl
    change = np.setdiff1d if unmark else np.union1d
    session.choice.ring(change(session.choice.ringed, found).astype(np.int64))


def brush_points(pane: Canvas, press: Pointer) -> Gesture:
    """Mark the points of the chosen run that the brush passes over; Ctrl unmarks."""
    session = pane.session
    run = session.shown.get(session.choice.item, PointList)
    if run is None:
        session.told.emit("trouble", "Choose a point list first: its points are marked here.")
        return
    place = pane.view.project(run.points)[:, :2]
    event = press
    while event.kind != "release":
        pixels = session.hand.brush_radius / pane.view.mm_per_pixel(run.points.mean(axis=0))
        under = np.flatnonzero(np.linalg.norm(place - [event.x, event.y], axis=1) < pixels)
        change = np.setdiff1d if press.ctrl else np.union1d
        session.choice.ring(change(session.choice.ringed, under).astype(np.int64))
        event = yield


def inside_of(pane: Canvas, points: Floats, path: Floats) -> Bools:
    """Tell which points are seen inside an outline of pixels, (n,)."""
    place = pane.view.project(points)[:, :2]
    low, high = path.min(axis=0), path.max(axis=0)
    inside = ((place >= low) & (place <= high)).all(axis=1)
    inside[inside] = points_in_poly(place[inside], path)
    return inside


def seen(pane: Canvas, scan: Scan, of: Bools) -> Bools:
    """Tell which of some of a scan's points nothing of it hides, (n,)."""
    result = np.zeros(len(of), dtype=bool)
    model = pane.scene.model(scan)
    chosen = np.flatnonzero(of)
    if model is None or not len(chosen):
        return result
    origins, directions, far = pane.view.sight_lines(scan.mesh.vertices[chosen])
    _, distance = model.tree.first_hits(origins, directions)
    result[chosen] = distance > far - BEHIND * scan.mesh.edge_length
    return result


box_region = partial(choose_region, box=True)
lasso_region = partial(choose_region, box=False)
