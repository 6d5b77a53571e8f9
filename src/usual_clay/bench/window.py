"""The window: puts the panels together."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QIcon
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.autosave import Autosave
from usual_clay.bench.balance import Balance
from usual_clay.bench.bench import Bench
from usual_clay.bench.canvas import Target
from usual_clay.bench.card_holder import CardHolder
from usual_clay.bench.command import Commands
from usual_clay.bench.commands.all import ALL
from usual_clay.bench.commands.trace import TASK_HINT
from usual_clay.bench.documents import Documents
from usual_clay.bench.finder import Finder
from usual_clay.bench.first_surface import FirstSurface
from usual_clay.bench.gestures import pick, place, sources
from usual_clay.bench.guard import Guarded
from usual_clay.bench.hint_line import HintLine
from usual_clay.bench.idle import Calmness, Fronts, Prices
from usual_clay.bench.item_views import view_of
from usual_clay.bench.measuring import Measuring
from usual_clay.bench.remaking import Remaking
from usual_clay.bench.session import Session
from usual_clay.bench.sheet import Sheet
from usual_clay.bench.shelf import Shelf
from usual_clay.bench.stage.stage import Stage
from usual_clay.bench.theme.looks import colour_icon
from usual_clay.bench.tool_rail import ToolRail
from usual_clay.bench.top_bar import TopBar
from usual_clay.bench.widgets import TallArea, rule
from usual_clay.job.items import ItemId

RIGHT_WIDTH = 336
# What the hint line says of tools that cards take in hand.
HINTS = {"sources": sources.HINT, "place": place.HINT}
# A user's own colours for items, all quiet beside teal, plum and saffron.
COLOURS = (
    ("As its kind", ""), ("Slate", "#7E9AA8"), ("Sage", "#93A67C"), ("Ochre", "#C2A25A"),
    ("Heather", "#A98BA8"), ("Moss", "#6FA39B"), ("Brick", "#B58A76"), ("Dusk", "#8D8FB5"),
)  # fmt: skip


class Window(Guarded, QMainWindow):
    """The whole bench around one session."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session()
        self.remaking, self.measuring = Remaking(self.session), Measuring(self.session)
        self.documents = Documents(self.session, self)
        self.commands = Commands(self)
        self.commands.add(*ALL)
        self.top_bar = TopBar(self.session)
        self.rail = ToolRail(self.session, self.commands)
        self.stage = Stage(self.session)
        self.autosave = Autosave(self.session, lambda: self.stage.large.view.image())
        self.balance = Balance(self.session)
        self.fronts, self.calmness = Fronts(self.session), Calmness(self.session)
        self.prices = Prices(self.session)
        self.shelf = Shelf(self.session)
        self.hint_line = HintLine(self.session)
        self.sheet = Sheet(self.session)
        self.cards = CardHolder(self.session, self.commands)
        self.cards.more["lines"] = self.cards.more["deliver"] = (self.documents,)
        self.cards.more["sections"] = (self.sheet, self.show_sheet)
        self.finder = Finder(self.commands, self)
        self.first_surface = FirstSurface(self.session, self.stage, self.documents, self.commands)
        self.commands.serve(
            Bench(
                self.session,
                self.stage,
                self.cards,
                self.shelf,
                self.documents,
                self.finder,
                self.set_station,
                self.close,
                self.balance,
                self.first_surface.begin,
            )
        )
        self._lay_out()
        self._connect()
        self.set_station("Gather")
        self.setAcceptDrops(True)
        self.setMinimumSize(900, 620)
        self.resize(1280, 800)
        self._refresh()
        self.stage.large.setFocus()

    def _lay_out(self) -> None:
        middle = QSplitter(Qt.Orientation.Vertical)
        middle.setHandleWidth(1)
        middle.setChildrenCollapsible(False)
        # The sheet of sections takes the place of the views while it is asked for.
        self.views = QStackedWidget()
        self.views.addWidget(self.stage)
        self.views.addWidget(self.sheet)
        middle.addWidget(self.views)
        middle.addWidget(self.balance)
        middle.setStretchFactor(0, 1)
        middle.setSizes([558, 170])
        self.balance.setMinimumHeight(120)
        card_area = QWidget()
        cards = QVBoxLayout(card_area)
        cards.setContentsMargins(0, 0, 0, 0)
        cards.setSpacing(0)
        cards.addWidget(TallArea(self.cards), 1)
        cards.addWidget(self.cards.feet)
        right = QSplitter(Qt.Orientation.Vertical)
        right.setHandleWidth(1)
        right.setChildrenCollapsible(False)
        right.addWidget(self._shelf_with_filter())
        right.addWidget(card_area)
        right.setSizes([250, 470])
        # A splitter takes the width that its parts wish for, whatever is fixed of it.
        side = QWidget()
        side.setFixedWidth(RIGHT_WIDTH)
        inside = QVBoxLayout(side)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(right)
        whole = QWidget()
        whole.setObjectName("panel")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        body = QHBoxLayout()
        body.setSpacing(0)
        parts = (self.rail, rule(upright=True), middle, rule(upright=True), side)
        for part in parts:
            body.addWidget(part, 1 if part is middle else 0)
        column.addWidget(self.top_bar)
        column.addWidget(rule())
        column.addWidget(self.first_surface)
        column.addLayout(body, 1)
        column.addWidget(self.hint_line)
        self.setCentralWidget(whole)

    def _shelf_with_filter(self) -> QWidget:
        """Return the Shelf under a line that filters it by name."""
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter by name")
        self.filter.setAccessibleName("Filter the Shelf by name")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(self.shelf.set_filter)
        whole = QWidget()
        whole.setObjectName("panel")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        row = QHBoxLayout()
        row.setContentsMargins(12, 8, 12, 2)
        row.addWidget(self.filter)
        column.addLayout(row)
        column.addWidget(self.shelf, 1)
        return whole

    def _connect(self) -> None:
        session, documents = self.session, self.documents
        self.top_bar.station_chosen.connect(self.set_station)
        self.top_bar.finder_wanted.connect(self.finder.open)
        self.finder.closed.connect(lambda: self.stage.large.setFocus())
        self.stage.hovered.connect(self.hint_line.place.setText)
        self.stage.menu_wanted.connect(self._stage_menu)
        self.shelf.menu_wanted.connect(self.item_menu)
        self.commands.refused.connect(lambda words: session.told.emit("trouble", words))
        documents.opened.connect(lambda: self.set_station("Surface"))
        documents.opened.connect(self.stage.fit)
        self.cards.start.compared.connect(self._compare_with)
        self.first_surface.begun.connect(lambda: self.set_station("Surface"))
        documents.offered.connect(self._offer)
        documents.replayed.connect(lambda stream: self.cards.ask("probe").offer(stream))
        for signal in (session.job_changed, session.choice.changed, session.seen_changed):
            signal.connect(self._refresh)

    def _offer(self, paths: list[Path]) -> None:
        self.session.hand.take(None)
        self.cards.offer(paths)

    def _compare_with(self, path: Path) -> None:
        """Judge the open job by what a file made."""
        self.set_station("Check")
        self.commands.run("spots")
        self.cards.get("spots").judge_by(path)

    def _refresh(self) -> None:
        mark = "" if self.session.is_saved else "*"
        self.setWindowTitle(f"{self.session.job.name}{mark} · Usual Clay")
        self.hint_line.say(self._hint())

    def _hint(self) -> str:
        """Return what the next click or key does."""
        session, commands = self.session, self.commands
        hand, item = session.hand, session.shown.items.get(session.choice.item or "")
        if hand.marking is not None:
            return hand.marking.hint
        if hand.tool in HINTS:
            return HINTS[hand.tool]
        if hand.tool is not None:
            return commands.hint_of(hand.tool)
        if self.cards.asked is not None:
            return commands.hint_of(self.cards.asked) or (
                TASK_HINT if self.cards.asked == "task" else pick.HINT
            )
        if item is not None and not item.locked and view_of(item).hint:
            words = view_of(item).hint
            fresh = session.choice.fresh == item.id
            return words.replace("lets go of it", "drops it") if fresh else words
        if not session.job.items:
            return "Bring in a scan with <b>Ctrl+I</b>, or drop files on the window."
        return pick.HINT

    def set_station(self, name: str) -> None:
        self.top_bar.set_station(name)
        self.rail.show_station(name)

    def show_sheet(self, shown: bool) -> None:
        """Show the sheet of sections in place of the views, or these again."""
        self.views.setCurrentWidget(self.sheet if shown else self.stage)

    # ---- menus ---------------------------------------------------------------------------

    def _stage_menu(self, target: Target | None, place: QPoint) -> None:
        if target is not None:
            self.item_menu(target.item, place)
            return
        menu = QMenu(self)
        for name in ("fit view", "swap", "fold"):
            self._add(menu, name)
        menu.exec(place)

    def item_menu(self, item_id: ItemId, place: QPoint) -> None:
        """Show what fits an item."""
        if len(self.session.choice.besides(item_id)) < 2:
            self.session.choice.choose(item_id)
        item = self.session.job.items[item_id]
        menu = QMenu(self)
        for command in self.commands.fitting(type(item)):
            self._add(menu, command.name)
        menu.addSeparator()
        if not self.commands.why_not("tie again"):
            self._add(menu, "tie again")
        for name in ("hide", "lock", "rename", "delete"):
            self._add(menu, name)
        if view_of(item).may_colour:
            colours = menu.addMenu("Colour")
            for words, colour in COLOURS:
                act = colours.addAction(words)
                act.setIcon(colour_icon(colour) if colour else QIcon())
                act.triggered.connect(partial(self.session.set_colour, item_id, colour))
        menu.exec(place)

    def _add(self, menu: QMenu, name: str) -> None:
        command = self.commands[name]
        act = menu.addAction(f"{command.words}\t{self.commands.key(name)}")
        act.setEnabled(not self.commands.why_not(name))
        act.triggered.connect(lambda: self.commands.run(name))

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.documents.may_leave():
            self.session.work.cancel_all()
            self.autosave.end()
            event.accept()
        else:
            event.ignore()

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.documents.look_outside()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        QTimer.singleShot(0, self, lambda: self.documents.open_files(paths))
