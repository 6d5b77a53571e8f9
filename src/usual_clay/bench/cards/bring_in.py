"""Bringing in a scan or points: what the file does not say is asked, with the size to judge by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings, QSignalBlocker
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.points import add_list, add_points
from usual_clay.bench.edits.scans import add_scan
from usual_clay.bench.scan_picture import scan_picture
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, combo, label
from usual_clay.core.numbers import thousands
from usual_clay.core.points.lay import PLANES, lay
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files import mesh_file
from usual_clay.files.mesh_file import ScanRead, guess_unit, read_scan
from usual_clay.files.points_file import PointsRead, read_points
from usual_clay.files.units import MILLIMETRES

# Of rows that will be skipped, so many are named.
NAMED_ROWS = 4
# So many columns are shown to choose from, cut to so many letters.
MOST_COLUMNS, LETTERS = 5, 8
SPACE = "space"
# How large the picture of a scan is, pixels.
PICTURE = (300, 150)


class BringInCard(Card):
    """Asks for the unit of a file, and of points for their columns and plane."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Bring in")
        self._done = done
        self._path: Path | None = None
        self._read: ScanRead | PointsRead | None = None
        self._unit, self._plane = "mm", "xy"
        self.unit = Choice([(unit, f"The file's numbers are {unit}") for unit in MILLIMETRES])
        self.unit.chosen.connect(self._set_unit)
        planes = [(plane, f"Lay the points on the plane {plane}") for plane in PLANES]
        self.plane = Choice([(SPACE, "Keep all three coordinates"), *planes])
        self.plane.chosen.connect(self._set_plane)
        self.plane_row = Row("Plane", self.plane)
        self.columns = [combo(f"The column that is {axis}") for axis in "xyz"]
        for box in self.columns:
            box.currentIndexChanged.connect(lambda _index: self._choose_columns())
        self.columns_row = QWidget()
        line = QHBoxLayout(self.columns_row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        for axis, box in zip("xyz", self.columns, strict=True):
            line.addWidget(label(axis))
            line.addWidget(box, 1)
        self.preview = QWidget()
        self.preview_grid = QGridLayout(self.preview)
        self.preview_grid.setContentsMargins(0, 0, 0, 0)
        self.preview_grid.setVerticalSpacing(1)
        self.portrait = label()
        self.made = label(role="news", wraps=True)
        self.keep = button("Bring in", "Add it to the job (Enter)", "main", clicked=self.accept)
        self.drop = button("Cancel", "Leave it (Esc)", clicked=self.cancel)
        for part in (
            Row("Unit", self.unit),
            self.preview,
            self.columns_row,
            self.plane_row,
            self.portrait,
            self.made,
        ):
            self.column.addWidget(part)
        self.pin_buttons(self.drop, self.keep)
        self.column.addStretch(1)

    def offer(self, path: Path) -> None:
        """Read a file in the background and ask what it does not say."""
        self._path, self._read = path, None
        scan = path.suffix.lower() in mesh_file.SUFFIXES
        self.title.setText("Bring in a scan" if scan else "Bring in points")
        for part in (self.plane_row, self.columns_row, self.preview, self.portrait):
            part.hide()
        self._set_unit(str(QSettings().value("unit", "mm")))
        self.about.setText(f"{path.name} does not say its unit. What are its numbers in?")
        self._start(lambda: _with_normals(read_scan(path)) if scan else read_points(path))

    def _start(self, read: Callable[[], ScanRead | PointsRead]) -> None:
        assert self._path is not None
        self.session.work.start(
            "bring in",
            "read",
            f"Reading {self._path.name}",
            lambda *_: read(),
            self._came,
            failed=self._failed,
            asked=True,
        )

    def accept(self) -> None:
        if self._read is None or self._path is None:
            return
        read, path, factor = self._read, self._path, self._factor()
        QSettings().setValue("unit", self._unit)
        self._path = self._read = None
        self._done()
        if isinstance(read, PointsRead):
            scaled = replace(read, points=read.points * factor, unit=self._unit)
            flat = self._plane != SPACE and (read.points.shape[1] == 3 or not read.axes)
            add_points(self.session, scaled, path.name, self._plane if flat else None)
        elif read.mesh is None:
            add_list(self.session, read.places * factor, path.name, self._unit)
        else:
            mesh = read.mesh
            if factor != 1:
                mesh = TriangleMesh(mesh.vertices * factor, mesh.triangles)
            add_scan(self.session, mesh, path.name, self._unit, read.colours)

    def cancel(self) -> None:
        self.session.work.drop("bring in")
        self._path = self._read = None
        self._done()

    def _came(self, read: ScanRead | PointsRead) -> None:
        self._read = read
        assert self._path is not None
        if isinstance(read, PointsRead):
            self._show_columns(read)
            three = read.points.shape[1] == 3
            self.plane.show_only((SPACE, *PLANES) if three else tuple(PLANES))
            self._set_plane(SPACE if three else self._plane if self._plane in PLANES else "xy")
            self.plane_row.setVisible(three or not read.axes)
            if read.said_unit:
                self.about.setText(f"{self._path.name} says that its numbers are {read.unit}.")
                self._set_unit(read.unit)
        else:
            unit, reason = guess_unit(self._path, read.places)
            self.about.setText(
                f"{self._path.name} does not say its unit. {unit} is likely: {reason}."
            )
            # What was answered last stands unless this file speaks against it.
            if unit != "mm":
                self._set_unit(unit)
            normals = None if read.mesh is None else read.mesh.vertex_normals
            self.portrait.setPixmap(QPixmap(scan_picture(read.places, normals, *PICTURE)))
            self.portrait.show()
        self._show_size()

    def _failed(self, error: Exception) -> None:
        self.cancel()
        self.session.told.emit("trouble", str(error))

    # ---- columns -------------------------------------------------------------------------

    def _show_columns(self, read: PointsRead) -> None:
        while (item := self.preview_grid.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        width = min(len(read.heads), MOST_COLUMNS)
        rows = [tuple(_short(head) for head in read.heads), *read.sample]
        for line, row in enumerate(rows):
            for column, cell in enumerate(row[:width]):
                role = "group" if line == 0 else "small"
                self.preview_grid.addWidget(label(_short(cell), role), line, column)
        self.preview.setVisible(True)
        for axis, box in enumerate(self.columns):
            with QSignalBlocker(box):
                box.clear()
                if axis == 2:
                    box.addItem("none", -1)
                for number, head in enumerate(read.heads):
                    box.addItem(_short(head), number)
                taken = read.chosen[axis] if axis < len(read.chosen) else -1
                box.setCurrentIndex(max(box.findData(taken), 0))
        self.columns_row.setVisible(len(read.heads) > 2)

    def _choose_columns(self) -> None:
        chosen = [int(box.currentData()) for box in self.columns if box.currentData() is not None]
        columns = [column for column in chosen if column >= 0]
        path = self._path
        if path is None or not isinstance(self._read, PointsRead) or len(set(columns)) < 2:
            return
        if tuple(columns) != self._read.chosen and len(set(columns)) == len(columns):
            self.keep.setEnabled(False)
            self._start(lambda: read_points(path, None, columns))

    # ---- unit and plane ------------------------------------------------------------------

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
        self.plane.set_value(plane)
        self._show_size()

    def _show_size(self) -> None:
        self.keep.setEnabled(self._read is not None)
        if self._read is None:
            self.made.setText("Reading ...")
            return
        read = self._read
        points = (read.points if isinstance(read, PointsRead) else read.places) * self._factor()
        sides = " × ".join(f"{side:.4g}" for side in np.ptp(points, axis=0))
        words = f"That makes it {sides} mm.\n"
        if isinstance(read, PointsRead):
            words += f"{thousands(len(points))} points." + _skipped(read)
            if points.shape[1] == 3 and self._plane != SPACE:
                words += f"\nOn {self._plane}, {lay(points, self._plane).words}."
        elif read.mesh is None:
            words += f"{thousands(len(points))} loose points, no triangles: a list to cast over."
        else:
            words += f"{thousands(len(read.mesh.triangles))} triangles"
            words += ", with colours." if read.colours is not None else "."
        self.made.setText(words)


def _with_normals(read: ScanRead) -> ScanRead:
    """Work out what its picture needs, off the interface thread."""
    if read.mesh is not None:
        _ = read.mesh.vertex_normals
    return read


def _short(cell: str) -> str:
    return cell if len(cell) <= LETTERS else f"{cell[: LETTERS - 1]}…"


def _skipped(read: PointsRead) -> str:
    if not read.bad:
        return ""
    named = "".join(f"\nRow {row.number}: {row.reason}" for row in read.bad[:NAMED_ROWS])
    more = "\n..." if len(read.bad) > NAMED_ROWS else ""
    return f" {len(read.bad)} rows are no points and will be skipped:{named}{more}"
