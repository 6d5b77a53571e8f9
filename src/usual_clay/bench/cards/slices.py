"""Slicing: planes through a scan, shown before they are cut."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QLineEdit

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.scans import add_sections, ask
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label, number
from usual_clay.core.arrays import Floats
from usual_clay.core.numbers import NumberError, read_numbers
from usual_clay.core.scan.section import Section, sections, stations_along
from usual_clay.job.items import Scan

MOST = 500


class SlicesCard(Card):
    """One plane, so many spread evenly, or stations that are typed."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Slice")
        self._done = done
        self._axis = "x"
        self._shown: tuple = ()
        self.axis = Choice([(name, f"Planes square to {name}") for name in "xyz"])
        self.axis.set_value("x")
        self.axis.chosen.connect(self._set_axis)
        self.count = number(
            1, MOST, 0, "", "How many planes, spread evenly", "Number of planes", 60
        )
        self.count.setValue(5)
        self.count.valueChanged.connect(lambda _value: self.refresh())
        self.at = QLineEdit()
        self.at.setPlaceholderText("or stations: 12, 30.5, 60")
        self.at.setToolTip(
            "Stations in mm along the axis, each after a comma and a space, or a semicolon; empty"
            " spreads evenly"
        )
        self.at.setAccessibleName("Stations in mm")
        self.at.editingFinished.connect(self.refresh)
        self.found = label(role="news", wraps=True)
        self.cut = button(
            "Add the slices",
            "Each polyline becomes a point list (Enter)",
            "main",
            clicked=self.accept,
        )
        self.column.addWidget(Row("Square to", self.axis))
        self.column.addWidget(Row("Planes", self.count))
        self.column.addWidget(Row("Stations", self.at, stretch=0))
        self.column.addWidget(self.found)
        self.pin_buttons(button("Close", "Leave it (Esc)", clicked=self.cancel), self.cut)
        self.column.addStretch(1)

    def _set_axis(self, axis: str) -> None:
        self._axis = axis
        self.refresh()

    def _scan(self) -> Scan | None:
        return self.session.job.get(self.session.choice.item, Scan)

    def _stations(self, scan: Scan) -> Floats | None:
        """Return the wanted stations; None where they are no numbers."""
        typed = self.at.text().strip()
        if not typed:
            return stations_along(scan.mesh, "xyz".index(self._axis), int(self.count.value()))
        try:
            return np.array(read_numbers(typed, "mm")[:MOST])
        except NumberError:
            return None

    def refresh(self) -> None:
        scan = self._scan()
        self.cut.setEnabled(False)
        if scan is None:
            self.about.setText("Choose a scan in the Shelf.")
            return
        low, high = scan.mesh.box[:, "xyz".index(self._axis)]
        self.about.setText(f"{scan.name} goes from {low:.2f} to {high:.2f} mm along {self._axis}")
        stations = self._stations(scan)
        if stations is None:
            self.found.setText("Stations are numbers in mm with commas between, such as 12, 30.5.")
            return
        self.cut.setEnabled(True)
        shown = (scan.mesh, self._axis, tuple(stations))
        if shown[0] is (self._shown or (None,))[0] and shown[1:] == self._shown[1:]:
            return
        self._shown = shown
        mesh, normal = scan.mesh, np.eye(3)["xyz".index(self._axis)]
        self.found.setText("Cutting ...")

        def cut() -> list[Section]:
            return [each for at in stations for each in sections(mesh, at * normal, normal)]

        ask(self.session, "slices", "preview", "", cut, self._came)

    def _came(self, cut: list) -> None:
        if not self.isVisible():
            return
        lines = [np.concatenate([s.points, s.points[:1]]) if s.closed else s.points for s in cut]
        self.session.sight.light(lines)
        open_ = sum(not section.closed for section in cut)
        length = sum(section.length for section in cut)
        self.found.setText(
            f"{len(cut)} polylines, {open_} of them open; {length:.1f} mm in all."
            if cut
            else "None of these planes cuts the scan."
        )
        self.cut.setEnabled(bool(cut))

    def accept(self) -> None:
        scan = self._scan()
        stations = None if scan is None else self._stations(scan)
        if scan is not None and stations is not None and self.cut.isEnabled():
            add_sections(self.session, scan, self._axis, [float(at) for at in stations])
            self.cancel()

    def cancel(self) -> None:
        self._done()
        self._shown = ()
        self.session.sight.light([])
