"""The card of the section sheet: where is cut, and how large distances are drawn."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QSignalBlocker

from usual_clay.bench.cards.card import Card, Figures
from usual_clay.bench.number_field import CountField
from usual_clay.bench.session import Session
from usual_clay.bench.sheet import HINT, Planes, Sheet
from usual_clay.bench.widgets import Choice, Row, Slide, button, label, number
from usual_clay.core.check.deviation import percent
from usual_clay.core.spline.surface import surface_grid

AXES = [(axis, f"Planes square to {axis}") for axis in "xyz"]
MOST = 24


class SectionsCard(Card):
    """Axis, first and last plane, how many; before and now."""

    def __init__(
        self, session: Session, done: Callable[[], None], sheet: Sheet, show: Callable[[bool], None]
    ) -> None:
        super().__init__(session, "Sections side by side")
        self._done, self.sheet, self._show = done, sheet, show
        self._axis, self._for = "x", ""
        self.axis = Choice(AXES)
        self.axis.chosen.connect(self._set_axis)
        self.low = number(-1e4, 1e4, 2, " mm", "The first plane", "First", 90)
        self.high = number(-1e4, 1e4, 2, " mm", "The last plane", "Last", 90)
        self.count = CountField(1, MOST, 56)
        self.count.setValue(6)
        self.count.setToolTip("How many planes, spread evenly")
        self.count.setAccessibleName("Planes")
        self.large = Slide(1, 50, 1, " ×", "How many times larger distances are drawn", "Magnified")
        self.large.set_value(10)
        for part in (self.low, self.high, self.count):
            part.valueChanged.connect(lambda _value: self.cut())
        self.large.changed.connect(lambda _value: self.cut())
        for row in (
            Row("Square to", self.axis),
            Row("First plane", self.low),
            Row("Last plane", self.high),
            Row("Planes", self.count),
            Row("Distances", self.large, stretch=0),
        ):
            self.column.addWidget(row)
        self.figures = Figures()
        self.column.addWidget(self.figures)
        self.words = label(HINT, role="soft", wraps=True)
        self.column.addWidget(self.words)
        self.add_buttons(
            button("To its extent", "From end to end of the surface", clicked=self.spread),
            button("Done", "Back to the views (Esc)", "main", clicked=self.accept),
        )
        self.column.addStretch(1)

    def offer(self) -> None:
        """Show the sheet, cut along the surface's longest axis."""
        surface = self.session.choice.surface()
        if surface is not None:
            size = np.ptp(surface.geometry.points.reshape(-1, 3), axis=0)
            self._axis, self._for = "xyz"[int(np.argmax(size))], surface.id
        self._show(True)
        self.spread()

    def _set_axis(self, axis: str) -> None:
        self._axis = axis
        self.spread()

    def spread(self) -> None:
        """Cut from one end of the surface to the other, a little inside of both."""
        surface = self.session.choice.surface()
        if surface is not None:
            at = np.linspace(0, 1, 40)
            along = surface_grid(surface.geometry, at, at)[..., "xyz".index(self._axis)]
            low, high = float(along.min()), float(along.max())
            inset = 0.06 * (high - low)
            with QSignalBlocker(self.low), QSignalBlocker(self.high):
                self.low.setValue(low + inset)
                self.high.setValue(high - inset)
        self.axis.set_value(self._axis)
        self.cut()

    def cut(self) -> None:
        """Cut at the planes that the numbers say."""
        count = self.count.value()
        places = np.linspace(self.low.value(), self.high.value(), count)
        if count == 1:
            places = np.array([(self.low.value() + self.high.value()) / 2])
        large = self.large.number.value()
        planes = Planes("xyz".index(self._axis), tuple(map(float, places)), large)
        self.sheet.show_planes(planes)

    def refresh(self) -> None:
        session = self.session
        surface = session.choice.surface()
        self.about.setText("choose a surface" if surface is None else f"through {surface.name}")
        if surface is not None and surface.id != self._for:
            self._for = surface.id
            self.spread()
        report = None if surface is None else session.shown.report(surface)
        self.figures.setVisible(report is not None)
        if surface is None or report is None:
            return
        share = percent(session.shown.tolerance.share)
        self.figures.near.show_figure(f"{report.at_share:.3f} mm", f"now, {share} are nearer")
        old = session.sight.before_move.get(surface.id)
        self.figures.far.show_figure("–" if old is None else f"{old.at_share:.3f} mm", "before")

    def accept(self) -> None:
        """Go back to the views."""
        self._for = ""
        self.sheet.show_planes(None)
        self._show(False)
        self._done()

    def cancel(self) -> None:
        """Drop a drag that runs; without one, go back to the views."""
        if not self.sheet.drop():
            self.accept()
