"""The card of spots: connected places of the scan out of tolerance, the largest first."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QLineEdit, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card, Figures
from usual_clay.bench.session import Session
from usual_clay.bench.sight import Sign
from usual_clay.bench.stage.overlay import signed_text
from usual_clay.bench.widgets import Row, button, combo, fill, label
from usual_clay.core.check.deviation import percent
from usual_clay.core.check.spots import OutSpot
from usual_clay.core.progress import Progress
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files.job_file import SUFFIX
from usual_clay.files.versions import read_version
from usual_clay.job.checking import (
    AgainstScan,
    accepting,
    against_scan,
    checked_items,
)
from usual_clay.job.items import Accepted, Scan, Surface

OWNER = "spots"
MOST = 20


class SpotsCard(Card):
    """All that is visible against one scan."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Against the scan")
        self._done = done
        self._shown: tuple[object, ...] = ()
        self.found: AgainstScan | None = None
        self.about.setText("All visible surfaces and bodies, by area.")
        self.scan = combo("The scan that judges them")
        self.scan.currentIndexChanged.connect(lambda _index: self.refresh())
        self.column.addWidget(Row("Judged by", self.scan, stretch=0))
        self.other = button("Another version ...", "Judge by what another job made, as if scanned",
                            clicked=self._ask_version)  # fmt: skip
        self.saved = button("As it was saved", "Judge by what this job made when it was saved",
                            clicked=lambda: self.judge_by(self.session.path))  # fmt: skip
        self.add_buttons(self.other, self.saved)
        # Other versions as if scanned, by the files that they came from.
        self._versions: dict[str, TriangleMesh] = {}
        self.figures = Figures()
        self.column.addWidget(self.figures)
        self.more = label(role="soft", wraps=True)
        self.column.addWidget(self.more)
        self.add_say()
        self._chosen: OutSpot | None = None
        self.note = QLineEdit()
        self.note.setPlaceholderText("A note: a dent in the original")
        self.note.setAccessibleName("Note of the accepted spot")
        self.note.returnPressed.connect(self.accept)
        self._note_row = Row("Note", self.note, stretch=0)
        self.column.addWidget(self._note_row)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(1)
        self.column.addLayout(self._rows)
        self.rows: list[QWidget] = []
        self.take = button(
            "Accept spot", "It counts apart from now on, with its note (Enter)", clicked=self.accept
        )
        self.pin_buttons(button("Close", "Put it away (Esc)", clicked=self.cancel), self.take)
        self.column.addStretch(1)

    def offer(self) -> None:
        """Judge what is visible."""
        self._shown = ()
        self._versions = {}
        fill(self.scan, list(self.session.job.all(Scan)), "")
        self.refresh()

    def _ask_version(self) -> None:
        told, _ = QFileDialog.getOpenFileName(self, "Another version", "", f"Jobs (*{SUFFIX})")
        if told:
            self.judge_by(Path(told))

    def judge_by(self, path: Path | None) -> None:
        """Judge by what a job file made."""
        if path is None:
            return

        def came(mesh: TriangleMesh) -> None:
            self._versions[str(path)] = mesh
            if self.scan.findData(str(path)) < 0:
                self.scan.addItem(f"Version: {path.stem}", str(path))
            self._shown = ()
            self.scan.setCurrentIndex(self.scan.findData(str(path)))
            self.refresh()

        self.say("Reading ...", "")
        self.session.work.start(
            OWNER, "version", f"Reading {path.name}",
            lambda *_: read_version(path), came, failed=self.say_failed,
            asked=True,
        )  # fmt: skip

    def _judge(self) -> TriangleMesh | None:
        """Return what is chosen to judge by."""
        told = str(self.scan.currentData() or "")
        scan = self.session.job.get(told, Scan)
        return self._versions.get(told) if scan is None else scan.mesh

    def refresh(self) -> None:
        session = self.session
        items = checked_items(session.shown)
        mesh = self._judge()
        self.saved.setEnabled(session.path is not None and not session.is_saved)
        shapes = [item.geometry if isinstance(item, Surface) else item.shape for item in items]
        tolerance = session.job.tolerance
        accepted = list(session.job.all(Accepted))
        shown = (id(mesh), tolerance, *map(id, shapes), *map(id, accepted))
        if shown == self._shown or not self.isVisible():
            return
        self._shown = shown
        if mesh is None or not items:
            self.found = None
            self._show()
            return

        def task(progress: Progress, _partial: object) -> AgainstScan:
            progress(0.1, "Measuring")
            return against_scan(items, mesh, tolerance, accepted)

        def came(found: AgainstScan) -> None:
            if self._shown is shown:
                self.found = found
                self._show()

        self.say("Measuring ...", "")
        session.work.start(
            OWNER, "measure", "Measuring all", task, came, failed=self.say_failed, asked=True
        )

    def _show(self) -> None:
        found = self.found
        for row in self.rows:
            row.deleteLater()
        self.rows = []
        self._choose(None)
        self.figures.setVisible(found is not None)
        self.more.setVisible(found is not None)
        if found is None:
            self.say("", "It takes a scan, and a surface or a body that is shown.")
            return
        tolerance, report = self.session.job.tolerance, found.report
        share = percent(tolerance.share)
        self.figures.near.show_figure(f"{report.at_share:.3f} mm", f"{share} are nearer")
        within = f"within {tolerance.deviation:g} mm"
        self.figures.far.show_figure(percent(report.within_share), within)
        self.figures.far.show()
        self.more.setText(
            f"rms {report.rms:.3f} mm, farthest {report.max:.3f} mm. Of what judges it"
            f" {found.unmade / 100:.2f} cm² are not made; of what is made"
            f" {found.unmeasured / 100:.2f} cm² were never measured."
        )
        many = f"{len(found.spots)} spots" if len(found.spots) != 1 else "1 spot"
        self.say(f"{many} out of tolerance. A click flies there.", "")
        for spot in found.spots[:MOST]:
            self._add(self._row(spot))
        if len(found.spots) > MOST:
            self._add(label(f"and {len(found.spots) - MOST} smaller ones", role="small"))
        for note, spot in found.accepted:
            words = f"Accepted: {note}, {spot.area:.1f} mm²  {signed_text(spot.greatest)} mm"
            self._add(button(words, words, role="row", clicked=partial(self._fly, spot, False)))

    def _row(self, spot: OutSpot) -> QWidget:
        side = "inside" if spot.mean > 0 else "outside"
        greatest, mean = signed_text(spot.greatest), signed_text(spot.mean)
        words = f"{spot.area:.1f} mm²  {greatest} mm  mean {mean}, {side} it"
        return button(words, words, role="row", clicked=partial(self._fly, spot))

    def _add(self, row: QWidget) -> None:
        self.rows.append(row)
        self._rows.addWidget(row)

    def _choose(self, spot: OutSpot | None) -> None:
        """Offer to accept a spot."""
        self._chosen = spot
        self._note_row.setVisible(spot is not None)
        self.take.setEnabled(spot is not None)

    def accept(self) -> None:
        """Accept the spot that is looked at, if one is."""
        mesh = self._judge()
        if self._chosen is None or mesh is None:
            return
        job = accepting(self.session.job, mesh, self._chosen, self.note.text())
        self.note.clear()
        self.session.sight.show_signs([])
        self.session.commit(job, "accept a spot")

    def _fly(self, spot: OutSpot, may_accept: bool = True) -> None:
        self._choose(spot if may_accept else None)
        words = f"{signed_text(spot.greatest)} mm"
        self.session.sight.show_signs([Sign(words, spot.at[None], ring=True)])
        self.session.sight.wanted.emit(spot.at)

    def cancel(self) -> None:
        self.session.work.drop(OWNER)
        self.session.sight.show_signs([])
        self._shown = ()
        self._done()
