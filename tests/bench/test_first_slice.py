"""The whole path as a new user walks it, with mouse and keys."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QLabel

from tests.bench.hands import BACK, CTRL, NONE, Hands
from usual_clay.bench.edits.regions import set_spread
from usual_clay.core.check.deviation import percent
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.demo.scan import pose
from usual_clay.demo.shape import signed_distance
from usual_clay.files.exchange import read_exchange
from usual_clay.files.mesh_file import read_mesh
from usual_clay.job.items import Region, Scan, Surface


def take(box, name: str) -> None:
    """Choose from a box by keys."""
    box.setFocus()
    while box.currentText() != name:
        before = box.currentIndex()
        wanted = box.findText(name)
        QTest.keyClick(box, Qt.Key.Key_Down if wanted > before else Qt.Key.Key_Up)
        assert box.currentIndex() != before


def test_from_scan_to_step(hands: Hands, scan_file: Path, tmp_path: Path) -> None:
    window, session = hands.window, hands.session
    # The scan's file has no unit: it is asked for, with the size it makes.
    window.documents.open_file(scan_file)
    hands.wait()
    card = window.cards.get("bring in")
    assert window.cards.card is card
    assert card.portrait.isVisible()
    assert not card.portrait.pixmap().isNull()
    assert "94" in card.made.text()
    QTest.mouseClick(card.unit._buttons["in"], Qt.MouseButton.LeftButton)
    assert "2389" in card.made.text()
    QTest.mouseClick(card.unit._buttons["mm"], Qt.MouseButton.LeftButton)
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    assert [scan.name for scan in session.job.all(Scan)] == ["brackwater-lure"]
    # The unit is remembered for the next file.
    assert QSettings().value("unit") == "mm"
    # The back in two clicks: Spread, and the back itself.
    window.set_station("Surface")
    QTest.mouseClick(window.rail.tools["spread"], Qt.MouseButton.LeftButton)
    hands.click(BACK)
    region = next(session.job.all(Region))
    assert 15_000 < len(region.vertices) < 35_000
    # Enter casts it.
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    surface = session.choice.surface()
    assert surface is not None
    assert surface.geometry.counts == (10, 10)
    assert surface.recipe is not None
    assert surface.recipe.settings.reach == pytest.approx(0.4)
    # To tolerance with its key; every candidate stays in Balance.
    hands.key(Qt.Key.Key_T, widget=hands.pane)
    surface = session.choice.surface()
    assert surface is not None
    report = session.job.report(surface)
    assert report is not None
    assert report.met
    assert report.at_share <= 0.05
    assert len(surface.candidates) > 8
    assert len(window.balance.chart._places) == len(surface.candidates)
    # Against the truth the surface is far better than against the noisy scan.
    middle = np.abs(surface.signed) < 0.1
    feet = _feet(surface, session.job.items[region.scan].mesh.vertices[region.vertices])
    true = np.abs(signed_distance(pose().to_lure(feet)))[middle]
    assert np.quantile(true, 0.95) < 0.04
    # Save, open again, and all is as it was.
    assert session.save(tmp_path / "lure.uclay")
    session.new()
    assert not session.job.items
    assert session.open(tmp_path / "lure.uclay")
    hands.wait()
    again = next(session.job.all(Surface))
    assert np.array_equal(again.geometry.points, surface.geometry.points)
    assert session.job.report(again) == report
    assert len(again.candidates) == len(surface.candidates)
    assert session.is_saved
    # STEP, IGES and STL.
    session.choice.choose(again.id)
    for suffix in (".step", ".igs"):
        hands.hand_over(tmp_path / f"back{suffix}")
        hands.wait()
        (back,) = read_exchange(tmp_path / f"back{suffix}")
        assert np.abs(back.points - again.geometry.points).max() < 1e-9
    hands.hand_over(tmp_path / "back.stl")
    hands.wait()
    assert len(read_mesh(tmp_path / "back.stl").triangles) > 100


def _feet(surface: Surface, points: np.ndarray) -> np.ndarray:
    from usual_clay.core.spline.closest import foot_points

    return foot_points(surface.geometry, points).feet


def test_all_panels_say_the_same_numbers(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    surface = session.choice.surface()
    assert surface is not None
    for tolerance in (0.05, 0.08):
        window.top_bar.tolerance.setValue(tolerance)
        with_demo.wait()
        report = session.job.report(surface)
        assert report is not None
        figure = f"{report.at_share:.3f}"
        assert window.cards.card.near.figure.text() == f"{figure} mm"
        row = window.shelf.rows[surface.id]
        assert figure in [part.text() for part in row.findChildren(QLabel)]
        assert figure in window.balance.chart.note.toPlainText()
        assert window.balance.histogram.share.text() == percent(report.within_share)
        assert f"tolerance {tolerance:.3f}" in window.balance.chart.tolerance_words.toPlainText()
        assert session.job.tolerance.deviation == tolerance
    assert with_demo.session.history.undo_words == "tolerance"


def test_settings_refit_live_and_are_marked_stale(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    card = window.cards.card
    before = session.choice.surface()
    assert before is not None
    card.nu.setValue(9)
    now = session.choice.surface()
    assert now is not None
    assert now.geometry is before.geometry
    assert card.near.words.text() == "being fitted"
    assert "fitting" in window.balance.chart.note.toPlainText()
    with_demo.wait()
    made = session.choice.surface()
    assert made is not None
    assert made.geometry.counts == (9, 6)
    assert card.near.words.text() == "95 % are nearer"
    card.degree.setValue(5)
    with_demo.wait()
    assert session.choice.surface().geometry.degrees == (5, 5)
    card.smoothness.slider.setValue(90)
    with_demo.wait()
    stiff = session.job.report(session.choice.surface())
    assert stiff is not None
    assert stiff.at_share > 0.1
    # Other settings than counts leave no old candidates behind.
    assert len(session.choice.surface().candidates) == 1
    for _ in range(3):
        with_demo.key(Qt.Key.Key_Z, CTRL, hands_on(window))
    back = session.choice.surface()
    assert back is not None
    assert back.geometry is before.geometry


def hands_on(window):
    return window.stage.free


def test_frame_choices_turn_the_surface(with_demo: Hands) -> None:
    card, session = with_demo.window.cards.card, with_demo.session
    take(card.frame, "axes")
    with_demo.wait()
    corner = session.choice.surface().geometry.points[0, 0]
    take(card.frame, "locked")
    with_demo.wait()
    assert card.plane.isVisible()
    card.plane.setCurrentText("yx")
    with_demo.wait()
    turned = session.choice.surface()
    assert turned is not None
    assert turned.recipe is not None
    assert (turned.recipe.settings.frame, turned.recipe.settings.plane) == ("locked", "yx")
    assert np.linalg.norm(turned.geometry.points[0, 0] - corner) > 1
    # Along its own length it is not symmetric, nor the other way round.
    take(card.sides, "along")
    with_demo.wait()
    assert session.choice.surface().recipe.settings.sides == "along"
    assert session.choice.surface().geometry is not turned.geometry
    card.symmetric.chosen.emit("y")
    with_demo.wait()
    settings = session.choice.surface().recipe.settings
    assert (settings.sides, settings.symmetric) == ("best", "y")
    assert not with_demo.session.trouble


def test_the_first_surface_is_led_to_step_by_step(
    hands: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, way = hands.window, hands.window.first_surface

    def comes_to(step: int) -> None:
        hands.wait(lambda: way.step == step, 20)
        hands.wait()

    hands.press("First surface: six steps")
    hands.wait(way.isVisible)
    assert way.count.text() == "First surface, 1 of 6"
    assert way.step == 0
    middle = Qt.MouseButton.MiddleButton
    hands.drag([QPoint(200, 200), QPoint(215, 204)], button=middle)
    comes_to(1)
    assert "<b>S</b>" in way.words.text()
    hands.key(Qt.Key.Key_S)
    hands.click(BACK)
    comes_to(2)
    hands.key(Qt.Key.Key_D)
    comes_to(3)
    hands.key(Qt.Key.Key_T)
    comes_to(4)
    chart = window.balance.chart
    view = chart.plot.getViewBox()
    place = next(
        each for each in chart._front if (each[2].nu, each[2].nv) != way.surface.geometry.counts
    )
    at = chart.plot.mapFromScene(view.mapViewToScene(QPointF(*place[:2])))
    QTest.mouseClick(chart.plot.viewport(), Qt.MouseButton.LeftButton, NONE, at)
    comes_to(5)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "a.step"), ""))
    hands.key(Qt.Key.Key_E, held=Qt.KeyboardModifier.ControlModifier)
    hands.wait()
    hands.press("Write ...")
    comes_to(6)
    assert way.count.text() == "Done"
    assert (tmp_path / "a.step").exists()
    QTest.mouseClick(way.leave_button, Qt.MouseButton.LeftButton)
    assert way.isHidden()


def test_balance_is_clicked_and_dragged(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    with_demo.key(Qt.Key.Key_T, widget=with_demo.pane)
    chart = window.balance.chart
    front = chart._front
    assert len(front) > 4
    view = chart.plot.getViewBox()

    def pixel(place: tuple) -> QPoint:
        scene = view.mapViewToScene(QPointF(place[0], place[1]))
        return chart.plot.mapFromScene(scene)

    for place in (front[1], front[3]):
        QTest.mouseClick(chart.plot.viewport(), Qt.MouseButton.LeftButton, NONE, pixel(place))
        with_demo.wait()
        surface = session.choice.surface()
        assert surface is not None
        assert surface.geometry.counts == (place[2].nu, place[2].nv)
        report = session.job.report(surface)
        assert report is not None
        # A dot is what the search saw; settled in full the surface is no worse.
        dot = place[2].deviation(0.95)
        assert 0.6 * dot < report.at_share < 1.05 * dot
    # Dragging along takes the front's candidate nearest below the cursor.
    path = [pixel(place) for place in chart._front[1:4]]
    target = chart._front[3][0]
    with_demo.drag(path, widget=chart.plot.viewport())
    dragged = session.choice.surface()
    assert dragged is not None
    assert np.log10(dragged.control_points) == pytest.approx(target, abs=0.08)
    assert session.history.undo_words == "balance"


def test_a_search_is_stopped_and_keeps_the_best(with_demo: Hands) -> None:
    window, session = with_demo.window, with_demo.session
    window.top_bar.tolerance.setValue(0.042)
    surface = session.choice.surface()
    assert surface is not None
    window.commands.run("to tolerance")
    with_demo.wait(lambda: len(session.sight.found) > 4)
    assert window.cards.card.search.text() == "Stop"
    assert window.hint_line.cancel.isVisible()
    QTest.mouseClick(window.hint_line.cancel, Qt.MouseButton.LeftButton)
    with_demo.wait()
    assert "Stopped" in session.notes[surface.id]
    stopped = session.choice.surface()
    assert stopped is not None
    assert len(stopped.candidates) >= 5
    assert window.cards.card.search.text() == "To tolerance"


def test_a_region_that_folds_is_told_and_the_way_named(with_scan: Hands) -> None:
    window, session = with_scan.window, with_scan.session
    window.commands.run("spread")
    set_spread(session, 1.0)
    with_scan.click(BACK)
    window.commands.run("cast")
    with_scan.wait()
    assert not list(session.job.all(Surface))
    assert "folds over" in window.cards.card.trouble.text()
    assert "four-corner patch" in window.cards.card.trouble.text()


def test_a_damaged_job_leaves_the_open_one_alone(with_demo: Hands, tmp_path: Path) -> None:
    before = with_demo.session.job
    bad = tmp_path / "bad.uclay"
    bad.write_bytes(b"PK\x03\x04 nonsense")
    with_demo.window.documents.open_file(bad)
    with_demo.wait()
    assert with_demo.session.job is before
    assert "damaged" in with_demo.window.cards.told.text()
    odd = tmp_path / "letter.ply"
    odd.write_text("a letter")
    with_demo.window.documents.open_file(odd)
    with_demo.wait()
    assert with_demo.session.job is before
    assert "no readable PLY" in with_demo.window.cards.told.text()


def test_a_new_surface_is_dropped_by_escape(with_scan: Hands, lure: TriangleMesh) -> None:
    with_scan.window.commands.run("spread")
    with_scan.click(BACK)
    with_scan.key(Qt.Key.Key_Return, widget=with_scan.pane)
    assert list(with_scan.session.job.all(Surface))
    with_scan.key(Qt.Key.Key_Escape, widget=with_scan.pane)
    assert not list(with_scan.session.job.all(Surface))
    assert list(with_scan.session.job.all(Region))
