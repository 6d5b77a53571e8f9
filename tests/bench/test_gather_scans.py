"""The scan in the first hour of a job: set straight, mended, cut, chosen from, probed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from scipy.spatial import cKDTree

from tests.bench.hands import ALT, CTRL, Hands
from tests.shapes import sphere
from usual_clay.bench.cards.health import AILMENTS
from usual_clay.bench.edits.scans import add_scan
from usual_clay.bench.scan_picture import scan_picture
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.register import by_pairs
from usual_clay.demo.points import true_outline
from usual_clay.demo.scan import pose
from usual_clay.demo.shape import HOLES, SLOT, profile
from usual_clay.job.items import Item, PointList, Region, Scan, Shape


def chosen(hands: Hands) -> Item:
    return hands.session.job.items[hands.session.choice.item or ""]


def test_the_scan_is_set_straight_and_its_shapes_recognised(with_scan: Hands) -> None:
    hands, session = with_scan, with_scan.session
    scan = next(session.job.all(Scan))
    session.choice.choose(scan.id)
    hands.press("Set straight")
    hands.press("Find it and set straight")
    assert "Its plane of symmetry is now y = 0" in hands.window.cards.card.told.text()
    straight = session.job.get(scan.id, Scan)
    assert straight is not None
    # Against the truth: y is the lure's own y to 0.05 degrees and 0.05 mm.
    found = by_pairs(pose().to_lure(scan.mesh.vertices), straight.mesh.vertices).motion
    across = found.turn @ [0.0, 1, 0]
    assert np.degrees(np.arccos(min(1.0, abs(across[1])))) < 0.05
    assert abs(found.shift[1]) < 0.05
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    # Seen from below, two drilled holes and the slot are clicked.
    hands.window.stage.look("bottom")
    hands.window.stage.swap()
    hands.wait()
    pane = hands.window.stage.side
    hands.window.set_station("Gather")
    QTest.mouseClick(hands.window.rail.tools["shape"], Qt.MouseButton.LeftButton)
    for hole in HOLES:
        _, _, belly, centre = profile(np.array([hole["x"]]))
        place = np.array([hole["x"] + hole["radius"], 0, float(centre[0] - belly[0]) + 2.0])
        wall = found.apply(place[None])[0]
        # Tilt the view until the wall of the hole is seen.
        click_on_wall(hands, pane, wall, np.array([-1.0, 0, 0]) @ found.turn.T)
    tilt = SLOT["tilt"]
    _, _, belly, centre = profile(np.array([SLOT["x"]]))
    deep = np.array([SLOT["x"], 0, float(centre[0] - belly[0])])
    side = deep + 2.5 * np.array([-np.sin(tilt), 0, np.cos(tilt)])
    side = side + SLOT["half"] * np.array([np.cos(tilt), 0, np.sin(tilt)])
    click_on_wall(
        hands, pane, found.apply(side[None])[0], found.turn @ [-np.cos(tilt), 0, -np.sin(tilt)]
    )
    shapes = [shape.geometry for shape in session.job.all(Shape)]
    assert [shape.kind for shape in shapes] == ["cylinder", "cylinder", "plane"]
    for shape, hole in zip(shapes, HOLES, strict=False):
        assert shape.radius == pytest.approx(hole["radius"], abs=0.02)
    # The plane becomes the ground, a hole's axis x's direction: the scan and shapes move along.
    session.choice.choose(scan.id)
    hands.window.commands.run("straighten")
    hands.press("shapes")
    card = hands.window.cards.card
    card.ground.setCurrentIndex(1)
    hands.press("Set straight")
    ground = list(session.job.all(Shape))[2].geometry
    assert np.abs(ground.axis[2]) == pytest.approx(1, abs=1e-9)
    assert ground.point[2] == pytest.approx(0, abs=1e-9)
    assert not session.trouble


def click_on_wall(hands: Hands, pane, wall: np.ndarray, outward: np.ndarray) -> None:
    """Look into a hole from below, so that its wall is seen, and click it."""
    from dataclasses import replace as changed

    view = pane.view
    sight = np.array([0.0, 0, 1.0]) - 0.35 * outward / np.linalg.norm(outward)
    sight /= np.linalg.norm(sight)
    up = np.array([0.0, 1, 0]) - sight * sight[1]
    pane.move_camera(
        changed(view.camera, focus=wall, sight=sight, up=up / np.linalg.norm(up), height=20.0)
    )
    pane.rest()
    hands.wait()
    hands.click_at(wall, pane=pane)


def keep_the_cast(hands: Hands) -> None:
    """Leave the scan and its cast: each change of the scan makes all anew that follows from it."""
    job = hands.session.job
    for item in reversed(list(job.items.values())):
        if not isinstance(item, Scan | Region) and item.name != "Back cast":
            job = job.without(item.id)
    hands.session.commit(job, "the cast alone")


def test_health_is_shown_and_mended_with_its_regions_kept(with_demo: Hands) -> None:
    hands, session = with_demo, with_demo.session
    keep_the_cast(with_demo)
    scan = next(session.job.all(Scan))
    back = next(session.job.all(Region))
    places = scan.mesh.vertices[back.vertices]
    session.choice.choose(scan.id)
    hands.press("Health")
    card = hands.window.cards.card
    assert card.counts["holes"].text() == "2"
    assert int(card.counts["spikes"].text()) == pytest.approx(40, abs=2)
    QTest.mouseClick(card.shows["spikes"], Qt.MouseButton.LeftButton)
    assert len(session.sight.lit) == int(card.counts["spikes"].text())
    card.largest.setValue(20)
    for ailment in AILMENTS[:1]:
        QTest.mouseClick(card.mends[ailment.mend], Qt.MouseButton.LeftButton)
        hands.wait()
    assert "2 holes filled" in hands.window.cards.told.text()
    assert card.counts["holes"].text() == "0"
    kept = session.job.items[back.id]
    assert isinstance(kept, Region)
    mended = session.job.get(scan.id, Scan)
    assert mended is not None
    assert np.array_equal(mended.mesh.vertices[kept.vertices], places)
    QTest.mouseClick(card.mends["spikes"], Qt.MouseButton.LeftButton)
    hands.wait()
    assert int(card.counts["spikes"].text()) <= 1
    card.target.setValue(30_000)
    hands.press("Thin out")
    assert "95 % within" in hands.window.cards.told.text()
    thin = session.job.items[back.id]
    assert isinstance(thin, Region)
    assert 2000 < len(thin.vertices) < 6000
    # The cast was fitted to what is left, and all of it can be undone.
    assert not session.trouble
    for _ in range(3):
        hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    assert session.job.items[scan.id] is scan


def test_slices_follow_the_scan(with_demo: Hands) -> None:
    hands, session = with_demo, with_demo.session
    keep_the_cast(with_demo)
    scan = next(session.job.all(Scan))
    session.choice.choose(scan.id)
    hands.press("Slice")
    card = hands.window.cards.card
    assert len(session.sight.lit) >= 5
    card.at.setText("30, 60")
    card.at.editingFinished.emit()
    hands.wait()
    assert len(session.sight.lit) == 2
    hands.press("Add the slices")
    cuts = [p for p in session.job.all(PointList) if p.recipe and p.recipe.kind == "section"][-2:]
    assert [cut.recipe.settings.station for cut in cuts] == [30, 60]
    assert all(cut.closed for cut in cuts)
    assert cuts[0].points[:, 0] == pytest.approx(np.full(len(cuts[0].points), 30.0))
    # Moved, the scan is cut anew where the planes are.
    session.choice.choose(scan.id)
    hands.window.commands.run("straighten")
    hands.press("axes")
    hands.press("Set straight")
    now = session.job.items[cuts[0].id]
    assert isinstance(now, PointList)
    assert now.points[:, 0] == pytest.approx(np.full(len(now.points), 30.0))
    assert len(now.points) != len(cuts[0].points)


def test_lasso_and_box_choose_in_front_or_through(with_scan: Hands) -> None:
    hands, session = with_scan, with_scan.session
    scan = next(session.job.all(Scan))
    pane = hands.pane
    middle = hands.place((50, 0, 12))
    hands.window.commands.run("box")
    hands.drag([middle + QPoint(-30, -20), middle + QPoint(30, 20)])
    front = next(session.job.all(Region))
    towards = -pane.view.camera.sight
    facing = scan.mesh.vertex_normals[front.vertices] @ towards
    assert (facing > 0).mean() > 0.99
    hands.window.cards.card.front.chosen.emit("through")
    hands.drag([middle + QPoint(-30, -20), middle + QPoint(30, 20)])
    through = session.job.items[front.id]
    assert isinstance(through, Region)
    assert len(through.vertices) > 1.5 * len(front.vertices)
    hands.window.commands.run("lasso")
    ring = [
        middle + QPoint(round(60 * np.cos(a)), round(40 * np.sin(a)))
        for a in np.linspace(0, 2 * np.pi, 20)
    ]
    hands.drag(ring, held=CTRL)
    assert not len(session.job.items[front.id].vertices)
    # Two regions are joined, and one is taken from the other again.
    hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    session.choice.choose(None)
    hands.window.commands.run("box")
    hands.drag([middle + QPoint(-10, -40), middle + QPoint(90, 5)])
    first, second = session.job.all(Region)
    session.hand.take(None)
    session.choice.choose(first.id)
    hands.press("Join")
    joined = session.job.items[first.id]
    assert set(joined.vertices) == set(first.vertices) | set(second.vertices)
    hands.press("Less")
    less = session.job.items[first.id]
    assert set(less.vertices) == set(joined.vertices) - set(second.vertices)
    # They share nothing now: that is said, and changes nothing. Before that it was the second.
    hands.press("In common")
    assert "nothing in common" in hands.window.cards.told.text()
    assert session.job.items[first.id] is less
    hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    hands.press("In common")
    assert set(session.job.items[first.id].vertices) == set(second.vertices)
    session.set_colour(first.id, "#93A67C")
    hands.wait()
    assert session.job.items[first.id].colour == "#93A67C"


def test_a_probe_streams_live_and_is_finished(with_demo: Hands) -> None:
    hands, session = with_demo, with_demo.session
    before = len(list(session.job.all(PointList)))
    hands.window.commands.run("probe")
    card = hands.window.cards.card
    card.spacing.setValue(0.5)
    hands.press("Start")
    hands.wait(lambda: len(card.recorded) > 12)
    # They are shown as they come, and are not in the job yet.
    assert len(list(session.shown.all(PointList))) == before + 1
    assert len(list(session.job.all(PointList))) == before
    hands.press("Pause")
    count = len(card.recorded)
    hands.press("Undo last")
    assert len(card.recorded) == count - 1
    hands.press("Resume")
    hands.wait(lambda: len(card.recorded) > count + 5)
    # What was measured is not thrown away unasked.
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    assert len(card.recorded) > count + 5
    assert card.drop.text().startswith("Forget")
    hands.press("Finish")
    run = chosen(hands)
    assert isinstance(run, PointList)
    assert len(run.points) > count + 5
    away = cKDTree(true_outline()).query(run.points)[0]
    assert np.median(away) == pytest.approx(1.5, abs=0.03)
    hands.key(Qt.Key.Key_Z, CTRL, hands.pane)
    assert len(list(session.job.all(PointList))) == before
    hands.window.commands.run("probe")
    hands.press("Start")
    hands.wait(lambda: len(card.recorded) > 3)
    for _ in range(2):
        hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    assert len(card.recorded) == 0
    assert hands.window.cards.card is not card


def test_loose_points_can_be_cast(hands: Hands, lure: TriangleMesh, tmp_path: Path) -> None:
    here = pose().to_lure(lure.vertices)
    top = here[(here[:, 2] > 9) & (np.abs(here[:, 0] - 40) < 20)]
    np.savetxt(tmp_path / "top.xyz", top, "%.5f")
    hands.window.documents.open_file(tmp_path / "top.xyz")
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    assert len(chosen(hands).points) == len(top)
    hands.key(Qt.Key.Key_D, widget=hands.pane)
    surface = hands.session.choice.surface()
    assert surface is not None
    report = hands.session.job.report(surface)
    assert report is not None
    assert report.points == len(top)
    assert report.p95 < 0.06
    assert "loose points" in hands.window.cards.card.about.text()


def test_no_symmetry_and_no_scan_are_said_plainly(hands: Hands, lure: TriangleMesh) -> None:
    hands.window.commands.run("health")
    assert "Bring in a scan first" in hands.window.cards.told.text()
    random = np.random.default_rng(2)
    warp = lure.vertices @ (np.eye(3) + 0.3 * random.normal(size=(3, 3)))
    warp = warp + 4 * np.sin(warp[:, [1, 2, 0]] / 9)
    add_scan(hands.session, TriangleMesh(warp, lure.triangles), "odd.stl", "mm")
    hands.wait()
    hands.press("Set straight")
    before = chosen(hands)
    hands.press("Find it and set straight")
    words = hands.window.cards.card.told.text()
    assert "No plane of symmetry" in words
    assert "mm rms" in words
    assert chosen(hands) is before
    QTest.mouseClick(hands.pane, Qt.MouseButton.LeftButton, ALT)


@pytest.mark.parametrize("shaded", [True, False])
def test_a_scan_is_seen_before_it_is_taken_in(app, shaded: bool) -> None:
    ball = sphere(rings=50)
    normals = ball.vertex_normals if shaded else None
    picture = scan_picture(ball.vertices, normals, 300, 150)
    rows = np.frombuffer(picture.constBits(), np.uint8).reshape(150, -1)[:, :900]
    seen = rows.reshape(150, 300, 3).astype(float)
    full = (np.abs(seen - seen[0, 0]) > 8).any(axis=2)
    # As large as nine tenths of the height let it be, without holes, and light in the middle.
    assert full.sum() == pytest.approx(np.pi * 67.5**2, rel=0.08)
    assert full[75, 85:215].all()
    assert seen[75, 150].mean() > 1.2 * seen[75, 86].mean()
