"""Small parts that several panels are built of."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from time import monotonic
from typing import Any

from PySide6.QtCore import QEvent, QObject, QSignalBlocker, Qt, QTimer, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.guard import Guarded
from usual_clay.bench.number_field import NumberField
from usual_clay.bench.theme.looks import put_icon

# While a hand drags, panels that are not under its eye follow so often, ms.
NOW_AND_THEN = 250

DEGREES = (
    ("this", "The degree stays as it is set"),
    ("best", "To tolerance tries degrees 2 to 5 where knots are adaptive, and keeps the leanest"),
)


def button(
    words: str,
    tip: str,
    role: str = "",
    picture: str = "",
    checkable: bool = False,
    clicked: Callable[[], object] | None = None,
) -> QPushButton:
    """Return a push button with its tooltip and accessible name."""
    made = QPushButton(words)
    made.setToolTip(tip)
    made.setAccessibleName(words or tip)
    made.setCheckable(checkable)
    # A click must not take the focus: Enter still means what it means on the stage.
    made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    if role:
        made.setProperty("role", role)
    if picture:
        put_icon(made, picture, "on_accent" if role == "main" else "ink")
    if clicked is not None:
        made.clicked.connect(lambda *_: clicked())
    return made


def label(words: str = "", role: str = "", wraps: bool = False) -> QLabel:
    made = QLabel(words)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(wraps)
    return made


def set_role(part: QWidget, role: str) -> None:
    """Give a widget another look of the style sheet."""
    set_look(part, "role", role)


def set_look(part: QWidget, name: str, value: object) -> None:
    """Set a property by which the style sheet tells looks apart."""
    # A style that is set is worked out anew, even where it is the same.
    if part.property(name) != value:
        part.setProperty(name, value)
        part.style().unpolish(part)
        part.style().polish(part)


class Pace(QTimer):
    """Lets a panel follow at once, but only now and then while a hand drags: it is looked at then.

    All of them then follow at one beat: what they show of one state is worked out once.

    Parameters
    ----------
    hurries : callable
        Tells whether a hand is dragging.
    follow : callable
        What the panel does.
    """

    def __init__(
        self, parent: QWidget, hurries: Callable[[], bool], follow: Callable[[], None]
    ) -> None:
        super().__init__(parent, singleShot=True, timerType=Qt.TimerType.PreciseTimer)
        self._hurries, self._follow, self._waits = hurries, follow, False
        self.timeout.connect(self._again)

    def ask(self) -> None:
        self._waits = self._hurries() and self.isActive()
        if not self._waits:
            self._wait() if self._hurries() else self.stop()
            self._follow()

    def _wait(self) -> None:
        self.start(NOW_AND_THEN - int(1e3 * monotonic()) % NOW_AND_THEN)

    def _again(self) -> None:
        if self._waits:
            self._waits = False
            self._wait()
            self._follow()


def name_in_place(shown: QLabel, lives: QObject, given: Callable[[str], None]) -> None:
    """Let the user type a new name over a label.

    Parameters
    ----------
    lives : QObject
        What outlives the label: what is given may make that anew.
    """
    field = QLineEdit(shown.text(), shown.parentWidget())
    field.setGeometry(shown.geometry().adjusted(-6, -2, 30, 2))
    field.selectAll()

    def finished() -> None:
        field.blockSignals(True)
        field.hide()
        words = field.text().strip()
        # The field's own event ends first.
        QTimer.singleShot(0, lives, lambda: given(words))

    field.editingFinished.connect(finished)
    field.show()
    field.setFocus()


class Elided(Guarded, QLabel):
    """A label that ends in dots where there is no room for all of it."""

    def paintEvent(self, _event: QPaintEvent) -> None:
        words = self.fontMetrics().elidedText(
            self.text(), Qt.TextElideMode.ElideRight, self.contentsRect().width()
        )
        painter = QPainter(self)
        painter.setPen(self.palette().windowText().color())
        painter.drawText(self.contentsRect(), Qt.AlignmentFlag.AlignVCenter, words)


class TallArea(Guarded, QScrollArea):
    """Scrolls up and down what is taller than it; wrapped labels get the height that they need."""

    def __init__(self, inside: QWidget) -> None:
        super().__init__()
        self._inside = inside
        self.setWidget(inside)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self._fit_height()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_height()

    def _fit_height(self) -> None:
        # A layout's least height leaves out that narrow labels wrap.
        column = self._inside.layout()
        if column is not None and column.hasHeightForWidth():
            self._inside.setMinimumHeight(column.totalHeightForWidth(self.viewport().width()))


def rule(upright: bool = False) -> QFrame:
    """Return a hairline."""
    line = QFrame()
    line.setObjectName("line")
    if upright:
        line.setFixedWidth(1)
    else:
        line.setFixedHeight(1)
    return line


def number(
    low: float, high: float, decimals: int, suffix: str, tip: str, name: str, width: int = 84
) -> NumberField:
    """Return a quiet field for a number with its unit."""
    made = NumberField(low, high, decimals, suffix, width)
    made.setToolTip(tip)
    made.setAccessibleName(name)
    return made


def combo(tip: str) -> QComboBox:
    """Return a box of choices that takes the room there is, not that of its longest words."""
    made = QComboBox()
    made.setToolTip(tip)
    made.setAccessibleName(tip)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.setMinimumContentsLength(2)
    made.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
    return made


def fill(part: QComboBox, items: Sequence[Any], none: str = "") -> None:
    """Offer items in a box by their names, and keep what was chosen there if it still is."""
    wanted = [(none, "")] if none else []
    wanted += [(item.name, item.id) for item in items]
    now = [(part.itemText(i), part.itemData(i)) for i in range(part.count())]
    if now != wanted:
        taken = part.currentData()
        part.clear()
        for words, data in wanted:
            part.addItem(words, data)
        part.setCurrentIndex(max(part.findData(taken), 0))


class Row(QWidget):
    """A named line of a card: its name at the left, what it sets at the right."""

    def __init__(self, name: str, *parts: QWidget, stretch: int | None = None) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.name = label(name)
        self.name.setFixedWidth(100)
        row.addWidget(self.name)
        for index, part in enumerate(parts):
            row.addWidget(part, 1 if index == stretch else 0)
        if stretch is None:
            row.addStretch(1)


class Choice(QWidget):
    """A few words of which one is chosen."""

    chosen = Signal(str)

    def __init__(self, options: Sequence[tuple[str, str]]) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(1, 0, 0, 0)
        row.setSpacing(0)
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QPushButton] = {}
        for name, tip in options:
            made = button(name, tip, role="choice", checkable=True)
            self._group.addButton(made)
            made.clicked.connect(lambda _=False, name=name: self.chosen.emit(name))
            row.addWidget(made)
            self._buttons[name] = made

    def show_only(self, names: Sequence[str]) -> None:
        """Offer some of the options."""
        for option, made in self._buttons.items():
            made.setVisible(option in names)

    def set_value(self, name: str) -> None:
        """Choose an option without telling of it; of one that is not here, choose none."""
        self._group.setExclusive(False)
        for option, made in self._buttons.items():
            made.setChecked(option == name)
        self._group.setExclusive(True)


class Slide(QWidget):
    """A slider and the number it stands for; either sets the other."""

    changed = Signal(float)

    def __init__(
        self, low: float, high: float, step: float, unit: str = "", tip: str = "", name: str = ""
    ) -> None:
        super().__init__()
        self._low, self._step = low, step
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, round((high - low) / step))
        self.number = NumberField(low, high, 0 if step >= 1 else 2, unit, 66)
        self.number.setSingleStep(step)
        for part in (self.slider, self.number):
            part.setToolTip(tip)
            part.setAccessibleName(name)
        row.addWidget(self.slider, 1)
        row.addWidget(self.number)
        self.slider.valueChanged.connect(lambda place: self._moved(low + place * step))
        self.number.valueChanged.connect(self._moved)

    def _moved(self, value: float) -> None:
        self.set_value(value)
        self.changed.emit(value)

    def set_value(self, value: float) -> None:
        """Show a value without telling of it."""
        with QSignalBlocker(self.slider), QSignalBlocker(self.number):
            self.slider.setValue(round((value - self._low) / self._step))
            self.number.setValue(value)


class Tile(QFrame):
    """A figure and what it is."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("tile")
        column = QVBoxLayout(self)
        column.setContentsMargins(9, 8, 3, 8)
        column.setSpacing(1)
        self.figure = label(role="figure")
        self.words = label(role="small")
        column.addWidget(self.figure)
        column.addWidget(self.words)

    def show_figure(self, figure: str, words: str, dim: bool = False) -> None:
        self.figure.setText(figure)
        self.figure.setEnabled(not dim)
        set_role(self.figure, "figure dim" if dim else "figure")
        self.words.setText(words)
