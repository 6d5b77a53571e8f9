"""Surfaces from curves in the window: made, changed, followed, saved and loose."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests.bench.hands import NONE, SHIFT, Hands
from tests.solids import flat
from usual_clay.bench.gestures.drag_handle import handles_of
from usual_clay.core.build.fill import FillSettings
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.spline.boundary import border_curve
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import curve_points
from usual_clay.files.job_file import write_job
from usual_clay.job.edits.curves import new_curve, reshaped
from usual_clay.job.edits.surfaces import reshaped_surface
from usual_clay.job.items import Curve, Region, Surface

RAILS = ("Widest line", "Widest line twin")
ARCHES = ("Back arch, front", "Back arch, rear")


def named(hands: Hands, name: str) -> Any:
    return next(item for item in hands.session.job.items.values() if item.name == name)


def pick(hands: Hands, *names: str) -> Any:
    """Pick the sources of the task at hand, one after the other; "" for none."""
    card = hands.window.cards.get("task")
    for box, name in zip(card.sources, names, strict=False):
        at = box.findData(named(hands, name).id if name else "")
        assert at >= 0
        box.setCurrentIndex(at)
    hands.wait()
    return card


def off(surface: Surface, curve: Curve) -> float:
    places = curve_points(curve.geometry, np.linspace(0, 1, 200))
    return float(np.abs(foot_points(surface.geometry, places).signed).max())


def test_a_two_rail_surface_is_lean_near_the_scan_and_follows_its_curves(
    with_demo: Hands, tmp_path: Path
) -> None:
    hands = with_demo
    session = hands.session
    # It would be made anew with each move of an arch.
    session.commit(session.job.without(named(hands, "Belly patch").id), "delete")
    hands.window.set_station("Surface")
    session.choice.choose(named(hands, RAILS[0]).id)
    hands.window.rail.tools["task two-rail"].click()
    # Of profiles, which may be many, those picked are shown and one more.
    card = pick(hands, *RAILS, *ARCHES)
    shown = [box for box in card.sources if box.isVisible()]
    assert len(shown) == 6
    region = next(iter(session.job.all(Region)))
    assert "of its curves lie within" in card.words.text()
    hands.key(Qt.Key.Key_Return, widget=card)
    hands.wait()
    plain = session.job.get(session.choice.item, Surface)
    assert plain is not None
    assert plain.control_points <= 48
    report = session.job.report(plain)
    assert report is not None
    assert report.max <= session.job.tolerance.deviation
    assert not plain.by_area
    # Near the scan between them: its last source is the region.
    rows = hands.window.cards.card._pages["two-rail"][1]
    role, box = rows.takes[-1].role, rows.boxes[-1]
    assert role == "near"
    box.setCurrentIndex(box.findData(region.id))
    hands.wait()
    near = session.job.get(plain.id, Surface)
    assert near is not None
    assert near.watches == region.id
    assert near.by_area
    assert near.control_points < 90
    judged = session.job.report(near)
    assert judged is not None
    # The region reaches farther than the surface: what lies within it judges it.
    assert near.inside is not None
    assert len(near.signed) == len(near.inside) < len(region.vertices)
    assert judged.p95 < 0.06
    for name in (*RAILS, *ARCHES):
        assert off(near, named(hands, name)) <= 0.055
    points = session.job.items[region.scan].mesh.vertices[region.vertices]
    feet = foot_points(near.geometry, points)
    inside = (feet.u > 0) & (feet.u < 1) & (feet.v > 0) & (feet.v < 1)
    assert np.quantile(np.abs(feet.signed[inside]), 0.95) < 0.06
    # A curve that moves takes it along, and undo brings both back.
    rear = named(hands, ARCHES[1])
    moved = rear.geometry.points + np.array([0.0, 0, 0.4]) * np.sin(
        np.linspace(0, np.pi, len(rear.geometry.points))
    ).reshape(-1, 1)
    shape = type(rear.geometry)(rear.geometry.knots, moved)
    session.commit(session.job.with_item(reshaped(session.job, rear, shape)), "move the arch")
    hands.wait()
    followed = session.job.get(near.id, Surface)
    assert followed is not None
    assert off(followed, session.job.the(rear.id, Curve)) <= 0.055
    assert np.abs(followed.geometry.points[0, 0] - near.geometry.points[0, 0]).max() < 3
    session.undo()
    hands.wait()
    assert session.job.the(near.id, Surface).geometry.points.tolist() == (
        near.geometry.points.tolist()
    )
    # Shaped by hand it is judged by the very same points.
    net = near.geometry.points.copy()
    net[4, 3] += [0.0, 0, 0.3]
    shaped = reshaped_surface(session.job, near, replace(near.geometry, points=net))
    by_hand = session.job.with_item(shaped)
    assert len(shaped.signed) == len(near.signed)
    judges = by_hand.measured(shaped)
    assert judges is not None
    assert judges.vertices.tolist() == region.vertices[near.inside].tolist()
    worse = by_hand.report(shaped)
    assert worse is not None
    assert worse.p95 > 1.4 * judged.p95
    # Saved and opened it is the same; without a source it is loose, and keeps its shape.
    path = tmp_path / "rails.uclay"
    write_job(path, session.job)
    hands.window.documents.open_file(path)
    hands.wait()
    again = session.job.the(near.id, Surface)
    assert again.geometry.points.tolist() == near.geometry.points.tolist()
    assert again.recipe is not None
    assert again.recipe.kind == "two-rail"
    old = named(hands, ARCHES[1])
    session.choice.choose(old.id)
    hands.key(Qt.Key.Key_Delete)
    assert "Back patch and Two-rail 1 will be loose without" in hands.window.cards.told.text()
    assert old.id in session.job.items
    hands.key(Qt.Key.Key_Delete)
    hands.wait()
    loose = session.job.the(near.id, Surface)
    assert session.job.is_loose(loose)
    assert loose.geometry.points.tolist() == near.geometry.points.tolist()
    # Tied again to the curve that lies where the old one lay; the other sources are untouched.
    lifted = replace(old.geometry, points=old.geometry.points + np.array([0.0, 0, 0.02]))
    fresh = new_curve(session.job, lifted, "Arch anew", None)
    session.commit(session.job.with_item(fresh), "a new arch")
    session.choice.choose(near.id)
    hands.window.commands.run("tie again")
    card = hands.window.cards.card
    assert card.boxes[0].itemText(0).startswith("0.0")
    assert card.boxes[0].itemText(0).endswith("Arch anew")
    hands.key(Qt.Key.Key_Return, widget=card)
    hands.wait()
    tied = session.job.the(near.id, Surface)
    assert not session.job.is_loose(tied)
    assert {*tied.recipe.sources} - {*near.recipe.sources} == {fresh.id}
    assert off(tied, session.job.the(fresh.id, Curve)) <= 0.055


def test_what_makes_no_surface_is_said_on_the_card_and_leaves_the_job(with_demo: Hands) -> None:
    hands = with_demo
    hands.window.set_station("Surface")
    before = hands.session.job
    hands.session.choice.choose(named(hands, "Profile x = 24").id)
    hands.window.rail.tools["task net"].click()
    card = pick(hands, "Profile x = 24", "Profile x = 50")
    across = [t.role for t in card.task.takes].index("across")
    for box, name in zip(card.sources[across:], ("Profile x = 75", "Gill edge"), strict=False):
        box.setCurrentIndex(box.findData(named(hands, name).id))
    hands.wait()
    assert "do not cross: they pass at" in card.trouble.text()
    assert not card.keep.isEnabled()
    hands.key(Qt.Key.Key_Escape, widget=card)
    assert hands.session.job is before
    # A tube takes several radii, typed with a decimal comma.
    hands.session.choice.choose(named(hands, "Widest line").id)
    hands.window.rail.tools["task tube"].click()
    card = pick(hands, "Widest line")
    (line,) = card.fields.parts["radii"]
    line.setText("0,6; 1.2 mm")
    line.editingFinished.emit()
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=card)
    hands.wait()
    tube = hands.session.job.get(hands.session.choice.item, Surface)
    assert tube is not None
    assert tube.recipe is not None
    assert tube.recipe.settings.radii == (0.6, 1.2)


def test_patches_meet_where_the_hand_puts_it_and_things_are_moved_by_drag(
    with_demo: Hands,
) -> None:
    hands, session = with_demo, with_demo.session
    session.set_tolerance(Tolerance(0.2, 0.95))
    sides = [f"Gill border {k}" for k in (1, 2, 3, 4)]
    session.choice.choose(named(hands, sides[0]).id)
    hands.window.commands.run("task fill")
    card = hands.window.cards.card
    # Clicks on the stage take the others; one more leaves one out again.
    for side in (*sides[1:], sides[3], sides[3]):
        session.hand.offered.emit(named(hands, side).id)
    assert card.rows.roles()["edges"] == [named(hands, side).id for side in sides]
    for name in ("nu", "nv"):
        card.fields.parts[name][0].setValue(7)
    card.several.setValue(4)
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=card)
    hands.wait()
    patches = [s for s in session.job.all(Surface) if s.made_by(FillSettings) is not None]
    assert len(patches) == 4
    ends = [p.geometry.points[-1, -1] for p in patches]
    assert np.ptp(ends, axis=0).max() < 0.1
    wanted = ends[0] + [0.8, 0.0, 0.5]
    session.choice.choose(patches[1].id)
    hands.window.cards.card.meet.click()
    marking = session.hand.marking
    assert marking is not None
    marking.changed(marking.with_places(wanted[None]))
    hands.wait()
    for patch in patches:
        now = session.job.the(patch.id, Surface)
        assert now.geometry.points[-1, -1] == pytest.approx(wanted, abs=0.1)
    # A drag of the arrow along x moves the curve along x alone, and digits say how far.
    curve = named(hands, "Profile x = 75")
    session.choice.choose(curve.id)
    hands.window.commands.run("move")
    hands.wait()
    arrow = next(sign for sign in session.sight.signs if sign.words == "x")
    pane = hands.pane
    x, y = pane.view.project(arrow.places[5:6])[0, :2] / pane.devicePixelRatioF()
    start = QPoint(round(x), round(y))
    QTest.mousePress(pane, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    for step in range(1, 6):
        QTest.mouseMove(pane, start + QPoint(6 * step, 0))
    QTest.keyClicks(pane, "7.5")
    QTest.mouseRelease(
        pane, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start + QPoint(30, 0)
    )
    hands.wait()
    hands.key(Qt.Key.Key_Return, widget=hands.window.cards.card)
    hands.wait()
    moved = session.job.the(curve.id, Curve).geometry.points - curve.geometry.points
    assert moved[:, 0] == pytest.approx(7.5)
    assert moved[:, 1:] == pytest.approx(0.0)
    session.undo()
    assert session.job.the(curve.id, Curve) is curve


def test_an_edge_of_a_surface_is_taken_by_a_click_and_followed(hands: Hands) -> None:
    """Plates one above the other: a ruled surface between edges of theirs."""
    session = hands.session
    job = session.job
    for name, z in (("Lower", 0.0), ("Upper", 20.0)):
        plate = flat((0, 0, z), (40, 0, z), (40, 30, z), (0, 30, z))
        job = job.with_item(Surface(id=job.new_id("surface"), name=name, geometry=plate))
    session.commit(job, "plates")
    hands.window.set_station("Surface")
    hands.wait()
    hands.window.stage.free.fit()
    session.choice.choose(None)
    hands.window.commands.run("task ruled")
    hands.wait()
    card, pane = hands.window.cards.get("task"), hands.pane
    for z in (20.0, 0.0):
        x, y, _ = pane.view.project(np.array([[38.0, 0.2, z]]))[0]
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
        hands.wait()
    edges = [curve.name for curve in session.job.all(Curve)]
    assert edges == ["Upper edge v0", "Lower edge v0"]
    hands.key(Qt.Key.Key_Return, widget=card)
    hands.wait()
    wall = session.job.get(session.choice.item, Surface)
    assert wall is not None
    assert np.ptp(wall.geometry.points.reshape(-1, 3), axis=0) == pytest.approx([40, 0, 20])
    # The plate moves, and edge and wall with it.
    upper = named(hands, "Upper")
    higher = replace(upper.geometry, points=upper.geometry.points + np.array([0, 0, 5]))
    session.commit(session.job.with_item(replace(upper, geometry=higher)), "lift")
    hands.wait()
    wall = session.job.the(wall.id, Surface)
    assert np.ptp(wall.geometry.points[..., 2]) == pytest.approx(25)


def test_the_strength_of_a_blend_is_drawn_by_its_handles(hands: Hands) -> None:
    session = hands.session
    job = session.job
    for name, x, z in (("Low", 0.0, 0.0), ("High", 30.0, 8.0)):
        plate = flat((x, 0, z), (x + 10, 0, z), (x + 10, 20, z), (x, 20, z))
        job = job.with_item(Surface(id=job.new_id("surface"), name=name, geometry=plate))
    session.commit(job, "plates")
    session.choice.choose(named(hands, "Low").id)
    hands.window.commands.run("task blend")
    card = pick(hands, "Low", "High")
    card.accept()
    hands.wait()
    blended = session.choice.surface()
    hands.window.stage.fit()
    hands.wait()
    for both in (False, True):
        before = session.job.get(blended.id, Surface)
        handle = handles_of(session.job, blended.id)[0]
        longer = np.stack([handle.tip, handle.tip + 0.5 * (handle.tip - handle.foot)])
        x, y = hands.pane.view.project(longer)[:, :2].T
        path = [QPoint(round(a), round(b)) for a, b in zip(x, y, strict=True)]
        middle = QPoint(*((path[0] + path[1]).toTuple()[k] // 2 for k in (0, 1)))
        hands.drag([path[0], middle, path[1]], held=SHIFT if both else NONE)
        now = session.job.get(blended.id, Surface)
        old, new = before.recipe.settings, now.recipe.settings
        changed = {name for name in vars(new) if getattr(new, name) != getattr(old, name)}
        assert changed == {"first_strength"}
        assert new.first_strength > 1.2 * old.first_strength
        # However strong, it goes on from both in curvature.
        for plate, border in (("Low", "v0"), ("High", "v1")):
            joint = edge_joint(now.geometry, named(hands, plate).geometry,
                               border_curve(now.geometry, border))  # fmt: skip
            assert np.max(joint.gap) < 1e-9
            assert np.max(joint.angle) < 1e-6
