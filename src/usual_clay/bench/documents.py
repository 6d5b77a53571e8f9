"""Documents: jobs opened and saved, files brought in and handed over."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from usual_clay.bench.paper import SUFFIXES as PAPERS
from usual_clay.bench.paper import print_sheet, write_report_file
from usual_clay.bench.session import Session
from usual_clay.core.check.lines_plan import LinesPlan, sheet_of
from usual_clay.files import job_file, mesh_file, picture_file, points_file, take_in
from usual_clay.files.atomic import ReadOnlyError
from usual_clay.files.deliver import (
    DeliverSettings,
    Written,
    deliver,
    delivered,
    files_of,
    held_by,
    pieces_in,
)
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import read_or_sound
from usual_clay.files.point_stream import ReplayStream
from usual_clay.files.sheet_file import SUFFIXES as SHEETS
from usual_clay.files.sheet_file import write_sheet
from usual_clay.files.step_out import Piece
from usual_clay.job.items import Scan, Surface
from usual_clay.job.job import Job

KNOWN = (*mesh_file.SUFFIXES, *points_file.SUFFIXES, *picture_file.SUFFIXES, *take_in.SUFFIXES)


class Documents(QObject):
    """What the window opens, saves and hands over.

    Signals
    -------
    opened : a job was opened
    offered : files that are to be brought in, once the user has said what they do not
    replayed : a stream of recorded points
    """

    opened = Signal()
    offered = Signal(list)
    replayed = Signal(object)

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__(window)
        self.session, self.window = session, window
        self._told_of: Path | None = None
        # What was handed over last, and where it went.
        self.last: tuple[DeliverSettings, Path] | None = None

    def new(self) -> None:
        if self.may_leave():
            self.session.new()

    def open(self) -> None:
        told, _ = QFileDialog.getOpenFileName(
            self.window, "Open a job", "", "Usual Clay jobs (*.uclay)"
        )
        if told:
            self.open_file(Path(told))

    def open_demo(self) -> None:
        """Open the demo job, made on first use."""
        from usual_clay.demo.make import demo_job_file

        self.session.work.start(
            "",
            "demo job",
            "Making the demo job",
            lambda *_: demo_job_file(),
            self.open_file,
            failed=lambda error: self.session.told.emit("trouble", str(error)),
        )

    def bring_in(self, what: str, suffixes: tuple[str, ...]) -> None:
        """Ask for a file of a scan or of points."""
        endings = " ".join(f"*{suffix}" for suffix in suffixes)
        told, _ = QFileDialog.getOpenFileNames(
            self.window, f"Bring in {what}", "", f"Files ({endings})"
        )
        if told:
            self.open_files([Path(each) for each in told])

    def open_file(self, path: Path) -> None:
        """Open a job, or offer a scan to be brought in, by the file's ending."""
        if path.suffix.lower() == job_file.SUFFIX:
            if self.may_leave():
                self._open_job(path)
        elif path.suffix.lower() in KNOWN:
            self.session.hand.take(None)
            self.offered.emit([path])
        else:
            self.session.told.emit("trouble", f"{path.name}: no way to open this kind of file")

    def _open_job(self, path: Path) -> None:
        """Read a job beside the window, and go on with it; what is open stays until then."""
        session, before = self.session, self.session.job

        def read(*_: object) -> tuple[Job, list[str]]:
            job, missing = read_or_sound(path)
            for scan in job.all(Scan):
                # What any picture and any report of it needs.
                _ = scan.mesh.vertex_normals, scan.mesh.vertex_areas
            return job, missing

        def done(found: tuple[Job, list[str]]) -> None:
            # It may have been worked on meanwhile.
            if session.job is not before and not self.may_leave():
                return
            session.show_opened(path, *found)
            # The newest surface is what the user was at.
            surfaces = list(session.job.all(Surface))
            session.choice.choose(surfaces[-1].id if surfaces else None)
            self.opened.emit()

        words = f"Opening {path.name}"
        session.work.start("", "open", words, read, done, failed=self._tell_failed, asked=True)

    def _tell_failed(self, error: Exception) -> None:
        words = str(error) if isinstance(error, FileError) else repr(error)
        self.session.told.emit("trouble", words)

    def open_files(self, paths: list[Path]) -> None:
        """Open the first of several files; pictures are taken all together."""
        if len(paths) > 1 and all(p.suffix.lower() in picture_file.SUFFIXES for p in paths):
            self.offered.emit(sorted(paths))
        else:
            self.open_file(paths[0])
            if len(paths) > 1:
                self.session.told.emit("news", f"One at a time: {paths[0].name} is first.")

    def save(self) -> bool:
        path = self.session.path
        if path is None or self._is_demo():
            return self.save_as()
        if self.session.is_changed_outside:
            answer = self._ask(
                "Save over it?",
                f"{path.name} was changed by another program since it was opened here.",
                ("Save over it", "Save as ...", "Cancel"),
            )
            if answer != "Save over it":
                return answer == "Save as ..." and self.save_as()
        return self.save_to(path)

    def save_to(self, path: Path) -> bool:
        """Save; a file that is read-only is replaced only if the user says so."""
        try:
            return self.session.save(path)
        except ReadOnlyError:
            words = f"{path.name} is read-only."
            answer = self._ask("Replace it?", words, ("Replace it", "Save as ...", "Cancel"))
            if answer == "Replace it":
                return self.session.save(path, replace_read_only=True)
            return answer == "Save as ..." and self.save_as()

    def look_outside(self) -> None:
        """Tell once that the job's file was changed by another program."""
        path = self.session.path
        if path is None or not self.session.is_changed_outside:
            self._told_of = None
        elif self._told_of != path:
            self._told_of = path
            words = f"{path.name} was changed by another program: saving asks first."
            self.session.told.emit("trouble", words)

    def _ask(self, title: str, words: str, answers: tuple[str, ...]) -> str:
        """Ask the user; the last answer is the one that changes nothing."""
        box = QMessageBox(self.window)
        box.setWindowTitle(title)
        box.setText(words)
        roles = QMessageBox.ButtonRole
        made = {
            box.addButton(each, roles.RejectRole if each == answers[-1] else roles.AcceptRole): each
            for each in answers
        }
        box.exec()
        return made.get(box.clickedButton(), answers[-1])  # type: ignore[call-overload]

    def _may_replace(self, path: Path, told: str) -> bool:
        """Ask before a file is replaced that the user did not name himself."""
        if not path.exists() or str(path) == told:
            return True
        words = f"{path.name} is there already."
        return self._ask("Replace it?", words, ("Replace it", "Cancel")) == "Replace it"

    def _is_demo(self) -> bool:
        """Tell whether the demo's own file is open: it is not written over."""
        from usual_clay.demo.make import demo_folder

        return self.session.path is not None and self.session.path.parent == demo_folder()

    def save_as(self) -> bool:
        suffix = job_file.SUFFIX
        path = self._asked_for("Save the job", suffix, (suffix,), f"Usual Clay (*{suffix})")
        return path is not None and self.save_to(path)

    def _asked_for(
        self, title: str, suffix: str, known: Sequence[str], offered: str = ""
    ) -> Path | None:
        """Ask where a file goes that is named after the job; a name without an ending gets one."""
        shown = offered or " ".join(f"*{each}" for each in known)
        start = f"{self.session.job.name}{suffix}"
        told, _ = QFileDialog.getSaveFileName(self.window, title, start, shown)
        if not told:
            return None
        path = Path(told)
        if path.suffix.lower() not in known:
            # A name may have points of its own.
            path = path.with_name(path.name + suffix)
        return path if self._may_replace(path, told) else None

    def handed_over(self, settings: DeliverSettings) -> list[Piece]:
        """Return what of the job is handed over."""
        return pieces_in(delivered(self.session.job, self.session.choice.every, settings))

    def deliver(self, settings: DeliverSettings) -> None:
        """Ask where things go, and write them there; nothing is replaced unasked."""
        if not settings.each:
            path = self._asked_for("Hand over", settings.suffix, (settings.suffix,))
        else:
            told = QFileDialog.getExistingDirectory(self.window, "Hand over into a folder")
            path = Path(told) if told else None
            if path is not None and not self._may_fill(path, settings):
                return
        if path is not None:
            self.deliver_to(path, settings)

    def _may_fill(self, folder: Path, settings: DeliverSettings) -> bool:
        """Ask before files in a folder are replaced."""
        own, _ = held_by(settings.format, self.handed_over(settings))
        there = [file.name for file in files_of(own, settings, folder) if file.exists()]
        if not there:
            return True
        words = f"{len(there)} of these files are there already, {there[0]} first."
        return self._ask("Replace them?", words, ("Replace them", "Cancel")) == "Replace them"

    def deliver_again(self) -> None:
        """Write the same things to the same place, as they are now."""
        if self.last is not None:
            self.deliver_to(self.last[1], self.last[0])

    def deliver_to(self, path: Path, settings: DeliverSettings) -> None:
        """Write things to a file, or into a folder."""
        pieces, name = self.handed_over(settings), self.session.job.name

        def done(written: Written) -> None:
            self.last = settings, path
            words = " ".join(filter(None, [written.words, written.lost]))
            self.session.told.emit("trouble" if written.lost else "news", words)

        self.session.work.start(
            "",
            "deliver",
            f"Writing {path.name}",
            lambda *_: deliver(pieces, settings, path, name),
            done,
            failed=self._tell_failed,
        )

    def sheet(self, plan: LinesPlan) -> None:
        """Write a lines plan as a flat sheet: SVG, DXF or PDF."""
        path = self._asked_for("Write the lines plan", ".pdf", (".pdf", *SHEETS))
        if path is not None:
            self.sheet_to(path, plan)

    def sheet_to(self, path: Path, plan: LinesPlan) -> None:
        sheet, title = sheet_of(plan), self.session.job.name
        try:
            # A page is painted by the toolkit, which has one thread for that.
            write = print_sheet if path.suffix.lower() == ".pdf" else write_sheet
            write(path, sheet, title)
        except (FileError, OSError) as error:
            self.session.told.emit("trouble", str(error))
            return
        width, height = sheet.size
        self.session.told.emit("news", f"Wrote {path.name}, {width:.0f} × {height:.0f} mm, 1:1.")

    def report(self, pictures: list[tuple[str, bytes]]) -> None:
        """Write a paper of the job: PDF, HTML or JSON."""
        path = self._asked_for("Write a report", ".pdf", PAPERS)
        if path is not None:
            self.report_to(path, pictures)

    def report_to(self, path: Path, pictures: list[tuple[str, bytes]]) -> None:
        job = self.session.job
        tell = self.session.told.emit
        self.session.work.start(
            "",
            "report",
            f"Writing {path.name}",
            lambda progress, _partial: write_report_file(path, job, "A4", progress, pictures),
            lambda _told: tell("news", f"Wrote {path.name}."),
            failed=lambda error: tell("trouble", str(error)),
            asked=True,
        )

    def may_leave(self) -> bool:
        """Ask what to do with changes that are not saved."""
        if self.session.is_saved or not self.session.job.items:
            return True
        kind = QMessageBox.StandardButton
        words = f"“{self.session.job.name}” has changes that are not saved."
        answer = QMessageBox.question(
            self.window,
            "Save the job?",
            words,
            kind.Save | kind.Discard | kind.Cancel,
            kind.Save,
        )
        return self.save() if answer == kind.Save else answer == kind.Discard

    def replay(self) -> None:
        """Ask for a file of recorded points and replay it as a probe."""
        told, _ = QFileDialog.getOpenFileName(
            self.window, "Replay recorded points", "", "Files (*)"
        )
        if told:
            self.replay_file(Path(told))

    def replay_file(self, path: Path) -> None:
        """Be ready to replay a file of recorded points."""
        try:
            stream = ReplayStream(path)
        except FileError as error:
            self.session.told.emit("trouble", str(error))
            return
        self.replayed.emit(stream)
