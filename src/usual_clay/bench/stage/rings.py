"""Control points as open rings, hundreds at once."""

from __future__ import annotations

from functools import lru_cache
from math import ceil

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap

from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Floats


def draw_rings(painter: QPainter, places: Floats, radius: float) -> None:
    """Draw open rings at places, (n, 2) in pixels.

    Each is the same small picture, which is several times faster than as many ellipses.
    """
    ring = _ring(round(radius, 1))
    for x, y in (places - ring.width() / 2).tolist():
        painter.drawPixmap(QPointF(x, y), ring)


@lru_cache(maxsize=32)
def _ring(radius: float) -> QPixmap:
    """Return the picture of an open ring."""
    picture = QPixmap(2 * ceil(radius + 2), 2 * ceil(radius + 2))
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(QColor(now().chosen), 1.5))
    painter.setBrush(QColor(now().panel))
    middle = picture.width() / 2
    painter.drawEllipse(QPointF(middle, middle), radius, radius)
    painter.end()
    return picture
