"""What every card is built on."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from usual_clay.bench.session import Session
from usual_clay.bench.widgets import label


class Card(QWidget):
    """A title, a line on what it is about, and the card's own body in `column`."""

    def __init__(self, session: Session, title: str = "") -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(14, 12, 14, 12)
        self.column.setSpacing(8)
        self.title = label(title, role="title")
        self.about = label(role="soft", wraps=True)
        self.column.addWidget(self.title)
        self.column.addWidget(self.about)
        self.column.addSpacing(2)

    def refresh(self) -> None:
        """Show what the session has now."""

    def add_buttons(self, *buttons: QPushButton, into: QVBoxLayout | None = None) -> None:
        """Put buttons side by side, at the foot of the card or of a part of it."""
        row = QHBoxLayout()
        row.setSpacing(8)
        for made in buttons:
            row.addWidget(made, 1)
        (into or self.column).addLayout(row)


def thousands(count: int) -> str:
    """Return a count with thin gaps between thousands."""
    return f"{count:,}".replace(",", " ")
