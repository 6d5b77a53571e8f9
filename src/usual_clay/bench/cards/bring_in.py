"""Bringing in a scan: its file has no unit, so the user is asked, with the size to judge by."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings

from usual_clay.bench.cards.card import Card, thousands
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.units import MILLIMETRES


class BringInCard(Card):
    """Asks for the unit of a scan's file and shows what size that makes it."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Bring in a scan")
        self._done = done
        self._path: Path | None = None
        self._mesh: TriangleMesh | None = None
        self._unit = "mm"
        self.unit = Choice([(unit, f"The file's numbers are {unit}") for unit in MILLIMETRES])
        self.unit.chosen.connect(self._set_unit)
        self.made = label(role="news", wraps=True)
        self.keep = button(
            "Bring in", "Add the scan to the job (Enter)", "main", clicked=self.accept
        )
        self.drop = button("Cancel", "Leave it (Esc)", clicked=self.cancel)
        self.column.addWidget(Row("Unit", self.unit))
        self.column.addWidget(self.made)
        self.add_buttons(self.drop, self.keep)
        self.column.addStretch(1)

    def offer(self, path: Path) -> None:
        """Read a file in the background and ask for its unit."""
        self._path, self._mesh = path, None
        self._set_unit(str(QSettings().value("unit", "mm")))
        self.about.setText(f"{path.name} does not say its unit. What are its numbers in?")
        self.session.work.start(
            "bring in", f"Reading {path.name}", lambda *_: read_mesh(path), self._read,
            failed=self._failed,
        )  # fmt: skip

    def accept(self) -> None:
        if self._mesh is None or self._path is None:
            return
        factor = MILLIMETRES[self._unit]
        mesh = self._mesh
        if factor != 1:
            mesh = TriangleMesh(mesh.vertices * factor, mesh.triangles)
        QSettings().setValue("unit", self._unit)
        path, self._path, self._mesh = self._path, None, None
        self._done()
        self.session.add_scan(mesh, path.name, self._unit)

    def cancel(self) -> None:
        self.session.work.drop("bring in")
        self._path = self._mesh = None
        self._done()

    def _read(self, mesh: TriangleMesh) -> None:
        self._mesh = mesh
        self._show_size()

    def _failed(self, error: Exception) -> None:
        self.cancel()
        self.session.told.emit("trouble", str(error))

    def _set_unit(self, unit: str) -> None:
        self._unit = unit if unit in MILLIMETRES else "mm"
        self.unit.set_value(self._unit)
        self._show_size()

    def _show_size(self) -> None:
        self.keep.setEnabled(self._mesh is not None)
        if self._mesh is None:
            self.made.setText("Reading ...")
            return
        size = np.ptp(self._mesh.box, axis=0) * MILLIMETRES[self._unit]
        sides = " × ".join(f"{side:.4g}" for side in size)
        triangles = thousands(len(self._mesh.triangles))
        self.made.setText(f"That makes it {sides} mm.\n{triangles} triangles.")
