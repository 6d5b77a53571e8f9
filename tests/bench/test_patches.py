"""Patches drawn, picked and joined, and surfaces altered, with real hands in the real window."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests.bench.hands import SHIFT, Hands
from usual_clay.bench.edits.regions import put_region
from usual_clay.bench.edits.surfaces import reshape_surface
from usual_clay.bench.stage.pane import Pane
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.parts import evenly
from usual_clay.files.job_file import read_job, write_job
from usual_clay.job.items import Curve, Scan, Surface

# Corners and points on the way, x and z on the lure's side; with Shift the latter.
GILL = ((19, -5, 0), (24, -5.3, 1), (28.9, -5, 0), (29, 0, 1), (28.2, 5, 0), (19, 5, 0))


@pytest.fixture
def side(with_demo: Hands) -> tuple[Hands, Pane]:
    """The true side view as the large one, close to the gill plate, without curves."""
    session, window = with_demo.session, with_demo.window
    for item in [*session.job.all(Curve), *session.job.all(Surface)]:
        session.set_flag(item.id, "visible", False)
    session.choice.choose(None)
    window.set_station("Surface")
    window.stage.swap()
    with_demo.wait()
    pane = window.stage.large
    pane.move_camera(replace(pane.view.camera, focus=np.array([24.0, -10, 0]), height=22))
    with_demo.wait()
    return with_demo, pane


def named(hands: Hands, name: str) -> Surface:
    return next(s for s in hands.session.job.all(Surface) if s.name == name)


def click(hands: Hands, pane, x: float, z: float, held=Qt.KeyboardModifier.NoModifier) -> None:
    hands.click_at((x, -10.0, z), held, pane)


def test_a_patch_is_drawn_by_its_corners_and_follows_them(side, tmp_path) -> None:
    hands, pane = side
    session = hands.session
    QTest.mouseClick(hands.window.rail.tools["patch"], Qt.MouseButton.LeftButton)
    card = hands.window.cards.card
    for x, z, passing in GILL[:-1]:
        click(hands, pane, x, z, SHIFT if passing else Qt.KeyboardModifier.NoModifier)
    assert card.about.text() == "3 of 4 corners set"
    assert len([c for c in session.shown.all(Curve) if c.id not in session.job.items]) == 2
    click(hands, pane, 23, 4.9)
    # A wrong corner is taken back, and set again where it belongs.
    hands.press("Take back")
    click(hands, pane, *GILL[-1][:2])
    assert "of the area inside lies within" in card.words.text()
    hands.key(Qt.Key.Key_Return, widget=pane)
    patch = session.choice.surface()
    assert patch.name == "Patch 1"
    report = session.job.report(patch)
    assert report.at_share < 0.06
    borders = [session.job.get(i, Curve) for i in patch.recipe.all("borders")]
    for border in borders:
        assert np.abs(foot_points(patch.geometry, evenly(border.geometry, 60)).signed).max() < 1e-6
    hands.key(Qt.Key.Key_T, widget=pane)
    assert session.job.report(session.choice.surface()).met
    # A point on a border is dragged; border and patch lie on the scan again.
    session.choice.choose(borders[0].id)
    before = session.choice.fitted().recipe.settings.array
    x, y, _ = pane.view.project(before[[1]])[0]
    start = QPoint(round(x), round(y))
    hands.drag([start, start + QPoint(0, 6), start + QPoint(0, 16)], widget=pane)
    border = session.job.get(borders[0].id, Curve)
    assert not np.allclose(border.recipe.settings.array[1], before[1])
    again = named(hands, "Patch 1")
    assert np.abs(foot_points(again.geometry, evenly(border.geometry, 60)).signed).max() < 1e-6
    assert len(again.inside) > len(patch.inside)
    # A corner is dragged: the border that shares it comes along, and they meet on the scan.
    session.choice.choose(borders[0].id)
    session.choice.choose_points(frozenset())
    corner = border.geometry.points[-1]
    x, y, _ = pane.view.project(corner[None])[0]
    start = QPoint(round(x), round(y))
    hands.drag([start, start + QPoint(3, 3), start + QPoint(9, 6)], widget=pane)
    ends = [session.job.get(b.id, Curve).geometry.points[[0, -1]] for b in borders]
    assert np.linalg.norm(ends[0][1] - corner) > 0.2
    assert np.linalg.norm(ends[1] - ends[0][1], axis=1).min() < 1e-9
    assert np.abs(named(hands, "Patch 1").geometry.points - ends[0][1]).sum(axis=2).min() < 1e-6
    again = named(hands, "Patch 1")
    # It is kept with the job.
    write_job(tmp_path / "a.uclay", session.job)
    kept = read_job(tmp_path / "a.uclay")
    twin = next(s for s in kept.all(Surface) if s.name == "Patch 1")
    assert (twin.inside == again.inside).all()
    assert kept.measured(twin) is not None


def test_four_curves_are_picked_and_a_neighbour_is_gone_on_from(side) -> None:
    hands, _ = side
    session = hands.session
    back = named(hands, "Back patch")
    names = ["Widest line", "Belly arch, rear", "Widest line twin", "Belly arch, front"]
    hands.window.commands.run("patch")
    card = hands.window.cards.card
    hands.press("pick")
    for name, box in zip(names, card.sides, strict=True):
        box.setCurrentIndex(box.findText(name))
    hands.wait()
    assert "of the area inside lies within" in card.words.text()
    # A border that does not meet the others is told, and closed on request.
    rear = next(c for c in session.job.all(Curve) if c.name == names[1])
    off = replace(rear.geometry, points=rear.geometry.points + np.array([0.4, 0, 0]))
    made = session.job.changed(rear.id, geometry=off, recipe=None, made_of=None)
    session.commit(made, "shift")
    hands.wait()
    assert "0.400 mm apart" in card.trouble.text()
    card.closing.setValue(0.5)
    hands.wait()
    assert "gaps of up to 0.4000 mm were closed" in card.words.text()
    hands.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, widget=hands.pane)
    card.closing.setValue(0.1)
    hands.wait()
    hands.press("Keep")
    patch = session.choice.surface()
    line = next(c for c in session.job.all(Curve) if c.name == "Widest line").geometry
    before = edge_joint(back.geometry, patch.geometry, line).angle.max()
    card = hands.window.cards.card
    hands.press("hold")
    hands.press("G1", card.joints.grades[0])
    patch = session.choice.surface()
    after = edge_joint(back.geometry, patch.geometry, line).angle.max()
    assert after < 0.1 * before
    assert "on from Back patch: gap up to 0.0000 mm" in card.joints.words[0].text()
    # What no neighbour lies beside is told.
    hands.press("G1", card.joints.grades[1])
    assert "No other surface" in hands.window.cards.told.text()
    assert session.choice.surface().recipe.settings.joints[1] == "G0"


def test_control_points_are_boxed_weighed_and_added_where_needed(side) -> None:
    hands, pane = side
    session, window = hands.session, hands.window
    patch = named(hands, "Gill plate patch")
    session.set_flag(patch.id, "visible", True)
    session.choice.choose(patch.id)
    window.stage.switch("scan", False)
    hands.press("shape")
    seen = pane.view.project(patch.geometry.points.reshape(-1, 3))[:, :2]
    (left, top), (right, bottom) = np.rint(seen.min(axis=0) - 20), np.rint(seen.max(axis=0) + 20)
    middle = round((top + bottom) / 2)
    box = [QPoint(int(x), int(y)) for x, y in ((left, top), (left + 30, top + 30), (right, middle))]
    hands.drag(box, widget=pane)
    inside = set(np.flatnonzero(seen[:, 1] < middle).tolist())
    assert session.choice.points == inside
    card = hands.window.cards.card
    card.shape.weight.setValue(2.0)
    hands.wait()
    weights = session.choice.surface().geometry.weights
    assert (weights.ravel()[sorted(inside)] == 2.0).all()
    card.shape.weight.setValue(1.0)
    hands.wait()
    assert session.choice.surface().geometry.weights is None
    shape = session.choice.surface().geometry
    session.choice.choose_points(())
    places = shape.points.copy()
    places[3:5, 4:7, 1] -= 0.4
    reshape_surface(session, session.choice.surface(), replace(shape, points=places), "dent")
    bad = session.job.report(session.choice.surface()).at_share
    hands.press("Add where needed")
    hands.wait()
    assert "where the error is greatest" in window.cards.told.text()
    assert session.choice.surface().control_points > patch.control_points
    hands.press("Pull to scan")
    assert session.job.report(session.choice.surface()).at_share < 0.8 * bad


def test_a_surface_is_split_matched_again_and_extended(side) -> None:
    hands, pane = side
    session, window = hands.session, hands.window
    session.choice.choose(named(hands, "Gill plate patch").id)
    hands.press("make")
    hands.press("Split ...")
    assert "Parts of" in window.cards.card.words.text()
    hands.key(Qt.Key.Key_Return, widget=pane)
    first, part = named(hands, "Gill plate patch"), named(hands, "Gill plate patch part 2")
    # Each part is judged by the scan over it alone.
    assert all(session.job.report(each).at_share < 0.05 for each in (first, part))
    moved = part.geometry.points + np.array([0, -0.3, 0])
    lying = replace(part.geometry, points=moved)
    session.commit(session.job.changed(part.id, geometry=lying), "push")
    session.choice.choose(first.id)
    hands.press("make")
    hands.press("Match ...")
    card = window.cards.card
    card.sources[1].setCurrentIndex(card.sources[1].findData(part.id))
    hands.press("both")
    assert "Gap up to 0.0000 mm" in card.words.text()
    hands.key(Qt.Key.Key_Return, widget=pane)
    other = named(hands, "Gill plate patch part 2")
    assert not np.allclose(other.geometry.points, moved)
    hands.press("Extend ...")
    hands.key(Qt.Key.Key_Return, widget=pane)
    assert "longer" in window.cards.told.text()
    for _ in range(2):
        hands.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, widget=pane)
    assert named(hands, "Gill plate patch part 2").geometry.points == pytest.approx(moved)
    assert next(session.job.all(Scan)) is not None


def test_sections_lie_side_by_side_and_one_is_dragged(with_demo: Hands) -> None:
    hands, session, window = with_demo, with_demo.session, with_demo.window
    session.choice.choose(named(hands, "Belly patch").id)
    window.set_station("Check")
    QTest.mouseClick(window.rail.tools["sections"], Qt.MouseButton.LeftButton)
    hands.wait()
    sheet, card = window.sheet, window.cards.card
    assert sheet.isVisible()
    assert not window.stage.isVisible()
    assert len(sheet.cuts) == 6
    assert all(np.quantile(np.abs(cut.signed), 0.9) < 0.06 for cut in sheet.cuts)
    card.count.setValue(3)
    hands.wait()
    assert len(sheet.cuts) == 3
    # The middle of the second section is dragged down: the surface follows there.
    line = sheet.cuts[1].surface[0]
    place = line[int(np.argmin(line[:, 2]))]
    x, y = sheet.on_paper(1, place[None])[0]
    start = QPoint(round(x), round(y))
    before = session.choice.surface()
    hands.drag([start, start + QPoint(0, 4), start + QPoint(0, 12)], widget=sheet)
    after = session.choice.surface()
    assert after.recipe is None
    lower = foot_points(after.geometry, place[None]).feet[0, 2]
    # A drawing shows all of them to one scale: as many pixels are as many mm.
    down = 12 / sheet._middle_and_scale()[1]
    assert place[2] - lower == pytest.approx(down, rel=0.15)
    assert session.job.report(after).at_share > 2 * session.job.report(before).at_share
    hands.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, widget=sheet)
    assert session.choice.surface().geometry is before.geometry
    hands.key(Qt.Key.Key_Escape, widget=sheet)
    assert window.stage.isVisible()


def test_the_scan_is_shaped_by_a_surface_that_was_doubled(side) -> None:
    hands, _ = side
    session, window = hands.session, hands.window
    patch = named(hands, "Gill plate patch")
    session.choice.choose(patch.id)
    window.commands.run("double")
    double = session.choice.surface()
    assert double.name == "Gill plate patch 2"
    places = double.geometry.points.copy()
    places[2:-2, 3:-3, 1] -= 0.5
    reshape_surface(session, double, replace(double.geometry, points=places), "swell")
    window.commands.run("shape scan")
    hands.wait()
    card = window.cards.card
    assert card.before.currentText() == "Gill plate patch"
    card.fade.set_value(1.0)
    card.refresh()
    hands.wait()
    assert "points follow, by up to 0." in card.words.text()
    old = next(session.job.all(Scan))
    hands.press("Keep")
    shaped = session.job.get(session.choice.item, Scan)
    assert shaped.name == "Lure scan shaped"
    assert not session.job.get(old.id, Scan).visible
    moved = np.linalg.norm(shaped.mesh.vertices - old.mesh.vertices, axis=1)
    assert set(np.flatnonzero(moved > 1e-9)) <= set(patch.inside.tolist())
    assert 0.3 < moved.max() < 0.6


def test_two_scans_are_joined_and_cast_together(with_demo: Hands) -> None:
    hands, session = with_demo, with_demo.session
    whole = next(session.job.all(Scan))
    # The scan in two halves, as two passes of a scanner give it.
    middle = whole.mesh.vertices[whole.mesh.triangles].mean(axis=1)[:, 0] < 60
    for k, name in ((middle, "First pass"), (~middle, "Second pass")):
        mesh = TriangleMesh(whole.mesh.vertices, whole.mesh.triangles[k])
        half = replace(whole, id=session.job.new_id("scan"), name=name, mesh=mesh)
        session.commit(session.job.with_item(half), name)
    session.choice.choose(half.id)
    card = hands.window.cards.card
    card.other.setCurrentIndex(card.other.findText("First pass"))
    hands.press("Join")
    joined = session.job.get(session.choice.item, Scan)
    assert joined.name == "Second pass and First pass"
    places = joined.mesh.vertices
    used = np.zeros(len(places), dtype=bool)
    used[joined.mesh.triangles] = True
    back = used & (np.abs(places[:, 0] - 60) < 20) & (np.abs(places[:, 1]) < 5) & (places[:, 2] > 3)
    put_region(session, joined, back, "both")
    hands.window.commands.run("cast")
    hands.wait()
    surface = session.choice.surface()
    assert session.job.report(surface).at_share < 0.06
    sides = [surface.signed[places[back][:, 0] < 60], surface.signed[places[back][:, 0] > 60]]
    assert min(len(side) for side in sides) > 1000


def test_a_wrapped_region_is_closed_from_its_card(with_demo: Hands) -> None:
    hands, session, window = with_demo, with_demo.session, with_demo.window
    scan = next(session.job.all(Scan))
    x = scan.mesh.vertices[:, 0]
    used = np.zeros(len(x), dtype=bool)
    used[scan.mesh.triangles] = True
    session.choice.choose(scan.id)
    # Once round, between the holes for the hangers.
    put_region(session, scan, used & (x > 45) & (x < 68), "ring")
    window.commands.run("cast")
    hands.wait()
    surface = session.choice.surface()
    # A region with two ends that folds over is closed by itself.
    ends = surface.geometry.points[:, [0, -1]]
    assert ends[:, 0] == pytest.approx(ends[:, 1], abs=1e-9)
    card = window.cards.card
    card.nv.setValue(14)
    hands.wait()
    assert "closed in v" in card.words.text()
    assert session.job.report(session.choice.surface()).at_share < 0.08
    # What a search has to say of its surface is said once.
    window.commands.run("to tolerance")
    hands.wait()
    assert card.words.text().count("closed in v") == 1
    session.undo()
    hands.wait()
    hands.press("hold")
    hands.press("u", card.closed)
    turned = session.choice.surface()
    assert turned.recipe.settings.closed == "u"
    assert turned.geometry.points[0] == pytest.approx(turned.geometry.points[-1], abs=1e-9)
    # It cannot be symmetric as well: the one lets go of the other.
    hands.press("y", card.symmetric)
    settings = session.choice.surface().recipe.settings
    assert (settings.symmetric, settings.closed) == ("y", "")
    assert "folds over" in card.trouble.text()


def test_patches_are_solved_together_on_the_card(side) -> None:
    hands, _ = side
    session = hands.session
    for name in ("Back patch", "Belly patch"):
        session.set_flag(named(hands, name).id, "visible", True)
    session.choice.choose(named(hands, "Gill plate patch").id)
    hands.wait()
    hands.press("make")
    hands.press("Solve together")
    assert "No other visible patch shares a border" in hands.window.cards.told.text()
    session.choice.choose(named(hands, "Belly patch").id)
    hands.wait()
    back = named(hands, "Back patch")
    hands.press("Solve together")
    assert "2 patches over 2 borders were solved together" in hands.window.cards.told.text()
    hands.press("hold")
    card = hands.window.cards.card
    assert "together with Back patch: gap up to 0.0000 mm" in card.joints.words[0].text()
    now = [named(hands, name) for name in ("Back patch", "Belly patch")]
    line = next(c for c in session.job.all(Curve) if c.name == "Widest line").geometry
    assert np.degrees(edge_joint(now[0].geometry, now[1].geometry, line).angle.max()) < 0.1
    # Both gave way, neither follows from the other, and all of it is undone in one step.
    assert np.abs(now[0].geometry.points - back.geometry.points).max() > 1e-3
    assert not {now[0].id, now[1].id} & {*now[0].recipe.sources, *now[1].recipe.sources}
    assert all(session.job.report(each).met for each in now)
    # With G0 a patch leaves the ribbon again.
    hands.press("G0", card.joints.grades[0])
    assert [r.border for r in named(hands, "Belly patch").recipe.settings.ribbons] == [2]
    # The table of joints offers what mends it.
    hands.window.commands.run("joints")
    hands.wait()
    card = hands.window.cards.card
    assert "2 short of G1" in card.words.text()
    QTest.mouseClick(card.rows[0], Qt.MouseButton.LeftButton)
    hands.press("Solve together")
    # In the corner, where the borders themselves lie a little off one plane, a kink is left.
    assert max(np.degrees(joint.angle) for joint in card.joints) < 0.11
    assert max(np.degrees(joint.mean_angle) for joint in card.joints) < 0.02
    grades = {joint.grade for joint in card.joints}
    assert {sign.words for sign in session.sight.signs} == grades
    assert card.solve.isVisible() == (grades != {"G1"})
    hands.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, widget=hands.pane)
    for _ in range(2):
        hands.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, widget=hands.pane)
    assert named(hands, "Back patch").geometry is back.geometry
