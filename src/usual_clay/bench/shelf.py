"""The Shelf: what is in the job, what it costs and how far it is off."""

from __future__ import annotations

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
from usual_clay.bench.widgets import Elided, Pace, label
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


class ShelfRow(Guarded, QFrame):
    """One item.

    Signals
    -------
    menu_wanted : the item's id, place on the screen
    """

    menu_wanted = Signal(str, object)

    def __init__(self, session: Session, item: Item) -> None:
        super().__init__()
        self.session, self.item = session, item
        self.stale = isinstance(item, Followed) and is_stale(session.shown, item)
        chosen = session.choice.item == item.id
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{item.name}, {_word_of(item)}")
        self.setObjectName("row")
        self.setProperty("chosen", chosen)
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
        item, job = self.item, self.session.shown
        size = view_of(item).figure
        if size is not None:
            words, unit = size(item)
            row.addWidget(_figure(words, 40 if isinstance(item, Judged) else 52, unit))
        if not isinstance(item, Judged) or (report := job.report(item)) is None:
            return
        tip = _report_words(report, self.stale, job.is_loose(item))
        figure = _figure("…" if self.stale else f"{report.at_share:.3f}", 44, tip)
        if job.is_loose(item):
            figure.setProperty("role", "soft")
        row.addWidget(figure)
        bar = Bar(report.at_share, job.tolerance.deviation)
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
        self.session.choice.choose(self.item.id)
        if event.button() == Qt.MouseButton.RightButton:
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
        elif event.key() == Qt.Key.Key_Down:
            self.focusNextChild()
        elif event.key() == Qt.Key.Key_Up:
            self.focusPreviousChild()
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
        self._shown: tuple = ()
        self._ordered: list[ShelfRow] = []
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
        self._shown = ()
        self.refresh()

    def refresh(self) -> None:
        session = self.session
        job = session.shown
        shown = (
            session.choice.item,
            (job.tolerance, now()),
            *job.items.values(),
            *(is_stale(job, s) for s in job.all(Followed)),
        )
        if (
            self._shown
            and len(shown) == len(self._shown)
            and all(
                a is b or (not isinstance(a, Item) and a == b)
                for a, b in zip(shown, self._shown, strict=True)
            )
        ):
            return
        same_rows = (
            self._shown
            and shown[:2] == self._shown[:2]
            and [(item.id, item.visible) for item in job.items.values()]
            == [(row.item.id, row.item.visible) for row in self._ordered]
            and not self._filter
        )
        self._shown = shown
        if same_rows:
            self._renew()
        else:
            self._rebuild()

    def _renew(self) -> None:
        """Make only those rows anew whose items have changed: a drag changes one at each move."""
        job = self.session.shown
        for index, old in enumerate(self._ordered):
            item = job.items[old.item.id]
            stale = isinstance(item, Followed) and is_stale(job, item)
            if item is old.item and stale == old.stale:
                continue
            row = self._row(item)
            self._column.replaceWidget(old, row)
            if old.hasFocus():
                row.setFocus()
            old.hide()
            old.deleteLater()
            self._ordered[index] = row

    def _row(self, item: Item) -> ShelfRow:
        row = ShelfRow(self.session, item)
        row.menu_wanted.connect(self.menu_wanted)
        self.rows[item.id] = row
        return row

    def _rebuild(self) -> None:
        job = self.session.shown
        focused = next((key for key, row in self.rows.items() if row.hasFocus()), None)
        body = QWidget()
        body.setObjectName("panel")
        column = QVBoxLayout(body)
        column.setContentsMargins(9, 8, 9, 8)
        column.setSpacing(1)
        self.rows = {}
        for title, every in _groups(job).items():
            items = [item for item in every if self._filter in item.name.lower()]
            if not items and (title not in _EMPTY or self._filter):
                continue
            heading = label(title, role="group")
            heading.setContentsMargins(5, 6, 0, 2)
            column.addWidget(heading)
            if not items:
                empty = label(_EMPTY[title], role="small", wraps=True)
                empty.setContentsMargins(5, 0, 5, 4)
                column.addWidget(empty)
            for item in items:
                column.addWidget(self._row(item))
        column.addStretch(1)
        self._column = column
        self._ordered = [self.rows[key] for key in job.items if key in self.rows]
        # The old rows may be in the middle of an event of their own: they go when it is over.
        old = self.takeWidget()
        self.setWidget(body)
        if old is not None:
            old.deleteLater()
        if focused in self.rows:
            self.rows[focused].setFocus()
        # The new rows have no place yet: the chosen one is brought into sight when they do.
        QTimer.singleShot(0, self, self.show_chosen)

    def show_chosen(self) -> None:
        """Scroll so that the chosen item's row is in sight."""
        row = self.rows.get(self.session.choice.item or "")
        if row is not None:
            self.ensureWidgetVisible(row, 0, 12)


def _groups(job: Job) -> dict[str, list[Item]]:
    """Return the items by the headings of their kinds; regions stand under their scans."""
    groups: dict[str, list[Item]] = {}
    for name, view in ITEM_VIEWS.items():
        kind = ITEM_KINDS[name]
        column = groups.setdefault(view.group, [])
        if kind.part_of is None:
            for item in job.all(kind.item):
                column += [item, *(i for i in job.items.values() if whole_of(i) == item.id)]
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
