"""The hint line: what the next click or key does, background work, and the cursor's place."""

from __future__ import annotations

import re

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QTextDocument
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QSizePolicy, QWidget

from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button, label
from usual_clay.bench.work import Request

# Where a hint may end.
PARTS = re.compile(r"(?<=[.;,:]) ")


class HintLine(Guarded, QWidget):
    """A line of words, a progress bar with Cancel while there is work, and x, y, z.

    Where there is no room for all of the words they end with a whole part; pointing at the line
    shows the rest.
    """

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(28)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 14, 0)
        row.setSpacing(10)
        self.words = label()
        self.words.setTextFormat(Qt.TextFormat.RichText)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.words.installEventFilter(self)
        self._hint = ""
        row.addWidget(self.words, 1)
        self.work_words = label(role="soft")
        self.bar = QProgressBar(minimum=0, maximum=1000, textVisible=False)
        self.bar.setFixedWidth(90)
        self.cancel = button("Cancel", "Stop the work in the background (Esc)", role="quiet")
        self.cancel.setStyleSheet("padding: 1px 8px;")
        self.cancel.clicked.connect(self._cancel)
        for part in (self.work_words, self.bar, self.cancel):
            row.addWidget(part)
            part.hide()
        self.place = label(role="soft")
        self.place.setMinimumWidth(196)
        self.place.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self.place)
        session.work.progressed.connect(self._show)
        session.work.ended.connect(self._show)

    def say(self, hint: str) -> None:
        """Say what the next click or key does."""
        if hint != self._hint:
            self._hint = hint
            self._fit()

    def _fit(self) -> None:
        room, parts = self.words.width(), PARTS.split(self._hint)
        count = len(parts)
        while count > 1 and self._width(self._cut(parts, count)) > room:
            count -= 1
        self.words.setText(self._cut(parts, count))
        self.words.setToolTip(self._hint if count < len(parts) else "")

    def _cut(self, parts: list[str], count: int) -> str:
        words = " ".join(parts[:count])
        return words if count == len(parts) else f"{words.rstrip(';,:.')} ..."

    def _width(self, words: str) -> float:
        page = QTextDocument()
        page.setDefaultFont(self.words.font())
        page.setDocumentMargin(0)
        page.setHtml(words)
        return page.idealWidth()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.words and event.type() == QEvent.Type.Resize:
            self._fit()
        return super().eventFilter(watched, event)

    def _show(self, _request: Request) -> None:
        """Show what runs now that is worth telling of, and let it be cancelled."""
        request = self.session.work.shown()
        for part in (self.work_words, self.bar, self.cancel):
            part.setVisible(request is not None)
        if request is None:
            return
        self.work_words.setText(f"{request.words} {request.step}".strip())
        self.bar.setRange(0, 0 if request.fraction <= 0 else 1000)
        self.bar.setValue(round(1000 * request.fraction))

    def _cancel(self) -> None:
        self.session.work.cancel(self.session.work.shown())
