"""The finder: every action by name, with its key."""

from __future__ import annotations

import re

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.command import Command, Commands
from usual_clay.bench.guard import Guarded
from usual_clay.bench.widgets import Elided, label

NO_FIT = 99


def _fit(command: Command, parts: list[str]) -> int:
    """Return how well a command fits what is typed, 0 for best.

    Its own words come before other words for it, and of each a whole word before one that begins
    so, and that before one that holds it.
    """
    ranks = (command.words, f"{command.short} {command.station}", command.also, command.tip)
    worst = 0
    for part in parts:
        found = [
            3 * rank + _place(part, words.lower())
            for rank, words in enumerate(ranks)
            if part in words.lower()
        ]
        worst = max(worst, min(found, default=NO_FIT))
    return worst


def _place(part: str, words: str) -> int:
    """Tell whether a text holds a whole word, 0, one that begins so, 1, or holds it within, 2."""
    if re.search(rf"\b{re.escape(part)}\b", words):
        return 0
    return 1 if re.search(rf"\b{re.escape(part)}", words) else 2


class Finder(Guarded, QFrame):
    """A field and the actions whose words match it; Enter does the first.

    Signals
    -------
    closed : it is put away; the focus was its own
    """

    closed = Signal()

    def __init__(self, commands: Commands, window: QWidget) -> None:
        super().__init__(window)
        self._table = commands
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find an action")
        self.field.setAccessibleName("Find an action")
        self.list = QListWidget()
        self.list.setAccessibleName("Actions found")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.addWidget(self.field)
        column.addWidget(self.list)
        self.field.textChanged.connect(self._search)
        self.field.installEventFilter(self)
        self.list.itemClicked.connect(self._run)
        self.hide()

    def open(self) -> None:
        """Show the finder at the top of the window."""
        self.setFixedSize(420, 400)
        self.move(QPoint(self.window().width() - 436, 50))
        self.field.clear()
        self._search("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def _search(self, text: str) -> None:
        self.list.clear()
        parts = text.lower().split()
        for command in sorted(self._table, key=lambda each: _fit(each, parts)):
            if _fit(command, parts) < NO_FIT:
                self._add(command.name, command.words, command.station)
        self.list.setCurrentRow(0)

    def _add(self, name: str, words: str, station: str) -> None:
        item = QListWidgetItem(self.list)
        item.setData(Qt.ItemDataRole.UserRole, name)
        item.setData(Qt.ItemDataRole.AccessibleTextRole, words)
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(10, 6, 10, 6)
        named = Elided(words)
        named.setToolTip(words)
        named.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(named, 1)
        row.addWidget(label(station, role="small"))
        key = label(self._table.key(name), role="soft")
        key.setMinimumWidth(92)
        key.setAlignment(Qt.AlignmentFlag.AlignRight)
        row.addWidget(key)
        item.setSizeHint(line.sizeHint())
        self.list.setItemWidget(item, line)

    def _run(self, item: QListWidgetItem | None) -> None:
        self._leave()
        if item is not None:
            self._table.run(item.data(Qt.ItemDataRole.UserRole))

    def _leave(self) -> None:
        """Put it away; Enter then means what it means on the stage."""
        self.hide()
        self.closed.emit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            return self._claim(event)
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            return self._key(event.key())
        # A click into the list takes the focus too; anything else closes.
        if event.type() == QEvent.Type.FocusOut and not self.underMouse():
            self.hide()
        return super().eventFilter(watched, event)

    def _claim(self, event: QKeyEvent) -> bool:
        """Take Enter and Escape for the finder while it is open, before the window does."""
        claimed = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape)
        if claimed:
            event.accept()
        return claimed

    def _key(self, key: int) -> bool:
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            row = self.list.currentRow() + (1 if key == Qt.Key.Key_Down else -1)
            self.list.setCurrentRow(max(0, min(row, self.list.count() - 1)))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._run(self.list.currentItem())
        elif key == Qt.Key.Key_Escape:
            self._leave()
        else:
            return False
        return True
