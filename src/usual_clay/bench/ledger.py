"""The ledger: every curve, surface and body by what it costs and how far it is off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QMouseEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from usual_clay.bench.charts import LogAxis, plain_plot, wear
from usual_clay.bench.guard import guarded
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import now, themes
from usual_clay.bench.widgets import label
from usual_clay.core.check.deviation import percent
from usual_clay.job.edits.bodies import cost_of
from usual_clay.job.items import Body, Curve, Fitted, ItemId, Surface
from usual_clay.job.job import Job

# A click chooses what lies so near, pixels.
NEAR = 14.0
# Out of tolerance so many are named.
MOST_NAMED = 4
SYMBOLS: dict[type, str] = {Curve: "t1", Surface: "o", Body: "s"}


@dataclass(frozen=True)
class Entry:
    """One item: its cost in control points, and how far it is off, mm."""

    item: ItemId
    name: str
    cost: int
    off: float
    symbol: str


def entries_of(job: Job) -> list[Entry]:
    """Return what is visible and judged, by cost and error."""
    found = []
    kinds: tuple[type[Curve | Surface | Body], ...] = (Curve, Surface, Body)
    for kind in kinds:
        symbol = SYMBOLS[kind]
        for item in job.all(kind):
            report = job.report(item) if item.visible else None
            cost = item.control_points if isinstance(item, Fitted) else cost_of(job, item)
            if report is not None and cost:
                found.append(Entry(item.id, item.name, cost, max(report.at_share, 1e-5), symbol))
    return found


class Ledger(QWidget):
    """A chart of all entries, and the sum of them in words."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.entries: list[Entry] = []
        self.title = label(role="group")
        self.words = label(role="soft", wraps=True)
        self.words.setFixedWidth(210)
        self.plot = plain_plot(left=LogAxis("left"), bottom=LogAxis("bottom"))
        self.plot.setAccessibleName("Ledger: control points and deviation of everything")
        self.plot.setToolTip("Click a dot to choose what it stands for")
        self.plot.getAxis("left").setWidth(44)
        self.line = pg.InfiniteLine(angle=0)
        self.dots = pg.ScatterPlotItem(size=11)
        self.names: list[pg.TextItem] = []
        for item in (self.line, self.dots):
            self.plot.addItem(item, ignoreBounds=True)
        self.plot.viewport().setCursor(Qt.CursorShape.PointingHandCursor)
        self.plot.mousePressEvent = guarded(self._press)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.title)
        row = QHBoxLayout()
        row.addWidget(self.plot, 1)
        row.addWidget(self.words)
        column.addLayout(row, 1)
        themes.changed.connect(self.refresh)

    def refresh(self) -> bool:
        """Show the job as it is; tell whether there is anything to show."""
        job = self.session.shown
        self.entries = entries_of(job)
        tolerance = job.tolerance
        if not self.entries:
            return False
        share = percent(tolerance.share)
        self.title.setText(f"Ledger: control points against deviation (mm, {share})")
        x = np.log10([entry.cost for entry in self.entries])
        y = np.log10([entry.off for entry in self.entries])
        aim = float(np.log10(tolerance.deviation))
        self._paint(x, y, aim)
        low, high = min(float(y.min()), aim) - 0.15, max(float(y.max()), aim) + 0.2
        self.plot.setXRange(float(x.min()) - 0.15, float(x.max()) + 0.35, padding=0)
        self.plot.setYRange(low, high, padding=0)
        self._tell(job)
        return True

    def _paint(self, x: np.ndarray, y: np.ndarray, aim: float) -> None:
        wear(self.plot)
        worn, chosen = now(), self.session.choice.item
        self.line.setPen(pg.mkPen(worn.ink, width=1, style=Qt.PenStyle.DashLine))
        self.line.setValue(aim)
        for name in self.names:
            self.plot.removeItem(name)
        self.names = []
        spots = []
        for entry, across, up in zip(self.entries, x, y, strict=True):
            out = up > aim
            own = worn.chosen if entry.item == chosen else worn.plum if out else worn.calm
            spots.append({"pos": (across, up), "symbol": entry.symbol, "brush": QColor(own),
                          "pen": pg.mkPen(worn.ink, width=0.6)})  # fmt: skip
            if out or entry.item == chosen:
                words = pg.TextItem(entry.name, color=worn.soft_ink, anchor=(-0.1, 0.6))
                words.setFont(text_font(8))
                words.setPos(across, up)
                self.plot.addItem(words, ignoreBounds=True)
                self.names.append(words)
        self.dots.setData(spots)

    def _tell(self, job: Job) -> None:
        aim = job.tolerance.deviation
        out = [entry.name for entry in self.entries if entry.off > aim]
        spent = sum(
            item.control_points
            for kind in (Curve, Surface)
            for item in job.all(kind)
            if item.visible
        )
        words = [f"Shown: {spent} control points in curves and surfaces."]
        if out:
            named = ", ".join(out[:MOST_NAMED])
            more = f" and {len(out) - MOST_NAMED} more" if len(out) > MOST_NAMED else ""
            words.append(f"Out of tolerance: {named}{more}.")
        else:
            words.append(f"All {len(self.entries)} that are judged lie within tolerance.")
        words.append("A click chooses one.")
        self.words.setText(" ".join(words))

    def _press(self, event: QMouseEvent) -> None:
        at = self.plot.mapToScene(event.position().toPoint())
        box = self.plot.getViewBox()
        nearest, away = None, NEAR
        for entry in self.entries:
            place = QPointF(np.log10(entry.cost), np.log10(entry.off))
            there = box.mapViewToScene(place)
            off = float(np.hypot(there.x() - at.x(), there.y() - at.y()))
            if off < away:
                nearest, away = entry, off
        if nearest is not None:
            self.session.choice.choose(nearest.item)
