"""The place of the card: picks the card of the task at hand, and shows what was told."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.actions import Actions
from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.start import JobCard, StartCard
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import label
from usual_clay.files.picture_file import SUFFIXES as PICTURES
from usual_clay.files.take_in import SUFFIXES as CURVES
from usual_clay.job.items import Curve, Item, Picture, PointList, Region, Scan, Shape, Surface

NEWS_STAYS = 8000
# Cards of a chosen item, and those that are asked for. Each is made when it is first shown, so
# that a start does not wait for all of them.
OF_KIND: dict[type[Item], tuple[str, str]] = {
    Scan: ("scan", "ScanCard"),
    Region: ("region", "RegionCard"),
    Picture: ("picture", "PictureCard"),
    PointList: ("points", "PointsCard"),
    Shape: ("shape", "ShapeCard"),
    Curve: ("curve", "CurveCard"),
    Surface: ("cast", "CastCard"),
}
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
    "keys": ("keys", "KeysCard"),
}


class CardHolder(QWidget):
    """One card at a time, by what is chosen; asked-for cards come before."""

    def __init__(
        self, session: Session, actions: Actions, look_at: Callable[[Picture], None]
    ) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        self._actions, self._look_at = actions, look_at
        self._made: dict[str, Card] = {}
        # What a card is given of the window besides.
        self.more: dict[str, tuple] = {}
        self.start, self.job = StartCard(session, actions.run), JobCard(session, actions.run)
        self._asked: str | None = None
        self.card: Card = self.start
        self.told = label(wraps=True)
        self.told.hide()
        self._fade = QTimer(self, singleShot=True, interval=NEWS_STAYS)
        self._fade.timeout.connect(self.told.hide)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self._column = QVBoxLayout()
        for card in (self.start, self.job):
            card.hide()
            self._column.addWidget(card)
        column.addLayout(self._column, 1)
        notice = QVBoxLayout()
        notice.setContentsMargins(14, 0, 14, 12)
        notice.addWidget(self.told)
        column.addLayout(notice)
        for signal in (session.job_changed, session.chosen_changed, session.tool_changed):
            signal.connect(self.refresh)
        session.work.ended.connect(lambda _key: self.refresh())
        session.told.connect(self._tell)
        session.chosen_changed.connect(self.told.hide)
        self.refresh()

    def get(self, name: str) -> Any:
        """Return an asked-for card by its name, making it the first time."""
        if name not in self._made:
            session, run = self.session, self._actions.run
            if name in ASKED:
                module, kind = ASKED[name]
                more: tuple = (self._actions, self.put_away) if name == "keys" else (self.put_away,)
                more += self.more.get(name, ())
            else:
                module, kind = next(pair for pair in OF_KIND.values() if pair[0] == name)
                takes_run = name in ("scan", "region", "points", "curve", "cast")
                more = (run,) if takes_run else (self._look_at,) if name == "picture" else ()
            made = getattr(import_module(f"usual_clay.bench.cards.{module}"), kind)
            card = made(session, *more)
            card.hide()
            self._column.addWidget(card)
            self._made[name] = card
        return self._made[name]

    def refresh(self) -> None:
        item = self.session.shown.items.get(self.session.chosen or "")
        if self._asked is not None:
            card = self.get(self._asked)
        elif item is not None:
            card = self.get(OF_KIND[type(item)][0])
        else:
            card = self.job if self.session.shown.items else self.start
        if card is not self.card or card.isHidden():
            self.card.hide()
            self.card = card
            card.show()
        card.refresh()

    def ask(self, name: str) -> Any:
        """Show a card that is asked for; return it."""
        if self._asked not in (None, name):
            self.close_asked()
        self._asked = name
        card = self.get(name)
        self.refresh()
        return card

    def asks_for(self, name: str) -> bool:
        """Tell whether an asked-for card is shown."""
        return self._asked == name

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

    def _tell(self, role: str, words: str) -> None:
        # A card that already says it does not say it twice.
        trouble, news = getattr(self.card, "trouble", None), getattr(self.card, "words", None)
        if any(part is not None and part.text() == words for part in (trouble, news)):
            return
        self.told.setText(words)
        self.told.setProperty("role", role)
        self.told.style().unpolish(self.told)
        self.told.style().polish(self.told)
        self.told.show()
        if role == "news":
            self._fade.start()
        else:
            self._fade.stop()
