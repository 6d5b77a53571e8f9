"""*First surface*: six steps on the demo scan, each checked by what was done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from usual_clay.bench.command import Commands
from usual_clay.bench.documents import Documents
from usual_clay.bench.edits.scans import add_scan
from usual_clay.bench.session import Session
from usual_clay.bench.stage.stage import Stage
from usual_clay.bench.widgets import button, label
from usual_clay.core.arrays import Floats
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.job.items import Region, Surface

# So often it is looked whether a step was done, ms.
LOOK = 250
# A view is turned whose sight makes a smaller cosine with the one before.
TURNED = 0.9999


@dataclass(frozen=True)
class Step:
    """What is to be done, in words with the keys of commands in braces, and whether it was."""

    words: str
    done: Callable[[FirstSurface], bool]


class FirstSurface(QWidget):
    """A line under the top bar that leads from a scan to a surface that is handed over.

    Signals
    -------
    begun : the demo scan is there; the way starts at the Surface station
    """

    begun = Signal()

    def __init__(
        self, session: Session, stage: Stage, documents: Documents, commands: Commands
    ) -> None:
        super().__init__()
        self.session, self.stage, self.documents = session, stage, documents
        self._commands = commands
        self.step = 0
        # What a step is compared with: how things were when it began.
        self.sight: Floats = np.zeros(3)
        self.counts: tuple[int, int] | None = None
        self.handed: object = None
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 14, 6)
        row.setSpacing(12)
        self.count = label(role="title")
        self.words = label(wraps=True)
        self.words.setTextFormat(Qt.TextFormat.RichText)
        self.leave_button = button("Leave", "Put the steps away; the job stays", role="quiet",
                                   clicked=self.leave)  # fmt: skip
        row.addWidget(self.count)
        row.addWidget(self.words, 1)
        row.addWidget(self.leave_button)
        self._clock = QTimer(self, interval=LOOK)
        self._clock.timeout.connect(self.look)
        self.hide()

    @property
    def surface(self) -> Surface | None:
        """The newest surface."""
        return next(reversed(list(self.session.job.all(Surface))), None)

    def begin(self) -> None:
        """Make a job of the demo scan, and show the first step."""
        if not self.documents.may_leave():
            return
        self.session.new()

        def came(mesh: TriangleMesh) -> None:
            add_scan(self.session, mesh, "brackwater-lure.ply", "mm")
            self.stage.fit()
            self.begun.emit()
            self._start(0)
            self._clock.start()

        self.session.work.start(
            "", "first surface", "Making the demo scan", lambda *_: _demo_scan(), came,
            failed=lambda error: self.session.told.emit("trouble", str(error)),
        )  # fmt: skip

    def _start(self, step: int) -> None:
        self.step = step
        self.sight = self.stage.large.view.camera.sight
        surface = self.surface
        self.counts = None if surface is None else surface.geometry.counts
        self.handed = self.documents.last
        if step == len(STEPS):
            self.count.setText("Done")
            self.words.setText(
                "That was the whole way. Bring in a scan of your own; <b>Ctrl+Space</b> finds any"
                " action, the guide tells the rest."
            )
            self._clock.stop()
        else:
            self.count.setText(f"First surface, {step + 1} of {len(STEPS)}")
            self.words.setText(self._with_keys(STEPS[step].words))
        self.show()

    def _with_keys(self, words: str) -> str:
        for name in ("spread", "cast", "to tolerance", "deliver"):
            words = words.replace("{" + name + "}", f"<b>{self._commands.key(name) or name}</b>")
        return words

    def look(self) -> None:
        """Go on where what the step asks for was done."""
        if self.session.hand.dragging is None and STEPS[self.step].done(self):
            self._start(self.step + 1)

    def leave(self) -> None:
        """Put the steps away; nothing of the job is changed."""
        self._clock.stop()
        self.hide()


def _demo_scan() -> TriangleMesh:
    # Slow to import, and seldom needed.
    from usual_clay.demo.make import demo_scan_file
    from usual_clay.files.mesh_file import read_mesh

    path: Path = demo_scan_file()
    return read_mesh(path)


def _met(way: FirstSurface) -> bool:
    surface = way.surface
    report = None if surface is None else way.session.job.report(surface)
    return bool(surface and len(surface.candidates) > 1 and report and report.met)


def _other_counts(way: FirstSurface) -> bool:
    surface = way.surface
    return surface is not None and surface.geometry.counts != way.counts


STEPS = (
    Step(
        "Look at the scan of the lure: drag with the <b>middle button</b>, or hold <b>Alt</b> and"
        " drag with the left one, to turn it; the <b>wheel</b> zooms.",
        lambda way: bool(way.sight @ way.stage.large.view.camera.sight < TURNED),
    ),
    Step(
        "Choose what the surface is to follow: press {spread}, Spread, and click on the lure's"
        " back. The region grows until it meets a crease; drag <b>Spread</b> on its card to let"
        " it grow less or more.",
        lambda way: any(way.session.job.all(Region)),
    ),
    Step(
        "Lay a surface over the region: press {cast}, Cast. Its colours say where it is off: teal"
        " inside the scan, plum outside.",
        lambda way: way.surface is not None,
    ),
    Step(
        "How near is near enough stands at the top right. Press {to tolerance}, To tolerance: it"
        " finds the fewest control points that bring so much of the area within.",
        _met,
    ),
    Step(
        "Below, Balance shows each surface that was tried: control points to the right, deviation"
        " upwards. Click another dot, and compare.",
        _other_counts,
    ),
    Step(
        "Hand it over: press {deliver}, choose STEP, and <b>Write</b> it to a file.",
        lambda way: way.documents.last is not way.handed,
    ),
)
