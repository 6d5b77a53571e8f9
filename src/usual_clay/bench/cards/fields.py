"""Fields of a card that stand for a settings dataclass: choices, numbers, slides."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.number_field import NumbersField
from usual_clay.bench.widgets import Choice, Row, Slide, button, number


@dataclass(frozen=True)
class Pick:
    """One of a few words; each stands for a value of the setting."""

    name: str
    label: str
    options: tuple[tuple[str, Any, str], ...]
    # Choices that are shown in further lines, so that none is clipped.
    second: tuple[tuple[str, Any, str], ...] = ()
    third: tuple[tuple[str, Any, str], ...] = ()

    @property
    def lines(self) -> tuple[tuple[tuple[str, Any, str], ...], ...]:
        return tuple(filter(None, (self.options, self.second, self.third)))


@dataclass(frozen=True)
class Figure:
    """A number with its unit; the setting is the number times `factor`."""

    name: str
    label: str
    tip: str
    low: float
    high: float
    decimals: int = 2
    unit: str = " mm"
    factor: float = 1.0
    # What stands there for 0, where that is no number.
    zero: str = ""


@dataclass(frozen=True)
class Sweep:
    """A number that is slid."""

    name: str
    label: str
    tip: str
    low: float
    high: float
    step: float
    unit: str = ""
    factor: float = 1.0
    zero: str = ""


@dataclass(frozen=True)
class Figures:
    """Several numbers of one unit, with semicolons between them; none where they may be left."""

    name: str
    label: str
    tip: str
    unit: str = ""
    optional: bool = False


@dataclass(frozen=True)
class Places:
    """Places that are marked on the stage, three numbers each, one after the other."""

    name: str
    label: str
    tip: str
    # What is meant where there are none.
    none: str = "none"


Field = Pick | Figure | Figures | Sweep | Places


class Fields(QWidget):
    """A row for each field.

    Signals
    -------
    changed : the user has set something
    marks_wanted : a field of places, which are to be marked on the stage
    """

    changed = Signal()
    marks_wanted = Signal(object)

    def __init__(
        self, fields: Sequence[Field], hides: Callable[[Any], Sequence[str]] | None = None
    ) -> None:
        """Show fields, less those that `hides` says mean nothing at the present settings."""
        super().__init__()
        self.fields, self._hides = fields, hides
        self._values: dict[str, Any] = {}
        self.parts: dict[str, list[QWidget]] = {}
        self.rows: dict[str, list[Row]] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for field in fields:
            rows = self._build(field)
            self.rows[field.name] = rows
            for row in rows:
                column.addWidget(row)

    def _build(self, field: Field) -> list[Row]:
        if isinstance(field, Pick):
            rows = []
            for index, options in enumerate(field.lines):
                choice = Choice([(word, tip) for word, _, tip in options])
                values = {word: value for word, value, _ in options}
                choice.chosen.connect(
                    lambda word, values=values: self._set(field.name, values[word])
                )
                self.parts.setdefault(field.name, []).append(choice)
                rows.append(Row("" if index else field.label, choice))
            return rows
        if isinstance(field, Figure):
            spin = number(field.low, field.high, field.decimals, field.unit, field.tip, field.label)
            spin.setSpecialValueText(field.zero)
            spin.valueChanged.connect(lambda value: self._set(field.name, value * field.factor))
            self.parts[field.name] = [spin]
            return [Row(field.label, spin)]
        if isinstance(field, Figures):
            line = NumbersField(field.unit, field.tip, field.label, field.optional)
            line.changed.connect(lambda values: self._set(field.name, values))
            self.parts[field.name] = [line]
            return [Row(field.label, line, stretch=0)]
        if isinstance(field, Places):
            mark = button("", field.tip, clicked=lambda: self.marks_wanted.emit(field))
            clear = button("Clear", f"Take all of {field.label.lower()} back", role="quiet",
                           clicked=lambda: self._set(field.name, ()))  # fmt: skip
            self.parts[field.name] = [mark, clear]
            return [Row(field.label, mark, clear, stretch=0)]
        slide = Slide(field.low, field.high, field.step, field.unit, field.tip, field.label)
        slide.number.setSpecialValueText(field.zero)
        slide.changed.connect(lambda value: self._set(field.name, value * field.factor))
        self.parts[field.name] = [slide]
        return [Row(field.label, slide, stretch=0)]

    def _set(self, name: str, value: Any) -> None:
        self._values[name] = value
        self._show()
        self.changed.emit()

    def show_settings(self, settings: Any) -> None:
        """Show what settings say."""
        self._values = {field.name: getattr(settings, field.name) for field in self.fields}
        hidden = () if self._hides is None else self._hides(settings)
        for name, rows in self.rows.items():
            for row in rows:
                row.setVisible(name not in hidden)
        self._show()

    def settings(self, base: Any) -> Any:
        """Return settings with what the fields say."""
        whole = {
            name: int(value)
            if isinstance(getattr(base, name), int) and not isinstance(value, bool)
            else value
            for name, value in self._values.items()
        }
        return replace(base, **whole)

    def set_places(self, name: str, places: Sequence[float]) -> None:
        """Take places that were marked."""
        self._set(name, tuple(float(x) for x in places))

    def values_of(self, name: str) -> Any:
        """Return what a field says."""
        return self._values.get(name)

    def _show(self) -> None:
        for field in self.fields:
            value = self._values.get(field.name)
            if isinstance(field, Pick):
                word = next((w for x in field.lines for w, v, _ in x if v == value), "")
                for part in self.parts[field.name]:
                    part.set_value(word)  # type: ignore[attr-defined]
            elif isinstance(field, Figure):
                (spin,) = self.parts[field.name]
                with QSignalBlocker(spin):
                    spin.setValue(float(value or 0) / field.factor)  # type: ignore[attr-defined]
            elif isinstance(field, Places):
                mark, clear = self.parts[field.name]
                count = len(value or ()) // 3
                mark.setText(f"{count or field.none} ...")  # type: ignore[attr-defined]
                clear.setVisible(count > 0)
            elif isinstance(field, Figures):
                (line,) = self.parts[field.name]
                line.set_values(value or ())  # type: ignore[attr-defined]
            else:
                (slide,) = self.parts[field.name]
                slide.set_value(float(value or 0) / field.factor)  # type: ignore[attr-defined]
