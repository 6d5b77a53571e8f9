"""The charts of the balance: control points against deviation, and how the error is spread."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from usual_clay.bench.charts import LogAxis, plain_plot, wear
from usual_clay.bench.guard import Guarded, guarded
from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import now, themes
from usual_clay.bench.widgets import label
from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.search.candidates import Candidate, knee_of, pareto_front

# Candidates so many decades above what is aimed at are far off: they need not be in sight.
HIGHEST = 1.6
# The note stands so far beside the line of the present balance, pixels.
NOTE_GAP = 8.0

# Below this share of the range the tolerance's two marks would run into each other.
CROWDED = 0.3
# How wide the name of a place on the axis is at most, pixels.
LABEL = 44.0

# Control points, deviation in mm, and words of the item as it is.
Present = tuple[float, float, str]


def size_of(words: pg.TextItem) -> QSizeF:
    """Return how large words are, pixels."""
    return words.boundingRect().size()


class Chart(QWidget):
    """The candidates as dots; the present one is dragged along the front.

    Signals
    -------
    taken : the candidate that was clicked or dragged to
    """

    taken = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.plot = plain_plot(left=LogAxis("left"), bottom=LogAxis("bottom"))
        self.plot.setAccessibleName("Balance chart")
        self.plot.setToolTip("Click a dot, or drag along the front, to choose a balance")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.plot)
        self.plot.getAxis("left").setWidth(44)
        self.noise = pg.LinearRegionItem(
            orientation="horizontal", movable=False, pen=pg.mkPen(None)
        )
        self.tolerance = pg.InfiniteLine(angle=0)
        self.present_line = pg.InfiniteLine(angle=90)
        self.others = pg.ScatterPlotItem(size=6, pen=None)
        self.front_line = pg.PlotDataItem()
        self.front_dots = pg.ScatterPlotItem(size=7, pen=None)
        self.present = pg.ScatterPlotItem(size=13)
        self.knee = pg.ScatterPlotItem(size=15)
        self.knee_words = pg.TextItem("knee", anchor=(-0.25, 0.9))
        self.tolerance_words = pg.TextItem()
        # Where they end, along the axis.
        self._words_end = 0.0
        self.noise_words = pg.TextItem()
        self.note = pg.TextItem()
        self.plot.getViewBox().sigResized.connect(lambda _box: self._place_words())
        for words in (self.tolerance_words, self.noise_words, self.note, self.knee_words):
            words.setFont(text_font(8.5))
        for item in (
            self.noise,
            self.tolerance,
            self.present_line,
            self.others,
            self.front_line,
            self.front_dots,
            self.knee,
            self.present,
            self.tolerance_words,
            self.noise_words,
            self.knee_words,
            self.note,
        ):
            self.plot.addItem(item, ignoreBounds=True)
        self._places: list[tuple[float, float, Candidate]] = []
        self._front: list[tuple[float, float, Candidate]] = []
        self._dragged: tuple[int, int] | None = None
        viewport = self.plot.viewport()
        viewport.setCursor(Qt.CursorShape.PointingHandCursor)
        self.plot.mousePressEvent = guarded(self._press)
        self.plot.mouseMoveEvent = guarded(self._move)
        self.plot.mouseReleaseEvent = guarded(self._release)
        self.paint()
        themes.changed.connect(self.paint)

    def paint(self) -> None:
        """Give everything the colours of the theme."""
        worn = now()
        wear(self.plot)
        self.noise.setBrush(QColor(worn.ground).darker(104))
        self.tolerance.setPen(pg.mkPen(worn.ink, width=1, style=Qt.PenStyle.DashLine))
        self.present_line.setPen(pg.mkPen(worn.chosen, width=1.5))
        self.others.setBrush(QColor(worn.beaten))
        self.front_line.setPen(pg.mkPen(worn.accent, width=1.8))
        self.front_dots.setBrush(QColor(worn.accent))
        self.present.setPen(pg.mkPen(worn.panel, width=1.5))
        self.present.setBrush(QColor(worn.chosen))
        self.knee.setPen(pg.mkPen(worn.accent, width=1.4))
        self.knee.setBrush(QColor(0, 0, 0, 0))
        self.knee_words.setColor(worn.accent_ink)
        self.tolerance_words.setColor(worn.ink)
        self.noise_words.setColor(worn.soft_ink)
        self.note.setColor(worn.note_ink)
        self.note.fill = pg.mkBrush(worn.note)
        self.note.update()

    def show_candidates(
        self,
        candidates: list[Candidate],
        present: Present | None,
        tolerance: float,
        share: float,
        floor: float,
    ) -> None:
        """Show candidates, the present one as (control points, deviation, words)."""
        front = pareto_front(candidates, share)
        self._places = [self._place(c, share) for c in candidates]
        self._front = [self._place(c, share) for c in front]
        beaten = [place for place in self._places if place[2] not in front]
        self.others.setData([p[0] for p in beaten], [p[1] for p in beaten])
        xs, ys = [p[0] for p in self._front], [p[1] for p in self._front]
        self.front_line.setData(xs, ys)
        self.front_dots.setData(xs, ys)
        knee = knee_of(front, share)
        self.knee.setVisible(knee is not None)
        self.knee_words.setVisible(knee is not None)
        if knee is not None:
            x, y, _ = self._place(knee, share)
            self.knee.setData([x], [y])
            self.knee_words.setPos(x, y)
        line = float(np.log10(tolerance))
        self.tolerance.setValue(line)
        self._set_range(present, line, floor)
        low, high = self.plot.viewRange()[1]
        # Above the mark, but beside it where that would be cut off.
        at_top = self.knee_words.pos().y() > high - 0.2 * (high - low)
        self.knee_words.setAnchor((-0.25, 0.4 if at_top else 0.9))
        self.tolerance_words.setText(f"tolerance {tolerance:.3f}")
        # The front lies below it where it has most control points; the present line is left free.
        (start, end), _ = self.plot.viewRange()
        if present is not None and (at := float(np.log10(present[0]))) > 0.3 * start + 0.7 * end:
            end = at - 0.01 * (end - start)
        self._words_end = end
        self.noise.setVisible(floor > 0)
        self.noise_words.setVisible(floor > 0)
        if floor > 0:
            self.noise.setRegion((-9.0, float(np.log10(floor))))
            self.noise_words.setText(f"noise {floor:.3f}: below it points only copy noise")
        self._show_present(present)

    def _place(self, c: Candidate, share: float) -> tuple[float, float, Candidate]:
        return float(np.log10(c.total)), float(np.log10(max(c.deviation(share), 1e-6))), c

    def _set_range(self, present: Present | None, line: float, floor: float) -> None:
        xs = [place[0] for place in self._places]
        ys = [place[1] for place in self._places] + [line]
        if present is not None:
            xs.append(float(np.log10(present[0])))
            ys.append(float(np.log10(max(present[1], 1e-6))))
        if floor > 0:
            ys.append(float(np.log10(floor)))
        left, right = (min(xs), max(xs)) if xs else (1.2, 2.6)
        middle, half = (left + right) / 2, max((right - left) / 2 * 1.12, 0.42)
        self.plot.setXRange(middle - half, middle + half, padding=0)
        top = max(line, np.log10(max(present[1], 1e-6)) if present is not None else line) + HIGHEST
        low, high = min(ys) - 0.3, min(max(ys), top) + 0.1
        self.plot.setYRange(low, max(high, low + 1.0), padding=0)

    def _show_present(self, present: Present | None) -> None:
        for item in (self.present, self.present_line, self.note):
            item.setVisible(present is not None)
        if present is not None:
            x, y = float(np.log10(present[0])), float(np.log10(max(present[1], 1e-6)))
            self.present.setData([x], [y])
            self.present_line.setValue(x)
            self.note.setText(present[2])
        self._place_words()

    def _place_words(self) -> None:
        """Place the note, and the words of each line where they cover nothing that was placed."""
        box, taken = self.plot.getViewBox(), list[QRectF]()
        if self.note.isVisible():
            # It hangs from the top, beside the present line: where it fits, and never cut off.
            at, wide = self._pixel(self.present_line.value(), 0.0).x(), size_of(self.note).width()
            after, before = at + NOTE_GAP, at - NOTE_GAP - wide
            fits = after + wide <= box.width()
            left = after if fits else before if before >= 0 else box.width() - wide
            self._put(self.note, [QPointF(left, 0.0)], taken)
        if self.noise_words.isVisible():
            down = self._pixel(0.0, self.noise.getRegion()[1]).y()
            right = box.width() - size_of(self.noise_words).width()
            self._put(self.noise_words, [QPointF(0.0, down), QPointF(right, down)], taken)
        line = self._pixel(self._words_end, self.tolerance.value())
        size = size_of(self.tolerance_words)
        above, right = line.y() - size.height(), line.x() - size.width()
        places = [(right, above), (0.0, above), (right, line.y())]
        self._put(self.tolerance_words, [QPointF(*place) for place in places], taken)

    def _put(self, words: pg.TextItem, corners: list[QPointF], taken: list[QRectF]) -> None:
        """Put words at the first corner where they cover nothing, or at the last; note it."""
        places = [QRectF(corner, size_of(words)) for corner in corners]
        free = (place for place in places if not any(map(place.intersects, taken)))
        place = next(free, places[-1])
        words.setPos(self.plot.getViewBox().mapToView(place.topLeft()))
        taken.append(place)

    def _pixel(self, x: float, y: float) -> QPointF:
        """Return where a place of the axes lies within the chart, pixels from its top left."""
        return self.plot.getViewBox().mapFromView(QPointF(x, y))

    # ---- mouse ---------------------------------------------------------------------------

    def _press(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._places:
            at = self._at(event)
            nearest = min(self._places, key=lambda p: self._pixels(p, at))
            if self._pixels(nearest, at) < 14:
                self._take(nearest[2])
            else:
                self._take_along(at)

    def _move(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton and self._front:
            self._take_along(self._at(event))

    def _release(self, _event: QMouseEvent) -> None:
        self._dragged = None

    def _take_along(self, at: QPointF) -> None:
        view = self.plot.getViewBox()
        x = view.mapSceneToView(at).x()
        self._take(min(self._front, key=lambda place: abs(place[0] - x))[2])

    def _take(self, candidate: Candidate) -> None:
        pair = (candidate.nu, candidate.nv)
        if pair != self._dragged:
            self._dragged = pair
            self.taken.emit(candidate)

    def _at(self, event: QMouseEvent) -> QPointF:
        return self.plot.mapToScene(event.position().toPoint())

    def _pixels(self, place: tuple[float, float, Candidate], at: QPointF) -> float:
        there = self.plot.getViewBox().mapViewToScene(QPointF(place[0], place[1]))
        return float(np.hypot(there.x() - at.x(), there.y() - at.y()))


class Histogram(Guarded, QWidget):
    """Signed deviations, the tolerance, and the share inside it."""

    def __init__(self) -> None:
        super().__init__()
        # The tolerance, and how far the axis goes.
        self._ends = (1.0, 1.0)
        self.plot = plain_plot()
        self.plot.setAccessibleName("Histogram of deviation")
        self.plot.hideAxis("left")
        self.bars = pg.BarGraphItem(x=[], height=[], width=1.0)
        self.lines = [pg.InfiniteLine() for _ in range(2)]
        for item in (self.bars, *self.lines):
            self.plot.addItem(item, ignoreBounds=True)
        self.share = label(role="figure")
        self.words = label(role="small", wraps=True)
        self.words.setFixedWidth(92)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 4, 0, 0)
        figures = QVBoxLayout()
        figures.setSpacing(1)
        figures.addWidget(self.share)
        figures.addWidget(self.words)
        figures.addStretch(1)
        layout.addLayout(figures)
        layout.addWidget(self.plot, 1)
        self.paint()
        themes.changed.connect(self.paint)

    def paint(self) -> None:
        """Give axes and lines the colours of the theme; the bars get theirs with what they show."""
        wear(self.plot)
        for line in self.lines:
            line.setPen(pg.mkPen(now().ink, width=1, style=Qt.PenStyle.DashLine))

    def show_signed(self, signed: Floats, tolerance: float, within: float, of: str) -> None:
        """Show deviations in mm."""
        reach = max(3 * tolerance, min(float(np.quantile(np.abs(signed), 0.99)), 12 * tolerance))
        counts, edges = np.histogram(signed, 61, (-reach, reach))
        middles = (edges[1:] + edges[:-1]) / 2
        brushes = [
            QColor(now().calm if abs(x) <= tolerance else now().teal if x > 0 else now().plum)
            for x in middles
        ]
        self.bars.setOpts(
            x=middles,
            height=counts,
            width=(edges[1] - edges[0]) * 0.86,
            brushes=brushes,
            pen=pg.mkPen(None),
        )
        self.lines[0].setValue(-tolerance)
        self.lines[1].setValue(tolerance)
        self.plot.setXRange(-reach * 1.3, reach * 1.3, padding=0)
        self.plot.setYRange(0, counts.max() * 1.08, padding=0)
        self._ends = tolerance, reach
        self._name_ends()
        self.share.setText(percent(within))
        beyond = int(np.sum(np.abs(signed) > reach))
        extra = f"; {beyond} lie past ±{reach:.2g} mm" if beyond else ""
        points = f"{len(signed):,} points".replace(",", " ")
        self.words.setText(f"{of.format(points=points)}{extra}")

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._name_ends()

    def _name_ends(self) -> None:
        """Name the tolerance and the ends of the axis, as far as there is room."""
        tolerance, reach = self._ends
        minus, half = "\N{MINUS SIGN}", self.plot.width() / 2
        inner = [(-tolerance, f"{minus}{tolerance:.3g}"), (tolerance, f"+{tolerance:.3g}")]
        outer = [(-reach, f"{minus}{reach:.2g}"), (reach, f"+{reach:.2g} mm")]
        if tolerance < CROWDED * reach or tolerance / reach * half < LABEL:
            inner = [(0.0, f"±{tolerance:.3g}")]
            # Those at the ends stand as far from it as half of the axis.
            outer = outer if half > 2 * LABEL else []
        self.plot.getAxis("bottom").setTicks([[*inner, *outer]])
