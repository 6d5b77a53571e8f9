"""Starting the application."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QEvent, QTimer
from PySide6.QtWidgets import QWidget

from usual_clay.bench.application import make_application
from usual_clay.bench.guard import faults, watch
from usual_clay.bench.window import Window
from usual_clay.log import take_last_fault

ENDED = "Usual Clay ended by a fault when it was last used. What it told is here to copy."


def run_window(path: Path | None) -> int:
    """Open the window, with a job or a scan where a path is given, and run until it closes."""
    app = make_application()
    watch()
    window = Window()
    window.show()
    if details := take_last_fault():
        faults.came.emit(ENDED, details)
    if path is not None:
        QTimer.singleShot(0, partial(window.documents.open_file, path))
    code = app.exec()
    retire(window)
    return code


def retire(window: Window) -> None:
    """Take a window down for good, with all that it holds, before the interpreter ends."""
    window.session.work.cancel_all()
    window.stage.escape()
    window.stage.scene.forget()
    session, parts = window.session, [window.cards, *window.cards.findChildren(QWidget)]
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    session.let_go()
    # Parts that something still knows by a signal hold nothing any more.
    for part in parts:
        vars(part).clear()
