"""The numbers of a drawn curve as fields: lengths, angles, radii, sides."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.number_field import NumberField
from usual_clay.bench.widgets import Row, button, number
from usual_clay.core.errors import sentence
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.drawn_numbers import NUMBERS, DrawnNumber
from usual_clay.core.spline.make import FEWEST, ROUND, DrawnSettings

# What is told of settings by themselves, and of which kinds: name, word, tip, unit, range.
SHAPE = (
    ("corner", "Corners", "How far from its corners it is rounded; 0 leaves them sharp", " mm",
     0.0, 1e4, ("rectangle",)),
    ("rho", "Rho", "How full it is; 0.5 is a parabola", "", 0.05, 0.95, ("conic", "rectangle")),
)  # fmt: skip
NONE = "–"


class DrawnNumbers(QWidget):
    """Each kind of curve has its own; what cannot be told yet stands as a dash.

    Signals
    -------
    changed : settings with a number that was typed
    refused : why a number cannot be
    """

    changed = Signal(object)
    refused = Signal(str)

    def __init__(self, shape: bool = False) -> None:
        """With `shape` there are fields for the settings of a corner and of rho too."""
        super().__init__()
        self._settings = DrawnSettings()
        self.fields: dict[str, list[tuple[DrawnNumber, NumberField, Row]]] = {}
        self.shape: list[tuple[str, tuple[str, ...], NumberField, Row]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for kind, numbers in NUMBERS.items():
            self.fields[kind] = []
            for one in numbers:
                low = -360.0 if one.is_angle else 0.0
                field = number(low, 360 if one.is_angle else 1e5, 3,
                               "°" if one.is_angle else " mm", one.tip, one.word, 96)  # fmt: skip
                field.setSpecialValueText(NONE)
                field.valueChanged.connect(partial(self._typed, one))
                row = Row(one.word, field)
                column.addWidget(row)
                self.fields[kind].append((one, field, row))
        for name, word, tip, unit, low, high, kinds in SHAPE if shape else ():
            field = number(low, high, 3, unit, tip, word, 96)
            field.valueChanged.connect(partial(self._set, name))
            circle = button("Round", "The rho of a quarter of a circle",
                            clicked=partial(self._set, name, ROUND))  # fmt: skip
            row = Row(word, field, circle) if name == "rho" else Row(word, field)
            column.addWidget(row)
            self.shape.append((name, kinds, field, row))

    def show_settings(self, settings: DrawnSettings) -> None:
        """Show the numbers of a curve."""
        self._settings = settings
        for kind, rows in self.fields.items():
            for one, field, row in rows:
                row.setVisible(kind == settings.kind)
                if kind == settings.kind:
                    self._show(one, field)
        for name, kinds, field, row in self.shape:
            row.setVisible(settings.kind in kinds)
            with QSignalBlocker(field):
                field.setValue(getattr(settings, name))

    def _show(self, one: DrawnNumber, field: NumberField) -> None:
        settings = self._settings
        field.setEnabled(len(settings.points) >= one.after)
        value = field.minimum()
        if len(settings.points) >= FEWEST[settings.kind]:
            # Three points on a line make no arc yet.
            with suppress(SplineError):
                told = one.read(settings)
                value = float(np.degrees(told)) if one.is_angle else told
        with QSignalBlocker(field):
            field.setValue(value)

    def begin(self, text: str) -> bool:
        """Begin to type the first number that can be told; tell whether there is one."""
        for _, field, _ in self.fields[self._settings.kind]:
            if field.isEnabled():
                field.setFocus()
                field.lineEdit().setText(text)
                return True
        return False

    def _typed(self, one: DrawnNumber, value: float) -> None:
        try:
            told = float(np.radians(value)) if one.is_angle else value
            self.changed.emit(one.write(self._settings, told))
        except SplineError as error:
            self.refused.emit(sentence(error))
            self.show_settings(self._settings)

    def _set(self, name: str, value: float) -> None:
        changed: dict[str, Any] = {name: value}
        self.changed.emit(replace(self._settings, **changed))
