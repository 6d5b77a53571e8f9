"""The health of a scan: what is wrong with it, where, and what can safely be mended."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from PySide6.QtWidgets import QGridLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.scans import ask, mend_scan
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, button, label, number
from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.numbers import thousands
from usual_clay.core.scan.health import (
    Health,
    duplicated,
    examine,
    flipped,
    holes,
    pieces,
)
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.job.items import Scan

# So many places are shown at once.
MOST_SHOWN = 400


@dataclass(frozen=True)
class Ailment:
    """A line of the card: what it counts, how it is shown on the stage, and how it is mended."""

    words: str
    count: Callable[[Health], int]
    places: Callable[[TriangleMesh], list[Floats]]
    mend: str
    tip: str


def _triangles(mesh: TriangleMesh, marked: Bools) -> list[Floats]:
    rings = mesh.vertices[mesh.triangles[np.flatnonzero(marked)[:MOST_SHOWN]]]
    return [np.concatenate([ring, ring[:1]]) for ring in rings]


def _holes(mesh: TriangleMesh) -> list[Floats]:
    return [mesh.vertices[edge] for edges, _ in holes(mesh) for edge in edges][: 20 * MOST_SHOWN]


def _spikes(mesh: TriangleMesh) -> list[Floats]:
    return [point[None] for point in mesh.vertices[mesh.spikes][:MOST_SHOWN]]


def _islands(mesh: TriangleMesh) -> list[Floats]:
    number_ = pieces(mesh)
    shown = []
    for island in range(1, min(int(number_.max()), MOST_SHOWN) + 1):
        shown.append(mesh.vertices[mesh.triangles[number_ == island]].mean(axis=(0, 1))[None])
    return shown


AILMENTS = (
    Ailment("holes", lambda h: h.holes, _holes, "holes", "Fill holes up to the size below"),
    Ailment("islands", lambda h: h.islands, _islands, "islands", "Drop all but the largest piece"),
    Ailment("spikes", lambda h: h.spikes, _spikes, "spikes", "Level them with their neighbours"),
    Ailment(
        "flipped",
        lambda h: h.flipped,
        lambda m: _triangles(m, flipped(m)),
        "normals",
        "Turn triangles that face the other way",
    ),
    Ailment(
        "doubled",
        lambda h: h.duplicated,
        lambda m: _triangles(m, duplicated(m)),
        "duplicates",
        "Drop triangles that are there twice",
    ),
)


class HealthCard(Card):
    """Counts what is wrong with the chosen scan."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Health")
        self._done = done
        self._mesh: TriangleMesh | None = None
        self.health: Health | None = None
        body = QWidget()
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        self.counts, self.shows, self.mends = {}, {}, {}
        for line, ailment in enumerate(AILMENTS):
            name = ailment.mend
            count = label(role="figure")
            count.setStyleSheet("font-size: 11pt;")
            self.counts[name] = count
            self.shows[name] = button(
                "Show",
                f"Show the {ailment.words} on the stage",
                clicked=partial(self._show, ailment),
            )
            self.mends[name] = button(
                "Mend", f"{ailment.tip}; it can be undone", clicked=partial(self._mend, ailment)
            )
            for column, part in enumerate(
                (count, label(ailment.words), self.shows[name], self.mends[name])
            ):
                grid.addWidget(part, line, column)
        grid.setColumnStretch(1, 1)
        self.column.addWidget(body)
        self.largest = number(
            0.01, 1e4, 2, " mm", "Fill holes no larger than this", "Largest hole filled"
        )
        self.largest.setValue(5)
        self.target = number(4, 1e8, 0, "", "Thin out to about so many triangles", "Triangles", 96)
        self.target.setValue(50_000)
        self.thin = button(
            "Thin out", "Collapse edges where it costs least; states the error", clicked=self._thin
        )
        self.column.addWidget(Row("Holes up to", self.largest))
        self.column.addWidget(Row("Triangles", self.target, self.thin))
        self.figures = label(role="news", wraps=True)
        self.column.addWidget(self.figures)
        self.column.addWidget(button("Close", "Back to the scan (Esc)", clicked=self.cancel))
        self.column.addStretch(1)

    def accept(self) -> None:
        self.cancel()

    def cancel(self) -> None:
        self.session.sight.light([])
        self._done()

    def _scan(self) -> Scan | None:
        return self.session.job.get(self.session.choice.item, Scan)

    def refresh(self) -> None:
        scan = self._scan()
        for part in (*self.shows.values(), *self.mends.values(), self.thin):
            part.setEnabled(scan is not None and self.health is not None)
        if scan is None:
            self.about.setText("Choose a scan in the Shelf.")
            return
        self.title.setText(f"Health: {scan.name}")
        if scan.mesh is self._mesh:
            self._show_health(scan)
            return
        self._mesh, self.health = scan.mesh, None
        self.about.setText("Being examined ...")
        for count in self.counts.values():
            count.setText("…")
        mesh = scan.mesh
        ask(
            self.session,
            "health",
            "examine",
            f"Examining {scan.name}",
            lambda: examine(mesh),
            self._came,
        )

    def _came(self, health: Health) -> None:
        self.health = health
        self.refresh()

    def _show_health(self, scan: Scan) -> None:
        health = self.health
        if health is None:
            return
        self.about.setText(
            f"{thousands(health.triangles)} triangles; a rim of an open scan is no hole"
        )
        for ailment in AILMENTS:
            count = ailment.count(health)
            self.counts[ailment.mend].setText(str(count))
            self.shows[ailment.mend].setEnabled(count > 0)
            self.mends[ailment.mend].setEnabled(count > 0 and not scan.locked)
        self.thin.setEnabled(not scan.locked)
        self.target.setMaximum(max(4, health.triangles - 1))
        self.figures.setText(
            f"Largest hole {health.largest_hole:.1f} mm · middle edge {health.edge_length:.3f} mm"
            f" · noise about {health.noise:.3f} mm"
        )

    def _show(self, ailment: Ailment) -> None:
        if (scan := self._scan()) is not None:
            self.session.sight.light(ailment.places(scan.mesh))

    def _mend(self, ailment: Ailment) -> None:
        if (scan := self._scan()) is not None:
            self.session.sight.light([])
            mend_scan(self.session, scan, ailment.mend, self.largest.value())

    def _thin(self) -> None:
        if (scan := self._scan()) is not None:
            mend_scan(self.session, scan, "thin", self.target.value())
