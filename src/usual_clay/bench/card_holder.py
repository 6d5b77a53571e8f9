"""The place of the card: picks the card of the task at hand, and shows what was told."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.start import JobCard, StartCard
from usual_clay.bench.command import Commands
from usual_clay.bench.guard import faults
from usual_clay.bench.item_views import RECIPE_CARDS, view_of
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Pace, button, label, set_role
from usual_clay.files.picture_file import SUFFIXES as PICTURES
from usual_clay.files.take_in import SUFFIXES as CURVES
from usual_clay.job.items import Followed, Item

NEWS_STAYS = 8000
# Cards that are asked for. Each card is made when it is first shown, so that a start does not
# wait for all of them.
ASKED = {
    "bring in": ("bring_in", "BringInCard"),
    "curves in": ("curves_in", "CurvesInCard"),
    "pin": ("pin", "PinCard"),
    "agreement": ("agreement", "AgreementCard"),
    "health": ("health", "HealthCard"),
    "straighten": ("straighten", "StraightenCard"),
    "slice": ("slices", "SlicesCard"),
    "probe": ("probe", "ProbeCard"),
    "draw": ("draw", "DrawCard"),
    "patch": ("patch", "PatchCard"),
    "task": ("task", "TaskCard"),
    "holds": ("holds", "HoldsCard"),
    "sections": ("sections", "SectionsCard"),
    "shape scan": ("shape_scan", "ShapeScanCard"),
    "ties": ("ties", "TiesCard"),
    "place": ("place", "PlaceCard"),
    "joints": ("joints", "JointsCard"),
    "spots": ("spots", "SpotsCard"),
    "lines": ("lines", "LinesCard"),
    "combs": ("combs", "CombsCard"),
    "deliver": ("deliver", "DeliverCard"),
    "keys": ("keys", "KeysCard"),
}


class CardHolder(QWidget):
    """One card at a time, by what is chosen; asked-for cards come before."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        self._commands = commands
        # Under the cards: what is to be in sight always.
        self.feet = QWidget()
        self.feet.setObjectName("panel")
        self._feet = QVBoxLayout(self.feet)
        self._feet.setContentsMargins(0, 0, 0, 0)
        self._made: dict[tuple[str, str], Card] = {}
        # What a card is given of the window besides.
        self.more: dict[str, tuple] = {}
        self.start, self.job = StartCard(session, commands), JobCard(session, commands)
        self._asked: str | None = None
        self.card: Card = self.start
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self._column = QVBoxLayout()
        for card in (self.start, self.job):
            card.hide()
            self._column.addWidget(card)
        column.addLayout(self._column, 1)
        column.addLayout(self._notice())
        pace = Pace(self, lambda: session.hand.dragging is not None, self.refresh)
        session.job_changed.connect(pace.ask)
        for signal in (session.choice.changed, session.seen_changed):
            signal.connect(self.refresh)
        session.work.ended.connect(lambda _request: self.refresh())
        session.told.connect(self._tell)
        session.choice.changed.connect(self._put_notice_away)
        faults.came.connect(self._tell_fault)
        self.refresh()

    def _notice(self) -> QVBoxLayout:
        """Return the place of what was told, with what a fault has to copy."""
        # A label without a role at first would keep the padding that it had then: none.
        self.told = label(role="news", wraps=True)
        self._details = ""
        self.copy = button(
            "Copy details", "Copy what happened, for whoever looks into it", role="quiet",
            clicked=lambda: QGuiApplication.clipboard().setText(self._details),
        )  # fmt: skip
        self.dismiss = button(
            "Put away", "Put this notice away", role="quiet", clicked=self._put_notice_away
        )
        self._fade = QTimer(self, singleShot=True, interval=NEWS_STAYS)
        self._fade.timeout.connect(self._put_notice_away)
        notice = QVBoxLayout()
        notice.setContentsMargins(14, 0, 14, 12)
        notice.addWidget(self.told)
        row = QHBoxLayout()
        row.addWidget(self.copy)
        row.addWidget(self.dismiss)
        row.addStretch(1)
        notice.addLayout(row)
        for part in (self.told, self.copy, self.dismiss):
            part.hide()
        return notice

    def get(self, name: str) -> Any:
        """Return an asked-for card by its name, making it the first time."""
        module, kind = ASKED[name]
        if (module, kind) not in self._made:
            more: tuple = (self._commands,) if name == "keys" else ()
            if name == "joints":
                more = (self._commands.run,)
            more += (self.put_away, *self.more.get(name, ()))
            self._make(module, kind, *more)
        return self._made[module, kind]

    def _make(self, module: str, kind: str, *more: object) -> Card:
        made = getattr(import_module(f"usual_clay.bench.cards.{module}"), kind)
        card: Card = made(self.session, *more)
        card.hide()
        self._column.addWidget(card)
        if card.foot is not None:
            card.foot.hide()
            self._feet.addWidget(card.foot)
        self._made[module, kind] = card
        return card

    def of_item(self, item: Item) -> Card:
        """Return the card of an item: that of its recipe where there is one, or of its kind."""
        followed = self.session.shown.get(item.id, Followed)
        recipe = None if followed is None else followed.recipe
        module, kind = view_of(item).card
        if recipe is not None:
            module, kind = RECIPE_CARDS.get(recipe.kind, ("recipe", "RecipeCard"))
        return self._made.get((module, kind)) or self._make(module, kind, self._commands)

    def refresh(self) -> None:
        item = self.session.shown.items.get(self.session.choice.item or "")
        if self._asked is not None:
            card = self.get(self._asked)
        elif item is not None:
            card = self.of_item(item)
        else:
            card = self.job if self.session.shown.items else self.start
        if card is not self.card or card.isHidden():
            if self.card.foot is not None:
                self.card.foot.hide()
            self.card.hide()
            self.card = card
            card.show()
            if card.foot is not None:
                card.foot.show()
        card.refresh()

    def ask(self, name: str) -> Any:
        """Show a card that is asked for; return it."""
        if self._asked not in (None, name):
            self.close_asked()
        self._asked = name
        card = self.get(name)
        self.refresh()
        return card

    @property
    def asked(self) -> str | None:
        """The asked-for card that is shown."""
        return self._asked

    def offer(self, paths: list[Path]) -> None:
        """Ask what the files of pictures, curves, a scan or points do not say."""
        pictures = [path for path in paths if path.suffix.lower() in PICTURES]
        if pictures:
            self.ask("pin").offer(pictures)
        elif paths[0].suffix.lower() in CURVES:
            self.ask("curves in").offer(paths[0])
        else:
            self.ask("bring in").offer(paths[0])
        self.refresh()

    def close_asked(self) -> bool:
        """Close an asked-for card; tell whether there was one."""
        if self._asked is None:
            return False
        getattr(self.card, "cancel", self.put_away)()
        return True

    def end_marking(self) -> bool:
        """End the marking that an asked-for card lets be done beside other things, if it does."""
        ends = getattr(self.card, "end_marking", None) if self._asked is not None else None
        return bool(ends is not None and ends())

    def accept_asked(self) -> bool:
        """Accept an asked-for card; tell whether there was one."""
        if self._asked is None:
            return False
        accept = getattr(self.card, "accept", None)
        if accept is not None:
            accept()
        return True

    def put_away(self) -> bool:
        """Put an asked-for card away."""
        self._asked = None
        self.refresh()
        return True

    # ---- what is told --------------------------------------------------------------------

    def _tell(self, role: str, words: str) -> None:
        # A card that already says it does not say it twice.
        trouble, news = getattr(self.card, "trouble", None), getattr(self.card, "words", None)
        if any(part is not None and part.text() == words for part in (trouble, news)):
            return
        self._show_notice(role, words)
        if role == "news":
            self._fade.start()

    def _tell_fault(self, words: str, details: str) -> None:
        self._details = details
        self._show_notice("trouble", words)
        for part in (self.copy, self.dismiss):
            part.show()

    def _show_notice(self, role: str, words: str) -> None:
        self._fade.stop()
        self.copy.hide()
        self.dismiss.hide()
        set_role(self.told, role)
        self.told.setText(words)
        self.told.show()

    def _put_notice_away(self) -> None:
        self._details = ""
        faults.forget()
        for part in (self.told, self.copy, self.dismiss):
            part.hide()
