"""The card of a chosen scan."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.cards.card import Card
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.scans import join_scans
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, Tile, button, combo, fill, label
from usual_clay.core.numbers import thousands
from usual_clay.job.items import Scan


class ScanCard(Card):
    """Says what a scan is and starts choosing regions on it."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self.extent, self.edge = Tile(), Tile()
        self.column.addWidget(self.extent)
        self.column.addWidget(self.edge)
        self.add_buttons(
            button(
                "Health",
                "Holes, islands, spikes and the like, and mending them",
                clicked=lambda: commands.run("health"),
            ),
            button(
                "Set straight",
                "Bring it into the job's own frame",
                clicked=lambda: commands.run("straighten"),
            ),
        )
        self.add_buttons(
            button("Slice", "Section polylines at planes", clicked=lambda: commands.run("slice")),
            button(
                "Split at creases",
                "A region of each smooth part, as a start",
                clicked=lambda: commands.run("split"),
            ),
        )
        self.column.addWidget(
            label(
                "Choose the part to recreate: spread it from a click, or brush it.",
                role="soft",
                wraps=True,
            )
        )
        self.add_buttons(
            button("Brush", "Brush a region by hand (B)", clicked=lambda: commands.run("brush")),
            button(
                "Spread a region",
                "Grow a region from a click (S)",
                "main",
                clicked=lambda: commands.run("spread"),
            ),
        )
        self.other = combo("Another scan")
        self.join = button(
            "Join", "One scan of both, so that a region may reach over the two", clicked=self._join
        )
        self.join_row = Row("With", self.other, self.join, stretch=0)
        self.column.addWidget(self.join_row)
        self.column.addStretch(1)

    def _join(self) -> None:
        job = self.session.job
        scan = job.get(self.session.choice.item, Scan)
        other = job.get(str(self.other.currentData()), Scan)
        if scan is not None and other is not None:
            join_scans(self.session, scan, other)

    def refresh(self) -> None:
        scan = self.session.shown.get(self.session.choice.item, Scan)
        if scan is None:
            return
        self.title.setText(f"Scan: {scan.name}")
        others = [each for each in self.session.job.all(Scan) if each.id != scan.id]
        fill(self.other, others)
        self.join_row.setVisible(bool(others))
        read = f"read in {scan.unit}" if scan.unit != "mm" else "in mm"
        self.about.setText(
            f"from {scan.source}, {read}; {thousands(len(scan.mesh.triangles))} triangles,"
            f" {thousands(len(scan.mesh.vertices))} points"
        )
        size = " × ".join(f"{side:.1f}" for side in np.ptp(scan.mesh.box, axis=0))
        self.extent.show_figure(f"{size} mm", "size along x, y, z")
        self.edge.show_figure(f"{scan.mesh.edge_length:.3f} mm", "middle length of its edges")
