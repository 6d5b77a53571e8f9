"""Curves, surfaces and bodies from a file: what it holds, and for a drawing where it lies."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from usual_clay.bench.cards.card import Card
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label
from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.kernel import Spline
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.take_in import read_pieces
from usual_clay.job.edits.curves import new_curve
from usual_clay.job.items import Body, Surface
from usual_clay.job.job import Job

PLANES = (
    ("side", "On the plane y = 0"),
    ("top", "On the plane z = 0"),
    ("front", "On the plane x = 0"),
)

Named = list[tuple[str, Spline | BodyShape]]


def _places(part: Spline | BodyShape) -> Floats:
    points: Floats = part.box if isinstance(part, BodyShape) else part.points.reshape(-1, 3)
    return points


class CurvesInCard(Card):
    """What would be brought in is shown at once."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Bring in curves")
        self._done = done
        self._path: Path | None = None
        self._view = "side"
        self._found: Named = []
        self.plane = Choice(PLANES)
        self.plane.chosen.connect(self._set_plane)
        self.plane_row = Row("Lies on", self.plane)
        self.made = label(role="news", wraps=True)
        self.column.addWidget(self.plane_row)
        self.column.addWidget(self.made)
        self.keep = button("Bring in", "Add them to the job (Enter)", "main", clicked=self.accept)
        self.pin_buttons(button("Cancel", "Leave it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)

    def offer(self, path: Path) -> None:
        """Read a file in the background and show what it holds."""
        self._path, self._found = path, []
        self.plane_row.setVisible(path.suffix.lower() == ".svg")
        self.plane.set_value(self._view)
        self.about.setText(f"{path.name} says its own unit; lengths are turned into mm.")
        self._read()

    def _set_plane(self, view: str) -> None:
        self._view = view
        self.plane.set_value(view)
        self._read()

    def _read(self) -> None:
        path, view = self._path, self._view
        if path is None:
            return
        self.keep.setEnabled(False)
        self.made.setText("Reading ...")

        def failed(error: Exception) -> None:
            self.cancel()
            self.session.told.emit("trouble", str(error))

        self.session.work.start(
            "bring in",
            "read",
            f"Reading {path.name}",
            lambda *_: read_pieces(path, view),
            self._came,
            failed=failed,
            asked=True,
        )

    def _came(self, found: Named) -> None:
        self._found = found
        points = np.concatenate([_places(part) for _, part in found])
        sides = " × ".join(f"{side:.4g}" for side in np.ptp(points, axis=0))
        many = []
        for kind, one, more in (
            (BSplineCurve, "curve", "curves"),
            (BSplineSurface, "surface", "surfaces"),
            (BodyShape, "body", "bodies"),
        ):
            count = sum(isinstance(part, kind) for _, part in found)
            if count:
                many.append(f"{count} {one if count == 1 else more}")
        self.made.setText(f"{', '.join(many)}; {sides} mm in all.")
        self.keep.setEnabled(True)
        self.session.propose(self._with(self.session.job)[0])

    def _with(self, job: Job) -> tuple[Job, str]:
        last = ""
        for name, part in self._found:
            if isinstance(part, BSplineCurve):
                item: object = new_curve(job, part, name, None)
            elif isinstance(part, BodyShape):
                item = Body(id=job.new_id("body"), name=job.free_name(name), shape=part)
            else:
                item = Surface(id=job.new_id("surface"), name=job.free_name(name), geometry=part)
            job = job.with_item(item)  # type: ignore[arg-type]
            last = item.id  # type: ignore[attr-defined]
        return job, last

    def accept(self) -> None:
        if not self._found or self._path is None:
            return
        name = self._path.name
        job, last = self._with(self.session.job)
        self._path, self._found = None, []
        self._done()
        self.session.commit(job, f"bring in {name}")
        self.session.choice.choose(last)

    def cancel(self) -> None:
        self.session.work.drop("bring in")
        self._path, self._found = None, []
        self.session.propose(None)
        self._done()
