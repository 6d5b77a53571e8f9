"""The card of an item of a kind that has no better one: what it is and what there is of it."""

from __future__ import annotations

from usual_clay.bench.cards.card import Card
from usual_clay.bench.command import Commands
from usual_clay.bench.item_views import view_of
from usual_clay.bench.session import Session
from usual_clay.job.kinds import item_kind


class ItemCard(Card):
    """Its name, its kind, and its figure in the Shelf with its unit."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self.add_buttons(commands.button("rename"), commands.button("delete"))
        self.column.addStretch(1)

    def refresh(self) -> None:
        item = self.session.shown.items.get(self.session.choice.item or "")
        if item is None:
            return
        self.title.setText(item.name)
        figure = view_of(item).figure
        words = "" if figure is None else ", {} {}".format(*figure(item))
        self.about.setText(f"{item_kind(item).word}{words}")
