"""Point lists in the real window: brought in, cleaned, moved to the surface, saved."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from scipy.spatial import cKDTree

from tests.bench.hands import CTRL, Hands
from usual_clay.bench.edits.points import take_out
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.demo.points import probed_outline, true_outline, write_point_lists
from usual_clay.job.items import PointList


def bring_in(hands: Hands, path: Path) -> PointList:
    hands.window.documents.open_file(path)
    hands.wait()
    # Columns named x and z say themselves where they belong; all three stay in space.
    card = hands.window.cards.get("bring in")
    assert not card.plane_row.isVisible() or card.plane._buttons["space"].isChecked()
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    points = hands.session.job.items[hands.session.choice.item or ""]
    assert isinstance(points, PointList)
    return points


def test_an_outline_is_cleaned_and_moved_to_the_surface(hands: Hands, tmp_path: Path) -> None:
    outline, _ = write_point_lists(tmp_path)
    points = bring_in(hands, outline)
    assert points.unit == "mm"
    assert points.closed
    session = hands.session
    assert "315 points; a closed run" in hands.window.cards.card.about.text()
    hands.press("Suggest slips")
    _, slipped = probed_outline()
    assert set(np.flatnonzero(slipped)) <= set(session.choice.ringed)
    assert len(session.choice.ringed) <= 16
    assert f"{len(session.choice.ringed)} points are ringed" in hands.window.cards.card.found.text()
    # Suggested points are ringed on the stage and still in the run.
    x, y = hands.pane.view.project(points.points)[session.choice.ringed[0], :2].round().astype(int)
    ringed = hands.picture()[y - 8 : y + 9, x - 8 : x + 9]
    assert (np.abs(ringed - rgb(now().plum) * 255).max(axis=2) < 60).any()
    hands.press("Take out")
    cleaned = session.job.items[points.id]
    assert isinstance(cleaned, PointList)
    assert set(np.flatnonzero(slipped)) <= set(cleaned.out)
    assert len(cleaned.points) == 315
    hands.press("ball")
    hands.press("Move to the surface")
    moved = session.job.items[session.choice.item or ""]
    assert isinstance(moved, PointList)
    assert moved.id != points.id
    away = cKDTree(true_outline()[:, [0, 2]]).query(moved.points[:, [0, 2]])[0]
    assert np.sqrt(np.mean(away**2)) < 0.05
    # Saved, opened again, and all as it was.
    assert session.save(tmp_path / "a.uclay")
    assert session.open(tmp_path / "a.uclay")
    again = session.job.items[points.id]
    assert isinstance(again, PointList)
    assert np.array_equal(again.out, cleaned.out)
    assert np.array_equal(again.points, cleaned.points)
    session.choice.choose(again.id)
    hands.press("clean")
    hands.press("Put back")
    assert not len(session.job.items[points.id].out)
    hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    assert len(session.job.items[points.id].out) == len(cleaned.out)


def test_bad_rows_are_shown_before_they_are_skipped(hands: Hands, tmp_path: Path) -> None:
    path = tmp_path / "probe.csv"
    path.write_text("x,y,z\n0,0,0\nslip,0,0\n10,0,0\n20,5,\n30,5,1\n")
    hands.window.documents.open_file(path)
    hands.wait()
    words = hands.window.cards.get("bring in").made.text()
    assert "2 rows are no points" in words
    assert "Row 3: 'slip' is no number" in words
    QTest.mouseClick(
        hands.window.cards.get("bring in").unit._buttons["cm"], Qt.MouseButton.LeftButton
    )
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    points = next(hands.session.job.all(PointList))
    assert points.points[:, 0].tolist() == [0, 100, 300]
    assert hands.session.is_saved is False


def test_two_nameless_columns_ask_for_their_plane(hands: Hands, tmp_path: Path) -> None:
    path = tmp_path / "run.csv"
    path.write_text("1;2\n3;4\n5;7\n")
    hands.window.documents.open_file(path)
    hands.wait()
    card = hands.window.cards.get("bring in")
    assert card.plane_row.isVisible()
    QTest.mouseClick(card.plane._buttons["yz"], Qt.MouseButton.LeftButton)
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    points = next(hands.session.job.all(PointList))
    assert points.points.tolist() == [[0, 1, 2], [0, 3, 4], [0, 5, 7]]


def test_locked_points_stay(hands: Hands, tmp_path: Path) -> None:
    _, belly = write_point_lists(tmp_path)
    points = bring_in(hands, belly)
    hands.session.set_flag(points.id, "locked", True)
    hands.press("Suggest slips")
    take_out(
        hands.session,
        hands.session.job.items[points.id],
        np.array([1, 2]),
        "take slips out",
    )
    assert not len(hands.session.job.items[points.id].out)
    assert "locked" in hands.window.cards.told.text()
    hands.session.delete(points.id)
    assert points.id in hands.session.job.items


def test_loose_points_are_put_in_order(hands: Hands, tmp_path: Path) -> None:
    _, belly = write_point_lists(tmp_path)
    points = bring_in(hands, belly)
    steps = np.abs(np.diff(points.points[:, 0]))
    assert np.median(steps) > 10
    hands.press("order")
    hands.press("Put in order")
    made = hands.session.job.items[points.id]
    assert isinstance(made, PointList)
    assert np.abs(np.diff(made.points[:, 0])).max() < 5
    assert sorted(made.points[:, 0]) == sorted(points.points[:, 0])
    hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    assert hands.session.job.items[points.id] is points
    assert "Undone: put belly-line in order" in hands.window.cards.told.text()
