"""What is drawn over a view with a painter: net, legend, notes, brush, axes."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import scipy
from PySide6.QtCore import QLineF, QPointF, QRect, QRectF, Qt
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFontMetricsF,
    QImage,
    QLinearGradient,
    QPainter,
    QPen,
)

from usual_clay.bench.stage import colours
from usual_clay.bench.stage.judging import JUDGINGS, contour_step, shades
from usual_clay.bench.stage.sights import Sights
from usual_clay.bench.stage.view import View
from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import halo, now, rgb
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.check.reflection import Mirror
from usual_clay.job.items import PointList

MINUS = "\N{MINUS SIGN}"
# A legend that has more to say is so much taller.
MORE = 15
# A view of less pixels across has no room for the legend beside its axes.
NARROW, ROOMY = 420, 240


def signed_text(value: float) -> str:
    """Return a length with its sign and a true minus."""
    return f"{value:+.3f}".replace("-", MINUS)


def draw_run(painter: QPainter, view: View, run: PointList, suggested: Ints) -> None:
    """Draw a run's points as dots, what is taken out hollow, and what may be slips ringed."""
    place = view.project(run.points)[:, :2]
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, len(place) < 4000)

    def dots(which: Ints, pen: QPen) -> None:
        painter.setPen(pen)
        painter.drawPoints([QPointF(x, y) for x, y in place[which]])

    cap = Qt.PenCapStyle.RoundCap
    dots(run.kept, QPen(QColor(now().references), 3.6, Qt.PenStyle.SolidLine, cap))
    dots(run.out, QPen(QColor(now().beaten), 3.0, Qt.PenStyle.SolidLine, cap))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(now().plum), 1.8))
    for x, y in place[suggested]:
        painter.drawEllipse(QPointF(x, y), 6.0, 6.0)


def draw_lit(painter: QPainter, view: View, points: Floats, takes_away: bool, size: float) -> None:
    """Light vertices up as dots that close to an area, while a brush is moving."""
    place = np.rint(view.project(points)[:, :2]).astype(int)
    pixels = int(np.clip(1.7 * size / view.mm_per_pixel(points[0]), 2, 40))
    colour = rgb(now().scan if takes_away else now().region)
    # Dots are widened as a picture: a painter would take its time over a hundred thousand.
    low = place.min(axis=0) - pixels
    low = np.maximum(low, 0)
    high = np.minimum(place.max(axis=0) + pixels, view.size)
    place = place[((place >= low) & (place < high)).all(axis=1)] - low
    if not len(place):
        return
    width, height = high - low
    lit = np.zeros((height, width), dtype=np.uint8)
    lit[place[:, 1], place[:, 0]] = 255
    lit = scipy.ndimage.maximum_filter(lit, size=pixels)
    shades = np.empty((height, width, 4), dtype=np.uint8)
    shades[..., :3] = colours.as_bytes(colour)
    shades[..., 3] = lit
    image = QImage(shades.data, width, height, 4 * width, QImage.Format.Format_RGBA8888)
    painter.drawImage(QPointF(*low), image)


def draw_brush(painter: QPainter, at: QPointF, radius: float, takes_away: bool) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(halo(190), 3.2))
    painter.drawEllipse(at, radius, radius)
    style = Qt.PenStyle.DashLine if takes_away else Qt.PenStyle.SolidLine
    painter.setPen(QPen(QColor(now().accent), 1.6, style))
    painter.drawEllipse(at, radius, radius)


def draw_note(painter: QPainter, at: QPointF, words: str, width: float) -> None:
    """Draw a dark note beside a point, kept inside the view."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    font = text_font(9)
    painter.setFont(font)
    text = QFontMetricsF(font).horizontalAdvance(words)
    box = QRectF(at.x() + 14, at.y() - 36, text + 20, 25)
    box.moveLeft(min(box.left(), width - box.width() - 6))
    box.moveTop(max(box.top(), 40.0))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(now().note))
    painter.drawRoundedRect(box, 6, 6)
    painter.setPen(QColor(now().note_ink))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def draw_invitation(painter: QPainter, box: QRect) -> None:
    """Say in an empty view what can be done with it."""
    painter.setFont(text_font(10))
    painter.setPen(QColor(now().soft_ink))
    words = "Drop a scan, pictures, points or a job here"
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def legend_box(width: float, height: float) -> QRectF:
    """Return where the legend stands in a view."""
    own = min(250.0, width - 24)
    # In a narrow view it stands over the axes.
    return QRectF(width - own - 14, height - (62 if width > NARROW else 112), own, 50)


def draw_legend(painter: QPainter, box: QRectF, tolerance: Tolerance, times: float) -> None:
    """Draw the colours of deviation with their lengths in mm."""
    full = tolerance.deviation * times
    at = np.linspace(-full, full, 101)
    shades_ = colours.deviation_colours(at, tolerance.deviation, full)
    digits = 3 if tolerance.deviation < 0.01 else 2
    ends = f"{full:.{digits}f}"
    words = (f"{MINUS}{ends} outside", f"±{tolerance.deviation:g} mm", f"inside +{ends}")
    _draw_bar(painter, box, shades_, words)


def draw_judging(painter: QPainter, box: QRectF, name: str, sights: Sights) -> None:
    """Draw the colours by which surfaces are judged, with what they stand for."""
    way = JUDGINGS[name]
    if way.moves:
        _draw_panel(painter, box)
        painter.setFont(text_font(8.5))
        painter.setPen(QColor(now().ink))
        middle = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        painter.drawText(box.adjusted(8, 4, -8, -4), middle, mirror_words(name, sights.eye.mirror))
        return
    scale = sights.scale()
    at = np.linspace(*scale, 101)
    low, high = (f"{end:.3g}".replace("-", MINUS) for end in scale)
    # In a narrow view its name alone stands beside the view's.
    words, more = f"{way.title}, {way.unit}" if box.width() > ROOMY else way.unit, ""
    if sights.scaling.contours:
        more = f"a line each {contour_step(scale):.3g} {way.unit}"
        box = box.adjusted(0, -MORE, 0, 0)
    _draw_bar(painter, box, shades(name, at, scale), (f"≤ {low}", words, f"≥ {high}"), more)


def mirror_words(name: str, mirror: Mirror) -> str:
    """Say how what is mirrored is set up."""
    along = "to the eye" if mirror.along == "eye" else f"to {mirror.along}"
    if name == "stripes":
        return f"Stripes, {mirror.count} to half a turn, level {along}"
    if name == "lamp":
        words = f"Lines of a lamp, {mirror.count} to half a turn"
        return f"{words},\nsquare {along}" + (", moved by hand" if any(mirror.turn) else "")
    return "A room with windows and lights, mirrored"


def _draw_panel(painter: QPainter, box: QRectF) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(Qt.PenStyle.NoPen)
    back = QColor(now().panel)
    back.setAlpha(225)
    painter.setBrush(back)
    painter.drawRoundedRect(box, 6, 6)


def _draw_bar(
    painter: QPainter, box: QRectF, shades_: Floats, words: tuple[str, str, str], more: str = ""
) -> None:
    """Draw colours, (n, 3), from left to right, with words under both ends and the middle."""
    _draw_panel(painter, box)
    bar = QRectF(box.left() + 10, box.top() + 9, box.width() - 20, 9)
    painter.setBrush(_brush(shades_.tobytes()))
    painter.drawRoundedRect(bar, 3, 3)
    painter.setFont(text_font(8.5))
    painter.setPen(QColor(now().ink))
    line = QRectF(bar.left(), bar.bottom() + 4, bar.width(), 18)
    sides = (Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight)
    for side, each in zip(sides, words, strict=True):
        painter.drawText(line, side, each)
    painter.drawText(line.translated(0, MORE), Qt.AlignmentFlag.AlignHCenter, more)


# A view is painted at every move of a hand, in the same colours.
@lru_cache(maxsize=4)
def _brush(shades_: bytes) -> QBrush:
    """Return the brush of a bar that runs through colours, (n, 3), from left to right."""
    colours_ = np.frombuffer(shades_).reshape(-1, 3)
    gradient = QLinearGradient(0.0, 0.0, 1.0, 0.0)
    gradient.setCoordinateMode(QLinearGradient.CoordinateMode.ObjectMode)
    for place, colour in zip(np.linspace(0, 1, len(colours_)), colours_, strict=True):
        gradient.setColorAt(float(place), QColor.fromRgbF(*colour))
    return QBrush(gradient)


def draw_axes(painter: QPainter, view: View, corner: QPointF) -> None:
    """Draw the world's axes small in a corner."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setFont(text_font(8))
    camera = view.camera
    for axis, name in zip(np.eye(3), "xyz", strict=True):
        x, y = float(axis @ camera.right), float(axis @ camera.up)
        if np.hypot(x, y) < 0.12:
            continue
        end = corner + QPointF(x * 22, -y * 22)
        painter.setPen(QPen(QColor(now().soft_ink), 1.3))
        painter.drawLine(QLineF(corner, end))
        label = corner + QPointF(x * 31, -y * 31)
        painter.drawText(
            QRectF(label.x() - 8, label.y() - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, name
        )


def draw_scale(painter: QPainter, view: View, corner: QPointF, ratio: float) -> None:
    """Draw a bar of a round length, in true views only, where it means something everywhere."""
    per_pixel = view.camera.height / view.size[1] * ratio
    target = 70 * per_pixel
    power = 10 ** np.floor(np.log10(target))
    length = float(max(step * power for step in (1, 2, 5) if step * power <= target))
    pixels = length / per_pixel
    painter.setPen(QPen(QColor(now().soft_ink), 1.2))
    start, end = corner, corner + QPointF(pixels, 0)
    painter.drawLine(QLineF(start, end))
    for point in (start, end):
        painter.drawLine(QLineF(point - QPointF(0, 3), point + QPointF(0, 3)))
    painter.setFont(text_font(8))
    painter.drawText(
        QRectF(start.x(), start.y() - 19, max(pixels, 60), 15),
        Qt.AlignmentFlag.AlignLeft,
        f"{length:g} mm",
    )
