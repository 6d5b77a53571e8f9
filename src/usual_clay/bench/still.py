"""A window for pictures: fresh, at rest, with the demo job."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from usual_clay.bench.window import Window

SIZE = (1280, 800)


def fresh_window() -> Window:
    from usual_clay.bench.theme.theme import PAPER, themes
    from usual_clay.bench.window import Window

    # Whatever the user has chosen.
    themes.wear(PAPER)
    window = Window()
    # Fronts begin a while after all is quiet: where one is shown, it is asked for.
    window.fronts.enabled = window.calmness.enabled = window.prices.enabled = False
    window.resize(*SIZE)
    window.show()
    settle(window)
    return window


def settle(window: Window, seconds: float = 60.0, rests: int = 12) -> None:
    """Let the window work until so many times nothing was left to compute or draw."""
    from PySide6.QtCore import QCoreApplication, QEvent
    from PySide6.QtWidgets import QApplication

    quiet, end = 0, time.monotonic() + seconds
    while quiet < rests and time.monotonic() < end:
        QApplication.processEvents()
        # Outside of an event loop what is to be deleted later would stay for ever.
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        quiet = 0 if window.session.work.is_busy() else quiet + 1
        time.sleep(0.015)


def open_demo(window: Window) -> None:
    from usual_clay.demo.make import demo_job_file

    window.documents.open_file(demo_job_file())
    settle(window)


def open_surfaces(window: Window) -> None:
    """Open the demo job without its bodies, which would stand before its surfaces."""
    from usual_clay.job.items import Body, Floating

    open_demo(window)
    job = window.session.job
    for item in list(job.items.values()):
        if isinstance(item, Body | Floating):
            job = job.changed(item.id, visible=False)
    window.session.commit(job, "hide bodies")
    settle(window)
