"""Keeps a journal of the open job while it is not saved, and offers what was left behind."""

from __future__ import annotations

import threading
from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtGui import QImage

from usual_clay.bench.paper import png_of
from usual_clay.bench.session import Session
from usual_clay.bench.work import start_thread
from usual_clay.core.memory import give_back
from usual_clay.files.errors import FileError
from usual_clay.files.journal import Journal
from usual_clay.log import logger

# The journal is at most so far behind, ms; an edit that has come to rest is written sooner.
BEHIND, REST = 30_000, 1_500


# How wide the picture is that is kept with it, pixels.
WIDE, SMOOTH = 240, Qt.TransformationMode.SmoothTransformation
# A window that closes waits so long for what is being written, s.
LONGEST = 5.0


class Autosave(QObject):
    """Follows a session's edits."""

    _came = Signal(object, object)

    def __init__(self, session: Session, picture: Callable[[], QImage]) -> None:
        super().__init__()
        self._session, self._picture = session, picture
        self.journal = Journal()
        self._written: object = None
        self._rest = QTimer(self, singleShot=True, interval=REST)
        self._late = QTimer(self, singleShot=True, interval=BEHIND)
        for timer in (self._rest, self._late):
            timer.timeout.connect(self.write)
        self._writer: threading.Thread | None = None
        self._told = False
        self._came.connect(self._take)
        session.job_changed.connect(self._changed)
        session.replaced.connect(self._begin_anew)

    def _changed(self) -> None:
        session = self._session
        if session.is_saved:
            # All of it is in the job file: there is nothing to recover.
            self._stop()
            if self._written is not None:
                self._let_go()
        elif session.job is not self._written:
            self._rest.start()
            if not self._late.isActive():
                self._late.start()

    def rest_for(self, span: int) -> None:
        """Write no sooner than so many ms after an edit."""
        self._rest.setInterval(span)
        self._late.setInterval(max(span, BEHIND))

    def _begin_anew(self) -> None:
        self._stop()
        self._let_go()
        self.journal = Journal()

    def _let_go(self) -> None:
        """Remove the journal, but not from under what is being written to it."""
        self._written = None
        journal, writer = self.journal, self._writer

        def end() -> None:
            if writer is not None:
                writer.join()
            journal.end()

        self._writer = start_thread(self, "journal", end)

    def _stop(self) -> None:
        self._rest.stop()
        self._late.stop()

    def write(self) -> None:
        """Write the job as it stands, off the interface thread."""
        self._stop()
        session, journal = self._session, self.journal
        job, path, steps = session.job, session.path, session.history.steps
        if session.is_saved or job is self._written or not job.items:
            return
        if self._writer is not None and self._writer.is_alive():
            # The last one is being written still: this one a little later.
            self._rest.start()
            return

        shown = png_of(self._picture().scaledToWidth(WIDE, SMOOTH))

        def write() -> None:
            # Nobody waits for it, and nobody is told of it but where it fails.
            try:
                journal.write(job, path, shown, steps)
            except FileError as error:
                self._came.emit(job, error)
            else:
                self._came.emit(job, None)
            give_back()

        self._writer = start_thread(self, "journal", write)

    def _take(self, job: object, error: FileError | None) -> None:
        if error is None:
            self._written = job
        elif not self._told:
            # Once is enough: a full disk stays full.
            self._told = True
            logger.warning("journal: %s", error)
            self._session.told.emit("trouble", f"{error}. Save the job soon.")

    def end(self) -> None:
        """Close the journal for good: the window closes, and nothing is to be recovered."""
        self._session.job_changed.disconnect(self._changed)
        self._session.replaced.disconnect(self._begin_anew)
        self._stop()
        if self._writer is not None:
            self._writer.join(LONGEST)
        self.journal.end()
