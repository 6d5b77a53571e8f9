"""Drawing a curve by clicks: through points, by control points, lines, arcs, circles, conics."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QSpinBox

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.curves import drawn_curve
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, label, quiet_spin
from usual_clay.core.check.comb import comb_of, in_words
from usual_clay.core.picture.placement import TRUE_PLANES
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError
from usual_clay.core.spline.make import FEWEST, DrawnSettings

KINDS = (
    ("controls", "Control points draw the curve towards them: the finer tool"),
    ("through", "The curve goes through each point"),
    ("line", "A straight line"),
)
ROUND = (
    ("arc", "An arc through three points"),
    ("circle", "A circle: its centre, then a point on it"),
    ("conic", "Ends and the crossing of their tangents"),
)
PLANES = (
    ("view", "On what is under the cursor, or on the plane through the origin that faces you"),
    ("side", "On the plane y = 0"),
    ("top", "On the plane z = 0"),
    ("front", "On the plane x = 0"),
)
SPACINGS = (
    ("uniform", "Equal steps"), ("chord", "By the distance between points"),
    ("centripetal", "By its root: the calmest"),
)  # fmt: skip
MOST = {"through": 200, "controls": 200, "line": 2, "arc": 3, "circle": 2, "conic": 3}
HINT = (
    "<b>Click</b> to set points, <b>drag</b> one to move it. <b>Enter</b> keeps the curve,"
    " <b>Esc</b> drops it."
)


class DrawCard(Card):
    """Points are clicked on the stage; the curve is shown at once with its comb."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Draw a curve")
        self._done = done
        self._kind, self._plane, self._spacing = "controls", "view", "centripetal"
        self._shown: tuple = ()
        self.kind, self.round = Choice(KINDS), Choice(ROUND)
        for choice in (self.kind, self.round):
            choice.chosen.connect(self._set_kind)
        self.plane = Choice(PLANES)
        self.plane.set_value("view")
        self.plane.chosen.connect(self._set_plane)
        self.degree = QSpinBox(minimum=1, maximum=HIGHEST_DEGREE, value=3)
        quiet_spin(self.degree, 56)
        self.degree.setToolTip("Degree")
        self.degree.setAccessibleName("Degree")
        self.degree.valueChanged.connect(lambda _value: self.refresh())
        self.spacing = Choice(SPACINGS)
        self.spacing.set_value("centripetal")
        self.spacing.chosen.connect(self._set_spacing)
        self.tension = Slide(
            0, 1, 0.01, tip="Flattens the stretches between points", name="Tension"
        )
        self.tension.changed.connect(lambda _value: self.refresh())
        self.rho = Slide(
            0.05, 0.95, 0.01, tip="How full the conic is; 0.5 is a parabola", name="Rho"
        )
        self.rho.set_value(0.5)
        self.rho.changed.connect(lambda _value: self.refresh())
        self.degree_row = Row("Degree", self.degree)
        self.through_rows = [Row("Spacing", self.spacing), Row("Tension", self.tension, stretch=0)]
        self.rho_row = Row("Rho", self.rho, stretch=0)
        for part in (Row("Curve", self.kind), Row("", self.round), Row("On", self.plane),
                     self.degree_row, *self.through_rows, self.rho_row):  # fmt: skip
            self.column.addWidget(part)
        self.reading = label(role="news", wraps=True)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.reading)
        self.column.addWidget(self.trouble)
        self.keep = button("Keep", "Add the curve (Enter)", "main", clicked=self.accept)
        self.add_buttons(button("Cancel", "Drop it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)
        self._set_kind("controls")

    def offer(self) -> None:
        """Be ready for the first click."""
        self._shown = ()
        self._ask()

    def _ask(self) -> None:
        marking = self.session.marking
        places = marking.places if marking is not None else ()
        plane = TRUE_PLANES.get(self._plane)
        most = MOST[self._kind]
        self.session.mark(Marking(HINT, most, places=places[:most], plane=plane, in_view=True))

    def _set_kind(self, kind: str) -> None:
        self._kind = kind
        self.kind.set_value(kind)
        self.round.set_value(kind)
        self.degree_row.setVisible(kind in ("controls", "through"))
        for row in self.through_rows:
            row.setVisible(kind == "through")
        self.rho_row.setVisible(kind == "conic")
        if self.session.marking is not None:
            self._ask()

    def _set_plane(self, plane: str) -> None:
        self._plane = plane
        if self.session.marking is not None:
            self._ask()

    def _set_spacing(self, spacing: str) -> None:
        self._spacing = spacing
        self.refresh()

    def _settings(self) -> DrawnSettings:
        marking = self.session.marking
        places = () if marking is None else marking.places
        normal = (0.0, 0.0, 1.0) if marking is None else marking.facing
        return DrawnSettings(
            self._kind,  # type: ignore[arg-type]
            places, self.degree.value(), self._spacing,  # type: ignore[arg-type]
            self.tension.number.value(), self.rho.number.value(), normal,
        )  # fmt: skip

    def refresh(self) -> None:
        settings = self._settings()
        count = len(settings.points)
        fewest = FEWEST[self._kind]
        self.about.setText(
            f"{count} points set" if count >= fewest else f"{count} of at least {fewest} points set"
        )
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
                trouble = f"{str(error)[:1].upper()}{str(error)[1:]}."
        self.keep.setEnabled(enough and not trouble)
        self.reading.setText(words)
        self.reading.setVisible(bool(words))
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))
        self.session.propose(proposal)

    def _name(self) -> str:
        return {"through": "Curve 1", "controls": "Curve 1"}.get(
            self._kind, f"{self._kind.capitalize()} 1"
        )

    def accept(self) -> None:
        """Keep the curve; its editing ends with that."""
        settings = self._settings()
        try:
            curve = drawn_curve(self.session.job, settings, self._name())
        except SplineError as error:
            self.session.told.emit("trouble", f"The curve was not made: {error}.")
            return
        self._shown = ()
        self.session.mark(None)
        self._done()
        self.session.add(curve, f"draw {curve.name}")

    def cancel(self) -> None:
        self._shown = ()
        self.session.mark(None)
        self.session.propose(None)
        self._done()
