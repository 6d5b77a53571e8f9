"""The first card, and the one shown while nothing is chosen."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.command import Commands
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button, label
from usual_clay.core.check.deviation import percent
from usual_clay.core.numbers import thousands
from usual_clay.files.errors import FileError
from usual_clay.files.journal import Left, drop, left_behind, recovered
from usual_clay.job.items import Body, Region, Scan, Surface

# So many are offered.
MOST_LEFT = 4
# How wide their pictures are, pixels.
WIDE = 72


class StartCard(Card):
    """Ways to begin, for an empty job.

    Signals
    -------
    compared : a saved job is open that is to be judged by what a file made
    """

    compared = Signal(object)

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session, "Begin")
        self.about.setText(
            "Bring in a scan, choose a region of it, cast a surface over the region, and balance"
            " its control points against its deviation."
        )
        for name, words, picture, role in (
            ("bring in scan", "Bring in a scan ...", "cube", "main"),
            ("open", "Open a job ...", "folder-open", ""),
            ("open demo", "Open the demo job", "fish-simple", ""),
            ("first surface", "First surface: six steps", "flag", ""),
        ):
            made = button(words, words, role, picture)
            made.clicked.connect(lambda _=False, name=name: commands.run(name))
            self.column.addWidget(made)
        self._add_left()
        self.column.addStretch(1)

    def _add_left(self) -> None:
        """Offer what windows that ended by themselves have left."""
        found = left_behind()[:MOST_LEFT]
        if found:
            self.column.addSpacing(8)
            self.column.addWidget(label("Not saved when the program ended", role="group"))
        for left in found:
            words = label(f"{left.name}, {left.when}, {left.items} items", wraps=True)
            shown = label()
            shown.setVisible(left.picture is not None)
            if left.picture is not None:
                picture = QPixmap(str(left.picture))
                smooth = Qt.TransformationMode.SmoothTransformation
                shown.setPixmap(picture.scaledToWidth(WIDE, smooth))
            saved = f"Its file is {left.path}" if left.path else "It was never saved"
            words.setToolTip(saved)
            take = button("Open", f"Open it as it was left. {saved}")
            compare = button("Compare", "Open the saved file, and judge it by what was left",
                             role="quiet", clicked=partial(self._compare, left))  # fmt: skip
            compare.setVisible(bool(left.path) and Path(left.path).exists())
            gone = button("Drop", "Let go of it for good", role="quiet")
            row = QWidget()
            lines = QVBoxLayout(row)
            lines.setContentsMargins(0, 0, 0, 4)
            for parts in ((shown, words), (take, compare, gone)):
                one = QHBoxLayout()
                for part in parts:
                    one.addWidget(part, part is words)
                one.addStretch(parts[0] is take)
                lines.addLayout(one)
            take.clicked.connect(lambda _=False, left=left, row=row: self._recover(left, row))
            gone.clicked.connect(lambda _=False, left=left, row=row: self._drop(left, row))
            self.column.addWidget(row)

    def _recover(self, left: Left, row: QWidget) -> None:
        try:
            opened = self.session.recover(recovered(left), left.path)
        except FileError as error:
            self.session.told.emit("trouble", str(error))
            return
        if opened:
            row.hide()
            drop(left)

    def _compare(self, left: Left) -> None:
        """Open the saved file, and show where what was left differs from it."""
        if self.session.open(Path(left.path)):
            self.compared.emit(recovered(left))

    def _drop(self, left: Left, row: QWidget) -> None:
        row.hide()
        drop(left)


class JobCard(Card):
    """What the whole job comes to, and what to do next."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self.add_buttons(
            button(
                "Spread a region",
                "Grow a region of the scan from a click",
                clicked=lambda: commands.run("spread"),
            ),
            button(
                "Hand over ...",
                "Files for others: STEP, IGES, STL and more (Ctrl+E)",
                clicked=lambda: commands.run("deliver"),
            ),
        )
        self.column.addStretch(1)

    def refresh(self) -> None:
        job = self.session.shown
        self.title.setText(job.name)
        scans, regions, surfaces = (len(list(job.all(kind))) for kind in (Scan, Region, Surface))
        total = sum(surface.control_points for surface in job.all(Surface))
        reports = [job.report(surface) for surface in job.all(Surface)]
        judged = [report for report in reports if report is not None]
        met = sum(report.met for report in judged)
        bodies = len(list(job.all(Body)))
        words = (
            f"{_count(scans, 'scan')}, {_count(regions, 'region')}, {_count(surfaces, 'surface')}"
            f"{f', {bodies} bodies' if bodies > 1 else ', 1 body' if bodies else ''}."
        )
        if surfaces:
            words += (
                f" {thousands(total)} control points in all; {met} of {len(judged)} that are judged"
                f" lie within {job.tolerance.deviation:.3f} mm at {percent(job.tolerance.share)}."
            )
        self.about.setText(f"{words} Choose an item on the stage or in the Shelf to work on it.")


def _count(count: int, word: str) -> str:
    return f"{count} {word}" + ("" if count == 1 else "s")
