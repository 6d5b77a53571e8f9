"""Curves with mouse and keys: drawn, dragged, fitted, joined."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from scipy.spatial import cKDTree

from tests.bench.hands import CTRL, NONE, SHIFT, Hands
from usual_clay.bench.cards.draw import DrawCard
from usual_clay.bench.number_field import NumberField
from usual_clay.bench.stage.curve_overlay import TALLEST
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import curve_points
from usual_clay.demo.points import true_outline
from usual_clay.files.exchange import read_curves
from usual_clay.job.items import Curve, PointList
from usual_clay.job.remake import is_stale


@pytest.fixture
def top(hands: Hands):
    """An empty job seen from the top, large."""
    hands.window.set_station("Trace")
    hands.window.stage.look("top")
    hands.window.stage.swap()
    hands.wait()
    return hands, hands.window.stage.side


def chosen(hands: Hands) -> Curve:
    curve = hands.session.job.get(hands.session.choice.item, Curve)
    assert curve is not None
    return curve


def seen(pane, point: np.ndarray) -> QPoint:
    x, y, _ = pane.view.project(np.asarray(point, dtype=float)[None])[0]
    return QPoint(round(x), round(y))


def draw(hands: Hands, pane, places: list[tuple[float, float]], kind: str = "controls") -> Curve:
    """Draw a curve by clicks at parts of the view."""
    QTest.mouseClick(hands.window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    card = hands.window.cards.card
    choice = next(choice for choice in card.kinds if kind in choice._buttons)
    QTest.mouseClick(choice._buttons[kind], Qt.MouseButton.LeftButton)
    for x, y in places:
        at = QPoint(round(x * pane.width()), round(y * pane.height()))
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, NONE, at)
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=pane)
    return chosen(hands)


def test_a_curve_is_drawn_shown_live_and_kept(top) -> None:
    hands, pane = top
    QTest.mouseClick(hands.window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    card = hands.window.cards.card
    size = np.array([pane.width(), pane.height()])
    for share in ((0.2, 0.5), (0.35, 0.3), (0.6, 0.35)):
        QTest.mouseClick(
            pane, Qt.MouseButton.LeftButton, NONE, QPoint(*np.rint(share * size).astype(int))
        )
    # Shown as it grows, and in the job only when it is kept.
    assert len(list(hands.session.shown.all(Curve))) == 1
    assert not list(hands.session.job.all(Curve))
    assert "3 control points" in card.reading.text()
    # Two clicks on one spot are told, not swallowed.
    QTest.mouseClick(card.kinds[0]._buttons["through"], Qt.MouseButton.LeftButton)
    marking = hands.session.hand.marking
    assert marking is not None
    hands.session.hand.set_marking(marking.with_places(marking.points[[0, 1, 1]]))
    assert "one spot" in card.trouble.text()
    assert not card.keep.isEnabled()
    hands.session.hand.set_marking(marking)
    hands.key(Qt.Key.Key_Return, widget=pane)
    curve = chosen(hands)
    assert curve.recipe is not None
    assert curve.recipe.settings.kind == "through"
    places = curve.recipe.settings.array
    assert places[:, 2] == pytest.approx([0, 0, 0])
    assert curve_foot_points(curve.geometry, places)[2].max() < 1e-9
    # Editing has ended: a click now chooses, and draws no more.
    assert hands.session.hand.marking is None
    assert hands.session.hand.tool is None
    before = len(hands.session.job.items)
    draw(hands, pane, [(0.2, 0.7), (0.4, 0.6), (0.6, 0.7)], "arc")
    assert len(hands.session.job.items) == before + 1
    QTest.mouseClick(hands.window.rail.tools["draw"], Qt.MouseButton.LeftButton)
    QTest.mouseClick(pane, Qt.MouseButton.LeftButton, NONE, QPoint(99, 99))
    hands.key(Qt.Key.Key_Escape, widget=pane)
    assert len(hands.session.job.items) == before + 1
    assert hands.session.hand.marking is None


def test_control_points_are_dragged_held_nudged_and_typed_back(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, [(0.15, 0.5), (0.3, 0.3), (0.5, 0.3), (0.7, 0.4), (0.85, 0.5)])
    points = curve.geometry.points
    start = seen(pane, points[2])
    hands.drag([start, start + QPoint(10, 20), start + QPoint(20, 40)], widget=pane)
    moved = chosen(hands)
    per_pixel = pane.view.mm_per_pixel(points[2])
    assert moved.geometry.points[2] - points[2] == pytest.approx(
        [20 * per_pixel, -40 * per_pixel, 0], abs=1.01 * per_pixel
    )
    assert np.array_equal(np.delete(moved.geometry.points, 2, 0), np.delete(points, 2, 0))
    assert hands.session.choice.points == {2}
    # Drawn by control points it stays drawn, with its new points.
    assert moved.recipe is not None
    assert moved.recipe.settings.array == pytest.approx(moved.geometry.points)
    assert not is_stale(hands.session.job, moved)

    def drag_with_key(key: Qt.Key, text: str, by: QPoint) -> np.ndarray:
        before = chosen(hands).geometry.points[2]
        at = seen(pane, before)
        hands.drag([at, at + by / 2], widget=pane, release=False)
        QApplication.sendEvent(pane, QKeyEvent(QEvent.Type.KeyPress, key, NONE, text))
        for kind in (QEvent.Type.MouseMove, QEvent.Type.MouseButtonRelease):
            place = QPointF(at + by)
            left = Qt.MouseButton.LeftButton
            QApplication.sendEvent(
                pane, QMouseEvent(kind, place, pane.mapToGlobal(place), left, left, NONE)
            )
        hands.wait()
        return chosen(hands).geometry.points[2] - before

    step = drag_with_key(Qt.Key.Key_X, "x", QPoint(30, 24))
    assert step[1:] == pytest.approx([0, 0], abs=1e-9)
    assert step[0] == pytest.approx(30 * per_pixel, abs=1.5 * per_pixel)
    leg = chosen(hands).geometry.points[3] - chosen(hands).geometry.points[2]
    slid = drag_with_key(Qt.Key.Key_L, "l", QPoint(24, 3))
    assert np.cross(slid, leg) == pytest.approx([0, 0, 0], abs=1e-6 * np.linalg.norm(leg))
    assert np.linalg.norm(slid) > 5 * per_pixel
    # Arrows nudge by the step, which the brackets halve and double.
    before = chosen(hands).geometry.points[2]
    hands.key(Qt.Key.Key_BracketRight, widget=pane)
    hands.key(Qt.Key.Key_Up, widget=pane)
    assert chosen(hands).geometry.points[2] - before == pytest.approx([0, 0.2, 0])
    # Several with Shift; levelled they have one y.
    QTest.mouseClick(pane, Qt.MouseButton.LeftButton, SHIFT, seen(pane, points[1]))
    assert hands.session.choice.points == {1, 2}
    hands.press("Level y")
    assert np.ptp(chosen(hands).geometry.points[[1, 2], 1]) == pytest.approx(0)
    # Escape in a drag drops it; undo takes the last one back.
    at = seen(pane, chosen(hands).geometry.points[4])
    held = chosen(hands)
    hands.drag([at, at + QPoint(0, 60)], widget=pane, release=False)
    hands.key(Qt.Key.Key_Escape, widget=pane)
    assert chosen(hands) is held
    hands.key(Qt.Key.Key_Z, CTRL, pane)
    assert np.ptp(chosen(hands).geometry.points[[1, 2], 1]) > 0.1
    # Leaving the curve ends its editing.
    hands.session.choice.choose(None)
    assert not hands.session.choice.points


def test_points_come_and_go_and_twins_follow(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, [(0.15, 0.5), (0.3, 0.3), (0.5, 0.3), (0.7, 0.4), (0.85, 0.5)])
    fine = np.linspace(0, 1, 200)
    shape = curve_points(curve.geometry, fine)
    hands.press("Insert point")
    more = chosen(hands)
    assert more.control_points == 6
    assert curve_foot_points(more.geometry, shape)[2].max() < 1e-8
    # What undoing takes away is chosen no more: an arrow key has nothing to move then.
    hands.session.choice.choose_points([4, 5])
    hands.key(Qt.Key.Key_Z, CTRL, pane)
    assert hands.session.choice.points == {4}
    hands.key(Qt.Key.Key_Up, widget=pane)
    hands.key(Qt.Key.Key_Z, CTRL, pane)
    hands.press("Insert point")
    hands.press("Raise degree")
    assert chosen(hands).geometry.degree == 4
    assert curve_foot_points(chosen(hands).geometry, shape)[2].max() < 1e-8
    hands.press("Reverse")
    assert chosen(hands).geometry.points[0] == pytest.approx(more.geometry.points[-1])
    assert hands.window.cards.card.points.remove.text() == "Remove: 0.000 mm"
    hands.press("Remove: 0.000 mm")
    assert "moved the curve by up to 0.0" in hands.window.cards.told.text()
    original = chosen(hands)
    hands.press("make")
    hands.press("Twin")
    twin = chosen(hands)
    assert twin.geometry.points == pytest.approx(original.geometry.points * [1, -1, 1])
    hands.session.choice.choose(original.id)
    at = seen(pane, original.geometry.points[2])
    way = [at, at + QPoint(5, -15), at + QPoint(9, -30)]
    hands.drag(way, release=False, widget=pane)
    live = [hands.session.shown.items[curve.id].geometry.points for curve in (original, twin)]
    assert live[1] == pytest.approx(live[0] * [1, -1, 1])
    assert np.abs(live[1] - twin.geometry.points).max() > 0.1
    hands.key(Qt.Key.Key_Escape, widget=pane)
    assert hands.session.shown.items[twin.id] is hands.session.job.items[twin.id]
    hands.drag(way, widget=pane)
    now = chosen(hands)
    followed = hands.session.job.items[twin.id]
    assert isinstance(followed, Curve)
    assert followed.geometry.points == pytest.approx(now.geometry.points * [1, -1, 1])


def test_numbers_are_typed_while_drawing_and_of_what_is_kept(top) -> None:
    hands, pane = top
    session, window = hands.session, hands.window
    scan_shown = window.stage.scene.shown.scan

    def begin(kind: str) -> DrawCard:
        QTest.mouseClick(window.rail.tools["draw"], Qt.MouseButton.LeftButton)
        card = window.cards.card
        next(c for c in card.kinds if kind in c._buttons)._buttons[kind].click()
        place = QPoint(pane.width() // 2, pane.height() // 2)
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, NONE, place)
        return card

    def type_in(words: str) -> None:
        # The first key is the stage's: it begins the number, and switches no layer.
        QTest.keyClick(pane, words[0])
        QApplication.processEvents()
        QTest.keyClicks(QApplication.focusWidget(), words[1:])
        hands.key(Qt.Key.Key_Return, widget=QApplication.focusWidget())

    card = begin("circle")
    type_in("12,5")
    assert window.stage.scene.shown.scan == scan_shown
    assert card.trouble.text() == ""
    hands.key(Qt.Key.Key_Return, widget=pane)
    circle = chosen(hands)
    away = np.linalg.norm(points_of(circle) - circle.recipe.settings.array[0], axis=1)
    assert away == pytest.approx(np.full(len(away), 12.5))
    # It is a circle still, and told by its radius.
    page = window.cards.card.points
    (_, radius, _) = page.numbers.fields["circle"][0]
    assert radius.isVisible()
    assert radius.value() == 12.5
    type_over(radius, "20")
    away = np.linalg.norm(points_of(chosen(hands)) - circle.recipe.settings.array[0], axis=1)
    assert away == pytest.approx(np.full(len(away), 20))
    begin("rectangle")
    type_in("30")
    type_over(window.cards.card.numbers.fields["rectangle"][1][1], "18")
    hands.key(Qt.Key.Key_Return, widget=pane)
    assert np.ptp(points_of(chosen(hands)), axis=0) == pytest.approx([30, 18, 0])
    page = window.cards.card.points
    type_over(page.numbers.shape[0][2], "4")
    rounded = chosen(hands)
    assert rounded.recipe.settings.corner == 4
    # What cannot be is told, and changes nothing.
    type_over(page.numbers.shape[0][2], "10")
    assert "do not fit" in window.cards.told.text()
    assert chosen(hands).geometry is rounded.geometry
    assert page.numbers.shape[0][2].value() == 4
    session.undo()
    assert chosen(hands).recipe.settings.corner == 0


def type_over(field: NumberField, words: str) -> None:
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, words)
    QTest.keyClick(field, Qt.Key.Key_Return)
    QApplication.processEvents()


def points_of(curve: Curve) -> np.ndarray:
    return curve_points(curve.geometry, np.linspace(*curve.geometry.domain, 200))


def test_the_comb_is_drawn_to_its_scale(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, [(0.5, 0.55), (0.62, 0.55)], "circle")

    def teal() -> int:
        picture = hands.picture(pane)
        return int((np.abs(picture - rgb(now().teal) * 255).max(axis=2) < 70).sum())

    shown = teal()
    assert shown > 400
    # Quills stand outward, all alike on a circle.
    centre = curve.recipe.settings.array[0]
    radius = np.linalg.norm(curve.recipe.settings.array[1] - centre)
    tip = centre + np.array([0, radius + TALLEST * pane.view.camera.height, 0])
    at = seen(pane, tip)
    around = hands.picture(pane)[at.y() - 3 : at.y() + 4, at.x() - 6 : at.x() + 7]
    assert (np.abs(around - rgb(now().teal) * 255).max(axis=2) < 70).any()
    hands.window.commands.run("comb")
    hands.wait()
    # Edges of the words over the view count a little.
    assert teal() < 0.4 * shown


def test_a_spline_is_balanced_shaped_by_hand_and_handed_over(
    with_demo: Hands, tmp_path: Path
) -> None:
    hands, session, window = with_demo, with_demo.session, with_demo.window
    run = next(p for p in session.job.all(PointList) if p.name == "Centre outline")
    session.choice.choose(run.id)
    window.set_station("Trace")
    QTest.mouseClick(window.rail.tools["spline"], Qt.MouseButton.LeftButton)
    hands.wait()
    hands.key(Qt.Key.Key_T, widget=hands.pane)
    curve = chosen(hands)
    report = session.job.report(curve)
    assert report is not None
    assert report.met
    assert curve.control_points <= 24
    away = curve_foot_points(curve.geometry, true_outline()[::40])[2]
    assert np.quantile(away, 0.95) < 0.1
    # The same numbers in Balance, Shelf and card.
    figure = f"{report.at_share:.3f}"
    assert figure in window.balance.chart.note.toPlainText()
    assert f"{curve.control_points} control points" in window.balance.chart.note.toPlainText()
    assert window.cards.card.near.figure.text() == f"{figure} mm"
    assert len(window.balance.chart._places) == len(curve.candidates)
    # A leaner candidate is taken by a click on its dot.
    lean = max(
        (c for c in curve.candidates if c.total < curve.control_points), key=lambda c: c.total
    )
    window.balance.chart.taken.emit(lean)
    hands.wait()
    assert chosen(hands).control_points == lean.nu
    assert not is_stale(session.job, chosen(hands))
    # Shaped by hand it follows no more, and is still judged by its run, live.
    signed = chosen(hands).signed
    window.stage.look("side")
    window.stage.swap()
    hands.wait()
    pane = window.stage.side
    at = seen(pane, chosen(hands).geometry.points[6])
    hands.drag([at, at + QPoint(0, -12), at + QPoint(0, -25)], widget=pane, release=False)
    proposed = session.shown.get(curve.id, Curve)
    assert proposed is not None
    assert proposed.signed is not None
    assert signed is not None
    assert proposed.signed.max() > signed.max() + 0.2
    live = session.shown.report(proposed)
    assert live is not None
    # The card follows now and then while the hand drags.
    hands.wait(lambda: window.cards.card.near.figure.text() == f"{live.at_share:.3f} mm", 5)
    hands.drag([at, at + QPoint(0, -25)], widget=pane)
    shaped = chosen(hands)
    assert shaped.recipe is None
    assert "judged by Centre outline" in window.cards.card.about.text()
    assert session.save(tmp_path / "a.uclay")
    assert session.open(tmp_path / "a.uclay")
    again = session.job.items[curve.id]
    assert isinstance(again, Curve)
    assert again.watches == run.id
    session.choice.choose(again.id)
    hands.hand_over(tmp_path / "line.step")
    hands.wait()
    (back,) = read_curves(tmp_path / "line.step")
    places = curve_points(back, np.linspace(*back.domain, 200))
    own = curve_points(again.geometry, np.linspace(0, 1, 4000))
    assert cKDTree(own).query(places)[0].max() < 0.06
    hands.hand_over(tmp_path / "line.svg")
    hands.wait()
    assert 'mm"' in (tmp_path / "line.svg").read_text()


def test_two_curves_are_bridged_and_paired(hands: Hands) -> None:
    window, session = hands.window, hands.session
    window.set_station("Trace")
    window.stage.swap()
    hands.wait()
    pane = window.stage.side
    side = draw(hands, pane, [(0.2, 0.6), (0.4, 0.3), (0.6, 0.35), (0.8, 0.55)])
    assert np.ptp(side.geometry.points[:, 1]) == pytest.approx(0)
    window.stage.look("top")
    hands.wait()
    ends = side.geometry.points[[0, -1]]
    marked = [seen(pane, end) for end in ends]
    size = pane.width(), pane.height()
    shares = [(p.x() / size[0], p.y() / size[1]) for p in marked]
    middle = ((shares[0][0] + shares[1][0]) / 2, shares[0][1] - 0.25)
    draw(hands, pane, [shares[0], middle, shares[1]])
    session.choice.choose(side.id)
    QTest.mouseClick(window.rail.tools["task pair"], Qt.MouseButton.LeftButton)
    hands.wait()
    # What it would make is shown, and is in the job only when it is kept.
    assert len(list(session.shown.all(Curve))) == 3
    assert len(list(session.job.all(Curve))) == 2
    hands.key(Qt.Key.Key_Return, widget=pane)
    pair = chosen(hands)
    assert pair.recipe is not None
    assert pair.recipe.kind == "pair"
    assert np.ptp(pair.geometry.points, axis=0).min() > 1
    seen_from_side = curve_points(pair.geometry, np.linspace(0, 1, 60))[:, [0, 2]]
    drawn = curve_points(side.geometry, np.linspace(0, 1, 3000))[:, [0, 2]]
    scale = np.ptp(drawn[:, 0])
    assert cKDTree(drawn).query(seen_from_side)[0].max() < 0.01 * scale
    # A change in one view goes into space.
    session.choice.choose(side.id)
    window.stage.look("side")
    hands.wait()
    at = seen(pane, side.geometry.points[1])
    hands.drag([at, at + QPoint(0, -20), at + QPoint(0, -40)], widget=pane)
    again = session.job.items[pair.id]
    assert isinstance(again, Curve)
    assert again.geometry.points[:, 2].max() > pair.geometry.points[:, 2].max()
    # A bridge back from the end to the start, G2 at both.
    QTest.mouseClick(window.rail.tools["task bridge"], Qt.MouseButton.LeftButton)
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=pane)
    made = chosen(hands)
    assert made.recipe is not None
    assert made.recipe.kind == "bridge"
    assert made.control_points == 6
    window.commands.run("task bridge")
    card = window.cards.card
    card.sources[1].setCurrentIndex(card.sources[0].currentIndex())
    hands.wait()
    assert "one is taken twice" in card.trouble.text()
    assert not card.keep.isEnabled()
    hands.key(Qt.Key.Key_Escape, widget=pane)
    assert session.shown is session.job


def test_a_dragged_curve_does_not_have_the_view_rendered_again(top) -> None:
    hands, pane = top
    curve = draw(hands, pane, [(0.15, 0.5), (0.3, 0.3), (0.5, 0.3), (0.7, 0.4), (0.85, 0.5)])
    rendered = []
    render = pane.view._render
    pane.view._render = lambda moving: rendered.append(moving) or render(moving)
    at = seen(pane, curve.geometry.points[2])
    before = hands.picture(pane)
    hands.drag([at, at + QPoint(0, -8), at + QPoint(4, -20)], release=False, widget=pane)
    # Once without the curve; from then on it is painted over that picture.
    first = len(rendered)
    assert first <= 1
    for step in range(4):
        QTest.mouseMove(pane, at + QPoint(6, -22 - 3 * step))
        hands.wait()
    assert len(rendered) == first
    live = hands.session.shown.items[curve.id].geometry
    place = curve_points(live, [0.5])
    x, y, _ = pane.view.project(place)[0]
    now = hands.picture(pane)
    beside = np.s_[round(y) - 2 : round(y) + 3, round(x) - 2 : round(x) + 3]
    assert np.abs(now[beside] - before[beside]).max() > 60
    QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=at + QPoint(6, -31))
    hands.wait()
    assert len(rendered) > first
    # Kept, it is part of the picture again, in the same place.
    kept = curve_points(chosen(hands).geometry, [0.5])
    assert kept == pytest.approx(place, abs=2 * pane.view.mm_per_pixel(place[0]))
