"""Overlays of a chosen curve: control polygon, comb, inflections, smallest radius."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from usual_clay.bench.stage.view import View
from usual_clay.bench.theme import palette
from usual_clay.core.check.comb import Comb
from usual_clay.core.spline.curve import BSplineCurve

# The longest quill is this share of the view's height at scale 1.
TALLEST = 0.16


def draw_polygon(
    painter: QPainter, view: View, curve: BSplineCurve, chosen: frozenset[int]
) -> None:
    """Draw control points as open rings on a fine dashed polygon; chosen ones filled."""
    place = view.project(curve.points)[:, :2]
    points = [QPointF(x, y) for x, y in place]
    ink = QColor(palette.INK)
    ink.setAlpha(120)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(ink, 0.9, Qt.PenStyle.DashLine))
    painter.drawPolyline(QPolygonF(points))
    for number, at in enumerate(points):
        held = number in chosen
        painter.setPen(QPen(QColor(palette.CHOSEN), 1.6))
        painter.setBrush(QColor(palette.CHOSEN if held else palette.PANEL))
        painter.drawEllipse(at, 4.6 if held else 3.6, 4.6 if held else 3.6)


def draw_comb(painter: QPainter, view: View, comb: Comb, scale: float) -> None:
    """Draw thin quills away from the bend, a line through their tips, dots at inflections."""
    size = np.linalg.norm(comb.curvature, axis=1)
    greatest = float(np.quantile(size, 0.98)) if len(size) else 0.0
    if greatest <= 1e-12:
        return
    length = scale * TALLEST * view.camera.height / greatest
    quills = np.minimum(size, 1.6 * greatest)[:, None] * length
    unit = comb.curvature / np.maximum(size, 1e-300)[:, None]
    tips = view.project(comb.points - unit * quills)[:, :2]
    feet = view.project(comb.points)[:, :2]
    teal = QColor(palette.TEAL)
    teal.setAlpha(110)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(teal, 0.7))
    step = max(1, len(feet) // 260)
    painter.drawLines(
        [QLineF(*foot, *tip) for foot, tip in zip(feet[::step], tips[::step], strict=True)]
    )
    teal.setAlpha(220)
    painter.setPen(QPen(teal, 1.3))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    # The line breaks where the bend changes its side.
    cuts = np.flatnonzero(np.einsum("nk,nk->n", unit[1:], unit[:-1]) < 0) + 1
    for part in np.split(tips, cuts):
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in part]))
    painter.setPen(QPen(QColor(palette.PANEL), 1.2))
    painter.setBrush(QColor(palette.ACCENT))
    if len(comb.inflections):
        for x, y in view.project(comb.inflections)[:, :2]:
            painter.drawEllipse(QPointF(x, y), 4.0, 4.0)
