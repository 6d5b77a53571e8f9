"""The page of a curve's card on which its points are moved, added and taken away."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from usual_clay.bench.cards.drawn_numbers import DrawnNumbers
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.shaping import (
    put_drawing,
    put_handle,
    scale_points,
    set_weight,
    type_place,
)
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label, number
from usual_clay.core.arrays import Floats, as_place
from usual_clay.core.spline.drawn_numbers import across_and_up
from usual_clay.core.spline.make import DrawnSettings, Handle
from usual_clay.job.edits.shaping import handle_at, has_through, places_of, removal
from usual_clay.job.items import Curve

KINDS = (
    ("control points", "They draw the curve towards them: the finer tool"),
    ("through-points", "The curve goes through each"),
)
WHY = {
    "control": "Control points draw the curve towards them: each bends only its own stretch, and"
    " the comb stays calm.",
    "through": "The curve goes through these; control points are the finer tool, as they do not"
    " push it about between.",
}

FEW = "The points that it was drawn by, and its numbers; control points make it another curve."
# Curves of many points have no numbers of their own.
MANY = ("through", "controls")


class PointsPage(QWidget):
    """What it shows depends on how many points are chosen."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__()
        self.session = session
        self._cost: tuple[object, object] = (None, None)
        self._centre: Floats | None = None
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(8)
        self.kind = Choice(KINDS)
        self.kind.chosen.connect(
            lambda word: session.choice.edit_points("through" if word == KINDS[1][0] else "control")
        )
        self.why = label(role="soft", wraps=True)
        self.column.addWidget(self.kind)
        self.column.addWidget(self.why)
        self.numbers = DrawnNumbers(shape=True)
        self.numbers.changed.connect(self._drawn)
        self.numbers.refused.connect(lambda words: session.told.emit("trouble", words))
        self.column.addWidget(self.numbers)
        self._add_one()
        self._add_several(commands)
        self.insert, self.remove = commands.button("insert point"), commands.button("remove point")
        self._row(self.insert, self.remove)
        self._row(*(commands.button(n) for n in ("raise degree", "lower degree", "reverse curve")))

    def _button(self, words: str, tip: str, do: Callable[[Curve], None]) -> QPushButton:
        def run() -> None:
            if (curve := self.session.job.get(self.session.choice.item, Curve)) is not None:
                do(curve)

        return button(words, tip, clicked=run)

    def _row(self, *parts: QWidget, into: QVBoxLayout | None = None) -> None:
        row = QHBoxLayout()
        row.setSpacing(8)
        for part in parts:
            row.addWidget(part, 1)
        (into or self.column).addLayout(row)

    def _part(self) -> tuple[QWidget, QVBoxLayout]:
        made = QWidget()
        column = QVBoxLayout(made)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.column.addWidget(made)
        return made, column

    # ---- one point -----------------------------------------------------------------------

    def _add_one(self) -> None:
        self.one, column = self._part()
        self.place = [
            number(-1e5, 1e5, 3, "", f"{axis} in mm", f"Point {axis}", 76) for axis in "xyz"
        ]
        for axis, spin in enumerate(self.place):
            spin.valueChanged.connect(partial(self._typed, axis))
        self._row(*self.place, label("mm", "soft"), into=column)
        self.weight = number(0.01, 100, 3, "", "Weight: more draws the curve nearer", "Weight", 76)
        self.weight.valueChanged.connect(self._weighed)
        self.weight_row = Row("Weight", self.weight)
        column.addWidget(self.weight_row)
        self.direction = number(
            -180,
            180,
            2,
            "°",
            "Direction of the tangent in the plane in which the curve lies most",
            "Tangent direction",
            76,
        )
        self.length = number(
            0.001, 1e5, 2, " mm", "How far the curve follows its tangent", "Tangent length", 90
        )
        self.radius = number(
            -1e5, 1e5, 3, " mm", "Radius of curvature; 0 leaves it free", "Radius", 90
        )
        self.radius.setSpecialValueText("")
        for spin in (self.direction, self.length, self.radius):
            spin.valueChanged.connect(lambda _value: self._handled())
        self.handle, own = self._part()
        own.addWidget(Row("Tangent", self.direction, self.length))
        own.addWidget(Row("Radius", self.radius, label("0 is free", "soft")))
        self._row(
            self._button(
                "Reset",
                "This point's tangent is the curve's own again",
                lambda c: put_handle(self.session, c, None, self._near() or 0),
            ),
            self._button(
                "Reset all",
                "All tangents are the curve's own again",
                lambda c: put_handle(self.session, c, None, -1),
            ),
            into=own,
        )

    def _drawn(self, settings: DrawnSettings) -> None:
        if (curve := self.session.job.get(self.session.choice.item, Curve)) is not None:
            put_drawing(self.session, curve, settings)

    def _typed(self, axis: int, value: float) -> None:
        curve, index = self.session.job.get(self.session.choice.item, Curve), self._near()
        if curve is not None and index is not None:
            place = places_of(curve, self.session.choice.point_kind)[index].copy()
            place[axis] = value
            type_place(self.session, curve, index, place)

    def _weighed(self, value: float) -> None:
        if (curve := self.session.job.get(self.session.choice.item, Curve)) is not None:
            set_weight(self.session, curve, sorted(self.session.choice.points), value)

    def _handled(self) -> None:
        curve, index = self.session.job.get(self.session.choice.item, Curve), self._near()
        if curve is None or index is None or (old := handle_at(curve, index)) is None:
            return
        across, up, normal = plane_of(curve)
        angle = np.radians(self.direction.value())
        ahead = self.length.value() * (np.cos(angle) * across + np.sin(angle) * up)
        ahead = ahead + (np.array(old.ahead) @ normal) * normal
        made = Handle(index, as_place(ahead), self.radius.value(), as_place(normal))
        put_handle(self.session, curve, made, index)

    # ---- several points ------------------------------------------------------------------

    def _add_several(self, commands: Commands) -> None:
        self.several, column = self._part()
        self._row(*(commands.button(f"level {axis}") for axis in "xyz"), into=column)
        self._row(
            *(commands.button(n) for n in ("to a line", "to a plane", "gather in")), into=column
        )
        self.factor = number(0.01, 100, 3, " x", "How large they become", "Scale", 76)
        self.factor.setValue(1.0)
        self.turn = number(
            -360, 360, 2, "°", "How far they are turned, in the curve's plane", "Turn", 76
        )
        do = self._button("Do", "Scale and turn the chosen points", self._scale)
        column.addWidget(Row("Scale and turn", self.factor, self.turn))
        self.about = Choice(
            (("middle", "About their own middle"), ("picked", "About a place that you click"))
        )
        self.about.set_value("middle")
        self.about.chosen.connect(self._pick_centre)
        column.addWidget(Row("About", self.about, do))

    def _pick_centre(self, word: str) -> None:
        self._centre = None
        if word == "picked":
            hint = "<b>Click</b> the centre that points are scaled and turned about."
            self.session.hand.mark(Marking(hint, 1, changed=self._centred, in_view=True))

    def _centred(self, marking: Marking) -> None:
        self._centre = marking.points[0]
        self.session.hand.mark(None)

    def _scale(self, curve: Curve) -> None:
        normal = plane_of(curve)[2]
        scale_points(
            self.session,
            curve,
            self.factor.value(),
            np.radians(self.turn.value()),
            self._centre,
            normal,
        )
        self.factor.setValue(1.0)
        self.turn.setValue(0.0)

    # ---- showing -------------------------------------------------------------------------

    def _near(self) -> int | None:
        return min(self.session.choice.points, default=None)

    def refresh(self, curve: Curve) -> None:
        session = self.session
        through = has_through(curve)
        kind = session.choice.point_kind if through else "control"
        self.kind.setVisible(through)
        self.kind.set_value(KINDS[kind == "through"][0])
        drawn = curve.made_by(DrawnSettings)
        few = drawn if drawn is not None and drawn.kind not in MANY else None
        self.why.setText(FEW if few is not None and kind == "through" else WHY[kind])
        self.numbers.setVisible(few is not None)
        self.numbers.setEnabled(not curve.locked)
        if few is not None:
            self.numbers.show_settings(few)
        count = len(session.choice.points)
        self.one.setVisible(count == 1)
        self.several.setVisible(count > 1)
        if count == 1:
            self._show_one(curve, kind)
        if count < 2:
            self._centre = None
            self.about.set_value("middle")
        handle = handle_at(curve, self._near() or 0) if count == 1 and kind == "through" else None
        self.handle.setVisible(handle is not None)
        if handle is not None:
            self._show_handle(curve, handle)
        for part in (self.insert, self.remove):
            part.setVisible(kind == "control")
        self._show_cost(curve)

    def _show_one(self, curve: Curve, kind: str) -> None:
        places, index = places_of(curve, kind), self._near() or 0
        if index >= len(places):
            return
        for spin, value in zip(self.place, places[index], strict=True):
            with QSignalBlocker(spin):
                spin.setValue(float(value))
        self.weight_row.setVisible(kind == "control")
        if kind == "control":
            weights = curve.geometry.weights
            with QSignalBlocker(self.weight):
                self.weight.setValue(1.0 if weights is None else float(weights[index]))

    def _show_handle(self, curve: Curve, handle: Handle) -> None:
        across, up, normal = plane_of(curve)
        ahead = np.array(handle.ahead)
        flat = ahead - (ahead @ normal) * normal
        angle = float(np.degrees(np.arctan2(flat @ up, flat @ across)))
        for spin, value in (
            (self.direction, angle),
            (self.length, float(np.linalg.norm(flat))),
            (self.radius, handle.radius),
        ):
            with QSignalBlocker(spin):
                spin.setValue(value)

    def _show_cost(self, curve: Curve) -> None:
        """Say on the button what the removal would cost, before it is done."""
        removable = len(np.unique(curve.geometry.knots)) > 2
        self.remove.setEnabled(removable)
        if self.session.shown is not self.session.job or not removable:
            self.remove.setText("Remove point")
            return
        key = (id(curve.geometry), self._near())
        if self._cost[0] != key:
            found = removal(curve, self._near())
            self._cost = (key, None if found is None else found[1])
        if isinstance(self._cost[1], float):
            self.remove.setText(f"Remove: {self._cost[1]:.3f} mm")


def plane_of(curve: Curve) -> tuple[Floats, Floats, Floats]:
    """Return across, up and normal of the true plane in which a curve lies most."""
    axis = int(np.argmin(np.ptp(curve.geometry.points, axis=0)))
    across, up = across_and_up(axis)
    return across, up, np.cross(across, up)
