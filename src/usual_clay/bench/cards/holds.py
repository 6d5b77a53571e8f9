"""Holds of a curve: what it keeps while it is shaped."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.curves import add_hold, let_go
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, combo, fill, label, number
from usual_clay.core.arrays import as_place
from usual_clay.core.fit.curve.holds import NEEDS_OTHER, Hold
from usual_clay.core.spline.basis import greville
from usual_clay.core.spline.curve import curve_points
from usual_clay.job.edits.curves import holds_of, may_hold
from usual_clay.job.items import Curve

PLACES = (
    ("start", "Where the curve starts"),
    ("end", "Where it ends"),
    ("chosen", "Beside the control point that is chosen on the stage"),
)
FIRST = (
    ("fixed", "Stays where it is"),
    ("level", "Its tangent lies along x"),
    ("upright", "Its tangent lies along z"),
)
SECOND = (
    ("on curve", "Stays on another curve"),
    ("G0", "Meets another's end"),
    ("G1", "Meets it in tangent"),
    ("G2", "Meets it in curvature"),
)
THIRD = (
    ("distance", "Between start and end, along the axis below or straight"),
    ("own twin", "The curve is its own mirror image"),
    ("along", "Its tangent lies along the axis below"),
)
AXES = (*((axis, f"The axis {axis}") for axis in "xyz"), ("straight", "The straight distance"))
FOURTH = (("square to mirror", "Ends on the mirror plane and square to it"),)
KINDS: dict[str, str] = {
    "G0": "joined",
    "G1": "tangent",
    "G2": "curved",
    "distance": "size",
    "own twin": "mirrored",
    "square to mirror": "across",
}


class HoldsCard(Card):
    """A list of what holds, and a few choices for one more."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Holds")
        self.cancel = self.accept = done
        self._kind, self._at, self._axis = "fixed", "start", "x"
        self._rows = QWidget()
        self._list = QVBoxLayout(self._rows)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._shown: tuple | None = None
        self.column.addWidget(self._rows)
        self.kinds = [Choice(options) for options in (FIRST, SECOND, THIRD, FOURTH)]
        for index, choice in enumerate(self.kinds):
            choice.chosen.connect(self._set_kind)
            self.column.addWidget(Row("Add" if index == 0 else "", choice))
        self.at, self.axis = Choice(PLACES), Choice(AXES)
        self.at.chosen.connect(self._set_at)
        self.axis.chosen.connect(self._set_axis)
        self.at_row, self.axis_row = Row("At its", self.at), Row("Axis", self.axis)
        self.value = number(-1e5, 1e5, 3, " mm", "The distance, or where the plane lies", "Value")
        self.value_row = Row("Value", self.value)
        self.other = combo("The other curve")
        self.other_row = Row("With", self.other, stretch=0)
        for row in (self.at_row, self.axis_row, self.value_row, self.other_row):
            self.column.addWidget(row)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.trouble)
        self.trouble.hide()
        self.add_buttons(
            button("Close", "Back (Esc)", clicked=done),
            button("Add", "Hold this from now on", "main", clicked=self.add),
        )
        self.column.addStretch(1)
        self._set_kind("fixed")

    def _set_kind(self, kind: str) -> None:
        self._kind = kind
        for choice in self.kinds:
            choice.set_value(kind)
        self.trouble.hide()
        self._suggest()
        self.refresh()

    def _set_at(self, at: str) -> None:
        self._at = at
        self.refresh()

    def _set_axis(self, axis: str) -> None:
        self._axis = axis
        self._suggest()
        self.refresh()

    def _curve(self) -> Curve | None:
        return self.session.job.get(self.session.choice.item, Curve)

    def _suggest(self) -> None:
        """Begin a distance with what it is now."""
        curve = self._curve()
        if self._kind == "distance" and curve is not None:
            gap = curve.geometry.points[-1] - curve.geometry.points[0]
            now = np.linalg.norm(gap) if self._axis == "straight" else gap["xyz".index(self._axis)]
            self.value.setValue(float(now))

    def refresh(self) -> None:
        curve = self._curve()
        kind = KINDS.get(self._kind, self._kind)
        self.at.set_value(self._at)
        self.axis.set_value(self._axis)
        self.at_row.setVisible(kind not in ("size", "mirrored"))
        self.axis_row.setVisible(kind in ("along", "size", "mirrored", "across"))
        self.axis.show_only(("x", "y", "z", "straight") if kind == "size" else ("x", "y", "z"))
        self.value_row.setVisible(kind in ("size", "mirrored", "across"))
        self.other_row.setVisible(kind in NEEDS_OTHER)
        if curve is None:
            self.about.setText("Choose a curve in the Shelf.")
            return
        self.about.setText(
            f"What {curve.name} keeps while it is shaped; it stays as near as it can to where the"
            " hand puts it."
            if may_hold(curve)
            else f"{curve.name} follows something: set it loose first, to shape it by hand."
        )
        fill(self.other, [c for c in self.session.job.all(Curve) if c.id != curve.id])
        self._show_list(curve)

    def _show_list(self, curve: Curve) -> None:
        held = holds_of(curve)
        shown = (curve.id, held)
        if shown == self._shown:
            return
        self._shown = shown
        while (item := self._list.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.hide()
                old.deleteLater()
        for index, hold in enumerate(held):
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            words = label(f"{hold.words[:1].upper()}{hold.words[1:]}", wraps=True)
            row.addWidget(words, 1)
            row.addWidget(
                button("Let go", "Take this hold away", clicked=partial(self._let_go, index))
            )
            self._list.addWidget(line)
        self._rows.setVisible(bool(held))

    def _let_go(self, index: int) -> None:
        if (curve := self._curve()) is not None:
            let_go(self.session, curve, index)

    def add(self) -> None:
        """Add the hold that is set up."""
        curve = self._curve()
        if curve is None:
            return
        if not may_hold(curve):
            self._say("Set the curve loose first: it follows something.")
            return
        kind: Any = KINDS.get(self._kind, self._kind)
        other = str(self.other.currentData() or "") if kind in NEEDS_OTHER else None
        if other == "":
            self._say("There is no other curve to hold to.")
            return
        at = {"start": 0.0, "end": 1.0}.get(self._at)
        if at is None:
            index = min(self.session.choice.points, default=None)
            if index is None:
                self._say("Choose a control point on the stage first.")
                return
            at = float(greville(curve.geometry.knots, curve.geometry.degree)[index])
        place = np.zeros(3)
        if kind == "fixed":
            place = curve_points(curve.geometry, [at])[0]
        elif kind == "along":
            place = np.eye(3)["xyz".index(self._axis if self._axis in "xyz" else "x")]
        axis = "" if self._axis == "straight" else self._axis
        if kind in ("joined", "tangent", "curved"):
            at = float(round(at))
        neighbour = 0 if other is not None else -1
        hold = Hold(kind, at, 1.0, as_place(place), axis, self.value.value(), neighbour)
        if kind == "size":
            hold = Hold(kind, 0.0, 1.0, axis=axis, value=self.value.value())
        self._say(add_hold(self.session, curve, hold, other))

    def _say(self, words: str) -> None:
        self.trouble.setText(words)
        self.trouble.setVisible(bool(words))
