"""The window: puts the panels together and gives every action its meaning."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QIcon
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.actions import Actions
from usual_clay.bench.balance import Balance
from usual_clay.bench.card_holder import CardHolder
from usual_clay.bench.command_table import fill
from usual_clay.bench.documents import Documents
from usual_clay.bench.edits.casts import search, start_cast
from usual_clay.bench.edits.curves import add_twin, search_curve
from usual_clay.bench.edits.patches import solve_patches
from usual_clay.bench.edits.points import add_spline, take_out, trace_in_parts
from usual_clay.bench.edits.scans import split_at_creases
from usual_clay.bench.finder import Finder
from usual_clay.bench.gestures import brush, drag_points, outline_select, pick, shape, spread
from usual_clay.bench.hint_line import HintLine
from usual_clay.bench.idle import Calmness, Fronts
from usual_clay.bench.session import Session
from usual_clay.bench.sheet import HINT as SHEET_HINT
from usual_clay.bench.sheet import Sheet
from usual_clay.bench.shelf import Shelf
from usual_clay.bench.stage.scene import Target
from usual_clay.bench.stage.stage import Stage
from usual_clay.bench.theme.looks import colour_icon
from usual_clay.bench.tool_rail import ToolRail
from usual_clay.bench.top_bar import TopBar
from usual_clay.bench.widgets import TallArea, rule
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.job.items import Curve, ItemId, Picture, PointList, Region, Scan, Surface

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
# A user's own colours for items, all quiet beside teal, plum and saffron.
COLOURS = (
    ("As its kind", ""),
    ("Slate", "#7E9AA8"),
    ("Sage", "#93A67C"),
    ("Ochre", "#C2A25A"),
    ("Heather", "#A98BA8"),
    ("Moss", "#6FA39B"),
    ("Brick", "#B58A76"),
    ("Dusk", "#8D8FB5"),
)


class Window(QMainWindow):
    """The whole bench around one session."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session()
        self.documents = Documents(self)
        self.table = Actions(self)
        self.top_bar = TopBar(self.session)
        self.rail = ToolRail(self.session, self.table)
        self.stage = Stage(self.session)
        self.balance = Balance(self.session)
        self.fronts, self.calmness = Fronts(self.session), Calmness(self.session)
        self.shelf = Shelf(self.session)
        self.hint_line = HintLine(self.session)
        fill(self.table, self)
        self.sheet = Sheet(self.session)
        self.cards = CardHolder(self.session, self.table, self.look_at_picture)
        self.cards.more["sections"] = (self.sheet, self.show_sheet)
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
        # The sheet of sections takes the place of the views while it is asked for.
        self.views = QStackedWidget()
        self.views.addWidget(self.stage)
        self.views.addWidget(self.sheet)
        middle.addWidget(self.views)
        middle.addWidget(self.balance)
        middle.setStretchFactor(0, 1)
        middle.setSizes([558, 170])
        self.balance.setMinimumHeight(120)
        card_area = TallArea(self.cards)
        right = QSplitter(Qt.Orientation.Vertical)
        right.setHandleWidth(1)
        right.setChildrenCollapsible(False)
        right.addWidget(self.shelf)
        right.addWidget(card_area)
        right.setSizes([250, 470])
        right.setFixedWidth(RIGHT_WIDTH)
        whole = QWidget()
        whole.setObjectName("panel")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        body = QHBoxLayout()
        body.setSpacing(0)
        for part, stretch in (
            (self.rail, 0),
            (rule(upright=True), 0),
            (middle, 1),
            (rule(upright=True), 0),
            (right, 0),
        ):
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
        if session.tool is None and self.cards.asks_for("sections"):
            hint = SHEET_HINT
        elif session.tool is None and (
            any(self.cards.asks_for(name) for name in ("task", "patch", "shape scan"))
        ):
            hint = "What it would make is shown. <b>Enter</b> keeps it, <b>Esc</b> drops it."
        elif session.tool is None and picture is not None and not picture.locked:
            hint = PICTURE_HINT
        elif session.tool is None and session.shown.get(session.chosen, Curve) is not None:
            hint = drag_points.HINT
        elif session.tool is None and session.chosen_surface() is not None:
            hint = "Drag along the front in Balance to spend more or fewer control points, or"
            hint += " <b>drag</b> one of them on the stage. "
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
            if self.session.chosen_fitted() is not None and self.session.tool is None:
                self.keep()
            elif self.session.job.get(self.session.chosen, Region) is not None:
                self.cast()

    def keep(self) -> None:
        """Be done with the chosen surface or curve."""
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

    def cast(self) -> None:
        """Cast a surface over the chosen region."""
        session = self.session
        region = self._castable()
        if region is None:
            if session.chosen_surface() is None:
                session.told.emit("trouble", "Choose a region first: Spread or Brush one.")
            return
        session.take_tool(None)
        start_cast(session, region, CastSettings())

    def _castable(self) -> Region | PointList | None:
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
        if name == "draw" or (name == "probe" and not card.recorded.size):
            card.offer()

    def patch(self) -> None:
        """Ask for the four borders of a patch."""
        if not any(self.session.job.all(Scan)):
            self.session.told.emit("trouble", "There is no scan yet: bring one in first.")
            return
        self.session.choose(None)
        self.session.take_tool(None)
        self.stage.switch("scan", True)
        self.cards.ask("patch").offer()

    def show_sheet(self, shown: bool) -> None:
        """Show the sheet of sections in place of the views, or these again."""
        self.views.setCurrentWidget(self.sheet if shown else self.stage)

    def double(self) -> None:
        """Add a second surface like the chosen one, and choose it."""
        surface = self.session.job.get(self.session.chosen, Surface)
        if surface is None:
            self.session.told.emit("trouble", "Choose a surface in the Shelf first.")
            return
        job = self.session.job
        name = job.free_name(f"{surface.name} 2")
        made = replace(surface, id=job.new_id("surface"), name=name, locked=False)
        self.session.add(made, f"double {surface.name}")

    def solve_together(self) -> None:
        """Solve the chosen patch and those that it shares borders with together."""
        surface = self.session.chosen_surface()
        if surface is None or surface.recipe is None or surface.recipe.kind != "patch":
            self.session.told.emit("trouble", "Choose a four-corner patch first.")
        else:
            solve_patches(self.session, surface)

    def shape_scan(self) -> None:
        """Let the scan follow a surface from how it was to how it is."""
        if len(list(self.session.job.all(Surface))) < 2:
            self.session.told.emit(
                "trouble",
                "It takes two surfaces, as it was and as it is:"
                " double one, and shape one of the two.",
            )
            return
        self.session.take_tool(None)
        self.cards.ask("shape scan").offer()

    def sections(self) -> None:
        """Cut the chosen surface and its scan, side by side."""
        if self.session.chosen_surface() is None:
            self.session.told.emit("trouble", "Choose a surface in the Shelf first.")
            return
        self.session.take_tool(None)
        self.cards.ask("sections").offer()
        self._refresh()

    def look_at_picture(self, picture: Picture) -> None:
        """Turn the side light square-on to a picture."""
        self.stage.look_at(picture.placement.plane, picture.name)

    def twin(self) -> None:
        """Add a mirrored copy of the chosen curve."""
        curve = self.session.job.get(self.session.chosen, Curve)
        if curve is None:
            self.session.told.emit("trouble", "Choose a curve in the Shelf first.")
        else:
            add_twin(self.session, curve)

    def task(self, kind: str) -> None:
        """Show the card of something that is made from curves."""
        session = self.session
        wanted = "surface" if "surface" in kind else "curve"
        kinds: tuple[type, ...] = (Curve, PointList) if kind == "arc" else (Curve,)
        kinds = (Surface,) if "surface" in kind else kinds
        if not any(isinstance(item, kinds) for item in session.job.items.values()):
            session.told.emit("trouble", f"There is no {wanted} yet.")
            return
        session.take_tool(None)
        self.cards.ask("task").offer(kind)
        self.cards.refresh()

    def holds(self) -> None:
        """Show what the chosen curve keeps while it is shaped."""
        if self.session.job.get(self.session.chosen, Curve) is None:
            self.session.told.emit("trouble", "Choose a curve in the Shelf first.")
        else:
            self.cards.ask("holds")

    def toggle_comb(self) -> None:
        self.session.set_comb(0.0 if self.session.comb_scale > 0 else 1.0)

    def step_setting(self, up: bool) -> None:
        """Halve or double the brush or the nudge step, or spread less or more."""
        session = self.session
        if session.control_points:
            session.nudge_step = float(np.clip(session.nudge_step * (2 if up else 0.5), 1e-4, 100))
            session.told.emit("news", f"Arrows nudge by {session.nudge_step:g} mm.")
            return
        if session.tool == "spread":
            session.set_spread(session.spread_amount + (0.02 if up else -0.02))
        else:
            session.set_brush(session.brush_radius * (2 if up else 0.5))

    def to_tolerance(self) -> None:
        """Search for the chosen surface or spline, or stop the search that runs."""
        item = self.session.chosen_fitted()
        if item is None:
            self.session.told.emit("trouble", "Choose a cast surface or a spline first.")
        elif self.session.work.is_busy(f"search {item.id}"):
            self.session.work.cancel(f"search {item.id}")
        elif isinstance(item, Curve):
            search_curve(self.session, item)
        else:
            search(self.session, item)

    def spline(self) -> None:
        """Let a spline follow the chosen run, and find the leanest that will do."""
        points = self.session.job.get(self.session.chosen, PointList)
        if points is None:
            self.session.told.emit("trouble", "Choose a point list in the Shelf first.")
        else:
            add_spline(self.session, points, TraceSettings(knots="adaptive"))

    def parts(self) -> None:
        """Let splines follow the chosen run, parted at its corners and at ringed points."""
        points = self.session.job.get(self.session.chosen, PointList)
        if points is None:
            self.session.told.emit("trouble", "Choose a point list in the Shelf first.")
        else:
            trace_in_parts(self.session, points)

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
            self._add(menu, "cast", "lasso", "box")
        elif isinstance(item, PointList):
            self._add(menu, "mark points", "brush points", "cast")
        elif isinstance(item, Picture):
            menu.addAction("Look square-on").triggered.connect(lambda: self.look_at_picture(item))
            self._add(menu, "agreement")
        elif isinstance(item, Curve):
            self._add(
                menu,
                "to tolerance",
                "twin",
                "task slim",
                "task fair",
                "task offset",
                "task split",
                "holds",
                "comb",
                "step",
                "iges",
                "svg",
            )
        elif isinstance(item, Surface):
            self._add(
                menu, "to tolerance", "task slim surface", "plain form", "step", "iges", "stl"
            )
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

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.documents.may_leave():
            self.session.work.cancel_all()
            event.accept()
        else:
            event.ignore()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        QTimer.singleShot(0, lambda: self.documents.open_files(paths))
