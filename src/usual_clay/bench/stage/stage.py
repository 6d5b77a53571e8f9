"""The stage: the free view, the side light beside it, and what is switched on in both."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, QObject, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QGridLayout, QLabel, QMenu, QPushButton, QSplitter, QWidget

from usual_clay.bench.camera import TRUE_VIEWS, Camera, free_view, square_on, true_view
from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.stage.legend_menu import fill_judging_menu, fill_look_menu, look_title
from usual_clay.bench.stage.pane import Pane
from usual_clay.bench.stage.scene import Scene
from usual_clay.bench.theme.theme import themes
from usual_clay.bench.widgets import button
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import Plane

SWITCHES = (
    ("scan", "Scan", "Show the scan (1)"),
    ("pictures", "Pictures", "Show reference pictures (6)"),
    ("points", "Points", "Show point lists"),
    ("curves", "Curves", "Show curves"),
    ("surfaces", "Surfaces", "Show surfaces (2)"),
    ("bodies", "Bodies", "Show bodies (8)"),
    ("net", "Net", "Show the control net of the chosen surface (3)"),
    ("colours", "Deviation", "Colour surfaces by their deviation, or show their plain form (4)"),
)
# What is flown to is seen with so much round it, as a share of what is shown.
NEARNESS = 0.08
# So long what is ready to be shown waits for more, ms.
GATHERED = 20
# The free view turns by one of these angles, degrees, to what is hidden. Nearer than so much of
# what is seen round a place nothing hides it; and it is looked for from so many times as far off.
ROUND, SEEN, FAR = (0, 45, -45, 90, -90, 135, -135, 180), 0.05, 100
RANGES = (2.0, 3.0, 5.0, 10.0)


class Stage(Guarded, QSplitter):
    """Two panes on one scene.

    Signals
    -------
    hovered : text of the position under the cursor
    menu_wanted : target, place on the screen
    """

    hovered = Signal(str)
    menu_wanted = Signal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.session = session
        self.scene = Scene(session)
        self.free = Pane(self.scene)
        self.side = Pane(self.scene)
        self.free.view.camera = free_view()
        self.side.view.camera = true_view("side")
        self.side_name = "side"
        # Whether both views turn together.
        self.tied = self._turning = False
        self.switches: dict[str, QPushButton] = {}
        self._add_strip()
        self.side_button = button("", "Choose the side light's view", role="toggle")
        self.side_button.clicked.connect(self._side_menu)
        self.side_button.setParent(self.side)
        self.side_button.move(10, 8)
        self._name_side()
        self.setHandleWidth(1)
        self.setChildrenCollapsible(False)
        self.addWidget(self.free)
        self.addWidget(self.side)
        self.setStretchFactor(0, 5)
        self.setStretchFactor(1, 2)
        self.setSizes([615, 250])
        self._place_strip()
        for pane, name in ((self.free, "Free view"), (self.side, "Side light")):
            pane.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            pane.setAccessibleName(name)
            pane.hovered.connect(self.hovered)
            pane.menu_wanted.connect(self.menu_wanted)
            pane.legend_clicked.connect(self._legend_menu)
            pane.camera_moved.connect(lambda pane=pane: self._turn_along(pane))
            pane.installEventFilter(self)
        self.free.shows_legend = True
        # Several changes in one go are drawn once.
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self._refresh)
        for signal in (session.job_changed, session.choice.changed, themes.changed):
            signal.connect(self._soon.start)
        # What comes from the background mostly does not come alone.
        self._gathered = QTimer(self, singleShot=True, interval=GATHERED)
        self._gathered.timeout.connect(self._soon.start)
        self.scene.ready.connect(self._gathered.start)
        session.sight.wanted.connect(self.fly_to)
        session.seen_changed.connect(self._repaint)

    def _refresh(self) -> None:
        self.scene.let_go()
        self.free.refresh()
        if self.side.isVisible():
            self.side.refresh()

    def _repaint(self) -> None:
        self.free.update()
        self.side.update()

    # ---- what is shown -------------------------------------------------------------------

    def _add_strip(self) -> None:
        """Put the switches over the large view, beside its name."""
        self.free_name = QLabel("Free view", self.free)
        self.free_name.setProperty("role", "onstage")
        self.free_name.move(6, 8)
        self.free_name.adjustSize()
        self.strip = QWidget(self.free)
        self._switch_grid = QGridLayout(self.strip)
        self._switch_grid.setContentsMargins(10, 8, 10, 0)
        self._switch_grid.setSpacing(2)
        for name, words, tip in SWITCHES:
            switch = button(words, tip, role="toggle", checkable=True)
            switch.setChecked(getattr(self.scene.shown, name))
            switch.toggled.connect(lambda on, name=name: self.switch(name, on))
            self.switches[name] = switch
        self._columns = 0
        self._fill_strip(len(SWITCHES))
        self._one_row = self.strip.width()

    def _fill_strip(self, columns: int) -> None:
        if columns == self._columns:
            return
        self._columns = columns
        for number, switch in enumerate(self.switches.values()):
            self._switch_grid.addWidget(switch, number // columns, number % columns)
        self.strip.adjustSize()

    def _place_strip(self) -> None:
        name = self.free_name if self.large is self.free else self.side_button
        self.strip.setParent(self.large)
        left = name.x() + name.width()
        # Where there is no room for one row there are two.
        fits = left + self._one_row <= self.large.width()
        self._fill_strip(len(SWITCHES) if fits else len(SWITCHES) // 2)
        self.strip.move(left, 0)
        self.strip.show()

    def switch(self, name: str, on: bool | None = None) -> None:
        """Switch one of what is shown; without `on`, to the other state."""
        value = not getattr(self.scene.shown, name) if on is None else on
        changed: dict[str, Any] = {name: value}
        if name == "colours" and value:
            changed["judging"] = ""
        self.scene.shown = replace(self.scene.shown, **changed)
        if name in self.switches:
            self.switches[name].setChecked(value)
        self._soon.start()

    def _legend_menu(self, place: QPoint) -> None:
        menu = QMenu(self)
        if self.scene.shown.judging:
            fill_judging_menu(menu, self.scene.shown.judging, self.scene.sights)
            menu.exec(place)
            return
        tolerance = self.session.job.tolerance.deviation
        for times in RANGES:
            action = QAction(f"Full colour at ±{tolerance * times:g} mm", menu, checkable=True)
            action.setChecked(times == self.scene.shown.range)
            action.triggered.connect(lambda _=False, times=times: self.set_range(times))
            menu.addAction(action)
        menu.exec(place)

    def set_range(self, times: float) -> None:
        """Set where the colours are full, in tolerances."""
        self.scene.shown = replace(self.scene.shown, range=times)
        self._soon.start()

    # ---- views ---------------------------------------------------------------------------

    def fit(self) -> None:
        """Show everything in both views."""
        self.free.fit()
        self.side.fit()

    def fly_to(self, place: Floats) -> None:
        """Bring a place into the middle of both views, near enough to see what is amiss there."""
        outline = self.scene.outline()
        if outline is None:
            return
        reach = NEARNESS * float(np.ptp(outline, axis=0).max())
        box = place + reach * np.array(
            [[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]
        )
        for pane in (self.free, self.side):
            camera = pane.view.camera.fitted(box, pane.view.aspect)
            pane.move_camera(self._seeing(camera, place, reach) if pane is self.free else camera)
            pane.rest()

    def _seeing(self, camera: Camera, place: Floats, near: float) -> Camera:
        """Return a camera that sees a place with nothing before it: the least turned one, if any
        does."""
        for over in (False, True):
            for angle in ROUND:
                tried = camera.gone_round(np.radians(angle), over)
                start = place - FAR * near * tried.sight
                target = self.scene.target(start, tried.sight)
                if target is None or (place - target.hit.point) @ tried.sight < SEEN * near:
                    return tried
        return camera

    def look_menu(self) -> None:
        """Offer the ways to look in the smaller view."""
        menu = QMenu(self)
        fill_look_menu(menu, self)
        menu.exec(self.side.mapToGlobal(QPoint(10, 40)))

    def look_otherwise(self, judging: str | None) -> None:
        """Judge surfaces and bodies otherwise in the smaller view; None for as in the large one."""
        self.scene.other_look = judging
        self.scene.sights.look_from(self.large.view.camera)
        self.side.setVisible(True)
        self._name_side()
        self._soon.start()

    def tie(self, on: bool | None = None) -> None:
        """Let both views turn together, from where the large one looks; and apart again."""
        self.tied = not self.tied if on is None else on
        self.side.setVisible(True)
        if self.tied:
            self._turn_along(self.large)
        elif self.large is self.free:
            self.look(self.side_name)
        self._name_side()

    def _turn_along(self, pane: Pane) -> None:
        """Let the other view look from where one looks, and show as much across."""
        other = self.side if pane is self.free else self.free
        if not self.tied or self._turning:
            return
        wider = pane.view.aspect / other.view.aspect
        factor = wider if (wider > 1) == (pane is self.large) else 1.0
        self._turning = True
        other.move_camera(pane.view.camera.zoomed(factor, pane.view.camera.focus))
        self._turning = False
        other.rest_soon()

    def look(self, name: str) -> None:
        """Set the side light to one of the six true views."""
        self.tied = False
        self.side_name = name
        self.side.view.camera = true_view(name, like=self.side.view.camera)
        self._name_side()
        self.side.fit()

    def look_at(self, plane: Plane, name: str) -> None:
        """Set the side light square-on to a plane."""
        self.tied = False
        self.side_name = name
        self.side.view.camera = square_on(plane, like=self.side.view.camera)
        self._name_side()
        self.side.setVisible(True)
        self.side.fit()

    def _name_side(self) -> None:
        name = f"true {self.side_name}" if self.side_name in TRUE_VIEWS else self.side_name
        name = "turns along" if self.tied else name
        look, aside = self.scene.other_look, self.large is self.free
        judged = "" if look is None else f", {look_title(look).lower()}"
        words = f"{name}{judged}" if judged and aside else f"Side light: {name}"
        self.side_button.setText(f"{words}  ▾")
        self.side_button.adjustSize()
        self.free_name.setText("Free view" if aside else f"Free view{judged}")
        self.free_name.adjustSize()
        if self.count():
            self._place_strip()

    def _side_menu(self) -> None:
        menu = QMenu(self)
        for name in TRUE_VIEWS:
            action = menu.addAction(f"True {name}")
            action.triggered.connect(lambda _=False, name=name: self.look(name))
        menu.addSeparator()
        tied = menu.addAction("Both views turn together")
        tied.setCheckable(True)
        tied.setChecked(self.tied)
        tied.triggered.connect(self.tie)
        fill_look_menu(menu.addMenu("Surfaces are judged here"), self)
        menu.addSeparator()
        menu.addAction("Swap the views\tTab").triggered.connect(self.swap)
        menu.addAction("Fold the side light away").triggered.connect(self.fold)
        menu.exec(self.side_button.mapToGlobal(self.side_button.rect().bottomLeft()))

    def swap(self) -> None:
        """Make the side light the large view, and back."""
        sizes = self.sizes()
        large = self.side if self.large is self.free else self.free
        self.insertWidget(0, large)
        self.setSizes(sizes)
        self._name_side()
        for pane in (self.free, self.side):
            pane.shows_legend = pane is large
            pane.fit()
        self._soon.start()
        large.setFocus()

    @property
    def large(self) -> Pane:
        """The pane that has the larger place."""
        return self.free if self.widget(0) is self.free else self.side

    def fold(self) -> None:
        """Fold the side light away, or bring it back."""
        if self.large is self.side:
            self.swap()
        self.side.setVisible(not self.side.isVisible())

    # ---- keys ----------------------------------------------------------------------------

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let Tab swap the views, and keys that hold a drag do nothing else while it runs.

        Shift+Tab leaves a view as everywhere.
        """
        pane = watched if isinstance(watched, Pane) else None
        if event.type() == QEvent.Type.Resize and pane is self.large:
            self._place_strip()
        if (
            pane is not None
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and pane.claims(event)
        ):
            event.accept()
            return True
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() == Qt.Key.Key_Tab
            and not event.modifiers()
        ):
            self.swap()
            return True
        return super().eventFilter(watched, event)

    def escape(self) -> bool:
        """Drop a running gesture; tell whether there was one."""
        return self.free.drop_gesture() or self.side.drop_gesture()
