"""The Shelf: what is in the job, what it costs and how far it is off."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

from PySide6.QtCore import QPoint, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.guard import Guarded
from usual_clay.bench.item_views import ITEM_VIEWS, view_of
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import put_icon
from usual_clay.bench.theme.theme import now, themes
from usual_clay.bench.widgets import Elided, Pace, label, set_look
from usual_clay.core.check.deviation import Report, percent
from usual_clay.job.items import Followed, Item, ItemId, Judged
from usual_clay.job.job import Job
from usual_clay.job.kinds import ITEM_KINDS, item_kind, whole_of
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
    """

    menu_wanted = Signal(str, object)
    reached = Signal(str)

    def __init__(self, session: Session, item: Item) -> None:
        super().__init__()
        self.session, self.item = session, item
        self.told = told_of(session.shown, item)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{item.name}, {_word_of(item)}")
        self.setObjectName("row")
        self.setProperty("chosen", item.id in session.choice.every)
        row = QHBoxLayout(self)
        row.setContentsMargins(16 if whole_of(item) else 3, 1, 6, 1)
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
        field = QLineEdit(self.item.name, self)
        field.setGeometry(self.name.geometry().adjusted(-6, -2, 30, 2))
        field.selectAll()
        field.editingFinished.connect(lambda: self._renamed(field))
        field.show()
        field.setFocus()

    def _renamed(self, field: QLineEdit) -> None:
        field.blockSignals(True)
        field.hide()
        session, item_id, words = self.session, self.item.id, field.text()
        # The row is made anew by the edit: let the field's own event end first.
        QTimer.singleShot(0, session, lambda: session.rename(item_id, words))

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

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self.rename()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
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


class Shelf(QScrollArea):
    """All items by kind.

    Signals
    -------
    menu_wanted : an item's id, place on the screen
    """

    menu_wanted = Signal(str, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.rows: dict[ItemId, ShelfRow] = {}
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        body = QWidget()
        body.setObjectName("panel")
        self._column = QVBoxLayout(body)
        self._column.setContentsMargins(9, 8, 9, 8)
        self._column.setSpacing(1)
        self._column.addStretch(1)
        self._headings: list[QLabel] = []
        self.setWidget(body)
        # How the rows stand now: by heading; and what all of them were made for.
        self._groups: list[tuple[str, list[ItemId]]] = []
        self._made_for: tuple[object, object] | None = None
        self._chosen: ItemId | None = None
        self._marked: frozenset[ItemId] = frozenset()
        self._filter = ""
        pace = Pace(self, lambda: session.is_proposing, self.refresh)
        session.job_changed.connect(pace.ask)
        session.choice.changed.connect(pace.ask)
        themes.changed.connect(pace.ask)
        # New rows have their places only when the scroll bar knows of them.
        self.verticalScrollBar().rangeChanged.connect(lambda *_: self.show_chosen())
        self.refresh()

    def set_filter(self, words: str) -> None:
        """Show only what has these words in its name; none shows all."""
        self._filter = words.strip().lower()
        self.refresh()

    def refresh(self) -> None:
        """Make those rows anew whose items have changed; a drag changes one at each move."""
        job = self.session.shown
        made_for = (job.tolerance, now())
        anew = made_for != self._made_for
        self._made_for = made_for
        groups = self._wanted_groups(job)
        focused = next((key for key, row in self.rows.items() if row.hasFocus()), None)
        changed = renewed = False
        for item_id in [item_id for _, ids in groups for item_id in ids]:
            item, old = job.items[item_id], self.rows.get(item_id)
            if old is None or anew or old.told != told_of(job, item):
                changed |= self._renew(item, old)
                renewed = True
        if changed or groups != self._groups:
            self._arrange(groups)
        if renewed:
            # Also for whoever goes through them by keys in the order that is seen.
            for before, after in pairwise(self.rows.values()):
                QWidget.setTabOrder(before, after)
        if focused in self.rows:
            self.rows[focused].setFocus()
        self._mark_chosen()

    def _wanted_groups(self, job: Job) -> list[tuple[str, list[ItemId]]]:
        groups = []
        for title, every in _groups(job).items():
            ids = [item.id for item in every if self._filter in item.name.lower()]
            if ids or (title in _EMPTY and not self._filter):
                groups.append((title, ids))
        return groups

    def _renew(self, item: Item, old: ShelfRow | None) -> bool:
        """Make a row anew; tell whether it still needs a place."""
        row = ShelfRow(self.session, item)
        row.menu_wanted.connect(self.menu_wanted)
        row.reached.connect(self._choose_up_to)
        self.rows[item.id] = row
        if old is None:
            return True
        at = self._column.indexOf(old)
        self._take_away(old)
        self._column.insertWidget(at, row)
        return False

    def _arrange(self, groups: list[tuple[str, list[ItemId]]]) -> None:
        """Put headings and rows into their order, those that stay as they are."""
        keep = {item_id for _, ids in groups for item_id in ids}
        for item_id in [each for each in self.rows if each not in keep]:
            self._take_away(self.rows.pop(item_id))
        for heading in self._headings:
            self._take_away(heading)
        for row in self.rows.values():
            self._column.removeWidget(row)
        self._headings = []
        for title, ids in groups:
            heading = label(title, role="group")
            heading.setContentsMargins(5, 6, 0, 2)
            self._headings.append(heading)
            self._place(heading)
            if not ids:
                empty = label(_EMPTY[title], role="small", wraps=True)
                empty.setContentsMargins(5, 0, 5, 4)
                self._headings.append(empty)
                self._place(empty)
            for item_id in ids:
                self._place(self.rows[item_id])
        # In the order that is seen.
        ordered = [self.rows[item_id] for _, ids in groups for item_id in ids]
        self.rows = {row.item.id: row for row in ordered}
        self._groups = groups
        # The new rows have no place yet: the chosen one is brought into sight when they do.
        QTimer.singleShot(0, self, self.show_chosen)

    def _place(self, widget: QWidget) -> None:
        """Put a widget after all others, before the stretch that ends the column."""
        self._column.insertWidget(self._column.count() - 1, widget)

    def _take_away(self, widget: QWidget) -> None:
        """Take a widget out; it may be in the middle of an event of its own, which ends first."""
        self._column.removeWidget(widget)
        widget.hide()
        widget.deleteLater()

    def _mark_chosen(self) -> None:
        chosen, every = self.session.choice.item, self.session.choice.every
        for item_id in self._marked | every:
            row = self.rows.get(item_id)
            if row is not None:
                set_look(row, "chosen", item_id in every)
        self._marked = every
        if chosen != self._chosen:
            self._chosen = chosen
            self.show_chosen()

    def _choose_up_to(self, item_id: ItemId) -> None:
        """Choose all from the chosen row to another, as they are seen."""
        choice, order = self.session.choice, list(self.rows)
        if choice.item not in order:
            choice.choose(item_id)
            return
        low, high = sorted((order.index(choice.item), order.index(item_id)))
        choice.choose_besides(order[low : high + 1])

    def show_chosen(self) -> None:
        """Scroll so that the chosen item's row is in sight."""
        row = self.rows.get(self.session.choice.item or "")
        if row is not None:
            self.ensureWidgetVisible(row, 0, 12)


def _groups(job: Job) -> dict[str, list[Item]]:
    """Return the items by the headings of their kinds; regions stand under their scans."""
    groups: dict[str, list[Item]] = {}
    parts: dict[ItemId, list[Item]] = {}
    for item in job.items.values():
        whole = whole_of(item)
        if whole is not None:
            parts.setdefault(whole, []).append(item)
    for name, view in ITEM_VIEWS.items():
        kind = ITEM_KINDS[name]
        column = groups.setdefault(view.group, [])
        if kind.part_of is None:
            for item in job.all(kind.item):
                column += [item, *parts.get(item.id, [])]
    return groups


_EMPTY = {
    "References": "Nothing yet. Bring in a scan, pictures or points, or drop files on the window.",
    "Surfaces": "Nothing yet. Choose a region of a scan, then cast a surface over it.",
}


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
