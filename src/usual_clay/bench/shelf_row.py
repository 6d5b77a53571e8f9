"""A row of the Shelf: what an item is called, what it costs and how far it is off."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from usual_clay.bench.guard import Guarded
from usual_clay.bench.item_views import view_of
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import put_icon
from usual_clay.bench.theme.theme import now
from usual_clay.bench.widgets import Elided, name_in_place
from usual_clay.core.check.deviation import Report, percent
from usual_clay.job.items import Followed, Item, Judged
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind, whole_of
from usual_clay.job.remake import is_stale


class Bar(Guarded, QWidget):
    """A deviation beside the tolerance: calm inside it, plum past it."""

    def __init__(self, deviation: float, tolerance: float) -> None:
        super().__init__()
        self.deviation, self.tolerance = deviation, tolerance
        self.setFixedSize(54, 16)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        full = QRectF(0, 5.5, self.width(), 5)
        painter.setBrush(QColor(now().line))
        painter.drawRoundedRect(full, 2.5, 2.5)
        # The tick stands at the tolerance, at seven tenths of the bar.
        share = min(0.7 * self.deviation / self.tolerance, 1.0)
        inside = self.deviation <= self.tolerance
        painter.setBrush(QColor(now().calm if inside else now().plum))
        painter.drawRoundedRect(QRectF(0, 5.5, self.width() * share, 5), 2.5, 2.5)
        painter.setBrush(QColor(now().ink))
        painter.drawRect(QRectF(0.7 * self.width(), 3, 1.2, 10))


@dataclass(frozen=True)
class Told:
    """What a row tells of its item; another one asks for another row."""

    item: Item
    stale: bool
    loose: bool
    report: Report | None


def told_of(job: Job, item: Item) -> Told:
    report = job.report(item) if isinstance(item, Judged) else None
    if not isinstance(item, Followed):
        return Told(item, False, False, report)
    return Told(item, is_stale(job, item), job.is_loose(item), report)


class ShelfRow(Guarded, QFrame):
    """One item.

    Signals
    -------
    menu_wanted : the item's id, place on the screen
    reached : the item's id; all from the chosen one to it are meant
    dragged, dropped : the item's id, the place on the screen; without one, dropped nowhere
    """

    menu_wanted = Signal(str, object)
    reached = Signal(str)
    dragged = Signal(str, object)
    dropped = Signal(str, object)

    def __init__(self, session: Session, item: Item) -> None:
        super().__init__()
        self.session, self.item = session, item
        # Where a press began, and whether it has become a drag.
        self._press: QPoint | None = None
        self.drags = False
        self.told = told_of(session.shown, item)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{item.name}, {_word_of(item)}")
        self.setObjectName("row")
        self.setProperty("chosen", item.id in session.choice.every)
        row = QHBoxLayout(self)
        inset = 16 if whole_of(item) or item.group else 3
        row.setContentsMargins(inset, 1, 6, 1)
        row.setSpacing(3)
        row.addWidget(self._flag("visible", "eye", "eye-slash", "Shown. Hide", "Hidden. Show"))
        row.addWidget(
            self._flag("locked", "lock-simple", "lock-simple-open", "Locked. Unlock", "Free. Lock")
        )
        row.addWidget(_swatch(item))
        self.name = Elided(item.name)
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.name.setToolTip(item.name)
        if not item.visible:
            self.name.setProperty("role", "soft")
        row.addSpacing(2)
        row.addWidget(self.name, 1)
        self._add_figures(row)

    def _add_figures(self, row: QHBoxLayout) -> None:
        item, report = self.item, self.told.report
        size = view_of(item).figure
        if size is not None:
            words, unit = size(item)
            row.addWidget(_figure(words, 40 if isinstance(item, Judged) else 52, unit))
        if report is None:
            return
        tip = _report_words(report, self.told.stale, self.told.loose)
        figure = _figure("…" if self.told.stale else f"{report.at_share:.3f}", 44, tip)
        if self.told.loose:
            figure.setProperty("role", "soft")
        row.addWidget(figure)
        bar = Bar(report.at_share, self.session.shown.tolerance.deviation)
        bar.setToolTip(tip)
        row.addSpacing(4)
        row.addWidget(bar)

    def _flag(self, flag: str, on: str, off: str, tip_on: str, tip_off: str) -> QPushButton:
        value = getattr(self.item, flag)
        made = QPushButton()
        made.setProperty("role", "quiet")
        dim = value if flag == "visible" else not value
        put_icon(made, on if value else off, "dim_ink" if dim else "ink")
        made.setFixedSize(20, 22)
        made.setStyleSheet("padding: 0;")
        made.setToolTip(tip_on if value else tip_off)
        made.setAccessibleName(f"{tip_on if value else tip_off} {self.item.name}")
        made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        made.clicked.connect(lambda: self.session.set_flag(self.item.id, flag, not value))
        return made

    def rename(self) -> None:
        """Let the user type a new name in place."""
        session, item_id = self.session, self.item.id
        name_in_place(self.name, session, lambda words: session.rename(item_id, words))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        held, choice = event.modifiers(), self.session.choice
        right = event.button() == Qt.MouseButton.RightButton
        if held & Qt.KeyboardModifier.ShiftModifier and choice.item is not None:
            self.reached.emit(self.item.id)
        elif held & Qt.KeyboardModifier.ControlModifier and choice.item is not None:
            choice.choose_besides(choice.others ^ {self.item.id})
        elif not right or len(choice.besides(self.item.id)) < 2:
            choice.choose(self.item.id)
        if right:
            self.menu_wanted.emit(self.item.id, event.globalPosition().toPoint())
        elif whole_of(self.item) is None:
            self._press = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None:
            return
        away = (event.position().toPoint() - self._press).manhattanLength()
        self.drags |= away >= QApplication.startDragDistance()
        if self.drags:
            self.dragged.emit(self.item.id, event.globalPosition().toPoint())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self.drags:
            self.dropped.emit(self.item.id, event.globalPosition().toPoint())
        self._press, self.drags = None, False

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self.rename()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self.drags:
            self._press, self.drags = None, False
            self.dropped.emit(self.item.id, None)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.session.choice.choose(self.item.id)
        elif event.key() == Qt.Key.Key_F2:
            self.rename()
        elif event.key() == Qt.Key.Key_Menu:
            self.menu_wanted.emit(self.item.id, self.mapToGlobal(QPoint(40, self.height())))
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            down = event.key() == Qt.Key.Key_Down
            self.focusNextChild() if down else self.focusPreviousChild()
            row = self.window().focusWidget()
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and isinstance(row, ShelfRow):
                row.reached.emit(row.item.id)
        else:
            super().keyPressEvent(event)


def _swatch(item: Item) -> QLabel:
    view = view_of(item)
    colour = item.colour or getattr(now(), view.role)
    made = QLabel()
    made.setFixedSize(10, 10)
    fill = "transparent" if view.hollow else colour
    made.setStyleSheet(f"background: {fill}; border: 1.5px solid {colour}; border-radius: 2px;")
    made.setToolTip(_word_of(item))
    return made


def _word_of(item: Item) -> str:
    """Return what a row calls its item; of a simple shape which it is."""
    return str(getattr(getattr(item, "geometry", None), "kind", item_kind(item).word))


def _figure(words: str, width: int, tip: str) -> QLabel:
    made = QLabel(words)
    made.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    made.setMinimumWidth(width)
    made.setToolTip(tip)
    return made


def _report_words(report: Report, stale: bool, loose: bool) -> str:
    words = f"{percent(report.within_share)} within tolerance; farthest {report.max:.3f} mm"
    if stale:
        return "Being fitted anew"
    return words + ("; loose: its region is gone, the figures are the last ones" if loose else "")
