"""The Qt application, dressed; there is one, with a window or without."""

from __future__ import annotations

import sys

from PySide6.QtWidgets import QApplication

from usual_clay import __version__
from usual_clay.bench.sweeper import Sweeper
from usual_clay.bench.theme.looks import dress
from usual_clay.core.memory import keep_one_store


def make_application() -> QApplication:
    """Return the application, dressed."""
    keep_one_store()
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("usual-clay")
    app.setOrganizationName("usual-clay")
    app.setApplicationDisplayName("Usual Clay")
    app.setApplicationVersion(__version__)
    app.setDesktopFileName("usual-clay")
    dress(app)
    if app.findChild(Sweeper) is None:
        Sweeper(app)
    return app
