"""Shaping curves with mouse and keys: handles, snapping, typed numbers, tasks, holds."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget
from scipy.spatial import cKDTree

from tests.bench.hands import NONE, SHIFT, Hands
from tests.bench.test_trace import chosen, draw, seen, top
from tests.core.test_demo_curves import top_truth
from usual_clay.bench.gestures.drag_handle import paddles
from usual_clay.core.check.joint import joint
from usual_clay.core.fit.curve.holds import Hold
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import curve_derivatives, curve_points
from usual_clay.core.spline.parts import evenly, length_of
from usual_clay.files.job_file import read_job
from usual_clay.job.edits.curves import holds_of
from usual_clay.job.items import Curve, Picture, PointList
from usual_clay.job.remake import is_stale

__all__ = ["top"]
ARCH = [(0.15, 0.5), (0.3, 0.3), (0.5, 0.3), (0.7, 0.4), (0.85, 0.5)]


def mouse(pane: QWidget, kind: QEvent.Type, at: QPoint, held=NONE) -> None:
    place, left = QPointF(at), Qt.MouseButton.LeftButton
    buttons = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else left
    QApplication.sendEvent(
        pane, QMouseEvent(kind, place, pane.mapToGlobal(place), left, buttons, held)
    )


def offer(hands: Hands, kind: str):
    """Open a task by its name in the finder's table; return its card."""
    hands.window.commands.run(f"task {kind}")
    hands.wait()
    return hands.window.cards.card


@pytest.mark.parametrize(("sign", "code"), [(".", Qt.Key.Key_Period), (",", Qt.Key.Key_Comma)])
def test_digits_say_how_far_a_drag_goes(top, sign: str, code: Qt.Key) -> None:
    hands, pane = top
    before = draw(hands, pane, ARCH).geometry.points[2]
    at = seen(pane, before)
    hands.drag([at, at + QPoint(0, -30)], widget=pane, release=False)
    for text, key in (
        ("y", Qt.Key.Key_Y),
        ("2", Qt.Key.Key_2),
        (sign, code),
        ("5", Qt.Key.Key_5),
    ):
        QApplication.sendEvent(pane, QKeyEvent(QEvent.Type.KeyPress, key, NONE, text))
    assert pane.typed == f"2{sign}5"
    mouse(pane, QEvent.Type.MouseButtonRelease, at + QPoint(0, -30))
    assert chosen(hands).geometry.points[2] - before == pytest.approx([0, 2.5, 0])
    # Numbers in the card do the same, and a weight makes it rational.
    page = hands.window.cards.card.points
    page.place[0].setValue(1.25)
    assert chosen(hands).geometry.points[2, 0] == pytest.approx(1.25)
    assert page.place[1].value() == pytest.approx(before[1] + 2.5, abs=1e-3)
    page.weight.setValue(3.0)
    assert chosen(hands).geometry.weights == pytest.approx([1, 1, 3, 1, 1])
    page.weight.setValue(1.0)
    assert chosen(hands).geometry.weights is None


def test_clicks_are_drawn_to_ends_and_near_misses_are_told(top) -> None:
    hands, pane = top
    first = draw(hands, pane, [(0.2, 0.5), (0.8, 0.5)], "line")
    QTest.mouseClick(hands.window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    end = seen(pane, first.geometry.points[1])
    mouse(pane, QEvent.Type.MouseMove, end + QPoint(5, 4))
    assert pane.snapped is not None
    assert pane.snapped.words == "end"
    QTest.mouseClick(pane, Qt.MouseButton.LeftButton, NONE, end + QPoint(5, 4))
    marking = hands.session.hand.marking
    assert marking is not None
    assert marking.points[0] == pytest.approx(first.geometry.points[1])
    middle = seen(pane, first.geometry.points.mean(axis=0))
    mouse(pane, QEvent.Type.MouseMove, middle + QPoint(3, 5))
    assert pane.snapped is not None
    assert pane.snapped.words == "middle"
    assert pane.snapped.place == pytest.approx(first.geometry.points.mean(axis=0))
    on = end + QPoint(-60, 5)
    mouse(pane, QEvent.Type.MouseMove, on)
    assert pane.snapped is not None
    assert pane.snapped.words == "on curve"
    hands.press("nothing")
    mouse(pane, QEvent.Type.MouseMove, end + QPoint(4, 4))
    assert pane.snapped is None
    hands.press("grid")
    mouse(pane, QEvent.Type.MouseMove, end + QPoint(-50, -50))
    assert pane.snapped is not None
    assert "grid" in pane.snapped.words
    hands.press("things")
    hands.key(Qt.Key.Key_Escape, widget=pane)
    # A line above the first seems to cross it: the gap is told.
    second = draw(hands, pane, [(0.4, 0.3), (0.4, 0.7)], "line")
    raised = second.geometry.points + np.array([0, 0, 1.5])
    hands.session.choice.point_kind = "through"
    from usual_clay.bench.edits.shaping import put_places

    put_places(hands.session, second, raised, "raise")
    QTest.mouseClick(hands.window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    crossing = QPoint(round(0.4 * pane.width()), round(0.5 * pane.height()))
    mouse(pane, QEvent.Type.MouseMove, crossing + QPoint(2, 1))
    assert pane.snapped is not None
    assert pane.snapped.words == "near miss: 1.500 mm apart"


def test_through_points_and_their_tangents_are_dragged(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, ARCH, "through")
    page = hands.window.cards.card.points
    assert hands.session.choice.point_kind == "through"
    assert "control points are the finer tool" in page.why.text()
    places = curve.recipe.settings.array
    at = seen(pane, places[2])
    hands.drag([at, at + QPoint(0, 12), at + QPoint(0, 24)], widget=pane)
    moved = chosen(hands)
    assert moved.recipe is not None
    assert moved.recipe.settings.array[2, 1] < places[2, 1] - 1
    assert curve_foot_points(moved.geometry, moved.recipe.settings.array)[2].max() < 1e-9
    # The chosen point has a paddle; dragged, it becomes a handle of its own.
    (paddle,) = paddles(hands.session.job, moved, hands.session.choice.points)
    tip = seen(pane, paddle.tip)
    hands.drag([tip, tip + QPoint(0, -15), tip + QPoint(0, -40)], widget=pane)
    turned = chosen(hands)
    assert len(turned.recipe.settings.handles) == 1
    t = curve_foot_points(turned.geometry, turned.recipe.settings.array[[2]])[0]
    ahead = curve_derivatives(turned.geometry, t, 1)[1, 0]
    assert ahead == pytest.approx(turned.recipe.settings.handles[0].ahead, abs=1e-6)
    page.direction.setValue(0.0)
    page.radius.setValue(25.0)
    now = chosen(hands)
    _, first, second = curve_derivatives(now.geometry, t, 2)[:, 0]
    assert first[1] == pytest.approx(0, abs=1e-6)
    assert np.cross(first, second)[2] / np.linalg.norm(first) ** 3 == pytest.approx(1 / 25)
    hands.press("Reset all")
    assert not chosen(hands).recipe.settings.handles
    hands.press("control points")
    assert hands.session.choice.point_kind == "control"


def test_several_points_are_scaled_turned_and_gathered(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, ARCH)
    for index in (1, 2, 3):
        held = SHIFT if index > 1 else NONE
        QTest.mouseClick(
            pane, Qt.MouseButton.LeftButton, held, seen(pane, curve.geometry.points[index])
        )
    points = curve.geometry.points
    middle = points[1:4].mean(axis=0)
    page = hands.window.cards.card.points
    page.factor.setValue(2.0)
    page.turn.setValue(90.0)
    hands.press("Do")
    own = points[1:4] - middle
    quarter = np.stack([-own[:, 1], own[:, 0], own[:, 2]], axis=1)
    assert chosen(hands).geometry.points[1:4] == pytest.approx(middle + 2 * quarter)
    hands.press("Gather in")
    assert chosen(hands).geometry.points[1:4] == pytest.approx(middle + quarter)
    hands.press("To a line")
    flat = chosen(hands).geometry.points[1:4]
    assert np.cross(flat[1] - flat[0], flat[2] - flat[0]) == pytest.approx([0, 0, 0], abs=1e-9)
    assert chosen(hands).geometry.points[[0, 4]] == pytest.approx(points[[0, 4]])


def test_a_stroke_becomes_a_lean_curve(top) -> None:
    hands, pane = top
    QTest.mouseClick(hands.window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    card = hands.window.cards.card
    QTest.mouseClick(card.kinds[0]._buttons["stroke"], Qt.MouseButton.LeftButton)
    x = np.linspace(0.15, 0.85, 60)
    y = 0.5 - 0.2 * np.sin(3 * (x - 0.15))
    path = [
        QPoint(round(a * pane.width()), round(b * pane.height())) for a, b in zip(x, y, strict=True)
    ]
    hands.drag(path, widget=pane)
    hands.key(Qt.Key.Key_Return, widget=pane)
    curve = chosen(hands)
    assert curve.control_points < 12
    at = pane.view.project(evenly(curve.geometry, 200))[:, :2]
    drawn = np.array([[p.x(), p.y()] for p in path])
    assert cKDTree(at).query(drawn)[0].max() < 8


def test_curves_are_offset_slimmed_faired_split_and_joined(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, ARCH)
    card = offer(hands, "offset")
    # The plane is the curve's own, and both sides at once are shown before they are kept.
    assert card._settings.normal == "z"
    card.several.setValue(2.0)
    hands.wait()
    assert len(list(hands.session.shown.all(Curve))) == 3
    hands.key(Qt.Key.Key_Return, widget=pane)
    sides = [c for c in hands.session.job.all(Curve) if "offset" in c.name]
    away = [cKDTree(evenly(curve.geometry, 6000)).query(evenly(c.geometry, 100))[0] for c in sides]
    assert away[0] == pytest.approx(1, abs=0.03)
    assert away[1] == pytest.approx(2, abs=0.03)
    # They follow.
    hands.session.choice.choose(curve.id)
    at = seen(pane, curve.geometry.points[2])
    hands.drag([at, at + QPoint(0, -9), at + QPoint(0, -20)], widget=pane)
    hands.wait()
    again = hands.session.job.get(sides[0].id, Curve)
    assert again is not None
    near = cKDTree(evenly(chosen(hands).geometry, 6000)).query(evenly(again.geometry, 100))[0]
    assert near == pytest.approx(1, abs=0.03)
    card = offer(hands, "slim")
    card.fields.parts["controls"][0].setValue(4)
    hands.wait()
    assert "5 control points become 4" in card.words.text()
    # The old one is ghosted while the new one is only shown.
    assert chosen(hands).control_points == 5
    hands.key(Qt.Key.Key_Return, widget=pane)
    assert chosen(hands).control_points == 4
    offer(hands, "split curve")
    hands.key(Qt.Key.Key_Return, widget=pane)
    first = chosen(hands)
    part = next(c for c in hands.session.job.all(Curve) if "part" in c.name)
    assert length_of(first.geometry) == pytest.approx(length_of(part.geometry), rel=1e-3)
    hands.session.choice.choose(first.id)
    card = offer(hands, "chain")
    card.sources[1].setCurrentIndex(card.sources[1].findData(part.id))
    hands.wait()
    assert "largest gap" in card.words.text()
    hands.key(Qt.Key.Key_Return, widget=pane)
    assert chosen(hands).control_points == 4
    card = offer(hands, "extend")
    card.fields.parts["by"][0].setValue(3.0)
    hands.wait()
    assert "mm become" in card.words.text()
    hands.key(Qt.Key.Key_Escape, widget=pane)
    assert hands.session.shown is hands.session.job


def test_a_bridge_is_drawn_stronger_by_its_paddles(top) -> None:
    hands, pane = top
    draw(hands, pane, [(0.1, 0.6), (0.2, 0.5), (0.3, 0.5)])
    draw(hands, pane, [(0.6, 0.4), (0.75, 0.4), (0.9, 0.5)])
    first = next(hands.session.job.all(Curve))
    hands.session.choice.choose(first.id)
    offer(hands, "bridge")
    hands.key(Qt.Key.Key_Return, widget=pane)
    made = chosen(hands)
    near, far = paddles(hands.session.job, made, frozenset())
    tip = seen(pane, near.tip)
    way = near.tip - near.foot
    target = seen(pane, near.tip + 0.5 * way)
    hands.drag([tip, target], widget=pane)
    stronger = chosen(hands)
    settings = stronger.recipe.settings
    assert settings.first_strength == pytest.approx(1.5, abs=0.05)
    assert settings.second_strength == 1.0
    assert joint(first.geometry, stronger.geometry).grade >= 2
    tip = seen(pane, far.tip)
    hands.drag([tip, seen(pane, far.tip + 0.3 * (far.tip - far.foot))], held=SHIFT, widget=pane)
    settings = chosen(hands).recipe.settings
    assert settings.first_strength == settings.second_strength == pytest.approx(1.3, abs=0.05)
    # Joints are told, and a wall that is kept.
    hands.press("judge")
    hands.wait()
    page = hands.window.cards.card.judging
    assert page.joints.text().count("G2: gap 0.000 mm") + page.joints.text().count("G3: gap") == 2
    page.other.setCurrentIndex(page.other.findData(first.id))
    page.least.setValue(5.0)
    hands.wait()
    assert page.distance.text().startswith("Least 0.000 mm")


def test_holds_hold_while_the_hand_drags_and_clashes_are_refused(top, tmp_path: Path) -> None:
    hands, pane = top
    neighbour = draw(hands, pane, [(0.1, 0.7), (0.2, 0.6), (0.3, 0.6)])
    curve = draw(hands, pane, [(0.32, 0.58), (0.45, 0.4), (0.6, 0.4), (0.7, 0.5), (0.85, 0.6)])
    hands.window.commands.run("holds")
    card = hands.window.cards.card
    hands.press("G1")
    hands.press("start")
    card.other.setCurrentIndex(card.other.findData(neighbour.id))
    hands.press("Add")
    assert joint(chosen(hands).geometry, neighbour.geometry).grade >= 1
    hands.press("fixed")
    hands.press("end")
    hands.press("Add")
    assert len(holds_of(chosen(hands))) == 2
    held = chosen(hands).geometry.points[-1]
    hands.press("distance")
    hands.press("straight")
    card.value.setValue(card.value.value() + 5)
    hands.press("Add")
    assert "cannot hold together" in card.trouble.text()
    assert "distance" not in card.trouble.text()
    assert len(holds_of(chosen(hands))) == 2
    hands.key(Qt.Key.Key_Escape, widget=pane)
    at = seen(pane, chosen(hands).geometry.points[2])
    hands.drag([at, at + QPoint(0, -20), at + QPoint(5, -45)], widget=pane)
    dragged = chosen(hands)
    assert dragged.geometry.points[-1] == pytest.approx(held, abs=1e-6)
    assert joint(dragged.geometry, neighbour.geometry).grade >= 1
    # The neighbour moves, and the joint holds.
    hands.session.choice.choose(neighbour.id)
    at = seen(pane, neighbour.geometry.points[2])
    hands.drag([at, at + QPoint(0, 10), at + QPoint(-4, 20)], widget=pane)
    hands.wait()
    after = hands.session.job.items[curve.id]
    assert isinstance(after, Curve)
    assert not is_stale(hands.session.job, after)
    assert joint(after.geometry, chosen(hands).geometry).grade >= 1
    assert hands.session.save(tmp_path / "held.uclay")
    again = read_job(tmp_path / "held.uclay").items[curve.id]
    assert isinstance(again, Curve)
    assert holds_of(again) == holds_of(after)
    assert isinstance(holds_of(again)[0], Hold)


def test_a_twin_of_a_curve_on_the_plane_meets_it_smoothly(top) -> None:
    hands, pane = top
    y = float(pane.view.project(np.zeros((1, 3)))[0][1]) / pane.height()
    draw(hands, pane, [(0.2, y), (0.21, y - 0.2), (0.5, y - 0.3), (0.8, y - 0.2)])
    hands.press("make")
    hands.press("Twin")
    assert "kept square to the mirror plane at its start" in hands.window.cards.told.text()
    twin = chosen(hands)
    original = hands.session.job.items[twin.recipe.sources[0]]
    assert isinstance(original, Curve)
    assert joint(original.geometry, twin.geometry).grade >= 1
    assert curve_points(original.geometry, [0.0])[0, 1] == pytest.approx(0, abs=1e-9)


def test_a_run_is_traced_in_parts_and_told_as_arcs(with_demo: Hands) -> None:
    hands, session = with_demo, with_demo.session
    run = next(p for p in session.job.all(PointList) if p.name == "Centre outline")
    session.choice.choose(run.id)
    hands.window.set_station("Trace")
    slot = int(np.argmin(np.linalg.norm(run.points - [7.0, 0, -10.6], axis=1)))
    tail = int(np.argmax(run.points[:, 0]))
    session.choice.ring(np.array(sorted((slot, tail))))
    before = len(list(session.job.all(Curve)))
    hands.press("Splines in parts")
    hands.wait()
    parts = list(session.job.all(Curve))[before:]
    assert len(parts) == 2
    assert joint(parts[0].geometry, parts[1].geometry).gap < 1e-9
    for part in parts:
        report = session.job.report(part)
        assert report is not None
        assert report.met
    session.choice.choose(run.id)
    card = offer(hands, "arc")
    assert "mm of it are an arc of radius" in card.words.text()


def test_the_top_outline_is_drawn_over_its_picture_and_twinned(with_demo: Hands) -> None:
    hands, session, window = with_demo, with_demo.session, with_demo.window
    wanted = next(c for c in session.job.all(Curve) if c.name == "Top outline, front").geometry
    for curve in list(session.job.all(Curve)):
        session.set_flag(curve.id, "visible", False)
    picture = next(p for p in session.job.all(Picture) if p.name == "Top")
    session.set_flag(picture.id, "visible", True)
    window.set_station("Trace")
    for switch in ("scan", "surfaces"):
        window.stage.switch(switch, False)
    session.choice.choose(None)
    window.stage.look("top")
    window.stage.swap()
    hands.wait()
    pane = window.stage.side
    QTest.mouseClick(window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    hands.press("top")
    hands.press("nothing")
    # A hand sets points to the pixel, no nearer.
    for place in wanted.points:
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, NONE, seen(pane, place))
    hands.key(Qt.Key.Key_Return, widget=pane)
    front = chosen(hands)
    assert front.control_points <= 8
    assert front.geometry.points[:, 2] == pytest.approx(0)
    away = cKDTree(top_truth()).query(evenly(front.geometry, 800))[0]
    assert np.quantile(away, 0.95) < 0.1
    hands.press("make")
    hands.press("Twin")
    twin = chosen(hands)
    original = session.job.items[front.id]
    assert isinstance(original, Curve)
    assert twin.geometry.points == pytest.approx(original.geometry.points * [1, -1, 1])
    assert joint(original.geometry, twin.geometry).grade >= 1
    away = cKDTree(top_truth()).query(evenly(twin.geometry, 800))[0]
    assert np.quantile(away, 0.95) < 0.1
