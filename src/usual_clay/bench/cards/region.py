"""The card of a chosen region: make it right, then cast it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from usual_clay.bench.cards.card import Card, thousands
from usual_clay.bench.edits.scans import combine, fit_shape_to
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, combo, fill, label
from usual_clay.core.arrays import Bools
from usual_clay.core.check.deviation import percent
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import fill_gaps, grow, shrink
from usual_clay.job.items import Region, Scan

# "Fill gaps" takes in holes of up to this share of the region.
GAP_SHARE = 0.03


class RegionCard(Card):
    """Spread, brush size, and the changes that need no stage."""

    def __init__(self, session: Session, run: Callable[[str], None]) -> None:
        super().__init__(session)
        self.spread = Slide(
            0,
            1,
            0.01,
            name="Spread",
            tip="How far the normal may turn from where you clicked, and how sharp a crease"
            " must be to stop it",
        )
        self.spread.changed.connect(session.set_spread)
        self.brush = Slide(
            0.2, 20, 0.1, " mm", "Radius of the brush ([ and ] halve and double it)", "Brush radius"
        )
        self.brush.changed.connect(session.set_brush)
        self.spread_row = Row("Spread", self.spread, stretch=0)
        self.spread_hint = label(
            "Click the scan with Spread to grow the region again.", role="small", wraps=True
        )
        self.brush_row = Row("Brush radius", self.brush, stretch=0)
        self.column.addWidget(self.spread_row)
        self.column.addWidget(self.spread_hint)
        self.column.addWidget(self.brush_row)
        self.add_buttons(
            button("Grow", "Add one ring of points", clicked=lambda: self._change(grow, "grow")),
            button(
                "Shrink",
                "Take one ring of points away",
                clicked=lambda: self._change(shrink, "shrink"),
            ),
        )
        self.add_buttons(
            button("Fill gaps", "Take in small holes", clicked=lambda: self._change(_fill, "fill")),
            button(
                "Invert",
                "Choose the rest of the scan instead",
                clicked=lambda: self._change(_invert, "invert"),
            ),
        )
        self.front = Choice(
            [
                ("front", "Only what nothing hides is chosen"),
                ("through", "What lies behind is chosen too"),
            ]
        )
        self.front.chosen.connect(
            lambda word: session.set_choosing(word == "front", session.stop_at_creases)
        )
        self.creases = button(
            "stop at creases",
            "Lasso, box and brush stay on the smooth part that holds most of what they take",
            "choice",
            checkable=True,
            clicked=self._set_creases,
        )
        self.column.addWidget(Row("Box, lasso", self.front))
        self.column.addWidget(Row("All tools", self.creases))
        self.other = combo("Another region of the same scan")
        self.join = button("Join", "Take the other region in", clicked=lambda: self._combine(False))
        self.part = button(
            "Less", "Leave out what the other region holds", clicked=lambda: self._combine(True)
        )
        self.combine_row = Row("Other", self.other, self.join, self.part, stretch=0)
        self.column.addWidget(self.combine_row)
        tip = "Plane, cylinder, sphere or cone: the simplest that fits"
        self.shape = button("Fit a simple shape", tip, clicked=self._fit_shape)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.trouble)
        self.column.addWidget(self.shape)
        self.cast = button(
            "Cast a surface",
            "Fit a surface over this region (Enter)",
            "main",
            clicked=lambda: run("cast"),
        )
        self.column.addWidget(self.cast)
        self.column.addStretch(1)

    def _change(self, change: Callable[[TriangleMesh, Bools], Bools], words: str) -> None:
        region = self.session.job.get(self.session.chosen, Region)
        scan = None if region is None else self.session.job.get(region.scan, Scan)
        if scan is not None:
            self.session.seed = None
            mask = change(scan.mesh, self.session.region_mask(scan))
            self.session.put_region(scan, mask, words)

    def _set_creases(self) -> None:
        self.session.set_choosing(self.session.front_only, self.creases.isChecked())

    def _combine(self, takes_away: bool) -> None:
        job = self.session.job
        region = job.get(self.session.chosen, Region)
        other = job.get(self.other.currentData(), Region)
        if region is not None and other is not None:
            self.session.seed = None
            combine(self.session, region, other, takes_away)

    def _fit_shape(self) -> None:
        region = self.session.job.get(self.session.chosen, Region)
        if region is not None:
            fit_shape_to(self.session, region, "best")

    def _offer_others(self, region: Region) -> None:
        regions = self.session.job.all(Region)
        others = [r for r in regions if r.scan == region.scan and r.id != region.id]
        fill(self.other, others)
        self.combine_row.setVisible(bool(others))

    def refresh(self) -> None:
        session = self.session
        region = session.shown.get(session.chosen, Region)
        if region is None:
            return
        scan = session.shown.get(region.scan, Scan)
        named = region.name.startswith("Region")
        self.title.setText(region.name if named else f"Region: {region.name}")
        share = len(region.vertices) / len(scan.mesh.vertices) if scan is not None else 0
        self.about.setText(
            f"{thousands(len(region.vertices))} points of {scan.name if scan else 'a scan'}"
            f" ({percent(share)} of it)"
        )
        self._offer_others(region)
        self.front.set_value("front" if session.front_only else "through")
        self.creases.setChecked(session.stop_at_creases)
        live = session.seed is not None
        self.spread_row.setEnabled(live)
        self.spread_hint.setVisible(not live)
        self.spread.set_value(session.spread_amount)
        self.brush.set_value(session.brush_radius)
        words = session.trouble.get(region.id, "")
        self.trouble.setText(words)
        self.trouble.setVisible(bool(words))
        busy = session.work.is_busy("cast")
        self.cast.setEnabled(not busy)
        self.cast.setText("Casting ..." if busy else "Cast a surface")


def _fill(mesh: TriangleMesh, mask: Bools) -> Bools:
    return fill_gaps(mesh, mask, max(8, int(GAP_SHARE * mask.sum())))


def _invert(mesh: TriangleMesh, mask: Bools) -> Bools:
    used = np.zeros(len(mask), dtype=bool)
    used[mesh.triangles] = True
    return ~mask & used
