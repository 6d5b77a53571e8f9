"""All actions and their keys in one list, where keys are changed too."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QGridLayout, QKeySequenceEdit, QLineEdit, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.command import Commands
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button, label


class KeysCard(Card):
    """One line an action: its name and its key."""

    def __init__(self, session: Session, commands: Commands, done: Callable[[], None]) -> None:
        super().__init__(session, "Keys")
        self.commands, self.cancel = commands, done
        self.about.setText("Click a key and press another to change it. Backspace clears.")
        self.edits: dict[str, QKeySequenceEdit] = {}
        body = QWidget()
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 4, 0, 0)
        grid.setVerticalSpacing(4)
        for row, action in enumerate(commands):
            grid.addWidget(label(action.words, wraps=True), row, 0)
            edit = QKeySequenceEdit(QKeySequence(commands.key(action.name)))
            edit.setMaximumSequenceLength(1)
            edit.setFixedWidth(112)
            if (field := edit.findChild(QLineEdit)) is not None:
                field.setPlaceholderText("no key")
            edit.setAccessibleName(f"Key for {action.words}")
            edit.editingFinished.connect(lambda name=action.name: self._changed(name))
            grid.addWidget(edit, row, 1)
            self.edits[action.name] = edit
        self.add_buttons(
            button("As shipped", "Give every action its first key again", clicked=self._reset),
            button("Done", "Close the list (Esc)", "main", clicked=done),
        )
        self.column.addWidget(body)
        self.column.addStretch(1)

    def _changed(self, name: str) -> None:
        key = self.edits[name].keySequence().toString()
        taken = self.commands.set_key(name, key)
        if taken is not None:
            self.edits[name].setKeySequence(QKeySequence(self.commands.key(name)))
            self.session.told.emit("trouble", f"{key} already means “{taken.words}”")

    def _reset(self) -> None:
        self.commands.reset()
        for name, edit in self.edits.items():
            edit.setKeySequence(QKeySequence(self.commands.key(name)))
