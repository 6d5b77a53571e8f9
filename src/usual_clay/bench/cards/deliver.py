"""The card on which things are handed over: what, as which format, and what to know before."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.fields import Fields, Figure, Pick
from usual_clay.bench.documents import Documents
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button, label
from usual_clay.core.errors import sentence
from usual_clay.core.numbers import thousands
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.deliver import (
    FORMATS,
    WORDS,
    DeliverSettings,
    counted,
    delivered,
    held_by,
    pieces_in,
    triangles_of,
)
from usual_clay.files.mesh_file import OUT
from usual_clay.files.step_out import Piece
from usual_clay.job.doubts import Doubt, doubts
from usual_clay.job.items import ItemId

OWNER = "deliver card"
# So many doubts are listed, so wide.
MOST, WIDE = 8, 280


def _formats(*suffixes: str) -> tuple[tuple[str, str, str], ...]:
    return tuple(
        (FORMATS[each].title, each,
         "Holds " + ", ".join(WORDS[kind][1] for kind in FORMATS[each].holds))
        for each in suffixes
    )  # fmt: skip


FIELDS = (
    Pick("suffix", "As", _formats(".step", ".igs", ".stl", ".obj"),
         _formats(".3mf", ".ply", ".glb"), _formats(".svg", ".dxf", ".csv")),
    Pick("what", "What", (
        ("chosen", "chosen", "The chosen thing"),
        ("group", "group", "All that stands in its group on the Shelf, hidden or not"),
        ("visible", "visible", "All that is visible"),
        ("all", "all", "All there is, hidden or not"),
    )),
    Pick("of", "Of these", (
        ("made", "made", "Surfaces, bodies and curves"),
        ("measured", "measured", "Scans and point lists"),
        ("both", "both", "Whatever there is"),
    )),
    Pick("unit", "Unit", tuple((unit, unit, f"Numbers in {unit}") for unit in
                               ("mm", "cm", "m", "in"))),
    Pick("up", "Up is", tuple((axis, axis, f"The axis {axis} points up there") for axis in "zyx")),
    Figure("chord", "Chord height", "How far triangles and straight lines may lie off", 1e-4, 10,
           4),
    Pick("each", "Files", (("one", False, "All in one file"),
                           ("one for each", True, "Into a folder, named after the things"))),
)  # fmt: skip


def _hides(settings: DeliverSettings) -> list[str]:
    return [
        *(["of"] if settings.what == "chosen" else []),
        *(["chord"] if settings.format.exact else []),
        *(["unit"] if settings.format.unit else []),
    ]


class DeliverCard(Card):
    """What would be written is told before it is, with what is not as it should be."""

    def __init__(self, session: Session, done: Callable[[], None], documents: Documents) -> None:
        super().__init__(session, "Hand over")
        self._done, self._documents = done, documents
        self.settings = DeliverSettings(chord=session.job.tolerance.deviation / 5)
        self._shown: tuple[object, ...] = ()
        self.about.setText("Files for others, with names and colours where the format holds them.")
        self.fields = Fields(FIELDS, _hides)
        self.fields.changed.connect(self._set)
        self.column.addWidget(self.fields)
        self._doubts = QVBoxLayout()
        self._doubts.setSpacing(2)
        self.column.addLayout(self._doubts)
        self.rows: list[QWidget] = []
        self.add_say()
        self.write = button("Write ...", "Choose where it goes (Enter)", "main",
                            clicked=self.accept)  # fmt: skip
        self.pin_buttons(
            button("Close", "Put it away (Esc)", clicked=self.cancel), self.write, says=True
        )
        self.column.addStretch(1)

    def offer(self, suffix: str = "") -> None:
        """Begin with what is chosen, or with all that is visible."""
        chosen = replace(self.settings, what="chosen")
        self.settings = replace(
            chosen,
            what="chosen" if self._documents.handed_over(chosen) else "visible",
            suffix=suffix or self.settings.suffix,
            chord=self.session.job.tolerance.deviation / 5,
        )
        self._shown = ()
        self.fields.show_settings(self.settings)
        self.refresh()

    def _set(self) -> None:
        self.settings = self.read_fields(self.fields, self.settings)
        self.fields.show_settings(self.settings)
        self.refresh()

    def refresh(self) -> None:
        job, settings = self.session.job, self.settings
        items = delivered(job, self.session.choice.every, settings)
        shown = (settings, job.tolerance, *map(id, items))
        if shown == self._shown or not self.isVisible():
            return
        self._shown = shown
        pieces = pieces_in(items)
        own, left = held_by(settings.format, pieces)
        self.write.setEnabled(bool(own))
        if own:
            self.say(_told(_words(own), left), "")
        else:
            self.say("", sentence(left or _nothing(settings)))
        held = [item for item, piece in zip(items, pieces, strict=True) if piece in own]
        self._show_doubts([])
        words = _words(own)

        def looked(*_: object) -> tuple[int, list[Doubt]]:
            count = 0
            if settings.suffix in OUT:
                count = sum(len(triangles_of(each, settings.chord).triangles) for each in own)
            return count, doubts(job, held)

        def came(told: tuple[int, list[Doubt]]) -> None:
            if self._shown == shown and self.isVisible():
                count, found = told
                if count:
                    triangles = f"{thousands(count)} triangles"
                    what = f"{counted([type(piece.geometry) for piece in own])}: {triangles}"
                else:
                    what = words
                first = "one thing" if len(found) == 1 else f"{len(found)} things"
                if own:
                    self.say(_told(what, left, f"{first} to know first" if found else ""), "")
                self._show_doubts(found)

        self.session.work.start(OWNER, "look", "", looked, came, failed=self.say_failed, asked=True)

    def _show_doubts(self, found: list[Doubt]) -> None:
        for row in self.rows:
            row.deleteLater()
        self.rows = []
        job = self.session.job
        if found:
            self._add(label("To know first. A click chooses.", role="small"))
        for doubt in found[:MOST]:
            name = job.items[doubt.item].name
            row = button(
                "", f"{name} {doubt.words}", "row", clicked=partial(self._choose, doubt.item)
            )
            cut, metrics = Qt.TextElideMode.ElideRight, row.fontMetrics()
            row.setText("\n".join(metrics.elidedText(x, cut, WIDE) for x in (name, doubt.words)))
            self._add(row)
        if len(found) > MOST:
            self._add(label(f"and {len(found) - MOST} more", role="small"))

    def _add(self, row: QWidget) -> None:
        self.rows.append(row)
        self._doubts.addWidget(row)

    def _choose(self, item: ItemId) -> None:
        """Choose a thing to look at; what is handed over stays."""
        if self.settings.what in ("chosen", "group"):
            return
        self.session.choice.choose(item)

    def accept(self) -> None:
        """Ask where it goes, and write it."""
        if self.write.isEnabled():
            self._documents.deliver(self.settings)

    def cancel(self) -> None:
        self.session.work.drop(OWNER)
        self._shown = ()
        self._done()


def _told(*words: str) -> str:
    return " ".join(sentence(each) for each in words if each)


def _nothing(settings: DeliverSettings) -> str:
    return {
        "chosen": "Choose something to hand over.",
        "group": "Choose something that stands in a group on the Shelf.",
    }.get(settings.what, "There is nothing to hand over.")


def _words(pieces: list[Piece]) -> str:
    """Return what would be written: how many things, and how many control points they take."""
    words = counted([type(piece.geometry) for piece in pieces])
    splines = (BSplineSurface, BSplineCurve)
    total = sum(
        len(piece.geometry.points.reshape(-1, 3))
        for piece in pieces
        if isinstance(piece.geometry, splines)
    )
    return f"{words}, {total} control points" if total else words
