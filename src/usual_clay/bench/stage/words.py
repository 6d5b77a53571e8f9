"""A word or a length on the stage, on a small ground of its own."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter

from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import now


def draw_words(painter: QPainter, corner: QPointF, words: str, ink: QColor) -> None:
    """Draw words with the corner of their ground at a place."""
    painter.setFont(font := text_font(8.5))
    width = QFontMetricsF(font).horizontalAdvance(words) + 10
    box = QRectF(corner.x(), corner.y(), width, 17)
    ground = QColor(now().panel)
    ground.setAlpha(225)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(ground)
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(ink)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
