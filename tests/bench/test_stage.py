"""The stage: what is seen, what the hands do to it, and what lies under the cursor."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu

from tests.bench.hands import ALT, BACK, CTRL, SHIFT, Hands
from tests.true_shapes import SHAPES
from usual_clay.bench.camera import TRUE_VIEWS, true_view
from usual_clay.bench.edits.regions import set_spread
from usual_clay.bench.stage import colours
from usual_clay.bench.stage.colours import as_bytes, spot_colours
from usual_clay.bench.stage.legend_menu import fill_look_menu
from usual_clay.bench.stage.overlay import legend_box
from usual_clay.bench.stage.pane import Pane
from usual_clay.bench.stage.portrait import followed, make_portrait
from usual_clay.bench.stage.reading import reading
from usual_clay.bench.theme.theme import PAPER, now, rgb
from usual_clay.core.check.deviation import Tolerance, judge
from usual_clay.core.fit.cast import cast
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.picture.placement import TRUE_PLANES
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots, greville
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.knots import insert_knot
from usual_clay.core.spline.surface import BSplineSurface, surface_normals, surface_points
from usual_clay.demo.scan import pose
from usual_clay.job.items import Region, Scan, Surface

MIDDLE = Qt.MouseButton.MiddleButton


def covered(picture: np.ndarray, colour: np.ndarray, within: float = 14) -> int:
    """Count pixels of about a colour's hue, whatever the light on them."""
    light = picture / np.maximum(picture.max(axis=2, keepdims=True), 1)
    wanted = colour / colour.max()
    return int((np.abs(light - wanted).max(axis=2) < within / 255).sum())


def test_views_project_where_rays_go(with_scan: Hands) -> None:
    view = with_scan.pane.view
    for camera in (view.camera, true_view("top", view.camera)):
        view.camera = camera
        for x, y in ((100, 90), (400, 300)):
            origin, direction = view.ray(x, y)
            place = view.project(origin + direction * 150)[0]
            assert place[:2] == pytest.approx([x, y], abs=1e-6)


def test_the_picture_shows_what_the_projection_says(with_scan: Hands) -> None:
    pane = with_scan.pane
    inside = with_scan.place((50, 0, 12))
    picture = with_scan.picture()
    x, y = inside.x(), inside.y()
    assert covered(picture[y - 3 : y + 3, x - 3 : x + 3], rgb(PAPER.scan)) > 20
    assert pane.scene.target(*pane.view.ray(inside.x(), inside.y())) is not None
    assert pane.scene.target(*pane.view.ray(5, 5)) is None


def test_middle_drag_turns_about_what_is_grabbed(with_scan: Hands) -> None:
    pane = with_scan.pane
    grabbed = with_scan.place((50, 0, 12))
    hit = pane.scene.target(*pane.view.ray(grabbed.x(), grabbed.y()))
    assert hit is not None
    before = pane.view.camera
    path = [grabbed, grabbed + QPoint(40, 10), grabbed + QPoint(90, 30)]
    with_scan.drag(path, MIDDLE, release=False)
    assert pane._moving
    with_scan.drag(path[:1], MIDDLE)
    turned = pane.view.camera
    assert before.sight @ turned.sight < 0.95
    assert turned.up @ turned.sight == pytest.approx(0, abs=1e-9)
    assert pane.view.project(hit.hit.point)[0, :2] == pytest.approx(
        [grabbed.x(), grabbed.y()], abs=25
    )
    with_scan.drag(path, Qt.MouseButton.LeftButton, ALT)
    assert turned.sight @ pane.view.camera.sight < 0.95
    assert not pane._moving


def test_shift_middle_pans_and_the_wheel_zooms_to_the_cursor(with_scan: Hands) -> None:
    pane = with_scan.pane
    place = with_scan.place((20, 0, 10))
    target = pane.scene.target(*pane.view.ray(place.x(), place.y()))
    assert target is not None
    height = pane.view.camera.height
    with_scan.wheel(place, 4)
    assert pane.view.camera.height == pytest.approx(height * 0.86**4)
    now = pane.view.project(target.hit.point)[0]
    assert now[:2] == pytest.approx([place.x(), place.y()], abs=2)
    with_scan.wait(lambda: not pane._moving)
    sight = pane.view.camera.sight
    with_scan.drag([place, place + QPoint(30, -20)], MIDDLE, SHIFT)
    assert np.array_equal(pane.view.camera.sight, sight)
    moved = pane.view.project(target.hit.point)[0]
    assert moved[:2] - now[:2] == pytest.approx([30, -20], abs=2)


def test_the_side_light_is_true_and_tab_swaps(with_demo: Hands) -> None:
    stage = with_demo.window.stage
    with_demo.drag([QPoint(100, 200), QPoint(120, 220)], MIDDLE, widget=stage.side)
    assert stage.side.view.camera.true
    assert stage.side.view.camera.sight == pytest.approx([0, 1, 0])
    for name in TRUE_VIEWS:
        with_demo.window.commands.run(f"look {name}")
        assert stage.side.view.camera.sight == pytest.approx(-TRUE_PLANES[name].normal)
        assert name in stage.side_button.text()
    wide = stage.free.width()
    stage.free.setFocus()
    with_demo.key(Qt.Key.Key_Tab, widget=stage.free)
    assert stage.large is stage.side
    assert stage.side.width() == pytest.approx(wide, abs=3)
    with_demo.key(Qt.Key.Key_Tab, widget=stage.side)
    assert stage.large is stage.free
    stage.fold()
    assert not stage.side.isVisible()
    stage.fold()
    assert stage.side.isVisible()


def test_what_lies_on_the_far_side_is_flown_round_to(with_demo: Hands) -> None:
    stage, session = with_demo.window.stage, with_demo.session
    scan = next(iter(session.job.all(Scan))).mesh
    sight = stage.free.view.camera.sight
    hidden = scan.vertices[np.argmax(scan.vertices @ sight)]
    seen = scan.vertices[np.argmin(scan.vertices @ sight)]
    stage.fly_to(seen)
    assert stage.free.view.camera.sight == pytest.approx(sight)
    stage.fly_to(hidden)
    camera = stage.free.view.camera
    assert camera.sight @ sight < 0.75
    assert camera.sight @ camera.up == pytest.approx(0, abs=1e-9)
    target = stage.scene.target(*stage.free.view.ray(*stage.free.view.project(hidden[None])[0, :2]))
    assert np.linalg.norm(target.hit.point - hidden) < 1


def coloured(pane: Pane) -> float:
    """How much of a view has the colours of a scale: stripes have none."""
    image = pane.view.image()
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1, 4)
    return float((np.ptp(rows[:, :, :3].astype(int), axis=2) > 60).mean())


def test_two_looks_stand_side_by_side_and_turn_together(with_demo: Hands) -> None:
    window, stage = with_demo.window, with_demo.window.stage
    window.commands.run("plain form")
    window.commands.run("judge stripes")
    with_demo.wait()
    assert coloured(stage.side) < 0.001
    menu = QMenu()
    fill_look_menu(menu, stage)
    next(a for a in menu.actions() if a.text() == "Slope to the ground").trigger()
    window.commands.run("tie views")
    with_demo.wait()
    assert coloured(stage.free) < 0.001
    assert coloured(stage.side) > 0.003
    assert "slope to the ground" in stage.side_button.text()
    with_demo.drag([QPoint(100, 200), QPoint(160, 240)], MIDDLE, widget=stage.free)
    with_demo.wait()
    assert stage.side.view.camera.sight == pytest.approx(stage.free.view.camera.sight)
    with_demo.drag([QPoint(60, 200), QPoint(90, 220)], MIDDLE, widget=stage.side)
    assert stage.side.view.camera.sight == pytest.approx(stage.free.view.camera.sight)
    # The other look is that of the smaller view, whichever that is.
    stage.swap()
    with_demo.wait()
    assert coloured(stage.side) < 0.001
    assert coloured(stage.free) > 0.003
    stage.swap()
    stage.look("top")
    stage.look_otherwise(None)
    with_demo.wait()
    assert stage.side.view.camera.true
    assert coloured(stage.side) < 0.001


def test_toggles_change_what_is_seen(with_demo: Hands) -> None:
    window, stage = with_demo.window, with_demo.window.stage
    with_demo.session.choice.choose(None)
    with_demo.wait()
    everything = with_demo.picture()
    assert covered(everything, rgb(PAPER.scan)) > 5000
    with_demo.key(Qt.Key.Key_1, widget=stage.free)
    assert not stage.scene.shown.scan
    assert not stage.switches["scan"].isChecked()
    assert covered(with_demo.picture(), rgb(PAPER.scan)) < 500
    assert covered(with_demo.picture(), rgb(PAPER.bisque)) > 5000
    QTest.mouseClick(stage.switches["colours"], Qt.MouseButton.LeftButton)
    with_demo.wait()
    assert covered(with_demo.picture(), rgb(PAPER.surfaces)) > 5000
    assert not stage.free.legend_is_shown()
    QTest.mouseClick(stage.switches["surfaces"], Qt.MouseButton.LeftButton)
    with_demo.wait()
    assert covered(with_demo.picture(), rgb(PAPER.surfaces)) < 500
    window.commands.run("plain form")
    with_demo.wait()
    assert stage.scene.shown.surfaces
    assert not stage.scene.shown.net
    window.commands.run("plain form")
    assert stage.scene.shown.scan
    assert stage.scene.shown.net


def test_the_net_is_drawn_where_the_control_points_are(with_demo: Hands) -> None:
    pane, surface = with_demo.pane, with_demo.session.choice.surface()
    assert surface is not None
    with_net = with_demo.picture()
    with_demo.window.stage.switch("net", False)
    with_demo.wait()
    changed = np.abs(with_net - with_demo.picture()).max(axis=2) > 30
    places = pane.view.project(surface.geometry.points.reshape(-1, 3))[:, :2].round().astype(int)
    for x, y in places:
        assert changed[max(y - 5, 0) : y + 6, max(x - 5, 0) : x + 6].any()


def test_colours_follow_side_and_tolerance() -> None:
    signed = np.array([0.0, 0.049, 0.2, -0.2, np.nan])
    made = colours.deviation_colours(signed, 0.05, 0.15)
    assert np.array_equal(made[0], made[1])
    assert made[0] == pytest.approx(rgb(PAPER.bisque))
    assert made[2] == pytest.approx(rgb(PAPER.teal))
    assert made[3] == pytest.approx(rgb(PAPER.plum))
    assert made[4] == pytest.approx(rgb(PAPER.unmeasured))


def test_the_reading_under_the_cursor_is_the_measured_distance(with_demo: Hands) -> None:
    pane, session = with_demo.pane, with_demo.session
    with_demo.window.stage.switch("scan", False)
    place = with_demo.place((62, -4, 9))
    with_demo.hover(place)
    words = reading(pane.scene, pane._target)
    assert " mm" in words
    assert ", at " in words
    target = pane._target
    assert target is not None
    surface = session.job.get(target.item, Surface)
    region = next(session.job.all(Region))
    scan = next(session.job.all(Scan))
    assert surface is not None
    assert surface.signed is not None
    near = np.argsort(
        np.linalg.norm(scan.mesh.vertices[region.vertices] - target.hit.point, axis=1)
    )
    around = surface.signed[near[:12]]
    value = float(words.split(" ")[0].replace("\N{MINUS SIGN}", "-"))
    assert around.min() - 0.02 < value < around.max() + 0.02
    assert "x " in with_demo.window.hint_line.place.text()
    session.choice.choose(surface.id)
    with_demo.hover(QPoint(4, 300))
    assert reading(pane.scene, pane._target) == ""
    assert with_demo.window.hint_line.place.text() == ""


def test_clicking_chooses_and_the_legend_sets_the_range(
    with_demo: Hands, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, pane = with_demo.session, with_demo.pane
    session.choice.choose(None)
    with_demo.click((56, -8, -6))
    assert isinstance(session.job.items[session.choice.item or ""], Scan)
    with_demo.click((62, -4, 9))
    assert isinstance(session.job.items[session.choice.item or ""], Surface)
    QTest.mouseClick(pane, Qt.MouseButton.LeftButton, pos=QPoint(8, 300))
    assert session.choice.item is None
    asked = []
    monkeypatch.setattr(with_demo.window.stage, "_legend_menu", asked.append)
    pane.legend_clicked.connect(asked.append)
    pane.legend_clicked.disconnect()
    pane.legend_clicked.connect(asked.append)
    box = legend_box(pane.width(), pane.height())
    QTest.mouseClick(pane, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert len(asked) == 1
    with_demo.window.stage.set_range(10.0)
    with_demo.wait()
    assert pane.scene.shown.range == 10.0


def test_spread_adds_takes_away_and_follows_its_slider(with_scan: Hands) -> None:
    window, session = with_scan.window, with_scan.session
    with_scan.key(Qt.Key.Key_S, widget=with_scan.pane)
    assert session.hand.tool == "spread"
    with_scan.click(BACK)
    region = next(session.job.all(Region))
    first = len(region.vertices)
    with_scan.key(Qt.Key.Key_BracketRight, widget=with_scan.pane)
    with_scan.key(Qt.Key.Key_BracketRight, widget=with_scan.pane)
    wider = session.job.items[region.id]
    assert len(wider.vertices) > first
    window.cards.card.spread.slider.setValue(20)
    narrow = session.job.items[region.id]
    assert len(narrow.vertices) < first
    # One step back takes the whole drag back, and one more the region.
    session.undo()
    assert not list(session.job.all(Region)) or len(next(session.job.all(Region)).vertices) == first
    session.redo()
    session.choice.choose(region.id)
    set_spread(session, 0.2)
    with_scan.click((50, -11.5, -2), SHIFT)
    more = session.job.items[region.id]
    assert len(more.vertices) > len(narrow.vertices)
    with_scan.click(BACK, CTRL)
    less = session.job.items[region.id]
    assert len(less.vertices) < len(more.vertices)
    assert len(list(session.job.all(Region))) == 1


def test_brush_adds_takes_away_and_is_dropped_by_escape(
    with_scan: Hands, lure: TriangleMesh
) -> None:
    session, pane = with_scan.session, with_scan.pane
    with_scan.key(Qt.Key.Key_B, widget=pane)
    session.hand.set_brush(2.0)
    path = [with_scan.place((x, -10, 3)) for x in np.linspace(35, 60, 6)]
    with_scan.drag(path)
    region = next(session.job.all(Region))
    points = pose().to_lure(lure.vertices[region.vertices])
    # No gaps although the mouse jumped 5 mm at a time, and nothing from the far side.
    assert np.diff(np.sort(points[:, 0])).max() < 0.5
    assert points[:, 1].max() < 0
    assert np.ptp(points[:, 0]) == pytest.approx(25 + 4, abs=1.5)
    with_scan.drag(path[2:4], held=CTRL)
    cut = session.job.items[region.id]
    assert 0 < len(cut.vertices) < len(region.vertices)
    plain = with_scan.picture()
    with_scan.drag(path[:4], release=False)
    lit = with_scan.picture()
    assert covered(lit, rgb(PAPER.region)) > covered(plain, rgb(PAPER.region)) + 300
    with_scan.key(Qt.Key.Key_Escape, widget=pane)
    assert session.job.items[region.id] is cut
    assert pane._lit is None
    with_scan.key(Qt.Key.Key_BracketLeft, widget=pane)
    assert session.hand.brush_radius == 1.0
    with_scan.key(Qt.Key.Key_Escape, widget=pane)
    assert session.hand.tool is None


def test_region_buttons(with_scan: Hands) -> None:
    window, session = with_scan.window, with_scan.session
    window.commands.run("spread")
    with_scan.click(BACK)
    window.commands.run("spread")

    def count() -> int:
        return len(next(session.job.all(Region)).vertices)

    def press(words: str) -> int:
        from PySide6.QtWidgets import QPushButton

        card = window.cards.card
        made = next(b for b in card.findChildren(QPushButton) if b.text() == words)
        QTest.mouseClick(made, Qt.MouseButton.LeftButton)
        with_scan.wait()
        return count()

    first = count()
    grown = press("Grow")
    assert grown > first
    # A ring more and a ring less: all of it comes back, and no more than what was closed by it.
    assert first <= press("Shrink") < grown
    scan = next(session.job.all(Scan))
    before = count()
    assert press("Invert") == len(np.unique(scan.mesh.triangles)) - before
    assert press("Invert") == before
    # A hole in the middle of it is filled with just what was there.
    region = next(session.job.all(Region))
    filled = press("Fill gaps")
    whole = next(session.job.all(Region)).vertices
    seed = pose().to_scan(np.array([BACK]))[0]
    holed = whole[np.linalg.norm(scan.mesh.vertices[whole] - seed, axis=1) > 1.5]
    assert len(holed) < filled
    session.commit(session.job.changed(region.id, vertices=holed), "hole")
    assert press("Fill gaps") == filled
    assert np.array_equal(next(session.job.all(Region)).vertices, whole)


def test_a_portrait_follows_a_few_control_points_as_if_made_anew() -> None:
    knots = even_knots(9, 3)
    x, y = np.meshgrid(30 * greville(knots, 3), 30 * greville(knots, 3), indexing="ij")
    surface = BSplineSurface(knots, knots, np.stack([x, y, np.sin(x / 6)], axis=2))
    old = make_portrait(surface, 0.01)
    lifted = surface.points.copy()
    lifted[4, 5, 2] += 0.4
    moved = replace(surface, points=lifted)
    quick = followed(old, moved)
    assert quick is not None
    uu, vv = (part.ravel() for part in np.meshgrid(quick.grid.u, quick.grid.v, indexing="ij"))
    assert quick.vertices == pytest.approx(surface_points(moved, uu, vv), abs=1e-9)
    assert quick.normals == pytest.approx(surface_normals(moved, uu, vv), abs=1e-9)
    # Far from the point nothing was touched, and with other knots there is nothing to go by.
    assert (quick.vertices != old.vertices).any(axis=1).mean() < 0.5
    assert followed(old, insert_knot(surface, 0.4)) is None


def test_triangles_are_as_near_to_their_surface_as_the_tolerance_asks() -> None:
    shape = SHAPES[6]
    surface = cast(shape.sample(4000), CastSettings(6, 6)).surface
    for chord in (0.5, 0.05):
        made = make_portrait(surface, chord)
        middles = made.vertices[made.triangles].mean(axis=1)
        assert np.abs(foot_points(surface, middles).signed).max() < chord
    assert len(made.triangles) < 30_000


@pytest.mark.parametrize("count", [4, 30])
def test_as_much_is_coloured_as_the_figures_say(count: int) -> None:
    told = 0
    for shape in SHAPES[:: 3 if count == 4 else 4]:
        sample, tolerance = shape.sample(6000), Tolerance(shape.tolerance / 1.5)
        least = max(count, 6) if shape.round else count
        made = cast(sample, CastSettings(least, least))
        report = judge(made.feet.signed, tolerance, made.areas)
        spots = make_portrait(made.surface, 0.01, sample.points, made.feet.signed).spots
        assert spots is not None
        full = 3 * tolerance.deviation
        tints = spot_colours(spots, made.feet.signed, tolerance.deviation, full)[..., :3]
        plain = as_bytes(np.array(rgb(now().bisque)))
        measured = spots.nearest >= 0
        coloured = measured & (tints != plain).any(axis=2)
        share = float((spots.area * coloured).sum() / (spots.area * measured).sum())
        assert share == pytest.approx(1 - report.within_share, abs=0.015), shape.name
        # What was not measured is hatched, in no colour of a deviation.
        assert len(np.unique(tints[~measured], axis=0)) <= 2
        told += 1
    assert told > 4


def test_the_scan_can_wear_the_colours_instead_of_the_surface(with_demo: Hands) -> None:
    session, stage = with_demo.session, with_demo.window.stage
    surface = next(s for s in session.job.all(Surface) if s.visible and s.signed is not None)
    scan = next(session.job.all(Scan))
    session.choice.choose(surface.id)
    with_demo.wait()
    before = stage.scene.scan_layers(scan)[scan.id]
    assert stage.scene.surface_layers(surface)[surface.id].spots is not None
    with_demo.window.commands.run("deviation on the scan")
    with_demo.wait()
    assert stage.scene.scan_layers(scan)[scan.id] is not before
    assert stage.scene.surface_layers(surface)[surface.id].spots is None
    region = session.job.region_of(surface)
    assert region is not None
    from vtkmodules.util.numpy_support import vtk_to_numpy

    layer = stage.scene.scan_layers(scan)[scan.id]
    tints = vtk_to_numpy(layer.data.GetPointData().GetScalars())[region.vertices]
    within = np.abs(surface.signed) <= session.job.tolerance.deviation
    assert (tints[within] == as_bytes(np.array(rgb(now().bisque)))).all()
    assert (tints[~within] != as_bytes(np.array(rgb(now().bisque)))).any(axis=1).all()
    with_demo.window.commands.run("deviation on the scan")
    with_demo.wait()
    assert stage.scene.surface_layers(surface)[surface.id].spots is not None


def test_spikes_do_not_paint_more_than_themselves() -> None:
    shape = next(shape for shape in SHAPES if shape.name == "panel")
    sample = shape.sample(8000)
    points = sample.points.copy()
    spikes = np.random.default_rng(0).choice(8000, 64, replace=False)
    points[spikes] += 0.5 * sample.normals[spikes]
    made = cast(Sample(points, sample.normals, sample.triangles), CastSettings(4, 4))
    spots = make_portrait(made.surface, 0.01, points, made.feet.signed).spots
    assert spots is not None
    out = np.abs(made.feet.signed[spots.nearest]) > 0.04
    out &= spots.nearest >= 0
    share = (spots.area * out).sum() / (spots.area * (spots.nearest >= 0)).sum()
    assert 0.006 < share < 0.012
