"""A card of several small pages, one of which is open."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice

Build = Callable[[QVBoxLayout], None]


class PagedCard(Card):
    """Pages are added in order; the first is open to begin with."""

    def __init__(
        self, session: Session, title: str, pages: tuple[tuple[str, str, Build], ...]
    ) -> None:
        super().__init__(session, title)
        self.page = Choice([(name, tip) for name, tip, _ in pages])
        self.page.chosen.connect(self.turn_to)
        self.column.addWidget(self.page)
        self.pages: dict[str, QWidget] = {}
        for name, _, build in pages:
            page = QWidget()
            column = QVBoxLayout(page)
            column.setContentsMargins(0, 4, 0, 0)
            column.setSpacing(8)
            build(column)
            self.pages[name] = page
            self.column.addWidget(page)
        self.turn_to(pages[0][0])

    def turn_to(self, name: str) -> None:
        """Open a page; marks that another one asked for are dropped."""
        self.page.set_value(name)
        for key, page in self.pages.items():
            page.setVisible(key == name)
        if self.session.hand.marking is not None:
            self.session.hand.mark(None)
