"""The menu of the legend: how colours are spread, and how what is mirrored is set up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QMenu, QWidget, QWidgetAction

from usual_clay.bench.number_field import NumberField
from usual_clay.bench.stage.judging import ENDS, JUDGINGS, Scaling
from usual_clay.bench.stage.sights import Sights
from usual_clay.bench.widgets import label, number

# How wide stripes and a lamp's lines are, by how many there are in half a turn.
COUNTS = ((7, "Wide"), (14, "Middling"), (28, "Fine"))
ALONG = (("z", "To z"), ("x", "To x"), ("y", "To y"), ("eye", "To the eye"))


def fill_judging_menu(menu: QMenu, name: str, sights: Sights) -> None:
    """Fill the menu for a way to look."""
    if JUDGINGS[name].moves:
        _mirror(menu, name, sights)
    else:
        _scale(menu, name, sights)


def _mirror(menu: QMenu, name: str, sights: Sights) -> None:
    mirror = sights.eye.mirror
    if name == "room":
        menu.addSection("The room stands in the world; turn the view, and it runs over the shape")
        return
    for count, words in COUNTS:
        wide = replace(mirror, count=count)
        _choice(menu, words, count == mirror.count, partial(sights.set_mirror, wide))
    menu.addSeparator()
    for along, words in ALONG:
        level = replace(mirror, along=along)
        _choice(menu, words, along == mirror.along, partial(sights.set_mirror, level))
    if name == "lamp":
        menu.addSeparator()
        above = replace(mirror, turn=(0.0, 0.0, 0.0))
        _choice(menu, "Straight above", above == mirror, partial(sights.set_mirror, above))
        menu.addAction("Move it by hand", sights.hold_lamp)


def _scale(menu: QMenu, name: str, sights: Sights) -> None:
    now, limit = sights.scaling, JUDGINGS[name].limit
    by_hand = now.low is not None
    ways = [(ENDS, f"All but {100 * ENDS:g} % at either end"), (0.0, "All figures")]
    for ends, words in ways if limit is None else [(ENDS, f"From {limit:g} to {10 * limit:g} mm")]:
        on = not by_hand and now.ends == ends
        wanted = Scaling(ends=ends, contours=now.contours)
        _choice(menu, words, on, partial(sights.set_scaling, wanted))
    menu.addAction(_hand_set(menu, JUDGINGS[name].unit, sights))
    menu.addSeparator()
    lines = replace(now, contours=not now.contours)
    _choice(menu, "Lines of equal figures", now.contours, partial(sights.set_scaling, lines))


def _hand_set(menu: QMenu, unit: str, sights: Sights) -> QWidgetAction:
    """Return two fields for the ends of the scale."""
    row = QWidget(menu)
    column = QHBoxLayout(row)
    column.setContentsMargins(12, 4, 12, 4)
    fields: list[NumberField] = []

    def set_ends() -> None:
        low, high = (field.value() for field in fields)
        if low < high:
            sights.set_scaling(replace(sights.scaling, low=low, high=high))

    column.addWidget(label("From"))
    for end, words in zip(sights.scale(), ("Low end of the scale", "High end"), strict=True):
        field = number(-1e6, 1e6, 4, f" {unit}", words, words)
        field.setValue(end)
        field.valueChanged.connect(lambda _value: set_ends())
        fields.append(field)
        column.addWidget(field)
        if len(fields) == 1:
            column.addWidget(label("to"))
    action = QWidgetAction(menu)
    action.setDefaultWidget(row)
    return action


def _choice(menu: QMenu, words: str, on: bool, chosen: Callable[[], None]) -> None:
    action = QAction(words, menu, checkable=True)
    action.setChecked(on)
    action.triggered.connect(lambda _=False: chosen())
    menu.addAction(action)


def look_title(judging: str) -> str:
    """Return what a way to look is called."""
    return JUDGINGS[judging].title if judging else "Deviation"


def fill_look_menu(menu: QMenu, stage: Any) -> None:
    """Offer the ways to look in the smaller view, whatever the large one shows."""
    ways: list[tuple[str | None, str]] = [
        (None, "As in the large view"),
        *((name, look_title(name)) for name in ("", *JUDGINGS)),
    ]
    for judging, words in ways:
        action = menu.addAction(words)
        action.setCheckable(True)
        action.setChecked(stage.scene.other_look == judging)
        action.triggered.connect(lambda _=False, judging=judging: stage.look_otherwise(judging))
