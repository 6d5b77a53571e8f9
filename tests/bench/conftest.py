"""Real windows for tests."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from tests.bench.hands import Hands
from usual_clay.bench import documents
from usual_clay.bench.application import make_application
from usual_clay.bench.edits.scans import add_scan
from usual_clay.bench.stage import scene
from usual_clay.bench.stage.portrait import Portrait, make_portrait
from usual_clay.bench.stage.view import View
from usual_clay.bench.start import retire
from usual_clay.bench.theme.theme import themes
from usual_clay.bench.window import Window
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.job_file import read_job
from usual_clay.job.items import Surface
from usual_clay.job.job import Job

# Longer than any test, ms.
NEVER = 3_600_000


@pytest.fixture(scope="session")
def app() -> QApplication:
    return make_application()


@pytest.fixture
def hands(app: QApplication, monkeypatch: pytest.MonkeyPatch) -> Iterator[Hands]:
    """An empty window."""
    QSettings().clear()
    themes.follow()
    window = Window()
    monkeypatch.setattr(window.documents, "may_leave", lambda: True)
    # The tests that look at it let it run.
    window.fronts.enabled = window.calmness.enabled = window.prices.enabled = False
    window.autosave.rest_for(NEVER)
    window.show()
    made = Hands(window)
    made.wait()
    yield made
    window.session.work.cancel_all()
    made.wait()
    window.close()
    retire(window)


@pytest.fixture
def with_scan(hands: Hands, lure: TriangleMesh) -> Hands:
    """A window with the demo scan alone."""
    add_scan(hands.session, lure, "brackwater-lure.ply", "mm")
    hands.window.set_station("Surface")
    hands.wait()
    return hands


@pytest.fixture(scope="session")
def as_read(job_file: Path) -> Iterator[Job]:
    """The demo job, whose surfaces are drawn once for all windows."""
    job = read_job(job_file)
    drawn: dict[int, dict[object, tuple[object, Portrait]]]
    drawn = {id(surface.geometry): {} for surface in job.all(Surface)}

    def once(geometry: BSplineSurface, chord: float, points=None, signed=None) -> Portrait:
        known = drawn.get(id(geometry), {})
        key = chord, None if points is None else len(points), id(signed)
        if key not in known:
            known[key] = signed, make_portrait(geometry, chord, points, signed)
        return known[key][1]

    with pytest.MonkeyPatch.context() as every:
        every.setattr(scene, "make_portrait", once)
        yield job


@pytest.fixture
def with_demo(hands: Hands, job_file: Path, as_read: Job, monkeypatch: pytest.MonkeyPatch) -> Hands:
    """A window with the demo job as far as its cast.

    It is read once for all of them: items are values, and what is worked out of a scan stays.
    """
    with monkeypatch.context() as once:
        once.setattr(documents, "read_or_sound", lambda *_: (as_read, []))
        hands.window.documents.open_file(job_file)
        hands.wait()
    return hands


@pytest.fixture(scope="session", autouse=True)
def drawn_by_stand_ins() -> Iterator[None]:
    """Let scans be drawn as they are while a view moves: the renderer is software, and much of the
    time of all windows together would go into it."""
    full = View.image
    View.image = lambda view, moving=False: full(view, True)  # type: ignore[method-assign]
    yield
    View.image = full  # type: ignore[method-assign]
