"""The sheet of sections: what planes cut from surface and scan, side by side and to one scale."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pyqtgraph.functions import arrayToQPolygonF
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from usual_clay.bench.edits.surfaces import reshape_surface
from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Floats
from usual_clay.core.check.cuts import Cut, cut_mesh, cut_surface, pulled
from usual_clay.core.check.deviation import at_share, distance_levels, percent
from usual_clay.core.check.live import LiveFeet
from usual_clay.core.spline.closest import foot_points
from usual_clay.job.edits.surfaces import live_of_surface, reshaped_surface
from usual_clay.job.items import Scan, Surface

# Across and up of the paper for planes square to x, y and z.
PAPER = {0: (1, 2), 1: (0, 2), 2: (0, 1)}
MARGIN, HEAD, FOOT, GRAB = 14, 44, 24, 9.0
NICE = (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500)

HINT = (
    "<b>Drag</b> the surface's line in a section: the surface follows. The <b>wheel</b> makes all"
    " sections larger. <b>Esc</b> goes back to the views."
)


@dataclass(frozen=True)
class Planes:
    """Where is cut, and how many times larger than true distances are drawn."""

    axis: int
    places: tuple[float, ...]
    magnified: float


@dataclass
class _Hold:
    """A drag of the surface's line: what is moved, and from where."""

    surface: Surface
    at: tuple[float, float]
    start: Floats
    panel: int
    live: LiveFeet | None
    moved: bool = False


class Sheet(Guarded, QWidget):
    """One small drawing for each plane. The surface's line can be dragged; the surface follows."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.planes: Planes | None = None
        self.cuts: list[Cut] = []
        self._scan: tuple[tuple, list[tuple[Floats, ...]]] = ((), [])
        self._shown: tuple = ()
        self._hold: _Hold | None = None
        self._zoom = 1.0
        self.setMouseTracking(True)
        self.setAccessibleName("Sections side by side")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        session.job_changed.connect(self.follow)
        session.choice.changed.connect(self.follow)

    def show_planes(self, planes: Planes | None) -> None:
        """Cut there; None ends it."""
        self.planes = planes
        self.follow()

    def follow(self) -> None:
        """Cut what is shown now."""
        surface = self.session.choice.surface()
        if self.planes is None or surface is None or not self.isVisible():
            self.cuts, self._shown = [], ()
            self.update()
            return
        planes = self.planes
        shown = (surface.geometry, planes.axis, planes.places)
        if self._shown and self._shown[0] is shown[0] and self._shown[1:] == shown[1:]:
            self.update()
            return
        self._shown = shown
        scan = self._cut_scan(surface, planes)
        self.cuts = cut_surface(surface.geometry, planes.axis, planes.places, scan)
        self.update()

    def _cut_scan(self, surface: Surface, planes: Planes) -> list[tuple[Floats, ...]]:
        """Return the scan's sections, cut anew only where planes or scan are others."""
        measured = self.session.shown.measured(surface)
        scan = self.session.shown.get(getattr(measured, "scan", None), Scan)
        if scan is None:
            return [() for _ in planes.places]
        made_of = (id(scan.mesh), planes.axis, planes.places)
        if self._scan[0] != made_of:
            self._scan = (made_of, cut_mesh(scan.mesh, planes.axis, planes.places))
        return self._scan[1]

    # ---- where things are on the paper ---------------------------------------------------

    def _grid(self) -> tuple[int, int]:
        """Return columns and rows of the drawings."""
        count = max(len(self.cuts), 1)
        columns = int(np.ceil(np.sqrt(count * self.width() / max(self.height(), 1) / 1.15)))
        columns = int(np.clip(columns, 1, count))
        return columns, -(-count // columns)

    def panel(self, index: int) -> QRectF:
        """Return a drawing's place on the sheet."""
        columns, rows = self._grid()
        width, height = self.width() / columns, self.height() / rows
        return QRectF(index % columns * width, index // columns * height, width, height)

    def _middle_and_scale(self) -> tuple[Floats, float]:
        """Return the middle of all sections on the paper, mm, and pixels for a millimetre."""
        axes = PAPER[self.planes.axis if self.planes is not None else 0]
        lines = [line[:, axes] for cut in self.cuts for line in cut.surface]
        if not lines:
            return np.zeros(2), 1.0
        every = np.concatenate(lines)
        low, high = every.min(axis=0), every.max(axis=0)
        room = self.panel(0)
        size = np.maximum(high - low, 1e-6)
        fit = min(
            (room.width() - 2 * MARGIN) / size[0],
            (room.height() - HEAD - FOOT - 2 * MARGIN) / size[1],
        )
        return (low + high) / 2, 0.92 * float(fit) * self._zoom

    def on_paper(self, index: int, points: Floats) -> Floats:
        """Return where points, (n, 3), lie in a drawing, in pixels."""
        axes = PAPER[self.planes.axis if self.planes is not None else 0]
        middle, scale = self._middle_and_scale()
        room = self.panel(index)
        place = (points[:, axes] - middle) * [scale, -scale]
        return place + np.array([room.center().x(), room.center().y() + (HEAD - FOOT) / 2])

    def _in_space(self, pixels: Floats) -> Floats:
        """Return a step in mm for one on the paper."""
        axes = PAPER[self.planes.axis if self.planes is not None else 0]
        by = np.zeros(3)
        by[list(axes)] = pixels / self._middle_and_scale()[1] * [1, -1]
        return by

    # ---- drawing -------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(now().panel))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
        for index, cut in enumerate(self.cuts):
            room = self.panel(index)
            painter.save()
            painter.setClipRect(room.adjusted(0, HEAD, 0, 0))
            self._draw_lines(painter, index, cut)
            painter.restore()
            self._draw_words(painter, index, cut)
            painter.setPen(QPen(QColor(now().line), 1))
            painter.drawRect(room)
        if self.cuts:
            self._draw_scale(painter)
        else:
            painter.setPen(QColor(now().soft_ink))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Choose a surface to cut.")

    def _draw_lines(self, painter: QPainter, index: int, cut: Cut) -> None:
        planes, tolerance = self.planes, self.session.shown.tolerance
        assert planes is not None
        painter.setPen(QPen(QColor(now().references), 1.2))
        for line in cut.scan:
            painter.drawPolyline(arrayToQPolygonF(*self.on_paper(index, line).T))
        painter.setPen(QPen(QColor(now().ink), 1.8))
        for line in cut.surface:
            painter.drawPolyline(arrayToQPolygonF(*self.on_paper(index, line).T))
        feet = self.on_paper(index, cut.feet)
        tips = self.on_paper(index, cut.feet + planes.magnified * (cut.points - cut.feet))
        inside = np.abs(cut.signed) <= tolerance.deviation
        outside = ~inside & (cut.signed > 0)
        for which, colour in (
            (inside, now().surfaces),
            (outside, now().teal),
            (~inside & ~outside, now().plum),
        ):
            painter.setPen(QPen(QColor(colour), 1.0))
            ends = np.concatenate([feet[which], tips[which]], axis=1).tolist()
            painter.drawLines([QLineF(*four) for four in ends])

    def _draw_words(self, painter: QPainter, index: int, cut: Cut) -> None:
        planes, tolerance, room = self.planes, self.session.shown.tolerance, self.panel(index)
        assert planes is not None
        painter.setPen(QColor(now().ink))
        painter.setFont(text_font(10, QFont.Weight.DemiBold))
        name = f"{'xyz'[planes.axis]} = {cut.at:.1f} mm".replace("-", "−")
        painter.drawText(QPointF(room.left() + 10, room.top() + 18), name)
        painter.setFont(text_font(9))
        painter.setPen(QColor(now().soft_ink))
        words = "does not cut the surface"
        if len(cut.signed):
            near = at_share(distance_levels(cut.signed), tolerance.share)
            most = np.abs(cut.signed).max()
            words = f"{percent(tolerance.share)} within {near:.3f}, most {most:.3f} mm"
        elif cut.surface:
            words = "no scan over it"
        painter.drawText(
            QRectF(room.left() + 10, room.top() + 22, room.width() - 20, 18),
            Qt.AlignmentFlag.AlignLeft,
            words,
        )

    def _draw_scale(self, painter: QPainter) -> None:
        assert self.planes is not None
        scale = self._middle_and_scale()[1]
        length = next((n for n in NICE if n * scale > 46), NICE[-1])
        room = self.panel(0)
        left, low = room.left() + 12, room.bottom() - 12
        painter.setPen(QPen(QColor(now().soft_ink), 1.2))
        painter.drawLine(QLineF(left, low, left + length * scale, low))
        for x in (left, left + length * scale):
            painter.drawLine(QLineF(x, low - 4, x, low))
        painter.setFont(text_font(9))
        painter.drawText(
            QPointF(left, low - 7), f"{length:g} mm; distances × {self.planes.magnified:g}"
        )

    # ---- the hand ------------------------------------------------------------------------

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._zoom = float(np.clip(self._zoom * 1.15 ** (event.angleDelta().y() / 120), 1.0, 40.0))
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        surface = self.session.job.get(self.session.choice.item, Surface)
        if event.button() != Qt.MouseButton.LeftButton or surface is None:
            return
        at = np.array([event.position().x(), event.position().y()])
        best: tuple[float, int, Floats] | None = None
        for index, cut in enumerate(self.cuts):
            if not self.panel(index).contains(event.position()):
                continue
            for line in cut.surface:
                away = np.linalg.norm(self.on_paper(index, line) - at, axis=1)
                near = int(np.argmin(away))
                if away[near] < GRAB and (best is None or away[near] < best[0]):
                    best = (float(away[near]), index, line[near])
        if best is None or not self.session.may_change(surface):
            return
        foot = foot_points(surface.geometry, best[2][None])
        self._hold = _Hold(
            surface,
            (float(foot.u[0]), float(foot.v[0])),
            at,
            best[1],
            live_of_surface(self.session.job, surface),
        )
        self.session.hand.dragging = self

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        hold = self._hold
        if hold is None:
            return
        at = np.array([event.position().x(), event.position().y()])
        if not hold.moved and np.abs(at - hold.start).max() < 3:
            return
        hold.moved = True
        made = self._moved(hold, at)
        shown = reshaped_surface(self.session.job, hold.surface, made, hold.live)
        self.session.show_moved(shown)

    def _moved(self, hold: _Hold, at: Floats):  # type: ignore[no-untyped-def]
        return pulled(hold.surface.geometry, *hold.at, self._in_space(at - hold.start))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        hold, self._hold = self._hold, None
        self.session.hand.dragging = None
        if hold is None or not hold.moved:
            return
        at = np.array([event.position().x(), event.position().y()])
        before = self.session.job.report(hold.surface)
        if before is not None:
            self.session.sight.before_move[hold.surface.id] = before
        words = f"drag a section of {hold.surface.name}"
        reshape_surface(self.session, hold.surface, self._moved(hold, at), words, hold.live)

    def drop(self) -> bool:
        """End a drag without keeping it; tell whether there was one."""
        if self._hold is None:
            return False
        self._hold = self.session.hand.dragging = None
        self.session.propose(None)
        return True
