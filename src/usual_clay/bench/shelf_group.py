"""The heading of a group in the Shelf: folds it, hides it, names it, and is dropped on."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy

from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import put_icon
from usual_clay.bench.widgets import Elided, label, name_in_place
from usual_clay.job.edits.arrange import in_group, members


class GroupHeading(Guarded, QFrame):
    """Signals
    -------
    folded : the group's name
    """

    folded = Signal(str)

    def __init__(self, session: Session, group: str, count: int, is_folded: bool) -> None:
        super().__init__()
        self.session, self.group = session, group
        self.setObjectName("row")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        state = "folded" if is_folded else "open"
        self.setAccessibleName(f"{group}, a group of {count}, {state}")
        row = QHBoxLayout(self)
        row.setContentsMargins(3, 1, 6, 1)
        row.setSpacing(3)
        self.fold = self._button("caret-right" if is_folded else "caret-down",
                                 f"{'Unfold' if is_folded else 'Fold'} {group}")  # fmt: skip
        self.fold.clicked.connect(lambda: self.folded.emit(self.group))
        row.addWidget(self.fold)
        self.name = Elided(group)
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.name.setToolTip(f"{group}: a click chooses all of it, a double click names it")
        row.addWidget(self.name, 1)
        row.addWidget(label(f"{count}", role="soft"))
        job = session.job
        self._shown = any(job.items[each].visible for each in members(job, group))
        self.eye = self._button("eye" if self._shown else "eye-slash",
                                f"{'Hide' if self._shown else 'Show'} all of {group}")  # fmt: skip
        self.eye.clicked.connect(self._switch)
        row.addWidget(self.eye)

    def _button(self, icon: str, tip: str) -> QPushButton:
        made = QPushButton()
        made.setProperty("role", "quiet")
        put_icon(made, icon, "dim_ink")
        made.setFixedSize(20, 22)
        made.setStyleSheet("padding: 0;")
        made.setToolTip(tip)
        made.setAccessibleName(tip)
        made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        return made

    def _switch(self) -> None:
        job = self.session.job
        for each in members(job, self.group):
            job = job.changed(each, visible=not self._shown)
        self.session.commit(job, f"{'hide' if self._shown else 'show'} {self.group}")

    def choose(self) -> None:
        """Choose all of the group."""
        every = members(self.session.job, self.group)
        self.session.choice.choose(every[0])
        self.session.choice.choose_besides(every)

    def rename(self) -> None:
        """Let the user type a new name in place."""
        session, group = self.session, self.group

        def give(words: str) -> None:
            if words and words != group:
                job = in_group(session.job, members(session.job, group), words)
                session.commit(job, f"name {words}")

        name_in_place(self.name, session, give)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.choose()

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self.rename()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.choose()
        elif key == Qt.Key.Key_F2:
            self.rename()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.folded.emit(self.group)
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextChild() if key == Qt.Key.Key_Down else self.focusPreviousChild()
        else:
            super().keyPressEvent(event)
