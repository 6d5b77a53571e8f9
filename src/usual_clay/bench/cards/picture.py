"""The card of a chosen picture: its place, its scale, its look, and outlines from it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QVBoxLayout

from usual_clay.bench.cards.paged import PagedCard
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.pictures import add_outline, place, scale_by, square
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, label, number
from usual_clay.core.picture.outline import OutlineSettings
from usual_clay.core.picture.placement import fitted_to
from usual_clay.files.picture_file import shown_pixels
from usual_clay.job.edits.pictures import colour_at, marks_in_pixels, row_of
from usual_clay.job.items import Picture

DEPTHS = (
    ("under", "Drawn under the model"),
    ("in place", "Drawn where it lies, among the model"),
    ("over", "Drawn over the model"),
)
MARK_HINT = (
    "<b>Click</b> the two ends of a known length on the picture; <b>drag</b> a mark to move it."
)
CORNER_HINT = (
    "<b>Click</b> the four corners of a rectangle of known size, one after the other around."
)
COLOUR_HINT = "<b>Click</b> the background's colour on the picture."
STROKE_HINT = (
    "<b>Drag</b> along the edge that you want, roughly: the strongest edge near it is taken."
)


class PictureCard(PagedCard):
    """Four small pages for one picture."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(
            session,
            "",
            (
                (
                    "place",
                    "Where it lies: numbers, and the handles on the stage",
                    self._build_place,
                ),
                ("scale", "To true size, by a known length or by four corners", self._build_scale),
                ("look", "See-through, background, brightness", self._build_look),
                ("outline", "Points along an outline in it", self._build_outline),
            ),
        )
        self.column.addWidget(commands.button("look square-on"))
        self.column.addStretch(1)

    # ---- pages ---------------------------------------------------------------------------

    def _build_place(self, column: QVBoxLayout) -> None:
        def field(name: str, low: float, high: float, unit: str, tip: str) -> Any:
            made = number(low, high, 3 if unit == " mm" else 2, unit, tip, tip, 92)
            made.valueChanged.connect(lambda value: self._place(name, value))
            return made

        self.mid_x = field("x", -1e5, 1e5, " mm", "Middle of the picture, across the plane")
        self.mid_y = field("y", -1e5, 1e5, " mm", "Middle of the picture, up the plane")
        self.turn = field("turn", -180, 180, "°", "Turn, counter-clockwise")
        self.offset = field(
            "offset", -1e5, 1e5, " mm", "How far before the plane through the origin"
        )
        self.width_ = field("width", 0.01, 1e5, " mm", "Width of the whole picture")
        self.height_ = field("height", 0.01, 1e5, " mm", "Height of the whole picture")
        column.addWidget(Row("Middle", self.mid_x, self.mid_y))
        column.addWidget(Row("Size", self.width_, self.height_))
        column.addWidget(Row("Turn", self.turn))
        column.addWidget(Row("Offset", self.offset))
        self.add_buttons(
            button("Centre", "Put its middle on the origin", clicked=self._centre),
            button("Mirror", "Change left and right over", clicked=self._mirror),
            into=column,
        )

    def _build_scale(self, column: QVBoxLayout) -> None:
        self.length = number(0.001, 1e6, 3, " mm", "The known length between the marks", "Length")
        self.length.setValue(50)
        self.marked = label(role="small", wraps=True)
        self.set_marks = button(
            "Set two marks",
            "Click both ends of a known length",
            clicked=lambda: self._ask_marks(2, MARK_HINT),
        )
        self.scale = button(
            "Scale", "Make the marks as far apart as the length says", "main", clicked=self._scale
        )
        self.row_too = QCheckBox("")
        self.row_too.setChecked(True)
        self.row_too.setToolTip("They lie alike now, on parallel planes, and stay so")
        column.addWidget(self.row_too)
        column.addWidget(Row("Known length", self.length))
        self.add_buttons(self.set_marks, self.scale, into=column)
        column.addWidget(self.marked)
        column.addSpacing(6)
        self.wide = number(0.001, 1e6, 3, " mm", "The rectangle's width", "Rectangle width")
        self.high = number(0.001, 1e6, 3, " mm", "The rectangle's height", "Rectangle height")
        self.wide.setValue(100)
        self.high.setValue(100)
        column.addWidget(Row("Rectangle", self.wide, label("×"), self.high))
        self.set_corners = button(
            "Set four corners",
            "Click a photographed rectangle's corners",
            clicked=lambda: self._ask_marks(4, CORNER_HINT),
        )
        self.square = button(
            "Square up", "Undo the perspective; the picture is resampled once", clicked=self._square
        )
        self.add_buttons(self.set_corners, self.square, into=column)

    def _build_look(self, column: QVBoxLayout) -> None:
        def slide(name: str, low: float, tip: str) -> Slide:
            made = Slide(low, 1, 0.01, tip=tip, name=tip)
            made.changed.connect(lambda value: self._look(name, value))
            return made

        self.opacity = slide("opacity", 0.05, "How solid the picture is; less lets more through")
        self.brightness = slide("brightness", -1, "Brightness")
        self.contrast = slide("contrast", -1, "Contrast")
        self.margin = slide("margin", 0.01, "How far from the background's colour is clear too")
        self.drawn = Choice(DEPTHS)
        self.drawn.chosen.connect(lambda name: self._look("depth", name))
        self.drop = button(
            "Drop background", "Click the colour that becomes clear", clicked=self._ask_colour
        )
        self.undrop = button(
            "Keep it", "Show the background again", clicked=lambda: self._look("clear", None)
        )
        for name, part in (
            ("Solid", self.opacity),
            ("Brightness", self.brightness),
            ("Contrast", self.contrast),
        ):
            column.addWidget(Row(name, part, stretch=0))
        column.addWidget(Row("Drawn", self.drawn))
        self.add_buttons(self.drop, self.undrop, into=column)
        self.margin_row = Row("Soft margin", self.margin, stretch=0)
        column.addWidget(self.margin_row)

    def _build_outline(self, column: QVBoxLayout) -> None:
        column.addWidget(
            label("Where the thing stands out from its background:", role="soft", wraps=True)
        )
        self.level = Slide(
            0, 1, 0.01, tip="How far from the background's colour; 0 finds it", name="Level"
        )
        column.addWidget(Row("Level", self.level, stretch=0))
        column.addWidget(
            button(
                "Outline by level",
                "Points along the outline of the largest thing",
                "main",
                clicked=self._outline,
            )
        )
        column.addSpacing(6)
        column.addWidget(label("Along one edge:", role="soft"))
        self.reach = number(
            1, 400, 0, " px", "How far from the stroke the edge is looked for", "Reach"
        )
        self.reach.setValue(12)
        column.addWidget(Row("Reach", self.reach))
        column.addWidget(
            button("Outline along a stroke", "Draw roughly along an edge", clicked=self._ask_stroke)
        )

    # ---- edits ---------------------------------------------------------------------------

    def _picture(self) -> Picture | None:
        return self.session.job.get(self.session.choice.item, Picture)

    def _place(self, name: str, value: Any) -> None:
        if (picture := self._picture()) is None:
            return
        now = picture.placement
        if name == "turn":
            value = float(np.radians(value))
        if name in ("width", "height"):
            now = fitted_to(now, picture.size, **{name: value})
        else:
            now = replace(now, **{name: value})
        place(self.session, picture, now, "place picture")

    def _centre(self) -> None:
        if (picture := self._picture()) is not None:
            place(self.session, picture, replace(picture.placement, x=0.0, y=0.0), "centre picture")

    def _mirror(self) -> None:
        if (picture := self._picture()) is not None:
            now = picture.placement
            place(self.session, picture, replace(now, mirrored=not now.mirrored), "mirror picture")

    def _look(self, name: str, value: Any) -> None:
        if (picture := self._picture()) is not None:
            look = replace(picture.look, **{name: value})
            if look != picture.look:
                self.session.change(picture, "picture's look", onto_last=True, look=look)

    def _ask_marks(self, most: int, hint: str) -> None:
        if (picture := self._picture()) is not None and self.session.may_change(picture):
            self.session.hand.mark(Marking(hint, most, picture.id, joined=True))

    def _ask_colour(self) -> None:
        if (picture := self._picture()) is not None and self.session.may_change(picture):
            self.session.hand.mark(Marking(COLOUR_HINT, 1, picture.id, changed=self._clear))

    def _ask_stroke(self) -> None:
        if (picture := self._picture()) is not None:
            self.session.hand.mark(
                Marking(STROKE_HINT, 1, picture.id, changed=self._edge, stroke=True)
            )

    def _clear(self, marking: Marking) -> None:
        picture = self._picture()
        if picture is None or not len(marking.places):
            self.session.hand.mark(None)
            return
        colour = colour_at(picture, shown_pixels(picture.data), marking.points[0])
        if colour is None:
            words = f"That lies beside {picture.name}: click its background's colour on it."
            self.session.told.emit("trouble", words)
            self.session.hand.set_marking(marking.with_places(marking.points[:0]))
            return
        self.session.hand.mark(None)
        self._look("clear", colour)

    def _edge(self, marking: Marking) -> None:
        picture = self._picture()
        self.session.hand.mark(None)
        if picture is not None and len(marking.places) > 1:
            pixels = np.round(marks_in_pixels(picture, marking.points), 2)
            stroke = tuple((float(x), float(y)) for x, y in pixels)
            settings = OutlineSettings("edge", stroke=stroke, reach=self.reach.value())
            add_outline(self.session, picture, settings)

    def _outline(self) -> None:
        if (picture := self._picture()) is not None:
            add_outline(
                self.session, picture, OutlineSettings("threshold", self.level.number.value())
            )

    def _scale(self) -> None:
        marking, picture = self.session.hand.marking, self._picture()
        if picture is not None and marking is not None:
            scale_by(
                self.session, picture, marking.points, self.length.value(), self._like(picture)
            )
            self.session.hand.mark(None)

    def _square(self) -> None:
        marking, picture = self.session.hand.marking, self._picture()
        if picture is not None and marking is not None:
            rectangle = self.wide.value(), self.high.value()
            others = [one for one in self._like(picture) if one.size == picture.size]
            square(self.session, picture, marking.points, rectangle, others)
            self.session.hand.mark(None)

    def _like(self, picture: Picture) -> list[Picture]:
        """Return the others of its row that are to be changed with a picture."""
        if not self.row_too.isChecked():
            return []
        return [one for one in row_of(self.session.job, picture) if not one.locked]

    # ---- showing -------------------------------------------------------------------------

    def refresh(self) -> None:
        picture = self.session.shown.get(self.session.choice.item, Picture)
        if picture is None:
            return
        now, look = picture.placement, picture.look
        self.title.setText(f"Picture: {picture.name}")
        px = picture.size[0] / now.width
        state = "; locked" if picture.locked else ""
        self.about.setText(
            f"on {now.plane.name}, {picture.size[0]} × {picture.size[1]} pixels,"
            f" {px:.3g} to the mm{state}"
        )
        fields = (
            (self.mid_x, now.x),
            (self.mid_y, now.y),
            (self.turn, np.degrees(now.turn)),
            (self.offset, now.offset),
            (self.width_, now.width),
            (self.height_, now.height),
        )
        for part, value in fields:
            with QSignalBlocker(part):
                part.setValue(float(value))
            part.setEnabled(not picture.locked)
        for name in ("opacity", "brightness", "contrast", "margin"):
            getattr(self, name).set_value(getattr(look, name))
        self.drawn.set_value(look.depth)
        self.margin_row.setVisible(look.clear is not None)
        self.undrop.setEnabled(look.clear is not None)
        others = len(row_of(self.session.shown, picture))
        self.row_too.setVisible(others > 0)
        self.row_too.setText(f"The {others} other{'s' * (others > 1)} of its row too")
        self._show_marks(picture)

    def _show_marks(self, picture: Picture) -> None:
        marking = self.session.hand.marking
        count = 0 if marking is None or marking.stroke else len(marking.places)
        wanted = 0 if marking is None else marking.most
        self.scale.setEnabled(wanted == 2 and count == 2)
        self.square.setEnabled(wanted == 4 and count == 4)
        words = ""
        if wanted == 2 and count == 2 and marking is not None:
            apart = float(np.linalg.norm(np.diff(marking.points, axis=0)))
            words = f"The marks are {apart:.3f} mm apart now."
        elif wanted in (2, 4) and count < wanted:
            words = f"{count} of {wanted} marks are set."
        self.marked.setText(words)
        self.marked.setVisible(bool(words))
