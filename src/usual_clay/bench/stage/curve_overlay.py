"""Overlays of a chosen curve: control polygon, comb, inflections, smallest radius."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from pyqtgraph.functions import arrayToQPolygonF
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from usual_clay.bench.gestures.drag_handle import Paddle
from usual_clay.bench.stage.marks import draw_thin_line
from usual_clay.bench.stage.rings import draw_rings
from usual_clay.bench.stage.view import View
from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import CombLine
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.tessellate import curve_points_shown
from usual_clay.job.edits.afloat import Held

# The longest quill is this share of the view's height at scale 1.
TALLEST = 0.16
MOST_QUILLS = 160
# Places of the line through the tips.
FINE = 360
# So many of the places on combs of cuts bend no more than what sets their scale.
USUAL = 0.85
# Smooth lines of just this width, in pixels, are painted some twenty times faster than others.
FAST = 1.0


def draw_polygon(
    painter: QPainter, view: View, curve: BSplineCurve, chosen: frozenset[int]
) -> None:
    """Draw control points as open rings on a fine dashed polygon; chosen ones filled."""
    place = view.project(curve.points)[:, :2]
    points = [QPointF(x, y) for x, y in place]
    ink = QColor(now().ink)
    ink.setAlpha(120)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(ink, 0.9, Qt.PenStyle.DashLine))
    painter.drawPolyline(QPolygonF(points))
    draw_rings(painter, place, 3.6)
    painter.setPen(QPen(QColor(now().chosen), 1.6))
    painter.setBrush(QColor(now().chosen))
    for number in chosen:
        if number < len(points):
            painter.drawEllipse(points[number], 4.6, 4.6)


def draw_through(painter: QPainter, view: View, places: Floats, chosen: frozenset[int]) -> None:
    """Draw through-points as small filled lozenges."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    for number, (x, y) in enumerate(view.project(places)[:, :2]):
        size = 6.0 if number in chosen else 4.6
        painter.setPen(QPen(QColor(now().panel), 1.2))
        painter.setBrush(QColor(now().chosen if number in chosen else now().accent))
        ring = [QPointF(x + size * a, y + size * b) for a, b in ((1, 0), (0, 1), (-1, 0), (0, -1))]
        painter.drawPolygon(QPolygonF(ring))


def draw_paddles(painter: QPainter, view: View, handles: Sequence[Paddle | Held]) -> None:
    """Draw handles: stems with a paddle at their ends, square to them."""
    for handle in handles:
        _draw_paddle(painter, view, handle.foot, handle.tip)


def _draw_paddle(painter: QPainter, view: View, foot: Floats, tip: Floats) -> None:
    (x0, y0), (x1, y1) = view.project(np.stack([foot, tip]))[:, :2]
    way = np.array([x1 - x0, y1 - y0])
    way = way / max(float(np.linalg.norm(way)), 1e-9)
    side = np.array([-way[1], way[0]])
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(QColor(now().accent), 1.3))
    painter.drawLine(QLineF(x0, y0, x1, y1))
    painter.setBrush(QColor(now().accent_tint))
    end = np.array([x1, y1])
    ring = [end + a * way + b * side for a, b in ((-3, -5.5), (5, -5.5), (5, 5.5), (-3, 5.5))]
    painter.drawPolygon(QPolygonF([QPointF(*place) for place in ring]))


def draw_in_hand(painter: QPainter, view: View, curve: BSplineCurve, ink: str) -> None:
    """Draw a curve that is being dragged, about as wide as it is rendered."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(QColor(ink), FAST))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    x, y = view.project(curve_points_shown(curve))[:, :2].T
    for by in (-0.4, 0.4):
        painter.drawPolyline(arrayToQPolygonF(x + by, y + by))


def draw_ghost(painter: QPainter, view: View, curve: BSplineCurve) -> None:
    """Draw a curve as it was before the change that is shown."""
    ink = QColor(now().references)
    ink.setAlpha(190)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(ink, FAST, Qt.PenStyle.DashLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    places = view.project(curve_points_shown(curve))[:, :2]
    painter.drawPolyline(arrayToQPolygonF(*places.T))


def draw_comb(
    painter: QPainter,
    view: View,
    comb: CombLine,
    scale: float,
    density: float = 1.0,
    alike: CombLine | None = None,
    quick: bool = False,
) -> None:
    """Draw thin quills away from the bend, a line through their tips, dots at inflections.

    Two combs that are compared are drawn to the scale of the one that they are `alike` to. A
    `quick` one, while a hand drags, has plain quills.
    """
    size = np.linalg.norm(comb.curvature, axis=1)
    measure = size if alike is None else np.linalg.norm(alike.curvature, axis=1)
    greatest = float(np.quantile(measure, 0.98)) if len(measure) else 0.0
    if greatest <= 1e-12:
        return
    length = scale * TALLEST * view.camera.height / greatest
    quills = np.minimum(size, 1.6 * greatest)[:, None] * length
    unit = comb.curvature / np.maximum(size, 1e-300)[:, None]
    tips = view.project(comb.points - unit * quills)[:, :2]
    feet = view.project(comb.points)[:, :2]
    teal = QColor(now().teal)
    teal.setAlpha(110)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, not quick)
    painter.setPen(QPen(teal, 0 if quick else 0.7))
    step = max(1, round(len(feet) / (MOST_QUILLS * density)))
    quill = np.concatenate([feet[::step], tips[::step]], axis=1).tolist()
    painter.drawLines([QLineF(*ends) for ends in quill])
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    teal.setAlpha(220)
    painter.setPen(QPen(teal, FAST))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    # The line breaks where the bend changes its side.
    cuts = np.flatnonzero(np.einsum("nk,nk->n", unit[1:], unit[:-1]) < 0) + 1
    for part in np.split(tips, cuts):
        thin = part[:: max(1, len(tips) // FINE)]
        painter.drawPolyline(arrayToQPolygonF(*np.concatenate([thin, part[-1:]]).T))
    painter.setPen(QPen(QColor(now().panel), 1.2))
    painter.setBrush(QColor(now().accent))
    if len(comb.inflections):
        for x, y in view.project(comb.inflections)[:, :2]:
            painter.drawEllipse(QPointF(x, y), 4.0, 4.0)


def draw_combs_on_cuts(
    painter: QPainter, view: View, combs: Sequence[CombLine], scale: float
) -> None:
    """Draw lines on what is made with their combs, all to one scale."""
    if not combs:
        return
    sizes = np.linalg.norm(np.concatenate([comb.curvature for comb in combs]), axis=1)
    # One tight place is not to lay all the rest flat.
    usual = np.array([[float(np.quantile(sizes, USUAL)), 0.0, 0.0]])
    like = CombLine(usual, usual, usual[:0])
    for comb in combs:
        draw_thin_line(painter, view, comb.points)
        draw_comb(painter, view, comb, scale, 1.0, like)
