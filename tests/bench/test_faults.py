"""What goes wrong in the window ends neither it nor the work in it."""

from __future__ import annotations

import importlib
import pkgutil
import subprocess
import sys
import threading
import weakref
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest

import usual_clay.bench
from tests.bench.hands import Hands
from usual_clay.bench import documents, guard
from usual_clay.bench.gestures import look
from usual_clay.bench.stage import pane as pane_file
from usual_clay.bench.start import ENDED
from usual_clay.job.items import Curve, Surface
from usual_clay.job.job import Job
from usual_clay.log import take_last_fault

# Errors that C code raises below the method that Qt called.
ERRORS: dict[str, Callable[[], object]] = {
    "IndexError": lambda: [].pop(),
}
PLACES = ("paint", "mouse", "wheel", "key", "timer", "slot", "chart", "shelf", "hover")


@pytest.fixture
def watched(hands: Hands, monkeypatch: pytest.MonkeyPatch) -> Iterator[Hands]:
    """A window in a process that watches for errors, as the application does."""
    for hook in ("excepthook", "unraisablehook"):
        monkeypatch.setattr(sys, hook, getattr(sys, hook))
    guard.watch()
    yield hands
    guard.faults.forget()


def set_off(hands: Hands, place: str, raises: Callable[..., object], patch) -> None:
    """Make a method that Qt calls at a place run into an error, by a real event."""
    window, pane = hands.window, hands.pane
    at = QPoint(pane.width() // 2, pane.height() // 2)
    left = Qt.MouseButton.LeftButton
    if place == "paint":
        patch.setattr(pane, "_paint_on_view", raises)
        pane.update()
    elif place == "mouse":

        def gesture(*_: object) -> Iterator[None]:
            yield
            raises()

        patch.setitem(pane_file.TOOLS, None, gesture)
        QTest.mousePress(pane, left, pos=at)
        QTest.mouseMove(pane, at + QPoint(9, 9))
        QTest.mouseRelease(pane, left, pos=at)
    elif place == "wheel":
        patch.setattr(look, "zoom", raises)
        hands.wheel(at, 1)
    elif place == "key":
        patch.setattr(pane_file, "nudge", raises)
        hands.session.choice.choose_points({3})
        hands.key(Qt.Key.Key_Right, widget=pane)
    elif place == "timer":
        QTimer.singleShot(0, pane, lambda: raises() and None)
    elif place == "slot":
        hands.session.sight.known_changed.connect(raises)
        hands.session.sight.known_changed.emit()
        hands.session.sight.known_changed.disconnect(raises)
    elif place == "chart":
        patch.setattr(window.balance.chart, "_at", raises)
        QTest.mouseClick(window.balance.chart.plot.viewport(), left, pos=QPoint(150, 60))
    elif place == "shelf":
        row = window.shelf.rows[hands.session.choice.item]
        patch.setattr(row, "rename", raises)
        QTest.mouseDClick(row, left, pos=QPoint(60, 10))
    else:
        patch.setattr(pane, "under", raises)
        hands.hover(at)
    hands.wait()


def test_garbage_ends_in_the_interface_thread(hands: Hands) -> None:
    """A timer that a worker's allocations end would fire into nothing."""
    ended: list[threading.Thread] = []

    class Circle(QTimer):
        def __init__(self) -> None:
            super().__init__(interval=5)
            self.itself = self
            weakref.finalize(self, lambda: ended.append(threading.current_thread()))
            self.start()

    for _ in range(20):
        Circle()
    worker = threading.Thread(target=lambda: [[k, []] for k in range(400_000)])
    worker.start()
    worker.join()
    assert not ended
    hands.wait(lambda: len(ended) == 20)
    assert set(ended) == {threading.main_thread()}


@pytest.mark.parametrize("name", ERRORS)
def test_no_error_ends_the_window_or_the_work(
    watched: Hands, name: str, monkeypatch: pytest.MonkeyPatch, job_file: Path, as_read: Job
) -> None:
    with monkeypatch.context() as once:
        once.setattr(documents, "read_or_sound", lambda *_: (as_read, []))
        watched.window.documents.open_file(job_file)
        watched.wait()
    session, cards = watched.session, watched.window.cards
    surface = session.choice.surface()
    assert surface is not None
    for place in PLACES:
        with monkeypatch.context() as patch:
            set_off(watched, place, lambda *_, **__: ERRORS[name](), patch)
            assert cards.told.isVisible(), place
            assert "you can go on" in cards.told.text()
            QTest.mouseClick(cards.copy, Qt.MouseButton.LeftButton)
            details = QGuiApplication.clipboard().text()
            assert name in details, place
            assert "Traceback" in details
        QTest.mouseClick(cards.dismiss, Qt.MouseButton.LeftButton)
        assert not cards.told.isVisible()
        # Nothing is in hand, nothing was changed, and the next edit is kept and undone.
        assert session.hand.dragging is None
        assert session.job.items[surface.id] is surface, place
        session.choice.choose(surface.id)
        session.choice.choose_points({3})
        watched.key(Qt.Key.Key_Right, widget=watched.pane)
        moved = session.job.the(surface.id, Surface)
        assert abs(moved.geometry.points - surface.geometry.points).max() > 0
        session.undo()
        watched.wait()
        assert session.job.items[surface.id] is surface


def test_every_method_that_qt_calls_is_guarded() -> None:
    count = 0
    for info in pkgutil.walk_packages(usual_clay.bench.__path__, "usual_clay.bench."):
        for cls in vars(importlib.import_module(info.name)).values():
            if not isinstance(cls, type) or not cls.__module__.startswith("usual_clay.bench"):
                continue
            for method in guard.overrides(cls):
                assert hasattr(vars(cls)[method], "is_guarded"), f"{cls.__qualname__}.{method}"
                count += 1
    assert count > 20


def test_a_job_with_a_curve_that_stands_still_can_be_looked_at(watched: Hands) -> None:
    watched.window.documents.open_file(Path(__file__).parents[1] / "files/data/still-ends.uclay")
    watched.wait()
    curves = list(watched.session.job.all(Curve))
    assert len(curves) > 2
    for curve in curves:
        watched.session.choice.choose(curve.id)
        watched.wait()
        assert not watched.window.cards.copy.isVisible(), curve.name


def test_a_process_that_ends_in_c_code_is_told_of_the_next_time(hands: Hands) -> None:
    dies = "import faulthandler, usual_clay.log as log; log.start_log(); faulthandler._sigsegv()"
    assert subprocess.run([sys.executable, "-c", dies], capture_output=True).returncode < 0
    lives = "import usual_clay.log as log; log.start_log()"
    subprocess.run([sys.executable, "-c", lives], check=True)
    details = take_last_fault()
    assert "Segmentation fault" in details
    guard.faults.came.emit(ENDED, details)
    assert hands.window.cards.told.text() == ENDED
    QTest.mouseClick(hands.window.cards.copy, Qt.MouseButton.LeftButton)
    assert QGuiApplication.clipboard().text() == details
    assert take_last_fault() == ""
