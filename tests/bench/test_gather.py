"""The first hour of a job, with mouse and keys: pictures, points and scan brought into line."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from scipy.spatial import cKDTree

from tests.bench.hands import CTRL, Hands
from tests.shapes import SPECK
from usual_clay.bench.stage.picking import under
from usual_clay.bench.stage.reading import reading
from usual_clay.core.picture.placement import corners, to_flat, to_space
from usual_clay.demo.make import demo_folder, demo_job_file
from usual_clay.demo.pictures import FILES, SIDE_TURN, draw_picture
from usual_clay.demo.points import probed_outline, true_outline, write_point_lists
from usual_clay.demo.scan import true_mesh
from usual_clay.files.picture_file import shown_pixels
from usual_clay.job.edits.pictures import compare
from usual_clay.job.items import Curve, Item, Picture, PointList


@pytest.fixture(scope="module")
def pictures() -> list[Path]:
    demo_job_file()
    return [demo_folder() / name for name in FILES.values()]


def chosen(hands: Hands) -> Item:
    return hands.session.job.items[hands.session.choice.item or ""]


def picture(hands: Hands, name: str) -> Picture:
    return next(p for p in hands.session.job.all(Picture) if name in p.name.lower())


def hide_all_but(hands: Hands, *shown: str) -> None:
    for item in list(hands.session.job.items.values()):
        if item.visible != (item.id in shown):
            hands.session.set_flag(item.id, "visible", item.id in shown)
    hands.wait()


def pin_and_scale(hands: Hands, path: Path, view: str) -> Picture:
    """Pin a picture with its guessed plane, and scale it by clicks on the ends of its bar."""
    hands.window.documents.open_file(path)
    hands.wait()
    assert hands.window.cards.card.plane._buttons[view].isChecked()
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    made = chosen(hands)
    assert isinstance(made, Picture)
    hide_all_but(hands, made.id)
    hands.window.stage.look_at(made.placement.plane, made.name)
    if hands.window.stage.large is not hands.window.stage.side:
        hands.window.stage.swap()
    hands.wait()
    # What is known of it does not depend on what is drawn.
    drawn = draw_picture(view, SPECK)
    hands.press("scale")
    hands.press("Set two marks")
    pane = hands.window.stage.side
    for end in drawn.bar:
        flat = to_flat(made.placement, made.size, end[None])
        hands.click_at(to_space(made.placement, flat)[0], pane=pane)
    # Clicks fall on whole pixels of the screen: the marks are then dragged where they belong.
    assert hands.session.hand.marking is not None
    exact = to_space(made.placement, to_flat(made.placement, made.size, drawn.bar))
    assert np.abs(hands.session.hand.marking.points - exact).max() < pane.view.mm_per_pixel(
        exact[0]
    )
    hands.session.hand.set_marking(hands.session.hand.marking.with_places(exact))
    hands.window.cards.card.length.setValue(drawn.length)
    hands.press("Scale")
    assert hands.session.hand.marking is None
    now = hands.session.job.items[made.id]
    assert isinstance(now, Picture)
    assert now.placement.width == pytest.approx(made.size[0] / 10, rel=1e-6)
    # Put in place by numbers, as the card has them.
    card = hands.window.cards.card
    hands.press("place")
    card.mid_x.setValue(drawn.middle[0])
    card.mid_y.setValue(drawn.middle[1])
    placed = hands.session.job.items[made.id]
    assert isinstance(placed, Picture)
    assert (placed.placement.x, placed.placement.y) == pytest.approx(tuple(drawn.middle))
    return placed


def test_three_pictures_are_scaled_and_brought_to_agree(
    hands: Hands, pictures: list[Path], tmp_path: Path
) -> None:
    for path, view in zip(pictures, FILES, strict=True):
        pin_and_scale(hands, path, view)
    # A true outline beside them, as the ball's offset leaves it.
    np.savetxt(
        tmp_path / "true.csv", true_outline()[::30], delimiter=",", header="x,y,z", comments=""
    )
    hands.window.documents.open_file(tmp_path / "true.csv")
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    for item in list(hands.session.job.items.values()):
        if not item.visible:
            hands.session.set_flag(item.id, "visible", True)
    hands.window.commands.run("agreement")
    hands.wait()
    card = hands.window.cards.card
    told = "\n".join(d.words for d in card.found if d.matters)
    assert re.search(r"Lure side is turned by \+1\.5° against true", told)
    assert "Lure top is 2.0 % " in told or "Lure top is 1.9 % " in told
    # Nothing has been done about it yet.
    assert picture(hands, "side").placement.turn == 0
    turn = next(d for d in card.found if d.matters and d.kind == "turn")
    hands.press(f"Turn Lure side, {np.degrees(turn.amount):+.2f}°".replace("-", "\N{MINUS SIGN}"))
    assert picture(hands, "side").placement.turn == pytest.approx(-SIDE_TURN, abs=np.radians(0.05))
    sizes = [d for d in card.found if d.matters and d.kind == "size"]
    assert {d.first for d in sizes} == {picture(hands, "top").id}
    amount = sorted(d.amount for d in sizes)[len(sizes) // 2]
    hands.press(f"Rescale Lure top, {100 * (amount - 1):+.1f} %")
    assert picture(hands, "top").placement.width == pytest.approx(123 / 0.98, rel=0.002)
    left = [d.words for d in compare(hands.session.job, shown_pixels) if d.matters]
    assert not [words for words in left if "turned" in words or "%" in words.split("(")[0]]
    # A click each, and each undone by a key.
    hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    assert picture(hands, "top").placement.width == pytest.approx(123, rel=1e-6)


def test_a_picture_is_moved_scaled_and_turned_by_hand(hands: Hands, pictures: list[Path]) -> None:
    hands.window.documents.open_file(pictures[0])
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    made = chosen(hands)
    assert isinstance(made, Picture)
    pane = hands.window.stage.side
    hands.window.stage.swap()
    hands.wait()

    def seen(point: np.ndarray) -> QPoint:
        x, y, _ = pane.view.project(point[None])[0]
        return QPoint(round(x), round(y))

    def drag(start: np.ndarray, by: tuple[int, int]) -> Picture:
        path = [seen(start) + QPoint(round(by[0] * s), round(by[1] * s)) for s in (0, 0.5, 1)]
        hands.drag(path, widget=pane)
        now = chosen(hands)
        assert isinstance(now, Picture)
        return now

    per_pixel = pane.view.mm_per_pixel(np.zeros(3))
    now = drag(to_space(made.placement, np.array([[5.0, 3.0]]))[0], (40, -30))
    assert now.placement.x == pytest.approx(40 * per_pixel, abs=1e-6)
    assert now.placement.y == pytest.approx(30 * per_pixel, abs=1e-6)
    # The numbers on the card are the same.
    card = hands.window.cards.card
    assert card.mid_x.value() == pytest.approx(now.placement.x, abs=1e-3)
    before = corners(now.placement)
    scaled = drag(before[2], (-60, -35))
    assert scaled.placement.width < now.placement.width
    assert corners(scaled.placement)[0] == pytest.approx(before[0], abs=1e-6)
    assert scaled.placement.height / scaled.placement.width == pytest.approx(710 / 1230)
    from usual_clay.bench.gestures.drag_picture import turn_handle

    turned = drag(turn_handle(scaled.placement), (30, 2))
    assert turned.placement.turn < -0.05
    assert (turned.placement.x, turned.placement.y) == pytest.approx(
        (scaled.placement.x, scaled.placement.y)
    )
    # Escape in the middle of a drag drops it; locked it does not move at all.
    start = seen(
        to_space(turned.placement, np.array([[turned.placement.x, turned.placement.y]]))[0]
    )
    hands.drag([start, start + QPoint(50, 0)], widget=pane, release=False)
    assert hands.session.shown.items[made.id].placement != turned.placement
    hands.key(Qt.Key.Key_Escape, widget=pane)
    assert hands.session.job.items[made.id] is turned
    hands.key(Qt.Key.Key_L, widget=pane)
    hands.drag([start, start + QPoint(50, 0)], widget=pane)
    assert chosen(hands).placement == turned.placement


def test_a_row_of_pictures_looks_backgrounds_and_outlines(
    hands: Hands, pictures: list[Path]
) -> None:
    hands.window.documents.open_files([pictures[2], pictures[2], pictures[2]])
    hands.wait()
    hands.window.cards.card.step.setValue(12.5)
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    row = list(hands.session.job.all(Picture))
    assert [p.placement.offset for p in row] == [0, 12.5, 25]
    assert len({(p.placement.width, p.placement.x, p.placement.plane) for p in row}) == 1
    assert hands.session.history.undo_words == "pin 3 pictures"
    # What is scaled in one of them is scaled in its row, in one step.
    hands.session.choice.choose(row[1].id)
    hands.press("scale")
    assert hands.window.cards.card.row_too.text() == "The 2 others of its row too"
    bar = to_flat(row[1].placement, row[1].size, np.array([[10.0, 10], [110, 10]]))
    hands.press("Set two marks")
    for place in to_space(row[1].placement, bar):
        hands.click_at(place)
    assert hands.session.hand.marking is not None
    hands.session.hand.set_marking(
        hands.session.hand.marking.with_places(to_space(row[1].placement, bar))
    )
    hands.window.cards.card.length.setValue(20)
    hands.press("Scale")
    wide = [p.placement.width for p in hands.session.job.all(Picture)]
    assert wide == pytest.approx([row[1].size[0] / 5] * 3)
    assert all(p.scaled for p in hands.session.job.all(Picture))
    hands.session.undo()
    assert [p.placement for p in hands.session.job.all(Picture)] == [p.placement for p in row]
    hands.session.set_flag(row[0].id, "visible", False)
    hands.wait()
    assert row[0].id not in hands.window.stage.scene.layers()
    assert row[1].id in hands.window.stage.scene.layers()
    # The background's colour is clicked on the picture and becomes clear.
    hands.session.choice.choose(row[2].id)
    hands.press("look")
    hands.press("Drop background")
    made = chosen(hands)
    assert isinstance(made, Picture)
    beside = to_space(made.placement, to_flat(made.placement, made.size, np.array([[600.0, 690]])))
    hands.click_at(beside[0])
    assert "lies beside" in hands.window.cards.told.text()
    assert hands.session.hand.marking is not None
    corner = to_space(made.placement, to_flat(made.placement, made.size, np.array([[490.0, 690]])))
    hands.click_at(corner[0])
    dropped = chosen(hands)
    assert isinstance(dropped, Picture)
    assert dropped.look.clear is not None
    assert np.abs(np.array(dropped.look.clear) - [244, 240, 231]).max() < 8
    QTest.mouseClick(
        hands.window.cards.card.drawn._buttons["over"],
        Qt.MouseButton.LeftButton,
    )
    hands.wait()
    assert hands.window.stage.scene.layers()[made.id].depth == "over"
    # An outline of it becomes points that follow it when it moves.
    hands.press("outline")
    hands.press("Outline by level")
    line = chosen(hands)
    assert isinstance(line, PointList)
    assert line.closed
    width = 52 * np.ptp(line.points[:, 1]) / made.placement.width
    assert width == pytest.approx(np.ptp(true_mesh().vertices[:, 1]), abs=0.05)
    hands.session.choice.choose(made.id)
    hands.press("place")
    hands.window.cards.card.mid_x.setValue(made.placement.x + 7)
    hands.wait()
    moved = hands.session.job.items[line.id]
    assert isinstance(moved, PointList)
    # Across a front view is -y.
    assert moved.points == pytest.approx(line.points - [0, 7, 0], abs=1e-6)
    # A rough stroke with the mouse finds the same edge.
    hands.session.choice.choose(made.id)
    hands.press("outline")
    hands.press("Outline along a stroke")
    part = moved.points[np.linspace(0, len(moved.points) * 0.3, 25).astype(int)]
    seen = hands.pane.view.project(part)[:, :2]
    hands.drag([QPoint(round(x) + 1, round(y) - 1) for x, y in seen])
    stroke = chosen(hands)
    assert isinstance(stroke, PointList)
    away = cKDTree(moved.points).query(stroke.points)[0]
    assert np.quantile(away, 0.9) < 0.4


def test_points_are_ringed_taken_out_and_what_follows_is_made_anew(
    hands: Hands, tmp_path: Path
) -> None:
    outline, _ = write_point_lists(tmp_path)
    hands.window.documents.open_file(outline)
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    run = chosen(hands)
    assert isinstance(run, PointList)
    hands.press("ball")
    hands.press("Move to the surface")
    touched = chosen(hands)
    hands.press("Spline through it")
    spline = chosen(hands)
    assert isinstance(touched, PointList)
    assert isinstance(spline, Curve)
    assert spline.signed is not None
    worst = spline.signed.max()
    hands.session.choice.choose(run.id)
    hands.press("clean")
    hands.press("Suggest slips")
    assert set(np.flatnonzero(probed_outline()[1])) <= set(hands.session.choice.ringed)
    hands.key(Qt.Key.Key_Delete, widget=hands.pane)
    hands.wait()
    clean = hands.session.job.items[touched.id]
    assert isinstance(clean, PointList)
    away = cKDTree(true_outline()).query(clean.points)[0]
    assert np.sqrt(np.mean(away**2)) < 0.05
    again = hands.session.job.items[spline.id]
    assert isinstance(again, Curve)
    assert again.signed is not None
    assert again.signed.max() < worst
    assert len(again.signed) == len(clean.points)
    # More control points bring it nearer, at once.
    hands.session.choice.choose(spline.id)
    card = hands.window.cards.card
    card.controls.setValue(40)
    hands.wait()
    assert chosen(hands).control_points == 40
    assert card.near.words.text() == "95 % are nearer"
    # Picked by a click, by a box, and let go of with Ctrl.
    hands.session.choice.choose(run.id)
    hands.press("Pick or box")
    hands.click_at(run.points[100])
    assert hands.session.choice.ringed.tolist() == [100]
    x, y = hands.pane.view.project(run.points[98:103])[:, :2].T
    box = [QPoint(int(x.min()) - 4, int(y.min()) - 4), QPoint(int(x.max()) + 4, int(y.max()) + 4)]
    hands.drag(box)
    assert set(range(98, 103)) <= set(hands.session.choice.ringed)
    hands.drag(box, held=CTRL)
    assert not len(hands.session.choice.ringed)
    hands.window.commands.run("brush points")
    hands.session.hand.set_brush(1.5)
    hands.drag([QPoint(round(a), round(b)) for a, b in zip(x, y, strict=True)])
    ringed = hands.session.choice.ringed
    assert {99, 100, 101} <= set(ringed)
    hands.press("Take out")
    assert set(ringed) <= set(hands.session.job.items[run.id].out)
    # Under the cursor a point says where it is, and how far from the chosen spline.
    hands.window.session.hand.take(None)
    hands.session.choice.choose(spline.id)
    place = hands.pane.view.project(run.points[50:51])[0]
    words = reading(hands.pane.scene, under(hands.pane.scene, hands.pane.view, *place[:2]))
    assert "point 51" in words
    assert f"mm from {spline.name}" in words
    assert float(words.split(";")[1].split()[0]) == pytest.approx(1.5, abs=0.1)


def test_points_are_brought_down_with_a_word_before(hands: Hands, tmp_path: Path) -> None:
    path = tmp_path / "wavy.csv"
    np.savetxt(path, [[n, n / 2, 2.1 * np.sin(n)] for n in range(60)], delimiter=",")
    hands.window.documents.open_file(path)
    hands.wait()
    card = hands.window.cards.card
    QTest.mouseClick(card.plane._buttons["xy"], Qt.MouseButton.LeftButton)
    assert "z spans 4.2 mm and is dropped" in card.made.text()
    QTest.mouseClick(card.plane._buttons["space"], Qt.MouseButton.LeftButton)
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    run = chosen(hands)
    hands.press("onto")
    assert "z spans 4.2 mm" in hands.window.cards.card.drops.text()
    hands.press("Bring down")
    flat = chosen(hands)
    assert isinstance(flat, PointList)
    assert flat.id != run.id
    assert (flat.points[:, 2] == 0).all()
    # A loose follower keeps its shape when its source changes.
    hands.press("Set loose")
    hands.session.choice.choose(run.id)
    hands.session.choice.ring(np.array([4, 5]))
    hands.key(Qt.Key.Key_Delete, widget=hands.pane)
    assert len(hands.session.job.items[flat.id].points) == 60
