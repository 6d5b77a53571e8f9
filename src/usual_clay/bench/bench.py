"""What commands work on: the session, and the panels round it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from PySide6.QtWidgets import QWidget

from usual_clay.bench.card_holder import CardHolder
from usual_clay.bench.documents import Documents
from usual_clay.bench.finder import Finder
from usual_clay.bench.session import Session
from usual_clay.bench.shelf import Shelf
from usual_clay.bench.stage.stage import Stage
from usual_clay.job.items import Item

Kind = TypeVar("Kind", bound=Item)


@dataclass(frozen=True, eq=False)
class Bench:
    """The panels, and what of the window itself commands may ask for."""

    session: Session
    stage: Stage
    cards: CardHolder
    shelf: Shelf
    documents: Documents
    finder: Finder
    set_station: Callable[[str], None]
    close: Callable[[], object]
    balance: QWidget
    begin_first: Callable[[], None]

    def chosen(self, kind: type[Kind]) -> Kind | None:
        """Return the chosen item if it is of a kind."""
        return self.session.job.get(self.session.choice.item, kind)

    def any_of(self, kind: type[Item]) -> bool:
        """Tell whether the job has an item of a kind."""
        return any(True for _ in self.session.job.all(kind))

    def say(self, words: str) -> None:
        """Tell what is in the way."""
        self.session.told.emit("trouble", words)


def needs(kind: type[Item], words: str) -> Callable[[Bench], str]:
    """Return a test that an item of a kind is chosen."""
    return lambda bench: "" if bench.chosen(kind) is not None else words


def needs_any(kind: type[Item], words: str) -> Callable[[Bench], str]:
    """Return a test that the job has an item of a kind."""
    return lambda bench: "" if bench.any_of(kind) else words
