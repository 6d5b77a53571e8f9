"""What every card is built on."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from usual_clay.bench.cards.fields import Fields
from usual_clay.bench.guard import faults
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Tile, label
from usual_clay.core.errors import ClayError, sentence


class Card(QWidget):
    """A title, a line on what it is about, and the card's own body in `column`."""

    def __init__(self, session: Session, title: str = "") -> None:
        super().__init__()
        self.session = session
        # The card's own actions, where they are kept in sight.
        self.foot: QWidget | None = None
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

    def say(self, words: str, trouble: str) -> None:
        """Show what came of it, and what is wrong, on the card's own labels."""
        for part, text in ((self.words, sentence(words)), (self.trouble, trouble)):
            part.setText(text)
            part.setVisible(bool(text))

    def say_failed(self, error: Exception) -> None:
        """Say what was wrong; what nobody expected is a fault, and told as one."""
        if isinstance(error, ClayError):
            self.say("", sentence(error))
        else:
            faults.take(error, self.title.text())
            self.say("", "")

    def read_fields(self, fields: Fields, settings: Any) -> Any:
        """Return settings as fields have them; where these do not go together, as they were."""
        try:
            return fields.settings(settings)
        except ClayError as error:
            self.say("", sentence(error))
            return settings

    def add_say(self) -> None:
        """Put the two labels that `say` fills at the foot of what there is so far."""
        self.words = label(role="news", wraps=True)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.words)
        self.column.addWidget(self.trouble)

    def pin_buttons(self, *buttons: QPushButton, says: bool = False) -> None:
        """Put the card's own actions under it, where they never scroll out of sight.

        Parameters
        ----------
        says : bool
            Whether what came of it, and what is wrong, stands above them.
        """
        self.foot = QWidget()
        self.foot.setObjectName("panel")
        column = QVBoxLayout(self.foot)
        column.setContentsMargins(14, 8, 14, 12)
        column.setSpacing(8)
        if says:
            column.addWidget(self.words)
            column.addWidget(self.trouble)
        row = QHBoxLayout()
        column.addLayout(row)
        row.setSpacing(8)
        for made in buttons:
            row.addWidget(made, 1)

    def add_buttons(self, *buttons: QPushButton, into: QVBoxLayout | None = None) -> None:
        """Put buttons side by side, at the foot of the card or of a part of it."""
        row = QHBoxLayout()
        row.setSpacing(8)
        for made in buttons:
            row.addWidget(made, 1)
        (into or self.column).addLayout(row)


class Figures(QWidget):
    """Tiles side by side: how near most points are, the worst or the whole, and one more."""

    def __init__(self) -> None:
        super().__init__()
        self.near, self.far, self.more = Tile(), Tile(), Tile()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        row.addWidget(self.near, 1)
        row.addWidget(self.far, 1)
        row.addWidget(self.more)
        self.more.hide()
