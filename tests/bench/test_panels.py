"""Shelf, keys, finder, history, saving and background work in the real window."""

from __future__ import annotations

import ctypes
import gc
import sys
import threading
import time
import weakref
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QObject, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QLabel,
    QLineEdit,
    QMessageBox,
)

from tests.bench.hands import CTRL, Hands
from usual_clay.bench.documents import Documents
from usual_clay.bench.work import GRACE, Request, Work
from usual_clay.core.errors import FitError
from usual_clay.core.progress import Cancelled
from usual_clay.demo.make import demo_job_file
from usual_clay.job.items import Region, Scan, Surface


def only(hands: Hands, kind: type):
    """The item of a kind that is shown: of the surfaces, the cast over the back."""
    return next(item for item in hands.session.job.all(kind) if item.visible)


def test_shelf_renames_hides_locks_and_deletes(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    surface = only(with_demo, Surface)
    with_demo.key(Qt.Key.Key_F2, widget=with_demo.pane)
    field = window.shelf.rows[surface.id].findChild(QLineEdit)
    QTest.keyClicks(field, "Spine")
    QTest.keyClick(field, Qt.Key.Key_Return)
    with_demo.wait()
    assert session.job.items[surface.id].name == "Spine"
    assert "Spine" in window.balance.title.text()
    with_demo.key(Qt.Key.Key_H, widget=with_demo.pane)
    assert not session.job.items[surface.id].visible
    assert surface.id not in window.stage.scene.layers()
    with_demo.key(Qt.Key.Key_L, widget=with_demo.pane)
    with_demo.key(Qt.Key.Key_Delete, widget=with_demo.pane)
    assert surface.id in session.job.items
    assert "locked" in window.cards.told.text()
    assert not window.cards.card.nu.isEnabled()
    with_demo.key(Qt.Key.Key_L, widget=with_demo.pane)
    with_demo.key(Qt.Key.Key_Delete, widget=with_demo.pane)
    assert surface.id not in session.job.items
    for _ in range(5):
        with_demo.key(Qt.Key.Key_Z, CTRL, widget=with_demo.pane)
    assert session.job.items[surface.id].name == "Back cast"
    assert session.job.items[surface.id].visible


def test_the_shelf_works_by_keyboard(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    scan, surface = only(with_demo, Scan), only(with_demo, Surface)
    row = window.shelf.rows[scan.id]
    row.setFocus()
    QTest.keyClick(row, Qt.Key.Key_Space)
    with_demo.wait()
    assert session.choice.item == scan.id
    assert "Scan: Lure scan" in window.cards.card.title.text()
    QTest.mouseClick(window.shelf.rows[surface.id].name, Qt.MouseButton.LeftButton)
    assert session.choice.item == surface.id


def test_a_deleted_region_leaves_its_surface_loose(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    surface, region = only(with_demo, Surface), only(with_demo, Region)
    report = session.job.report(surface)
    session.delete(region.id)
    with_demo.wait()
    assert session.job.is_loose(session.job.items[surface.id])
    session.choice.choose(surface.id)
    assert "loose" in window.cards.card.about.text()
    assert not window.cards.card.search.isEnabled()
    again = session.job.report(session.job.items[surface.id])
    assert again.within_share == report.plain_share
    assert again.max == report.max
    session.undo()
    with_demo.wait()
    assert "over region" in window.cards.card.about.text()


def test_editing_a_region_remakes_its_surface(with_demo: Hands) -> None:
    session = with_demo.session
    surface, region = only(with_demo, Surface), only(with_demo, Region)
    assert surface.signed is not None
    session.commit(session.job.changed(region.id, vertices=region.vertices[::3]), "thin")
    with_demo.wait()
    made = session.job.items[surface.id]
    assert isinstance(made, Surface)
    assert made.signed is not None
    assert len(made.signed) == len(region.vertices[::3])
    session.undo()
    with_demo.wait()
    back = session.job.items[surface.id]
    assert back is surface


def test_finder_finds_and_runs(with_demo: Hands) -> None:
    window = with_demo.window
    with_demo.key(Qt.Key.Key_Space, CTRL, widget=with_demo.pane)
    assert window.finder.isVisible()
    assert window.finder.list.count() == len(list(window.commands))
    QTest.keyClicks(window.finder.field, "side top")
    assert window.finder.list.count() == 1
    QTest.keyClick(window.finder.field, Qt.Key.Key_Return)
    assert not window.finder.isVisible()
    assert window.stage.side_name == "top"
    window.finder.open()
    QTest.keyClick(window.finder.field, Qt.Key.Key_Escape)
    assert not window.finder.isVisible()


def test_keys_are_changed_and_never_shared(with_demo: Hands) -> None:
    window, table = with_demo.window, with_demo.window.commands
    with_demo.key(Qt.Key.Key_F1, widget=with_demo.pane)
    assert window.cards.get("keys") is window.cards.card
    assert table.set_key("brush", "S").name == "spread"
    assert table.key("brush") == "B"
    assert table.set_key("brush", "U") is None
    with_demo.key(Qt.Key.Key_Escape, widget=with_demo.pane)
    assert window.cards.card is not window.cards.get("keys")
    with_demo.session.choice.choose(only(with_demo, Scan).id)
    with_demo.key(Qt.Key.Key_U, widget=with_demo.pane)
    assert with_demo.session.hand.tool == "brush"
    table.reset()
    assert table.key("brush") == "B"
    keys = [table.key(action.name) for action in table if table.key(action.name)]
    assert len(keys) == len(set(keys))


def test_every_control_says_what_it_is(with_demo: Hands) -> None:
    window = with_demo.window
    kinds = (QAbstractButton, QAbstractSpinBox, QAbstractSlider)
    controls = [w for kind in kinds for w in window.findChildren(kind) if w.isVisible()]
    assert len(controls) > 30
    for control in controls:
        if type(control).__name__ == "QScrollBar":
            continue
        named = control.accessibleName() or control.toolTip()
        assert named, f"{control} under {control.parent()} has no name"


def test_stations_change_the_rail_alone(with_demo: Hands) -> None:
    window, before = with_demo.window, with_demo.session.job
    for number, station in enumerate(window.top_bar.stations, start=1):
        with_demo.key(Qt.Key(Qt.Key.Key_0 + number), Qt.KeyboardModifier.AltModifier, window)
        assert window.top_bar.stations[station].isChecked()
        names = set(window.rail.tools)
        assert names == {action.name for action in window.commands.of_station(station)}
    assert with_demo.session.job is before
    assert with_demo.session.choice.item is not None


def test_saving_and_the_saved_state(with_demo: Hands, tmp_path: Path) -> None:
    window, session = with_demo.window, with_demo.session
    assert window.top_bar.state.text() == "saved"
    session.rename(only(with_demo, Surface).id, "Other")
    assert window.top_bar.state.text() == "changed"
    assert "*" in window.windowTitle()
    assert session.save(tmp_path / "mine.uclay")
    assert window.top_bar.state.text() == "saved"
    session.undo()
    assert window.top_bar.state.text() == "changed"
    assert not session.save(tmp_path / "none" / "mine.uclay")
    assert "could not be written" in window.cards.told.text()
    assert session.path == tmp_path / "mine.uclay"


def test_the_demos_own_file_is_not_written_over(
    with_demo: Hands, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    session = with_demo.session
    with_demo.window.documents.open_file(demo_job_file())
    with_demo.wait()
    before = demo_job_file().read_bytes()
    asked = []

    def ask(*_: object) -> tuple[str, str]:
        asked.append(1)
        return str(tmp_path / "own"), ""

    monkeypatch.setattr("usual_clay.bench.documents.QFileDialog.getSaveFileName", ask)
    session.rename(next(session.job.all(Surface)).id, "Mine")
    with_demo.key(Qt.Key.Key_S, CTRL, with_demo.pane)
    assert asked == [1]
    assert demo_job_file().read_bytes() == before
    assert session.path == tmp_path / "own.uclay"
    with_demo.key(Qt.Key.Key_S, CTRL, with_demo.pane)
    assert asked == [1]


def test_leaving_with_changes_asks_first(
    app: QApplication, with_demo: Hands, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = with_demo.window
    asks = Documents(window.session, window)
    monkeypatch.setattr(window.documents, "may_leave", asks.may_leave)
    answers = []

    def ask(*_: object) -> QMessageBox.StandardButton:
        answers.append(1)
        return QMessageBox.StandardButton.Cancel

    monkeypatch.setattr(QMessageBox, "question", ask)
    assert window.documents.may_leave()
    assert not answers
    with_demo.session.rename(only(with_demo, Surface).id, "Other")
    window.documents.new()
    assert answers == [1]
    assert with_demo.session.job.items


def test_a_file_is_dropped_on_the_window(hands: Hands, scan_file: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(scan_file))])
    event = QDropEvent(
        QPointF(300, 300),
        Qt.DropAction.CopyAction,
        data,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
    )
    hands.window.dropEvent(event)
    hands.wait(lambda: hands.window.cards.get("bring in")._read is not None)
    assert hands.window.cards.card is hands.window.cards.get("bring in")
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    assert hands.window.cards.card is hands.window.cards.start
    assert not hands.session.job.items


def test_tools_without_what_they_need_say_so(hands: Hands) -> None:
    window = hands.window
    for run, words in (
        (lambda: window.commands.run("spread"), "no scan yet"),
        (lambda: window.commands.run("cast"), "Choose a region first"),
        (lambda: window.commands.run("to tolerance"), "Choose a cast surface"),
    ):
        run()
        assert words in window.cards.told.text()
    assert hands.session.hand.tool is None
    assert "No scan is shown" in window.stage.scene.why_no_scan("the brush")
    hands.hand_over(Path("/tmp/none.step"))
    hands.wait()
    assert "there is nothing to write" in window.cards.told.text()


def test_the_newest_request_wins(app: QApplication) -> None:
    work, got, partial = Work(), [], []

    def task(number: int, steps: int):
        def run(progress, tell):
            for step in range(steps):
                progress(step / steps, "")
                tell(number)
                time.sleep(0.002)
            return number

        return run

    for number in range(5):
        work.start("one", "fit", "", task(number, 40), got.append, partial.append)
    # Another purpose, and another owner, are different computations: neither is discarded.
    work.start("one", "pull", "", task(7, 3), got.append)
    work.start("two", "fit", "", task(8, 3), got.append)
    end = time.monotonic() + 10
    while work.is_busy() and time.monotonic() < end:
        QApplication.processEvents()
    assert sorted(got) == [4, 7, 8]
    assert set(partial) == {4}


def test_what_is_dropped_is_told_to_have_ended_once(app: QApplication) -> None:
    """Two that each drop their own when another ends would tell each other without end."""
    work, ended, released = Work(), [], threading.Event()

    def told(request: Request) -> None:
        ended.append(request.owner)
        for owner in "ab":
            work.drop(owner)

    work.ended.connect(told)
    for owner in "ab":
        work.start(owner, "look", "", lambda *_: released.wait(20), lambda _: None)
    work.drop("a")
    assert sorted(ended) == ["a", "b"]
    released.set()
    # Its own timers outlive the work: it is let go of after them.
    QTest.qWait(GRACE + 100)
    end = time.monotonic() + 20
    while work.is_busy() and time.monotonic() < end:
        QTest.qWait(20)
    assert not work.is_busy()


def test_a_cancel_ends_within_half_a_second_whatever_the_task_does(app: QApplication) -> None:
    work, got, failed, ended = Work(), [], [], []
    work.ended.connect(lambda request: ended.append(request.owner))
    work.failed.connect(lambda request, error: failed.append((request.owner, str(error))))

    def broken(progress, tell):
        raise FitError("no")

    def patient(progress, tell):
        try:
            while True:
                progress(0.5, "")
                time.sleep(0.001)
        except Cancelled:
            return "best so far"

    released = threading.Event()

    def deaf(progress, tell):
        released.wait(20)
        return "too late"

    work.start("a", "search", "", broken, got.append)
    work.start("b", "search", "", patient, got.append, keeps_best=True)
    work.start("c", "search", "", patient, got.append)
    work.start("d", "search", "", deaf, got.append)
    QTest.qWait(30)
    began = time.monotonic()
    for owner in "bcd":
        work.cancel(work.find(owner, "search"))
    while work.is_busy() and time.monotonic() < began + 10:
        QApplication.processEvents()
    assert time.monotonic() - began < 0.5
    assert got == ["best so far"]
    assert failed == [("a", "no")]
    assert set(ended) == set("abcd")
    # What comes after its time is not taken.
    released.set()
    QTest.qWait(50)
    assert got == ["best so far"]


def test_work_is_let_go_of_on_the_thread_that_it_lives_on(app: QApplication) -> None:
    """By the thread of a task that outlives it, it would be destroyed under Qt's hands."""
    released, gone = threading.Event(), []
    work, known = Work(), QObject()
    for each in (work, known):
        weakref.finalize(each, lambda: gone.append(threading.current_thread()))
    work.start("a", "look", "", lambda *_, known=known: released.wait(20), lambda _: None)
    work.cancel_all()
    QTest.qWait(GRACE + 100)
    thread = next(each for each in threading.enumerate() if each.name == "look a")
    del work, known, each
    released.set()
    thread.join()
    other = Work()
    other.start("b", "look", "", lambda *_: None, lambda _: None)
    # On a busy machine what waits to leave the task alone fires later.
    end = time.monotonic() + 20
    while other.is_busy() or (len(gone) < 2 and time.monotonic() < end):
        QApplication.processEvents()
    assert gone == [threading.main_thread()] * 2


def test_progress_never_runs_back(app: QApplication) -> None:
    work, seen = Work(), []
    work.progressed.connect(lambda request: seen.append(request.fraction))

    def restless(progress, tell):
        for fraction in (0.0, 0.25, 0.0, 0.5, 0.25, 1.5):
            progress(fraction, "")

    work.start("a", "fit", "Fitting", restless, lambda _: None)
    while work.is_busy():
        QApplication.processEvents()
    assert seen == sorted(seen)
    assert seen[-1] == 1.0


def references_lost(times: int, work: Callable[[], object]) -> int:
    """Return how many references to True are lost by doing something so often."""
    work()
    # What is let go of in the meantime holds references too.
    gc.collect()
    before = sys.getrefcount(True)
    for _ in range(times):
        work()
    QApplication.processEvents()
    return before - sys.getrefcount(True)


def test_a_days_signals_do_not_wear_the_interpreter_out(with_demo: Hands) -> None:
    window = with_demo.window

    def day() -> None:
        window.balance.refresh()
        with_demo.session.job_changed.emit()

    assert references_lost(150, day) < 15
    # A binding that lets go of one too many each time would be seen; they are given back.
    true = ctypes.py_object(True)
    assert references_lost(150, lambda: ctypes.pythonapi.Py_DecRef(true)) > 100
    for _ in range(151):
        ctypes.pythonapi.Py_IncRef(true)


def test_the_window_at_its_least_size_hides_nothing(with_demo: Hands) -> None:
    window = with_demo.window
    window.resize(window.minimumSize())
    with_demo.wait()
    assert window.stage.free.width() > 200
    assert window.cards.card.width() <= window.cards.parentWidget().width() + 1
    right = window.top_bar.findChildren(QAbstractButton)[-1]
    edge = right.mapTo(window, QPoint(right.width(), 0)).x()
    assert edge <= window.width()
    assert np.all([button.width() > 20 for button in window.rail.tools.values()])


def test_cards_give_words_their_height_and_long_names_end_in_dots(with_demo: Hands) -> None:
    hands, window = with_demo, with_demo.window
    window.resize(1000, 700)
    hands.press("shape")
    card = window.cards.card
    for part in card.findChildren(QLabel):
        if part.isVisible() and part.text():
            needed = part.heightForWidth(part.width()) if part.wordWrap() else 0
            assert part.height() >= needed, part.text()
    surface = only(hands, Surface)
    hands.session.rename(surface.id, "A name that no row of the Shelf has room for " * 2)
    hands.wait()
    row = window.shelf.rows[surface.id]
    image = row.name.grab().toImage()
    ink = [
        x
        for x in range(image.width())
        if any(image.pixelColor(x, y).lightness() < 120 for y in range(image.height()))
    ]
    assert ink
    # The last letters are three dots, not half a letter at the edge.
    assert max(ink) < image.width() - 1
    low = [y for y in range(image.height()) if image.pixelColor(max(ink), y).lightness() < 120]
    assert max(low) - min(low) <= 2
