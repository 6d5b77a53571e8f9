"""Pinning pictures: on which plane, how far before it, and on a row where there are several."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.pictures import pin
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label, number
from usual_clay.core.picture.placement import TRUE_PLANES, Plane
from usual_clay.files.picture_file import PictureRead, read_picture
from usual_clay.job.edits.pictures import Row as PictureRow
from usual_clay.job.items import Shape

# The plane is guessed from these words in a file's name.
GUESSES = {"top": "top", "plan": "top", "front": "front", "rear": "rear", "back": "rear"}


class PinCard(Card):
    """Asks where pictures that were read are to be pinned."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Pin a picture")
        self._done = done
        self._read: list[tuple[str, PictureRead]] = []
        self._plane = "side"
        self.plane = Choice(
            [
                (name, f"Square-on to the true {name} view")
                for name in ("side", "top", "front", "rear")
            ]
        )
        self.plane.chosen.connect(self._set_plane)
        self.other = Choice(
            [
                ("other side", "Seen from the other side"),
                ("bottom", "Seen from below"),
                ("shape", "A plane recognised on the scan: choose it in the Shelf first"),
            ]
        )
        self.other.chosen.connect(self._set_plane)
        tip = "How far the picture lies before the plane through the origin, towards the viewer"
        self.offset = number(-1e4, 1e4, 2, " mm", tip, "Offset")
        self.step = number(
            0.01, 1e4, 2, " mm", "From each picture's plane to the next one's", "Step"
        )
        self.step.setValue(10)
        self.page = number(1, 999, 0, "", "Page of the PDF", "Page", 60)
        self.page.valueChanged.connect(lambda _value: self._load())
        self.made = label(role="news", wraps=True)
        self.keep = button("Pin", "Add it to the job (Enter)", "main", clicked=self.accept)
        self.step_row, self.page_row = Row("Step", self.step), Row("Page", self.page)
        self.column.addWidget(Row("Plane", self.plane))
        self.column.addWidget(Row("", self.other))
        self.column.addWidget(Row("Offset", self.offset))
        self.column.addWidget(self.step_row)
        self.column.addWidget(self.page_row)
        self.column.addWidget(self.made)
        self.pin_buttons(button("Cancel", "Leave it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)

    def offer(self, paths: list[Path]) -> None:
        """Read pictures in the background and ask where they go."""
        self._paths, self._read = paths, []
        names = ", ".join(path.name for path in paths)
        several = len(paths) > 1
        self.title.setText("Pin pictures on a row" if several else "Pin a picture")
        self.about.setText(names if len(names) < 90 else f"{len(paths)} pictures")
        self.step_row.setVisible(several)
        self.page_row.setVisible(any(path.suffix.lower() == ".pdf" for path in paths))
        words = paths[0].stem.lower()
        guess = next((plane for word, plane in GUESSES.items() if word in words), "side")
        self._set_plane(guess)
        self._load()

    def _load(self) -> None:
        paths, page = self._paths, int(self.page.value()) - 1
        self.keep.setEnabled(False)
        self.made.setText("Reading ...")
        self.session.work.start(
            "bring in",
            "read",
            "Reading pictures",
            lambda *_: [(path.name, read_picture(path, page)) for path in paths],
            self._came,
            failed=self._failed,
            asked=True,
        )

    def _came(self, read: list[tuple[str, PictureRead]]) -> None:
        self._read = read
        self.keep.setEnabled(True)
        first = read[0][1]
        size = f"{first.size[0]} × {first.size[1]} pixels"
        scale = (
            "The file does not say its scale: scale it by two marks once it is pinned."
            if first.mm_per_pixel is None
            else f"The file says that it is {first.size[0] * first.mm_per_pixel:.1f} mm wide."
        )
        shapes = {one.size for _, one in read}
        unlike = (
            "\nThe pictures differ in size; a pixel is as large in each." if len(shapes) > 1 else ""
        )
        self.made.setText(f"{size}. {scale}{unlike}")

    def _failed(self, error: Exception) -> None:
        self.cancel()
        self.session.told.emit("trouble", str(error))

    def _set_plane(self, name: str) -> None:
        self._plane = name
        for choice in (self.plane, self.other):
            choice.set_value(name)

    def accept(self) -> None:
        if not self._read:
            return
        plane = self._wanted()
        if plane is None:
            self.session.told.emit(
                "trouble", "Choose a plane in the Shelf first: Shape recognises one on a scan."
            )
            return
        read, self._read = self._read, []
        self._done()
        pin(self.session, read, PictureRow(plane, self.offset.value(), self.step.value()))

    def _wanted(self) -> Plane | None:
        if self._plane in TRUE_PLANES:
            return TRUE_PLANES[self._plane]
        shape = self.session.job.get(self.session.choice.item, Shape)
        if shape is None or shape.geometry.kind != "plane":
            return None
        return plane_of(shape)

    def cancel(self) -> None:
        self.session.work.drop("bring in")
        self._read = []
        self._done()


def plane_of(shape: Shape) -> Plane:
    """Return a recognised plane as one to pin on: across is level where it can be."""
    normal = shape.geometry.axis
    helper = np.array([0.0, 0, 1]) if abs(normal[2]) < 0.95 else np.array([0.0, 1, 0])
    across = np.cross(helper, normal)
    across /= np.linalg.norm(across)
    up = np.cross(normal, across)
    place = shape.geometry.point
    return Plane(
        shape.name,
        (float(across[0]), float(across[1]), float(across[2])),
        (float(up[0]), float(up[1]), float(up[2])),
        (float(place[0]), float(place[1]), float(place[2])),
    )
