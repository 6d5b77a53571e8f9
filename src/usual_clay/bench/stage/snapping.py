"""What a click or a drag is drawn to: ends, middles, crossings and the like, each named."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from usual_clay.bench.canvas import Canvas, Snap
from usual_clay.bench.stage.words import draw_words
from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.outline import OutlineError, OutlineSettings, find_outline
from usual_clay.core.picture.placement import to_flat, to_space
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import curve_points
from usual_clay.core.spline.make import DrawnSettings, arc_centre
from usual_clay.core.spline.parts import at_length, crossings, length_of
from usual_clay.core.spline.tessellate import curve_points_shown
from usual_clay.files.picture_file import decode
from usual_clay.job.items import Curve, ItemId, Picture, PointList, Scan, Surface

REACH = 10.0
# Curves that pass no nearer in space than this, mm, do not touch where they seem to cross.
TOUCH = 0.001
ROUND = ("arc", "arc about", "circle")
GRID_PIXELS = 14
# What lies farther behind a scan than this share of the view's height is hidden by it.
BEHIND = 0.02


def snap(
    pane: Canvas, x: float, y: float, but: ItemId | None = None, faces: bool = True
) -> Snap | None:
    """Return what lies under the cursor to be drawn to; points before curves, then the grid.

    Parameters
    ----------
    x, y : float
        In the view's pixels.
    but : str, optional
        The curve that is being dragged: it is not drawn to itself.
    faces : bool
        Whether it is drawn onto scans and surfaces where nothing else is near: control points,
        which lie off what they shape, are not.
    """
    if pane.session.hand.snapping == "nothing":
        return None
    if pane.session.hand.snapping == "grid":
        return _grid(pane, x, y)
    reach = REACH * pane.devicePixelRatioF()
    best: tuple[float, Snap] | None = None
    curves = [c for c in pane.session.shown.all(Curve) if c.visible and c.id != but]
    near = _near(pane, curves, x, y, reach)
    hidden: float | None = None
    for places, words in _points(pane, curves, near):
        seen = pane.view.project(places)
        away = np.hypot(seen[:, 0] - x, seen[:, 1] - y)
        if away.min() >= reach:
            continue
        if hidden is None:
            hidden = _hidden_from(pane, x, y)
        away[seen[:, 2] > hidden] = np.inf
        at = int(np.argmin(away))
        if away[at] < reach and (best is None or away[at] < best[0] - 1.0):
            best = (float(away[at]), Snap(places[at], words))
    if best is not None:
        return best[1]
    if near:
        return _on_curve(pane, near[0], x, y)
    if not faces:
        return None
    target = pane.target_at(x, y)
    item = None if target is None else pane.session.shown.items.get(target.item)
    if target is not None and isinstance(item, Scan | Surface):
        return Snap(target.hit.point, f"on {item.name}")
    return None


def _hidden_from(pane: Canvas, x: float, y: float) -> float:
    """Return the depth behind which a scan under the cursor hides what is there."""
    found = pane.scene.scan_under(*pane.view.ray(x, y))
    if found is None:
        return float("inf")
    depth = float(pane.view.project(found[1].point[None])[0, 2])
    return depth + BEHIND * pane.view.camera.height


def _near(pane: Canvas, curves: list[Curve], x: float, y: float, reach: float) -> list[Curve]:
    """Return the curves that pass under the cursor, the nearest first."""
    found = []
    for curve in curves:
        seen = pane.view.project(curve_points_shown(curve.geometry))[:, :2]
        start, way = seen[:-1], np.diff(seen, axis=0)
        size = np.maximum((way**2).sum(axis=1), 1e-12)
        share = np.clip(((np.array([x, y]) - start) * way).sum(axis=1) / size, 0, 1)
        away = np.linalg.norm(start + share[:, None] * way - [x, y], axis=1).min()
        if away < reach:
            found.append((float(away), curve))
    return [curve for _, curve in sorted(found, key=lambda pair: pair[0])]


def _points(pane: Canvas, curves: list[Curve], near: list[Curve]) -> Iterator[tuple[Floats, str]]:
    """Yield places with the word for them, the most wanted first."""
    for curve in curves:
        geometry = curve.geometry
        yield geometry.points[[0, -1]], "end"
        drawn = curve.made_by(DrawnSettings)
        if drawn is not None and drawn.kind in ROUND:
            centre = drawn.array[0]
            if drawn.kind == "arc":
                centre = arc_centre(*curve_points(geometry, [0.0, 0.5, 1.0]))[0]
            yield centre[None], "centre"
    for index, curve in enumerate(near):
        geometry = curve.geometry
        for other in near[:index]:
            yield from _crossing(pane, curve, other)
        yield (
            curve_points(geometry, at_length(geometry, np.array([length_of(geometry) / 2]))),
            ("middle"),
        )
        if len(found := _extremes(pane, curve)):
            yield found, "farthest in the view"
    for curve in curves:
        if curve.id == pane.session.choice.item and len(curve.geometry.points) > 2:
            yield curve.geometry.points[1:-1], "control point"
    for points in pane.session.shown.all(PointList):
        if points.visible and len(points.kept):
            outline = points.made_by(OutlineSettings) is not None
            yield points.points[points.kept], "outline" if outline else f"point of {points.name}"
    if pane.scene.shown.pictures:
        for picture in pane.session.shown.all(Picture):
            if picture.visible and len(pixels := _outline_of(picture.data)):
                flat = to_flat(picture.placement, picture.size, pixels)
                yield to_space(picture.placement, flat), "outline of the picture"


@lru_cache(maxsize=8)
def _outline_of(data: bytes) -> Floats:
    """Return the outline of what stands out in a picture, in pixels; empty where nothing does."""
    try:
        return find_outline(decode(data), OutlineSettings()).pixels
    except OutlineError:
        return np.zeros((0, 2))


def _crossing(pane: Canvas, one: Curve, other: Curve) -> Iterator[tuple[Floats, str]]:
    found = crossings(one.geometry, other.geometry, pane.view.camera.sight)
    for k, gap in enumerate(found.gap):
        words = "crossing" if gap < TOUCH else f"near miss: {gap:.3f} mm apart"
        yield curve_points(one.geometry, found.first[[k]]), words


def _extremes(pane: Canvas, curve: Curve) -> Floats:
    """Return where a curve goes farthest across or up the view."""
    line = curve_points_shown(curve.geometry)
    found = []
    for way in (pane.view.camera.right, pane.view.camera.up):
        height = line @ way
        turn = np.flatnonzero(np.diff(np.sign(np.diff(height))) != 0) + 1
        for at in turn:
            # The top of the parabola through three neighbours, brought back onto the curve.
            a, b, c = height[at - 1 : at + 2]
            shift = 0.5 * (a - c) / (a - 2 * b + c) if abs(a - 2 * b + c) > 1e-12 else 0.0
            guess = line[at] + abs(shift) * (line[at + (1 if shift > 0 else -1)] - line[at])
            found.append(curve_foot_points(curve.geometry, guess[None])[1][0])
    return np.array(found).reshape(-1, 3)


def _on_curve(pane: Canvas, curve: Curve, x: float, y: float) -> Snap:
    """Return the place of a curve under the cursor."""
    origin, way = pane.view.ray(x, y)
    line = curve_points_shown(curve.geometry)
    seen = pane.view.project(line)[:, :2]
    at = int(np.argmin(np.hypot(seen[:, 0] - x, seen[:, 1] - y)))
    place = line[at]
    for _ in range(8):
        on_ray = origin + ((place - origin) @ way) * way
        place = curve_foot_points(curve.geometry, on_ray[None])[1][0]
    return Snap(place, "on curve")


def _grid(pane: Canvas, x: float, y: float) -> Snap | None:
    """Return the nearest round place on the true plane that faces the view."""
    from usual_clay.bench.gestures.mark import place_on_plane

    place = place_on_plane(pane, x, y)
    if place is None:
        return None
    per_pixel = pane.view.mm_per_pixel(place)
    wanted = GRID_PIXELS * per_pixel
    power = 10 ** np.floor(np.log10(wanted))
    step = float(next(power * k for k in (1, 2, 5, 10) if power * k >= wanted))
    # Rounding keeps the axis of the plane's own normal where it is.
    normal = int(np.argmax(np.abs(pane.view.camera.sight)))
    rounded = np.round(place / step) * step
    rounded[normal] = place[normal]
    return Snap(rounded, f"grid {step:g} mm")


def draw_snap(painter: QPainter, pane: Canvas, found: Snap) -> None:
    """Draw a ring round the place with its word beside it."""
    x, y, _ = pane.view.project(found.place[None])[0]
    at = QPointF(float(x), float(y))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    misses = found.words.startswith("near miss")
    colour = QColor(now().plum if misses else now().teal)
    painter.setPen(QPen(colour, 2.0, Qt.PenStyle.DotLine if misses else Qt.PenStyle.SolidLine))
    painter.drawEllipse(at, 7.5, 7.5)
    draw_words(painter, at + QPointF(11, 6), found.words, colour)
