"""Overlays of what the hand sets: marks, handles, outlines, and what a card lights up."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from usual_clay.bench.gestures.drag_picture import turn_handle
from usual_clay.bench.marking import Marking
from usual_clay.bench.sight import Sign
from usual_clay.bench.stage.view import View
from usual_clay.bench.stage.words import draw_words
from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import halo, now
from usual_clay.core.arrays import Floats
from usual_clay.core.check.measure import Figure
from usual_clay.core.picture.placement import Placement, corners


def draw_marks(painter: QPainter, view: View, marking: Marking) -> None:
    """Draw marks as crossed rings with their numbers, a stroke as a line."""
    if not marking.places:
        return
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    place = view.project(marking.points)[:, :2]
    points = [QPointF(x, y) for x, y in place]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    pen = QPen(QColor(now().accent), 1.6)
    if marking.stroke or marking.joined:
        painter.setPen(QPen(QColor(now().accent), 2.0 if marking.stroke else 1.2))
        line = points if marking.stroke or len(points) < 3 else [*points, points[0]]
        painter.drawPolyline(QPolygonF(line))
    if marking.stroke:
        return
    painter.setFont(text_font(9))
    for k in marking.passing or ():
        # A point on the way: a small filled lozenge, as through-points are.
        at = points[k]
        painter.setPen(QPen(QColor(now().panel), 1.2))
        painter.setBrush(QColor(now().accent))
        ring = ((5, 0), (0, 5), (-5, 0), (0, -5))
        painter.drawPolygon(QPolygonF([at + QPointF(*step) for step in ring]))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for number, at in enumerate((points[k] for k in marking.corners), start=1):
        painter.setPen(QPen(halo(200), 3.4))
        painter.drawEllipse(at, 6.5, 6.5)
        painter.setPen(pen)
        painter.drawEllipse(at, 6.5, 6.5)
        for dx, dy in ((10, 0), (0, 10)):
            painter.drawLine(at - QPointF(dx, dy), at - QPointF(dx, dy) * 0.25)
            painter.drawLine(at + QPointF(dx, dy), at + QPointF(dx, dy) * 0.25)
        box = QRectF(at.x() + 9, at.y() - 20, 20, 15)
        painter.setPen(QColor(now().accent_ink))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(number))


def draw_handles(painter: QPainter, view: View, placement: Placement) -> None:
    """Draw a chosen picture's frame, its corners to scale by, and the stem to turn it by."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    ring = corners(placement)
    top = (ring[0] + ring[1]) / 2
    places = view.project(np.concatenate([ring, [top, turn_handle(placement)]]))[:, :2]
    points = [QPointF(x, y) for x, y in places]
    painter.setPen(QPen(QColor(now().chosen), 1.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolygon(QPolygonF(points[:4]))
    painter.drawLine(points[4], points[5])
    painter.setBrush(QColor(now().panel))
    for at in points[:4]:
        painter.drawRect(QRectF(at.x() - 4, at.y() - 4, 8, 8))
    painter.drawEllipse(points[5], 5.0, 5.0)


def draw_outline(painter: QPainter, path: Floats, takes_away: bool) -> None:
    """Draw the outline that a box or a lasso is drawing, in pixels."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    tint = QColor(now().accent)
    tint.setAlpha(28)
    painter.setBrush(tint)
    style = Qt.PenStyle.DashLine if takes_away else Qt.PenStyle.SolidLine
    painter.setPen(QPen(QColor(now().accent), 1.4, style))
    painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in path]))


def draw_sign(painter: QPainter, view: View, sign: Sign, words: bool) -> None:
    """Draw an arrow along a curve with its words at its foot, or a ring with words beside it."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    places = [QPointF(x, y) for x, y in view.project(sign.places)[:, :2]]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    ink = QColor(now().plum if sign.ring else now().accent)
    if sign.ring:
        for pen in (QPen(halo(210), 4.2), QPen(ink, 2.0)):
            painter.setPen(pen)
            painter.drawEllipse(places[0], 9.0, 9.0)
    else:
        head = _arrow_head(places)
        for pen in (QPen(halo(210), 4.6), QPen(ink, 2.2)):
            painter.setPen(pen)
            painter.drawPolyline(QPolygonF(places))
            painter.drawPolyline(QPolygonF(head))
    if words:
        at = places[-1 if sign.at_tip else 0]
        draw_words(painter, at + QPointF(10, -20), sign.words, ink)


def draw_dimension(painter: QPainter, view: View, figure: Figure, chosen: bool) -> None:
    """Draw a line between the places that were measured, ticks at its ends, and the figure."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    places = view.project(figure.ends)[:, :2]
    ink = QColor(now().chosen if chosen else now().accent)
    ends = [QPointF(x, y) for x, y in places]
    for pen in (QPen(halo(210), 4.0), QPen(ink, 1.6)):
        painter.setPen(pen)
        if len(ends) > 1:
            painter.drawPolyline(QPolygonF(ends))
        for end in (ends[0], ends[-1]):
            painter.drawEllipse(end, 3.5, 3.5)
    middle = places[len(places) // 2] if len(places) > 2 else places.mean(axis=0)
    words = QColor(now().ink if chosen else now().accent)
    draw_words(painter, QPointF(*middle) + QPointF(8, -18), figure.words, words)


def _arrow_head(places: list[QPointF]) -> list[QPointF]:
    """Return the two barbs at an arrow's tip, in pixels."""
    tip, before = places[-1], places[max(len(places) - 6, 0)]
    way = np.array([tip.x() - before.x(), tip.y() - before.y()])
    size = float(np.linalg.norm(way))
    if size < 1e-6:
        return [tip, tip, tip]
    x, y = way / size
    back, wide = 8.0, 4.5
    return [
        QPointF(tip.x() - back * x - side * wide * y, tip.y() - back * y + side * wide * x)
        if side
        else tip
        for side in (1, 0, -1)
    ]


def draw_graded(painter: QPainter, view: View, line: Floats, bad: Floats) -> None:
    """Draw a polyline by how bad it is along it, (n,): teal as it may be, plum and wide past 1."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    places = [QPointF(x, y) for x, y in view.project(line)[:, :2]]
    past = np.maximum(bad[:-1], bad[1:]) > 1
    ends = np.flatnonzero(np.diff(past)) + 1
    for part in np.split(np.arange(len(past)), ends):
        ink, wide = (now().plum, 4.0) if past[part[0]] else (now().teal, 2.2)
        run = QPolygonF(places[part[0] : part[-1] + 2])
        for pen in (QPen(halo(190), wide + 2), QPen(QColor(ink), wide)):
            painter.setPen(pen)
            painter.drawPolyline(run)


def draw_thin_line(painter: QPainter, view: View, line: Floats) -> None:
    """Draw a polyline as what something else stands on."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(QColor(now().ink), 1.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in view.project(line)[:, :2]]))


def draw_lit_lines(painter: QPainter, view: View, line: Floats) -> None:
    """Draw a polyline, or a single point as a ring, that a card lights up."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, len(line) < 2000)
    places = view.project(line)[:, :2]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(now().accent), 2.2))
    if len(places) == 1:
        painter.drawEllipse(QPointF(*places[0]), 6.0, 6.0)
    else:
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in places]))
