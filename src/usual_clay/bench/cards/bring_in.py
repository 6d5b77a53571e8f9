"""Bringing in a scan or points: what the file does not say is asked, with the size to judge by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings

from usual_clay.bench.cards.card import Card, thousands
from usual_clay.bench.point_edits import add_points
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label
from usual_clay.core.points.lay import PLANES
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files import mesh_file
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.points_file import PointsRead, read_points
from usual_clay.files.units import MILLIMETRES

# Of rows that will be skipped, so many are named.
NAMED_ROWS = 4


class BringInCard(Card):
    """Asks for the unit of a file, and for the plane of points that have but two numbers."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Bring in")
        self._done = done
        self._path: Path | None = None
        self._read: TriangleMesh | PointsRead | None = None
        self._unit, self._plane = "mm", "xy"
        self.unit = Choice([(unit, f"The file's numbers are {unit}") for unit in MILLIMETRES])
        self.unit.chosen.connect(self._set_unit)
        self.plane = Choice([(plane, f"Lay the points on the plane {plane}") for plane in PLANES])
        self.plane.set_value("xy")
        self.plane.chosen.connect(self._set_plane)
        self.plane_row = Row("Plane", self.plane)
        self.made = label(role="news", wraps=True)
        self.keep = button("Bring in", "Add it to the job (Enter)", "main", clicked=self.accept)
        self.drop = button("Cancel", "Leave it (Esc)", clicked=self.cancel)
        self.column.addWidget(Row("Unit", self.unit))
        self.column.addWidget(self.plane_row)
        self.column.addWidget(self.made)
        self.add_buttons(self.drop, self.keep)
        self.column.addStretch(1)

    def offer(self, path: Path) -> None:
        """Read a file in the background and ask what it does not say."""
        self._path, self._read = path, None
        scan = path.suffix.lower() in mesh_file.SUFFIXES
        self.title.setText("Bring in a scan" if scan else "Bring in points")
        self.plane_row.hide()
        self._set_unit(str(QSettings().value("unit", "mm")))
        self.about.setText(f"{path.name} does not say its unit. What are its numbers in?")
        self.session.work.start(
            "bring in", f"Reading {path.name}",
            lambda *_: read_mesh(path) if scan else read_points(path), self._came,
            failed=self._failed,
        )  # fmt: skip

    def accept(self) -> None:
        if self._read is None or self._path is None:
            return
        read, path, factor = self._read, self._path, self._factor()
        QSettings().setValue("unit", self._unit)
        self._path = self._read = None
        self._done()
        if isinstance(read, PointsRead):
            scaled = replace(read, points=read.points * factor, unit=self._unit)
            plane = self._plane if self._needs_plane(read) else None
            add_points(self.session, scaled, path.name, plane)
            return
        if factor != 1:
            read = TriangleMesh(read.vertices * factor, read.triangles)
        self.session.add_scan(read, path.name, self._unit)

    def cancel(self) -> None:
        self.session.work.drop("bring in")
        self._path = self._read = None
        self._done()

    def _came(self, read: TriangleMesh | PointsRead) -> None:
        self._read = read
        if isinstance(read, PointsRead):
            self.plane_row.setVisible(self._needs_plane(read))
            if read.said_unit and self._path is not None:
                self.about.setText(f"{self._path.name} says that its numbers are {read.unit}.")
                self._set_unit(read.unit)
        self._show_size()

    def _failed(self, error: Exception) -> None:
        self.cancel()
        self.session.told.emit("trouble", str(error))

    @staticmethod
    def _needs_plane(read: PointsRead) -> bool:
        return read.points.shape[1] == 2 and not read.axes

    def _factor(self) -> float:
        """Return what the numbers read are multiplied by; what the file says is done already."""
        said = isinstance(self._read, PointsRead) and self._read.said_unit
        return 1.0 if said else MILLIMETRES[self._unit]

    def _set_unit(self, unit: str) -> None:
        if isinstance(self._read, PointsRead) and self._read.said_unit:
            unit = self._read.unit
        self._unit = unit if unit in MILLIMETRES else "mm"
        self.unit.set_value(self._unit)
        self._show_size()

    def _set_plane(self, plane: str) -> None:
        self._plane = plane

    def _show_size(self) -> None:
        self.keep.setEnabled(self._read is not None)
        if self._read is None:
            self.made.setText("Reading ...")
            return
        points = self._read.points if isinstance(self._read, PointsRead) else self._read.vertices
        size = np.ptp(points, axis=0) * self._factor()
        sides = " × ".join(f"{side:.4g}" for side in size)
        words = f"That makes it {sides} mm.\n"
        if isinstance(self._read, PointsRead):
            words += f"{thousands(len(points))} points." + _skipped(self._read)
        else:
            words += f"{thousands(len(self._read.triangles))} triangles."
        self.made.setText(words)


def _skipped(read: PointsRead) -> str:
    if not read.bad:
        return ""
    named = "".join(f"\nRow {row.number}: {row.reason}" for row in read.bad[:NAMED_ROWS])
    more = "\n..." if len(read.bad) > NAMED_ROWS else ""
    return f" {len(read.bad)} rows are no points and will be skipped:{named}{more}"
