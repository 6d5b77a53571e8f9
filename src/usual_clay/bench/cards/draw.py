"""Drawing a curve by clicks or by a freehand stroke."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.drawn_numbers import DrawnNumbers
from usual_clay.bench.marking import Marking
from usual_clay.bench.number_field import CountField
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, label, number
from usual_clay.core.arrays import as_places
from usual_clay.core.check.comb import comb_of, in_words
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError, sentence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.picture.placement import TRUE_PLANES
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError
from usual_clay.core.spline.make import FEWEST, ROUND, DrawnSettings
from usual_clay.job.edits.curves import drawn_curve

KINDS = (
    ("controls", "Control points draw the curve towards them: the finer tool"),
    ("through", "The curve goes through each point"),
    ("stroke", "Drawn freehand; a lean curve follows the stroke"),
)
STRAIGHT = (
    ("line", "A straight line"),
    ("rectangle", "From corner to corner, with sharp, round or conic corners"),
    ("conic", "Ends and the crossing of their tangents"),
)
ROUNDS = (
    ("arc", "An arc through three points"),
    ("arc about", "An arc: its centre, its start, then where it ends"),
    ("circle", "A circle: its centre, then a point on it"),
)
PLANES = (
    ("view", "On what is under the cursor, or on the plane through the origin that faces you"),
    ("side", "On the plane y = 0"),
    ("top", "On the plane z = 0"),
    ("front", "On the plane x = 0"),
)
SPACINGS = (
    ("uniform", "Equal steps"),
    ("chord", "By the distance between points"),
    ("centripetal", "By its root: the calmest"),
)
SNAPS = (
    ("things", "Ends, middles, crossings, extremes, centres, points, curves"),
    ("grid", "Round places"),
    ("nothing", "Just where the cursor is"),
)
MOST = {
    "through": 200,
    "controls": 200,
    "line": 2,
    "arc": 3,
    "arc about": 3,
    "circle": 2,
    "rectangle": 2,
    "conic": 3,
    "stroke": 100_000,
}
HINT = (
    "<b>Click</b> to set points, <b>drag</b> one to move it, type its <b>numbers</b>."
    " <b>Enter</b> keeps the curve, <b>Esc</b> drops it."
)
STROKE_HINT = "<b>Drag</b> a stroke; a lean curve follows it. <b>Enter</b> keeps it."


class DrawCard(Card):
    """Points are clicked on the stage; the curve is shown at once with its comb."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Draw a curve")
        self._done = done
        self._kind, self._plane, self._spacing = "controls", "view", "centripetal"
        self._shown: tuple = ()
        self._closed = False
        self._stroke: DrawnSettings | None = None
        self.kinds = [Choice(KINDS), Choice(STRAIGHT), Choice(ROUNDS)]
        for index, choice in enumerate(self.kinds):
            choice.chosen.connect(self._set_kind)
            self.column.addWidget(Row("" if index else "Curve", choice))
        self.plane, self.snaps = Choice(PLANES), Choice(SNAPS)
        self.plane.set_value("view")
        self.plane.chosen.connect(self._set_plane)
        self.snaps.set_value(session.hand.snapping)
        self.snaps.chosen.connect(session.hand.set_snapping)
        self.column.addWidget(Row("On", self.plane))
        self.column.addWidget(Row("Drawn to", self.snaps))
        self.numbers = DrawnNumbers()
        self.numbers.changed.connect(self._set_numbers)
        self.numbers.refused.connect(lambda words: session.told.emit("trouble", words))
        self.column.addWidget(self.numbers)
        self._add_numbers(self.column)
        self.reading = label(role="news", wraps=True)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.reading)
        self.column.addWidget(self.trouble)
        self.keep = button("Keep", "Add the curve (Enter)", "main", clicked=self.accept)
        self.pin_buttons(button("Cancel", "Drop it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)
        self._set_kind("controls")

    def _add_numbers(self, column: QVBoxLayout) -> None:
        self.degree = CountField(1, HIGHEST_DEGREE, 56)
        self.degree.setValue(3)
        self.degree.setToolTip("Degree")
        self.degree.setAccessibleName("Degree")
        self.degree.valueChanged.connect(lambda _value: self.refresh())
        self.spacing = Choice(SPACINGS)
        self.spacing.set_value("centripetal")
        self.spacing.chosen.connect(self._set_spacing)

        def slide(low: float, high: float, tip: str, name: str, start: float) -> Slide:
            made = Slide(low, high, 0.01, tip=tip, name=name)
            made.set_value(start)
            made.changed.connect(lambda _value: self.refresh())
            return made

        self.tension = slide(0, 1, "Flattens the stretches between points", "Tension", 0)
        self.rho = slide(0.05, 0.95, "How full the conic is; 0.5 is a parabola", "Rho", 0.5)
        self.corner = number(
            0,
            1e4,
            3,
            " mm",
            "How far from its corners it is rounded; 0 leaves them sharp",
            "Corners",
            90,
        )
        self.corner.valueChanged.connect(lambda _value: self.refresh())
        self.round = button(
            "Round", "The rho of a quarter of a circle", clicked=lambda: self._set_rho(ROUND)
        )
        self.degree_row = Row("Degree", self.degree)
        self.ends = Choice(
            (("open", "Ends where it ends"), ("closed", "Comes back to the first point, smoothly"))
        )
        self.ends.set_value("open")
        self.ends.chosen.connect(self._set_ends)
        self.through_rows = [
            Row("Spacing", self.spacing),
            Row("Tension", self.tension, stretch=0),
            Row("Ends", self.ends),
        ]
        self.corner_row = Row("Corners", self.corner, self.round)
        self.rho_row = Row("Rho", self.rho, stretch=0)
        for part in (self.degree_row, *self.through_rows, self.corner_row, self.rho_row):
            column.addWidget(part)

    def offer(self) -> None:
        """Be ready for the first click."""
        self._shown, self._stroke = (), None
        self._ask()

    def _ask(self) -> None:
        marking = self.session.hand.marking
        stroke = self._kind == "stroke"
        same = marking is not None and marking.stroke == stroke
        places = marking.places if marking is not None and same else ()
        self.session.hand.mark(
            Marking(
                STROKE_HINT if stroke else HINT,
                MOST[self._kind],
                places=places[: MOST[self._kind]],
                plane=TRUE_PLANES.get(self._plane),
                in_view=True,
                stroke=stroke,
                snaps=not stroke,
                changed=self._marked,
                typed=None if stroke else self.numbers.begin,
            )
        )

    def _marked(self, marking: Marking) -> None:
        """Let a lean curve follow a stroke that has been drawn."""
        self._stroke = None
        points = marking.points
        if not marking.stroke or len(points) < 2:
            return
        steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
        points = points[np.concatenate([[True], steps > 1e-9])]
        size = float(np.ptp(points, axis=0).max()) if len(points) > 1 else 0.0
        if len(points) < 8 or size <= 0:
            self.session.told.emit("trouble", "The stroke is too short: drag farther.")
            return
        try:
            # With even knots the control points alone tell the curve.
            made = trace(
                PointSequence(points, held=(True, True)),
                TraceSettings(knots="even"),
                Tolerance(max(0.006 * size, 1e-6), 0.95),
                limit=40,
            )
        except FitError as error:
            self.session.told.emit("trouble", f"{error}.")
            return
        self._stroke = DrawnSettings("controls", as_places(made.fit.curve.points), 3)
        self._shown = ()
        self.refresh()

    def _set_kind(self, kind: str) -> None:
        self._kind = kind
        for choice in self.kinds:
            choice.set_value(kind)
        self.degree_row.setVisible(kind in ("controls", "through"))
        for row in self.through_rows:
            row.setVisible(kind == "through")
        self.corner_row.setVisible(kind == "rectangle")
        self.rho_row.setVisible(kind in ("conic", "rectangle"))
        if kind in ("conic", "rectangle"):
            self.rho.set_value(0.5 if kind == "conic" else ROUND)
        if self.session.hand.marking is not None:
            self._ask()

    def _set_rho(self, rho: float) -> None:
        self.rho.set_value(rho)
        self.refresh()

    def _set_plane(self, plane: str) -> None:
        self._plane = plane
        if self.session.hand.marking is not None:
            self._ask()

    def _set_spacing(self, spacing: str) -> None:
        self._spacing = spacing
        self.refresh()

    def _set_ends(self, word: str) -> None:
        self._closed = word == "closed"
        self.ends.set_value(word)
        self.refresh()

    def _set_numbers(self, settings: DrawnSettings) -> None:
        """Move the marks to where typed numbers put them."""
        marking = self.session.hand.marking
        if marking is not None:
            self.session.hand.set_marking(replace(marking, places=settings.points))

    def _settings(self) -> DrawnSettings:
        if self._kind == "stroke":
            return self._stroke or DrawnSettings("controls")
        marking = self.session.hand.marking
        places = () if marking is None else marking.places
        normal = (0.0, 0.0, 1.0) if marking is None else marking.facing
        kind: Any = self._kind
        spacing: Any = self._spacing
        rho = self.rho.number.value()
        # The slide's steps are coarser than a circle's rho.
        rho = ROUND if kind == "rectangle" and abs(rho - ROUND) < 0.006 else rho
        tension, corner = self.tension.number.value(), self.corner.value()
        return DrawnSettings(
            kind,
            places,
            self.degree.value(),
            spacing,
            tension,
            rho,
            normal,
            corner,
            closed=self._closed and kind == "through",
        )

    def refresh(self) -> None:
        settings = self._settings()
        count = len(settings.points)
        fewest = FEWEST[settings.kind]
        said = "control points" if self._kind == "stroke" else "points set"
        self.about.setText(
            f"{count} {said}" if count >= fewest else f"{count} of at least {fewest} points set"
        )
        if self._kind == "stroke" and not count:
            self.about.setText("Drag a stroke on the stage")
        self.numbers.setVisible(self._kind != "stroke")
        self.numbers.show_settings(settings)
        if (settings,) == self._shown:
            return
        self._shown = (settings,)
        self._show(settings, count >= fewest)

    def _show(self, settings: DrawnSettings, enough: bool) -> None:
        words, trouble = "", ""
        job = self.session.job
        proposal = None
        if enough:
            try:
                curve = drawn_curve(job, settings, self._name())
                words = (
                    f"{curve.control_points} control points; {in_words(comb_of(curve.geometry))}."
                )
                proposal = job.with_item(curve)
            except SplineError as error:
                trouble = sentence(error)
        self.keep.setEnabled(enough and not trouble)
        self.reading.setText(words)
        self.reading.setVisible(bool(words))
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))
        self.session.propose(proposal)

    def _name(self) -> str:
        plain = {
            "through": "Curve 1",
            "controls": "Curve 1",
            "stroke": "Stroke 1",
            "arc about": "Arc 1",
        }
        return plain.get(self._kind, f"{self._kind.capitalize()} 1")

    def accept(self) -> None:
        """Keep the curve; its editing ends with that."""
        settings = self._settings()
        try:
            curve = drawn_curve(self.session.job, settings, self._name())
        except SplineError as error:
            self.session.told.emit("trouble", f"The curve was not made: {error}.")
            return
        self._shown, self._stroke = (), None
        self.session.hand.mark(None)
        self._done()
        self.session.add(curve, f"draw {curve.name}")

    def cancel(self) -> None:
        self._shown, self._stroke = (), None
        self.session.hand.mark(None)
        self.session.propose(None)
        self._done()
