"""The window: puts the panels together and gives every action its meaning."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QIcon
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.actions import Actions
from usual_clay.bench.balance import Balance
from usual_clay.bench.card_holder import CardHolder
from usual_clay.bench.command_table import fill
from usual_clay.bench.drape_edits import search, start_drape
from usual_clay.bench.finder import Finder
from usual_clay.bench.gestures import brush, outline_select, pick, shape, spread
from usual_clay.bench.hint_line import HintLine
from usual_clay.bench.point_edits import take_out
from usual_clay.bench.scan_edits import split_at_creases
from usual_clay.bench.session import Session
from usual_clay.bench.shelf import Shelf
from usual_clay.bench.stage.scene import Target
from usual_clay.bench.stage.stage import Stage
from usual_clay.bench.theme.looks import colour_icon
from usual_clay.bench.tool_rail import ToolRail
from usual_clay.bench.top_bar import TopBar
from usual_clay.bench.widgets import rule
from usual_clay.core.fit.drape import DrapeSettings
from usual_clay.files import job_file, mesh_file, picture_file, points_file
from usual_clay.files.deliver import write_surfaces
from usual_clay.files.errors import FileError
from usual_clay.files.point_stream import ReplayStream
from usual_clay.job.items import ItemId, Picture, PointList, Region, Scan, Surface

POINTS_HINT = "<b>Click</b> points to ring them, or <b>drag</b> a box; <b>Ctrl</b> lets go of them."
BRUSH_HINT = (
    "<b>Drag</b> over points to ring them; <b>Ctrl</b> lets go. <b>[</b> <b>]</b> size the brush."
)
HINTS = {
    None: pick.HINT,
    "spread": spread.HINT,
    "brush": brush.HINT,
    "lasso": outline_select.HINT,
    "box": outline_select.HINT,
    "shape": shape.HINT,
    "mark points": POINTS_HINT,
    "brush points": BRUSH_HINT,
}
PICTURE_HINT = (
    "<b>Drag</b> the picture to move it, a corner to scale it, the stem's ring to turn it."
    " <b>L</b> locks it."
)
ON_POINTS = ("mark points", "brush points")
RIGHT_WIDTH = 336
KNOWN = (*mesh_file.SUFFIXES, *points_file.SUFFIXES, *picture_file.SUFFIXES)
# A user's own colours for items, all quiet beside teal, plum and saffron.
COLOURS = (
    ("As its kind", ""), ("Slate", "#7E9AA8"), ("Sage", "#93A67C"), ("Ochre", "#C2A25A"),
    ("Heather", "#A98BA8"), ("Moss", "#6FA39B"), ("Brick", "#B58A76"), ("Dusk", "#8D8FB5"),
)  # fmt: skip


class Window(QMainWindow):
    """The whole bench around one session."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session()
        self.table = Actions(self)
        self.top_bar = TopBar(self.session)
        self.rail = ToolRail(self.session, self.table)
        self.stage = Stage(self.session)
        self.balance = Balance(self.session)
        self.shelf = Shelf(self.session)
        self.hint_line = HintLine(self.session)
        fill(self.table, self)
        self.cards = CardHolder(self.session, self.table, self.look_at_picture)
        self.finder = Finder(self.table, self)
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
        middle.addWidget(self.stage)
        middle.addWidget(self.balance)
        middle.setStretchFactor(0, 1)
        middle.setSizes([558, 170])
        self.balance.setMinimumHeight(120)
        card_area = QScrollArea()
        card_area.setWidgetResizable(True)
        card_area.setWidget(self.cards)
        card_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        right = QSplitter(Qt.Orientation.Vertical)
        right.setHandleWidth(1)
        right.setChildrenCollapsible(False)
        right.addWidget(self.shelf)
        right.addWidget(card_area)
        right.setSizes([218, 500])
        right.setFixedWidth(RIGHT_WIDTH)
        whole = QWidget()
        whole.setObjectName("panel")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        body = QHBoxLayout()
        body.setSpacing(0)
        for part, stretch in ((self.rail, 0), (rule(upright=True), 0), (middle, 1),
                              (rule(upright=True), 0), (right, 0)):  # fmt: skip
            body.addWidget(part, stretch)
        column.addWidget(self.top_bar)
        column.addWidget(rule())
        column.addLayout(body, 1)
        column.addWidget(self.hint_line)
        self.setCentralWidget(whole)

    def _connect(self) -> None:
        self.top_bar.station_chosen.connect(self.set_station)
        self.top_bar.finder_wanted.connect(self.finder.open)
        self.stage.hovered.connect(self.hint_line.place.setText)
        self.stage.menu_wanted.connect(self._stage_menu)
        self.shelf.menu_wanted.connect(self.item_menu)
        session = self.session
        for signal in (session.job_changed, session.chosen_changed, session.tool_changed):
            signal.connect(self._refresh)

    def _refresh(self) -> None:
        session = self.session
        mark = "" if session.is_saved else "*"
        self.setWindowTitle(f"{session.job.name}{mark} · Usual Clay")
        hint = session.marking.hint if session.marking is not None else HINTS[session.tool]
        picture = session.shown.get(session.chosen, Picture)
        if session.tool is None and picture is not None and not picture.locked:
            hint = PICTURE_HINT
        elif session.tool is None and session.chosen_surface() is not None:
            hint = "Drag along the front in Balance to spend more or fewer control points. "
            fresh = session.fresh == session.chosen
            hint += "<b>Enter</b> keeps the surface, <b>Esc</b> " + (
                "drops it." if fresh else "lets go of it."
            )
        elif not session.job.items:
            hint = "Bring in a scan with <b>Ctrl+I</b>, or drop files on the window."
        self.hint_line.words.setText(hint)

    def set_station(self, name: str) -> None:
        self.top_bar.set_station(name)
        self.rail.show_station(name)

    # ---- steps back and forward ----------------------------------------------------------

    def escape(self) -> None:
        """Go one step back."""
        session = self.session
        if self.finder.isVisible():
            self.finder.hide()
        elif self.stage.escape() or session.stop_work() or self.cards.close_asked():
            pass
        elif session.tool is not None:
            session.take_tool(None)
        elif session.fresh is not None and session.fresh == session.chosen:
            session.fresh = None
            session.undo()
        else:
            session.choose(None)

    def accept(self) -> None:
        """Do what Enter means here."""
        focused = QApplication.focusWidget()
        if isinstance(focused, QPushButton):
            focused.click()
        elif isinstance(focused, QAbstractSpinBox | QLineEdit):
            self.stage.large.setFocus()
        elif not self.cards.accept_asked():
            if self.session.chosen_surface() is not None and self.session.tool is None:
                self.keep()
            elif self.session.job.get(self.session.chosen, Region) is not None:
                self.drape()

    def keep(self) -> None:
        """Be done with the chosen surface."""
        self.session.fresh = None
        self.session.choose(None)

    # ---- tools ---------------------------------------------------------------------------

    def take(self, tool: str) -> None:
        """Take a stage tool in hand, or put it down again."""
        session = self.session
        if session.tool == tool:
            session.take_tool(None)
            return
        if tool in ON_POINTS:
            if session.job.get(session.chosen, PointList) is None:
                session.told.emit("trouble", "Choose a point list in the Shelf first.")
            else:
                session.take_tool(tool)
            return
        if not any(session.job.all(Scan)):
            session.told.emit("trouble", "There is no scan yet: bring one in first.")
            return
        if session.chosen_surface() is not None:
            region = session.chosen_region()
            session.choose(None if region is None else region.id)
        session.take_tool(tool)
        self.stage.switch("scan", True)

    def drape(self) -> None:
        """Drape a surface over the chosen region."""
        session = self.session
        region = self._drapable()
        if region is None:
            if session.chosen_surface() is None:
                session.told.emit("trouble", "Choose a region first: Spread or Brush one.")
            return
        session.take_tool(None)
        start_drape(session, region, DrapeSettings())

    def _drapable(self) -> Region | PointList | None:
        job, chosen = self.session.job, self.session.chosen
        return job.get(chosen, Region) or job.get(chosen, PointList)

    def ask(self, name: str) -> None:
        """Show a card that works on a scan, taking the only scan where none is chosen."""
        session = self.session
        if name in ("health", "straighten", "slice", "split"):
            scans = list(session.job.all(Scan))
            if session.job.get(session.chosen, Scan) is None:
                region = session.chosen_region()
                home = session.job.get(region.scan, Scan) if region is not None else None
                if home is None and len(scans) != 1:
                    words = "Bring in a scan first." if not scans else "Choose a scan first."
                    session.told.emit("trouble", words)
                    return
                session.choose((home or scans[0]).id)
        session.take_tool(None)
        if name == "split":
            scan = session.job.get(session.chosen, Scan)
            if scan is not None:
                split_at_creases(session, scan)
            return
        card = self.cards.ask(name)
        if name == "probe" and not card.recorded.size:
            card.offer()

    def replay(self) -> None:
        """Ask for a file of recorded points and replay it as a probe."""
        told, _ = QFileDialog.getOpenFileName(self, "Replay recorded points", "", "Files (*)")
        if told:
            self.replay_file(Path(told))

    def replay_file(self, path: Path) -> None:
        """Be ready to replay a file of recorded points."""
        try:
            stream = ReplayStream(path)
        except FileError as error:
            self.session.told.emit("trouble", str(error))
            return
        self.cards.ask("probe").offer(stream)

    def look_at_picture(self, picture: Picture) -> None:
        """Turn the side light square-on to a picture."""
        self.stage.look_at(picture.placement.plane, picture.name)

    def step_setting(self, up: bool) -> None:
        """Halve or double the brush, or spread less or more."""
        session = self.session
        if session.tool == "spread":
            session.set_spread(session.spread_amount + (0.02 if up else -0.02))
        else:
            session.set_brush(session.brush_radius * (2 if up else 0.5))

    def to_tolerance(self) -> None:
        """Search for the chosen surface, or stop the search that runs."""
        surface = self.session.chosen_surface()
        if surface is None:
            self.session.told.emit("trouble", "Choose a draped surface first.")
        elif self.session.work.is_busy(f"search {surface.id}"):
            self.session.work.cancel(f"search {surface.id}")
        else:
            search(self.session, surface)

    def delete(self) -> None:
        """Take ringed points out; without any, delete the chosen item."""
        points = self.session.job.get(self.session.chosen, PointList)
        if points is not None and len(self.session.suggested):
            take_out(self.session, points, self.session.suggested, "take points out")
        elif self.session.chosen is not None:
            self.session.delete(self.session.chosen)

    def rename(self) -> None:
        row = self.shelf.rows.get(self.session.chosen or "")
        if row is not None:
            row.rename()

    def toggle_flag(self, flag: str) -> None:
        item = self.session.job.items.get(self.session.chosen or "")
        if item is not None:
            self.session.set_flag(item.id, flag, not getattr(item, flag))

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
        self.session.choose(item_id)
        item = self.session.job.items[item_id]
        menu = QMenu(self)
        if isinstance(item, Scan):
            self._add(menu, "spread", "brush", "shape", "health", "straighten", "slice", "split")
        elif isinstance(item, Region):
            self._add(menu, "drape", "lasso", "box")
        elif isinstance(item, PointList):
            self._add(menu, "mark points", "brush points", "drape")
        elif isinstance(item, Picture):
            menu.addAction("Look square-on").triggered.connect(lambda: self.look_at_picture(item))
            self._add(menu, "agreement")
        elif isinstance(item, Surface):
            self._add(menu, "to tolerance", "plain form", "step", "iges", "stl")
        menu.addSeparator()
        self._add(menu, "hide", "lock", "rename", "delete")
        if not isinstance(item, Picture):
            colours = menu.addMenu("Colour")
            for words, colour in COLOURS:
                act = colours.addAction(words)
                act.setIcon(colour_icon(colour) if colour else QIcon())
                act.triggered.connect(partial(self.session.set_colour, item_id, colour))
        menu.exec(place)

    def _add(self, menu: QMenu, *names: str) -> None:
        for action in self.table.all():
            if action.name in names:
                words = f"{action.words}\t{self.table.key(action.name)}"
                menu.addAction(words).triggered.connect(lambda _=False, run=action.run: run())

    # ---- files ---------------------------------------------------------------------------

    def new(self) -> None:
        if self._may_leave():
            self.session.new()

    def open(self) -> None:
        told, _ = QFileDialog.getOpenFileName(self, "Open a job", "", "Usual Clay jobs (*.uclay)")
        if told:
            self.open_file(Path(told))

    def open_demo(self) -> None:
        """Open the demo job, made on first use."""
        from usual_clay.demo.make import demo_job_file

        self.session.work.start(
            "demo", "Making the demo job", lambda *_: demo_job_file(), self.open_file,
            failed=lambda error: self.session.told.emit("trouble", str(error)),
        )  # fmt: skip

    def bring_in(self, what: str, suffixes: tuple[str, ...]) -> None:
        """Ask for a file of a scan or of points."""
        endings = " ".join(f"*{suffix}" for suffix in suffixes)
        told, _ = QFileDialog.getOpenFileNames(self, f"Bring in {what}", "", f"Files ({endings})")
        if told:
            self.open_files([Path(each) for each in told])

    def open_file(self, path: Path) -> None:
        """Open a job, or offer a scan to be brought in, by the file's ending."""
        if path.suffix.lower() == job_file.SUFFIX:
            if self._may_leave() and self.session.open(path):
                self.set_station("Surface")
                self.stage.fit()
                # The newest surface is what the user was at.
                surfaces = list(self.session.job.all(Surface))
                self.session.choose(surfaces[-1].id if surfaces else None)
        elif path.suffix.lower() in KNOWN:
            self.session.take_tool(None)
            self.cards.offer([path])
        else:
            self.session.told.emit("trouble", f"{path.name}: no way to open this kind of file")

    def open_files(self, paths: list[Path]) -> None:
        """Open the first of several files; pictures are taken all together."""
        if len(paths) > 1 and all(p.suffix.lower() in picture_file.SUFFIXES for p in paths):
            self.cards.offer(sorted(paths))
        else:
            self.open_file(paths[0])
            if len(paths) > 1:
                self.session.told.emit("news", f"One at a time: {paths[0].name} is first.")

    def save(self) -> bool:
        if self.session.path is None or self._is_demo():
            return self.save_as()
        return self.session.save(self.session.path)

    def _is_demo(self) -> bool:
        """Tell whether the demo's own file is open: it is not written over."""
        from usual_clay.demo.make import demo_folder

        return self.session.path is not None and self.session.path.parent == demo_folder()

    def save_as(self) -> bool:
        start = f"{self.session.job.name}{job_file.SUFFIX}"
        told, _ = QFileDialog.getSaveFileName(self, "Save the job", start, "Usual Clay (*.uclay)")
        if not told:
            return False
        return self.session.save(Path(told).with_suffix(job_file.SUFFIX))

    def deliver(self, suffix: str) -> None:
        """Write the chosen surface, or all visible ones, as STEP, IGES or STL."""
        told, _ = QFileDialog.getSaveFileName(
            self, "Write surfaces", f"{self.session.job.name}{suffix}", f"*{suffix}"
        )
        if told:
            self.write_to(Path(told) if Path(told).suffix else Path(told + suffix))

    def write_to(self, path: Path) -> None:
        chosen = self.session.chosen_surface()
        job = self.session.job
        surfaces = [chosen] if chosen is not None else [s for s in job.all(Surface) if s.visible]
        named = [(surface.name, surface.geometry) for surface in surfaces]
        chord = job.aim.tolerance / 5

        def done(_: object) -> None:
            names = ", ".join(name for name, _ in named)
            self.session.told.emit("news", f"Wrote {names} to {path.name}, in mm.")

        def failed(error: Exception) -> None:
            words = str(error) if isinstance(error, FileError) else repr(error)
            self.session.told.emit("trouble", words)

        self.session.work.start(
            "deliver", f"Writing {path.name}", lambda *_: write_surfaces(path, named, chord), done,
            failed=failed,
        )  # fmt: skip

    def _may_leave(self) -> bool:
        """Ask what to do with changes that are not saved."""
        if self.session.is_saved or not self.session.job.items:
            return True
        kind = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self, "Save the job?", f"“{self.session.job.name}” has changes that are not saved.",
            kind.Save | kind.Discard | kind.Cancel, kind.Save,
        )  # fmt: skip
        return self.save() if answer == kind.Save else answer == kind.Discard

    def closeEvent(self, event: QCloseEvent) -> None:
        if self._may_leave():
            self.session.work.cancel_all()
            event.accept()
        else:
            event.ignore()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        QTimer.singleShot(0, lambda: self.open_files(paths))
