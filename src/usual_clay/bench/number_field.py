"""Fields for numbers, which understand what people type and refuse what they cannot read."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QValidator
from PySide6.QtWidgets import QDoubleSpinBox, QLineEdit, QSpinBox, QToolTip

from usual_clay.bench.guard import Guarded
from usual_clay.core.errors import sentence
from usual_clay.core.numbers import NumberError, read_number

State = QValidator.State


def quiet(field: NumberField | CountField, width: int) -> None:
    """Make a field without arrows that tells of a number when it is finished."""
    field.setKeyboardTracking(False)
    field.setAlignment(Qt.AlignmentFlag.AlignCenter)
    if width:
        field.setFixedWidth(width)


def typed(field: QDoubleSpinBox | QSpinBox, text: str) -> float:
    """Return the number that stands in a field.

    Raises
    ------
    NumberError
        Where it is none, or past what the field takes.
    """
    if text and text == field.specialValueText():
        return field.minimum()
    inner = text.removeprefix(field.prefix())
    suffix = field.suffix()
    # Typed over all of it, the unit is gone; typed before it, it stands there still.
    unit = getattr(field, "unit", "") or suffix.strip()
    value = read_number(inner.removesuffix(suffix), unit)
    low, high = field.minimum(), field.maximum()
    # What stands there may have been rounded to what the field shows.
    edge = 0.5 * 10.0 ** -field.decimals() if isinstance(field, QDoubleSpinBox) else 0.0
    if not low - edge <= value <= high + edge:
        words = f"{low:g} to {high:g}{suffix}"
        raise NumberError(f"“{inner.strip()}” does not lie within {words}")
    return value


def refused(field: QDoubleSpinBox | QSpinBox, text: str) -> str:
    """Say at a field why it does not take a text, and what it keeps; return the words."""
    try:
        typed(field, text)
    except NumberError as error:
        words = sentence(error)
        QToolTip.showText(field.mapToGlobal(QPoint(0, field.height())), words, field)
        return words
    return ""


class NumberField(Guarded, QDoubleSpinBox):
    """A field for a number with its unit.

    A comma and a point both mean the decimal sign; fractions, sums and other units of length are
    read too. What cannot be read is told at the field, which keeps the number that it had.

    Attributes
    ----------
    unit : str
        The unit of its number where the field does not show it itself.
    """

    def __init__(
        self,
        low: float = 0.0,
        high: float = 99.0,
        decimals: int = 2,
        suffix: str = "",
        width: int = 0,
    ) -> None:
        super().__init__()
        self.refusal = self.unit = ""
        self.setDecimals(decimals)
        self.setRange(low, high)
        self.setSuffix(suffix)
        quiet(self, width)

    def validate(self, text: str, pos: int) -> tuple[State, str, int]:
        try:
            typed(self, text)
        except NumberError:
            # Half of a number is typed before all of it.
            return State.Intermediate, text, pos
        return State.Acceptable, text, pos

    def valueFromText(self, text: str) -> float:
        try:
            return typed(self, text)
        except NumberError:
            return self.value()

    def fixup(self, text: str) -> str:
        self.refusal = refused(self, text)
        return text


class CountField(Guarded, QSpinBox):
    """A field for a whole number, which reads what `NumberField` does."""

    def __init__(self, low: int = 0, high: int = 99, width: int = 0, prefix: str = "") -> None:
        super().__init__()
        self.refusal = ""
        self.setRange(low, high)
        self.setPrefix(prefix)
        quiet(self, width)

    def validate(self, text: str, pos: int) -> tuple[State, str, int]:
        try:
            whole = typed(self, text).is_integer()
        except NumberError:
            whole = False
        return State.Acceptable if whole else State.Intermediate, text, pos

    def valueFromText(self, text: str) -> int:
        try:
            return round(typed(self, text))
        except NumberError:
            return self.value()

    def fixup(self, text: str) -> str:
        self.refusal = refused(self, text)
        if not self.refusal:
            self.refusal = f"{text.strip()} is no whole number."
            QToolTip.showText(self.mapToGlobal(QPoint(0, self.height())), self.refusal, self)
        return text


class NumbersField(Guarded, QLineEdit):
    """A field for several numbers of one unit, with semicolons between them.

    Signals
    -------
    changed : the numbers, as a tuple of float
    """

    changed = Signal(tuple)

    def __init__(self, unit: str, tip: str, name: str, optional: bool = False) -> None:
        super().__init__()
        self.unit, self.optional = unit, optional
        self._values: tuple[float, ...] = ()
        self.setToolTip(tip)
        self.setAccessibleName(name)
        self.editingFinished.connect(self._read)

    def set_values(self, values: tuple[float, ...]) -> None:
        """Show numbers."""
        self._values = tuple(values)
        words = "; ".join(f"{value:g}" for value in values)
        self.setText(words + self.unit if words else "")

    def _read(self) -> None:
        text = self.text().strip()
        try:
            values = tuple(
                read_number(part, self.unit.strip()) for part in text.split(";") if part.strip()
            )
        except NumberError as error:
            QToolTip.showText(self.mapToGlobal(QPoint(0, self.height())), sentence(error), self)
            self.set_values(self._values)
            return
        if (values or self.optional) and values != self._values:
            self.set_values(values)
            self.changed.emit(values)
