"""The card of a chosen region: make it right, then cast it."""

from __future__ import annotations

from functools import partial

from usual_clay.bench.cards.card import Card
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.regions import set_spread
from usual_clay.bench.edits.scans import combine, fit_shape_to
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, combo, fill, label
from usual_clay.core.check.deviation import percent
from usual_clay.core.numbers import thousands
from usual_clay.job.items import Region, Scan

# "Fill gaps" takes in holes of up to this share of the region.


class RegionCard(Card):
    """Spread, brush size, and the changes that need no stage."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self.spread = Slide(
            0,
            1,
            0.01,
            name="Spread",
            tip="How far the normal may turn from where you clicked, and how sharp a crease"
            " must be to stop it",
        )
        self.spread.changed.connect(lambda amount: set_spread(session, amount))
        self.brush = Slide(
            0.2, 20, 0.1, " mm", "Radius of the brush ([ and ] halve and double it)", "Brush radius"
        )
        self.brush.changed.connect(session.hand.set_brush)
        self.spread_row = Row("Spread", self.spread, stretch=0)
        self.spread_hint = label(
            "Click the scan with Spread to grow the region again.", role="small", wraps=True
        )
        self.brush_row = Row("Brush radius", self.brush, stretch=0)
        self.column.addWidget(self.spread_row)
        self.column.addWidget(self.spread_hint)
        self.column.addWidget(self.brush_row)
        self.add_buttons(commands.button("grow region"), commands.button("shrink region"))
        self.add_buttons(commands.button("fill region"), commands.button("invert region"))
        self.front = Choice(
            [
                ("front", "Only what nothing hides is chosen"),
                ("through", "What lies behind is chosen too"),
            ]
        )
        self.front.chosen.connect(
            lambda word: session.hand.set_choosing(word == "front", session.hand.stop_at_creases)
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
        self.combine_rows = [Row("Other", self.other, stretch=0)]
        self.column.addWidget(self.combine_rows[0])
        made = [
            button(word, tip, clicked=partial(self._combine, how))
            for word, tip, how in (
                ("Join", "Take the other region in", "join"),
                ("Less", "Leave out what the other region holds", "less"),
                ("In common", "Keep what both hold", "common"),
            )
        ]
        self.combine_rows.append(Row("", *made))
        self.column.addWidget(self.combine_rows[1])
        tip = "Plane, cylinder, sphere or cone: the simplest that fits"
        self.shape = button("Fit a simple shape", tip, clicked=self._fit_shape)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.trouble)
        self.column.addWidget(self.shape)
        self.cast = button(
            "Cast a surface",
            "Fit a surface over this region (Enter)",
            "main",
            clicked=lambda: commands.run("cast"),
        )
        self.column.addWidget(self.cast)
        self.column.addStretch(1)

    def _set_creases(self) -> None:
        self.session.hand.set_choosing(self.session.hand.front_only, self.creases.isChecked())

    def _combine(self, how: str) -> None:
        job = self.session.job
        region = job.get(self.session.choice.item, Region)
        other = job.get(self.other.currentData(), Region)
        if region is not None and other is not None:
            self.session.hand.seed = None
            combine(self.session, region, other, how)

    def _fit_shape(self) -> None:
        region = self.session.job.get(self.session.choice.item, Region)
        if region is not None:
            fit_shape_to(self.session, region, "best")

    def _offer_others(self, region: Region) -> None:
        regions = self.session.job.all(Region)
        others = [r for r in regions if r.scan == region.scan and r.id != region.id]
        fill(self.other, others)
        for row in self.combine_rows:
            row.setVisible(bool(others))

    def refresh(self) -> None:
        session = self.session
        region = session.shown.get(session.choice.item, Region)
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
        self.front.set_value("front" if session.hand.front_only else "through")
        self.creases.setChecked(session.hand.stop_at_creases)
        live = session.hand.seed is not None
        self.spread_row.setEnabled(live)
        self.spread_hint.setVisible(not live)
        self.spread.set_value(session.hand.spread_amount)
        self.brush.set_value(session.hand.brush_radius)
        words = session.trouble.get(region.id, "")
        self.trouble.setText(words)
        self.trouble.setVisible(bool(words))
        busy = session.work.find(region.id, "make cast") is not None
        self.cast.setEnabled(not busy)
        self.cast.setText("Casting ..." if busy else "Cast a surface")
