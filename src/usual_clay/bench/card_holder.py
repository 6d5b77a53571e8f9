"""The place of the card: picks the card of the task at hand, and shows what was told."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.actions import Actions
from usual_clay.bench.cards.bring_in import BringInCard
from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.drape import DrapeCard
from usual_clay.bench.cards.keys import KeysCard
from usual_clay.bench.cards.points import PointsCard
from usual_clay.bench.cards.region import RegionCard
from usual_clay.bench.cards.scan import ScanCard
from usual_clay.bench.cards.start import JobCard, StartCard
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import label
from usual_clay.job.items import PointList, Region, Scan, Surface

NEWS_STAYS = 8000


class CardHolder(QWidget):
    """One card at a time, by what is chosen; asked-for cards come before."""

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        self._actions, run = actions, actions.run
        self.keys: KeysCard | None = None
        self.bring_in = BringInCard(session, self._close)
        self.start, self.job = StartCard(session, run), JobCard(session, run)
        self.of_kind: dict[type, Card] = {
            Scan: ScanCard(session, run),
            Region: RegionCard(session, run),
            PointList: PointsCard(session),
            Surface: DrapeCard(session, run),
        }
        self._asked: Card | None = None
        self.card: Card = self.start
        self.told = label(wraps=True)
        self.told.hide()
        self._fade = QTimer(self, singleShot=True, interval=NEWS_STAYS)
        self._fade.timeout.connect(self.told.hide)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self._column = QVBoxLayout()
        for card in (self.bring_in, self.start, self.job, *self.of_kind.values()):
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

    def refresh(self) -> None:
        item = self.session.shown.items.get(self.session.chosen or "")
        if self._asked is not None:
            card = self._asked
        elif item is not None:
            card = self.of_kind[type(item)]
        else:
            card = self.job if self.session.shown.items else self.start
        if card is not self.card or card.isHidden():
            self.card.hide()
            self.card = card
            card.show()
        card.refresh()

    def offer(self, path: Path) -> None:
        """Ask for the unit of a file of a scan or of points."""
        self._asked = self.bring_in
        self.bring_in.offer(path)
        self.refresh()

    def show_keys(self) -> None:
        """Show the list of keys; it is long, so it is made when it is first asked for."""
        if self.keys is None:
            self.keys = KeysCard(self.session, self._actions, self._close)
            self._column.addWidget(self.keys)
        self._asked = self.keys
        self.refresh()

    def close_asked(self) -> bool:
        """Close an asked-for card; tell whether there was one."""
        if self._asked is self.bring_in:
            self.bring_in.cancel()
            return True
        was = self._asked is not None
        self._close()
        return was

    def accept_asked(self) -> bool:
        """Accept an asked-for card; tell whether there was one."""
        if self._asked is self.bring_in:
            self.bring_in.accept()
            return True
        return self._asked is not None

    def _close(self) -> None:
        self._asked = None
        self.refresh()

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
