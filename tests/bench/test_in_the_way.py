"""What would be in the way: keys, the finder, the Shelf, saving, and what was left by a window."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QPushButton, QWidget

from tests.bench.hands import CTRL, SHIFT, Hands
from tests.solids import box_faces, square
from usual_clay.bench.cards.start import StartCard
from usual_clay.bench.finder import _fit
from usual_clay.bench.session import Session
from usual_clay.bench.shelf_group import GroupHeading
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.journal import Journal, journal_folder, left_behind
from usual_clay.job.items import Body, Curve, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import stale


@pytest.fixture
def with_faces(hands: Hands) -> Hands:
    job = hands.session.job
    for name, face in box_faces():
        job = job.with_item(Surface(id=job.new_id("surface"), name=name, geometry=face))
    for name, side in square():
        job = job.with_item(Curve(id=job.new_id("curve"), name=name, geometry=side))
    hands.session.commit(job, "faces")
    hands.window.stage.fit()
    hands.wait()
    return hands


def test_enter_on_a_row_chooses_and_keys_go_from_panel_to_panel(with_faces: Hands) -> None:
    hands = with_faces
    window, session = hands.window, hands.session
    hands.key(Qt.Key.Key_1, CTRL, window)
    row = QApplication.focusWidget()
    assert row in window.shelf.rows.values()
    hands.key(Qt.Key.Key_Down, widget=row)
    second = QApplication.focusWidget()
    hands.key(Qt.Key.Key_Return, widget=second)
    assert session.choice.item == second.item.id
    hands.key(Qt.Key.Key_2, CTRL, window)
    assert window.cards.card.isAncestorOf(QApplication.focusWidget())
    hands.key(Qt.Key.Key_3, CTRL, window)
    assert QApplication.focusWidget() is window.stage.large
    # After the finder Enter means what it means on the stage, not a station.
    window.top_bar.setFocus()
    window.commands.run("finder")
    hands.key(Qt.Key.Key_Escape, widget=window.finder.field)
    assert QApplication.focusWidget() is window.stage.large


def test_the_shelf_keeps_the_rows_of_what_stays_as_it_is(with_faces: Hands) -> None:
    hands = with_faces
    session, shelf = hands.session, hands.window.shelf
    first, second = list(session.job.all(Surface))[:2]

    def others(but: str = "") -> dict[str, object]:
        return {key: row for key, row in shelf.rows.items() if key != but}

    before = others()
    session.choice.choose(first.id)
    session.choice.choose(second.id)
    hands.wait()
    assert others() == before
    assert [key for key, row in shelf.rows.items() if row.property("chosen")] == [second.id]
    session.set_flag(first.id, "visible", False)
    hands.wait()
    assert others(first.id) == {key: row for key, row in before.items() if key != first.id}
    assert shelf.rows[first.id] is not before[first.id]
    assert not shelf.rows[first.id].item.visible
    # What is filtered out goes, and comes back in its place.
    order = list(shelf.rows)
    hands.window.filter.setText(second.name)
    hands.wait()
    assert list(shelf.rows) == [second.id]
    assert shelf.rows[second.id] is before[second.id]
    hands.window.filter.clear()
    hands.wait()
    assert list(shelf.rows) == order
    heights = [row.y() for row in shelf.rows.values()]
    assert heights == sorted(heights)
    assert len(set(heights)) == len(heights)


def test_one_thing_is_shown_alone_and_the_rest_again(with_faces: Hands) -> None:
    hands = with_faces
    session = hands.session
    first = next(session.job.all(Surface))
    session.choice.choose(first.id)
    hands.key(Qt.Key.Key_H, SHIFT, hands.pane)
    assert [item.name for item in session.job.items.values() if item.visible] == [first.name]
    hands.key(Qt.Key.Key_H, CTRL | SHIFT, hands.pane)
    assert all(item.visible for item in session.job.items.values())
    hands.window.filter.setText("fron")
    hands.wait()
    assert [row.item.name for row in hands.window.shelf.rows.values()] == ["front"]
    hands.window.filter.clear()
    hands.wait()
    assert len(hands.window.shelf.rows) == 10
    hands.window.stage.switch("curves", False)
    hands.wait()
    assert not any(item.id in hands.window.stage.scene.layers() for item in session.job.all(Curve))


def test_the_finder_knows_other_words_and_the_likeliest_comes_first(hands: Hands) -> None:
    table = list(hands.window.commands)
    for typed, wanted in (
        ("fillet", "task round"), ("export", "deliver"), ("zebra", "judge stripes"),
        ("hollow", "task shell"), ("undo", "undo"), ("isolate", "show only"),
        ("hydrostatics", "task afloat"), ("pdf", "report"), ("boolean", "task unite"),
    ):  # fmt: skip
        found = sorted(table, key=lambda each: _fit(each, [typed]))
        assert wanted in [each.name for each in found[:3]], typed
    hands.window.finder.open()
    assert not hands.window.finder.list.horizontalScrollBar().isVisible()
    hands.window.finder.hide()


def test_a_click_in_the_ledger_chooses(with_faces: Hands) -> None:
    hands = with_faces
    job = hands.session.job
    for number, item in enumerate(list(job.all(Surface))):
        signed = np.full(50, 0.02 * (number + 1))
        job = job.with_item(replace(item, signed=signed))
    hands.session.commit(job, "judged")
    hands.session.choice.choose(None)
    hands.wait()
    ledger = hands.window.balance.ledger
    assert ledger.isVisible()
    assert "Out of tolerance" in ledger.words.text()
    entry = ledger.entries[0]
    place = QPointF(np.log10(entry.cost), np.log10(entry.off))
    at = ledger.plot.mapFromScene(ledger.plot.getViewBox().mapViewToScene(place))
    QTest.mouseClick(ledger.plot.viewport(), Qt.MouseButton.LeftButton, pos=at)
    hands.wait()
    assert hands.session.choice.item == entry.item


def test_saving_asks_before_it_replaces_and_sees_what_others_changed(
    with_faces: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hands = with_faces
    documents, session = hands.window.documents, hands.session
    asked: list[str] = []
    answers = {"Replace it?": "Cancel", "Save over it?": "Cancel"}

    def ask(title: str, words: str, _answers: tuple[str, ...]) -> str:
        asked.append(words)
        return answers[title]

    monkeypatch.setattr(documents, "_ask", ask)
    there = tmp_path / "lure.v2.uclay"
    write_job(there, Job("another"))
    typed = str(tmp_path / "lure.v2")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (typed, ""))
    # The name is completed; the user did not say that what is there may go.
    assert not documents.save_as()
    assert read_job(there).name == "another"
    answers["Replace it?"] = "Replace it"
    assert documents.save_as()
    assert len(read_job(there).items) == 10
    assert session.is_saved
    write_job(there, Job("by others"))
    documents.look_outside()
    assert "changed by another program" in hands.window.cards.told.text()
    session.commit(session.job.changed(next(iter(session.job.items)), visible=False), "hide")
    assert not documents.save()
    assert read_job(there).name == "by others"
    answers["Save over it?"] = "Save over it"
    assert documents.save()
    there.chmod(0o444)
    session.commit(session.job.changed(next(iter(session.job.items)), visible=True), "show")
    answers["Replace it?"] = "Cancel"
    assert not documents.save()
    assert not session.is_saved
    # What cannot be written is told, and the job counts as not saved.
    bad = Body(id="body-99", name="Bad", shape=BodyShape.blank(), density=np.nan, visible=False)
    session.commit(session.job.with_item(bad), "a number that cannot be written")
    assert not session.save(tmp_path / "new.uclay")
    assert "could not be written" in hands.window.cards.told.text()
    assert not session.is_saved


def test_several_are_chosen_in_the_shelf_and_meant_alike(with_faces: Hands) -> None:
    hands, session, shelf = with_faces, with_faces.session, with_faces.window.shelf
    order = list(shelf.rows)
    left, shift = Qt.MouseButton.LeftButton, SHIFT
    QTest.mouseClick(shelf.rows[order[1]], left)
    QTest.mouseClick(shelf.rows[order[3]], left, shift)
    QTest.mouseClick(shelf.rows[order[5]], left, CTRL)
    hands.wait()
    chosen = [order[k] for k in (1, 2, 3, 5)]
    assert session.choice.every == set(chosen)
    assert [each for each in order if shelf.rows[each].property("chosen")] == chosen
    QTest.mouseClick(shelf.rows[order[2]], left, CTRL)
    hands.window.commands.run("show only")
    hands.wait()
    visible = {item.id for item in session.job.items.values() if item.visible}
    assert visible == {order[k] for k in (1, 3, 5)}
    hands.window.commands.run("hide")
    hands.wait()
    assert not any(item.visible for item in session.job.items.values())
    assert session.history.undo_words == "hide 3 things"
    # By keys: on with Shift and the arrows.
    shelf.rows[order[1]].setFocus()
    hands.key(Qt.Key.Key_Space)
    assert session.choice.every == {order[1]}
    hands.key(Qt.Key.Key_Down, shift)
    assert session.choice.every == {order[1], order[2]}
    before = len(session.job.items)
    hands.window.commands.run("delete")
    hands.wait()
    assert len(session.job.items) == before - 2
    hands.window.commands.run("undo")
    assert len(session.job.items) == before


def test_what_a_window_left_is_offered_and_opened(
    with_faces: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hands = with_faces
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                          capture_output=True, text=True, check=True)  # fmt: skip
    autosave = hands.window.autosave
    autosave.journal = Journal(journal_folder() / f"{gone.stdout.strip()}-1")
    session = hands.session
    session.save(tmp_path / "faces.uclay")
    first, *_, last = session.job.items
    session.commit(session.job.changed(last, visible=False), "hide")
    session.commit(session.job.changed(first, name="Written down"), "name")
    session.commit(session.job.changed(first, name="Too far"), "name again")
    session.undo()
    autosave.write()
    hands.wait(lambda: autosave._written is session.job)
    (left,) = left_behind()
    assert left.items == 10
    assert left.picture is not None
    assert QImage(str(left.picture)).width() == 240
    fresh = Session()
    card = StartCard(fresh, hands.window.commands)
    # It is compared with what was saved before it is opened, or dropped.
    compared: list[Path] = []
    card.compared.connect(compared.append)
    next(each for each in card.findChildren(QPushButton) if each.text() == "Compare").click()
    assert fresh.path == tmp_path / "faces.uclay"
    assert any(item.name == "Written down" for item in read_job(compared[0]).items.values())
    opening = next(each for each in card.findChildren(QPushButton) if each.text() == "Open")
    opening.click()
    assert any(item.name == "Written down" for item in fresh.job.items.values())
    # It is kept only when it is saved.
    assert not fresh.is_saved
    # What was done before can be undone still, and is the same thing where nothing changed.
    middle = fresh.job.items[first], fresh.job.items[last]
    fresh.redo()
    assert fresh.job.items[first].name == "Too far"
    fresh.undo()
    fresh.undo()
    assert fresh.job.items[first].name not in ("Written down", "Too far")
    assert fresh.job.items[last] is middle[1]
    assert not middle[1].visible
    fresh.undo()
    assert fresh.job.items[last].visible
    assert fresh.job.items[last].geometry is middle[1].geometry
    assert fresh.is_saved is False
    assert stale(fresh.job) == []
    assert left_behind() == []
    assert os.environ["XDG_STATE_HOME"] == str(tmp_path)
    fresh.work.cancel_all()
    card.deleteLater()


def test_what_is_saved_while_the_journal_is_written_is_removed_after_it(
    with_faces: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, autosave = with_faces.session, with_faces.window.autosave
    autosave.journal = Journal(tmp_path / "journal")
    failed: list[object] = []
    monkeypatch.setattr(threading, "excepthook", failed.append)
    session.told.connect(lambda kind, words: failed.append(words) if kind == "trouble" else None)
    first = next(iter(session.job.items))
    session.commit(session.job.changed(first, name="One"), "name")
    autosave.write()
    with_faces.wait(lambda: autosave._written is session.job and not autosave._writer.is_alive())
    # The next one is held up in the middle of its steps, and the job is saved meanwhile.
    begun, go, told = threading.Event(), threading.Event(), Journal._told

    def held(journal: Journal, job: Job) -> object:
        made = told(journal, job)
        begun.set()
        go.wait(10)
        return made

    monkeypatch.setattr(Journal, "_told", held)
    session.commit(session.job.changed(first, name="Two"), "name")
    autosave.write()
    assert begun.wait(10)
    session.save(tmp_path / "faces.uclay")
    go.set()
    with_faces.wait(lambda: not autosave._writer.is_alive())
    # What the threads told comes after them.
    with_faces.wait()
    assert not failed
    assert not (tmp_path / "journal").exists()


def order_on(hands: Hands) -> list[str]:
    """The names on the Shelf from the top down, as they are seen."""
    rows = [row for row in hands.window.shelf.rows.values() if not row.isHidden()]
    return [row.item.name for row in sorted(rows, key=lambda row: row.y())]


def drag_row(hands: Hands, name: str, onto: QWidget, below: bool, drops: bool = True) -> None:
    row = next(r for r in hands.window.shelf.rows.values() if r.item.name == name)
    middle = QPoint(row.width() // 2, row.height() // 2)
    place = QPoint(onto.width() // 2, onto.height() - 3 if below else 3)
    path = [middle, middle + QPoint(0, 12), row.mapFromGlobal(onto.mapToGlobal(place))]
    hands.drag(path, widget=row, release=drops)
    if not drops:
        QTest.keyClick(row, Qt.Key.Key_Escape)
    hands.wait()


def test_things_are_grouped_and_put_in_order_by_hand(hands: Hands, tmp_path: Path) -> None:
    window, session = hands.window, hands.session
    line = BSplineCurve(np.repeat([0.0, 1.0], 2), np.array([[0.0, 0, 0], [9.0, 0, 0]]))
    job = session.job
    for name in ("first", "second", "third", "fourth"):
        job = job.with_item(Curve(id=job.new_id("curve"), name=name, geometry=line))
    session.commit(job, "draw")
    hands.wait()
    ids = {item.name: item.id for item in session.job.items.values()}

    def row(name: str) -> QWidget:
        return window.shelf.rows[ids[name]]

    drag_row(hands, "first", row("third"), below=True)
    assert order_on(hands) == ["second", "third", "first", "fourth"]
    drag_row(hands, "fourth", row("second"), below=False, drops=False)
    assert order_on(hands) == ["second", "third", "first", "fourth"]
    # Several at once, by one key; they stand behind those in no group.
    session.choice.choose(ids["second"])
    session.choice.choose_besides([ids["first"]])
    hands.key(Qt.Key.Key_G, CTRL, hands.pane)
    assert order_on(hands) == ["third", "fourth", "second", "first"]
    heading = window.shelf.findChild(GroupHeading)
    assert "a group of 2" in heading.accessibleName()
    drag_row(hands, "fourth", heading, below=True)
    assert order_on(hands) == ["third", "second", "first", "fourth"]
    drag_row(hands, "fourth", row("second"), below=False)
    assert order_on(hands) == ["third", "fourth", "second", "first"]
    heading = window.shelf.findChild(GroupHeading)
    QTest.mouseDClick(heading.name, Qt.MouseButton.LeftButton)
    field = heading.findChild(QLineEdit)
    QTest.keyClicks(field, "Gill")
    QTest.keyClick(field, Qt.Key.Key_Return)
    hands.wait()
    assert {session.job.items[ids[n]].group for n in ("first", "second", "fourth")} == {"Gill"}
    heading = window.shelf.findChild(GroupHeading)
    heading.eye.click()
    hands.wait()
    assert [i.name for i in session.job.items.values() if i.visible] == ["third"]
    window.shelf.findChild(GroupHeading).fold.click()
    hands.wait()
    assert order_on(hands) == ["third"]
    write_job(tmp_path / "grouped.uclay", session.job)
    back = read_job(tmp_path / "grouped.uclay")
    assert {i.name: (i.group, i.order) for i in back.items.values()} == {
        i.name: (i.group, i.order) for i in session.job.items.values()
    }
    # All of a group is chosen by a click on its heading; and taken out of it.
    QTest.mouseClick(window.shelf.findChild(GroupHeading).name, Qt.MouseButton.LeftButton)
    assert session.choice.every == {ids[n] for n in ("first", "second", "fourth")}
    hands.key(Qt.Key.Key_G, CTRL | Qt.KeyboardModifier.ShiftModifier, hands.pane)
    assert window.shelf.findChild(GroupHeading) is None
    while session.history.undo_words:
        session.undo()
    assert not session.job.items


def test_from_an_empty_start_to_a_delivered_body_by_keys_alone(
    hands: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = hands.window, hands.session
    path = tmp_path / "lure.step"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))

    def key(key: Qt.Key, held=Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(QApplication.focusWidget(), key, held)
        hands.wait()

    def run(words: str) -> None:
        key(Qt.Key.Key_Space, CTRL)
        QTest.keyClicks(QApplication.focusWidget(), words)
        key(Qt.Key.Key_Return)

    def choose(name: str) -> None:
        key(Qt.Key.Key_1, CTRL)
        key(Qt.Key.Key_Home)
        for _ in range(len(session.job.items)):
            if QApplication.focusWidget().item.name == name:
                break
            QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Down)
        key(Qt.Key.Key_Return)
        assert session.job.items[session.choice.item].name == name

    window.activateWindow()
    window.stage.large.setFocus()
    run("open the demo")
    choose("Back cast")
    # A number on its card is typed, seen live, and undone.
    key(Qt.Key.Key_2, CTRL)
    for _ in range(20):
        if QApplication.focusWidget().accessibleName() == "Control points along u":
            break
        key(Qt.Key.Key_Tab)
    before = session.job.items[session.choice.item].geometry.counts
    key(Qt.Key.Key_A, CTRL)
    QTest.keyClicks(QApplication.focusWidget(), "12")
    key(Qt.Key.Key_Return)
    assert session.job.items[session.choice.item].geometry.counts == (12, before[1])
    key(Qt.Key.Key_Z, CTRL)
    assert session.job.items[session.choice.item].geometry.counts == before
    key(Qt.Key.Key_Escape)
    choose("Lure")
    run("hand over")
    key(Qt.Key.Key_Return)
    hands.wait(path.exists)
    written = path.read_text()
    assert written.count("MANIFOLD_SOLID_BREP('Lure'") == 1 or "PRODUCT('Lure'" in written
    assert written.count("MANIFOLD_SOLID_BREP(") == 1
    assert written.rstrip().endswith("END-ISO-10303-21;")


def test_a_hint_ends_with_a_whole_part_where_there_is_no_room(hands: Hands) -> None:
    window, line = hands.window, hands.window.hint_line
    window.resize(1280, 800)
    window.commands.run("draw")
    hands.wait()
    whole = line.words.text()
    assert "<b>Esc</b> drops it." in whole
    assert not line.words.toolTip()
    line.setFixedWidth(520)
    QApplication.processEvents()
    shown = line.words.text()
    assert shown.endswith(" ...")
    assert shown.removesuffix(" ...") == whole[: len(shown) - 4]
    assert whole[len(shown) - 4] in ".,;:"
    assert line.words.toolTip() == whole
