"""Surfaces with mouse and keys: adaptive knots, control points dragged against the scan."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from tests.bench.hands import CTRL, NONE, Hands
from tests.bench.test_trace import seen
from usual_clay.bench.balance_charts import Chart
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.candidates import pareto_front
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import surface_derivatives, surface_grid
from usual_clay.files.step_out import write_exchange
from usual_clay.job.edits.surfaces import whole_lines
from usual_clay.job.items import Region, Surface
from usual_clay.job.job import sample_of

FINE = np.linspace(0, 1, 40)


def chosen(hands: Hands) -> Surface:
    surface = hands.session.job.get(hands.session.choice.item, Surface)
    assert surface is not None
    return surface


@pytest.fixture
def net(with_demo: Hands):
    """The demo's cast from above, ready to be shaped."""
    hands = with_demo
    hands.window.stage.look("side")
    hands.window.stage.swap()
    hands.window.stage.switch("scan", False)
    hands.wait()
    hands.press("shape")
    return hands, hands.window.stage.side


def test_a_row_is_dragged_against_the_scan(net, tmp_path: Path) -> None:
    hands, pane = net
    surface = chosen(hands)
    nu, nv = surface.geometry.counts
    before = hands.session.job.report(surface)
    assert before is not None
    page = hands.window.cards.card.shape
    hands.press("row")
    at = seen(pane, surface.geometry.points[6, 2])
    hands.drag([at, at + QPoint(0, -9), at + QPoint(0, -20)], widget=pane, release=False)
    row = {6 * nv + k for k in range(nv)}
    assert hands.session.choice.points == row
    # Figures follow the hand before it lets go, and say what they were.
    proposed = hands.session.shown.get(surface.id, Surface)
    assert proposed is not None
    live = hands.session.shown.report(proposed)
    assert live is not None
    assert live.max > before.max
    assert page.figures.far.figure.text() == f"{before.at_share:.3f} mm"
    # The row is drawn as the curve that it is.
    (line,) = whole_lines(proposed.geometry, hands.session.choice.points)
    assert line.points == pytest.approx(proposed.geometry.points[6])
    assert line.degree == proposed.geometry.degrees[1]
    hands.drag([at, at + QPoint(0, -20)], widget=pane)
    now = chosen(hands)
    by = now.geometry.points - surface.geometry.points
    assert np.abs(by[[5, 7]]).max() == 0
    assert by[6] == pytest.approx(np.tile(by[6, 0], (nv, 1)))
    assert by[6, 0, 2] > 0.5
    assert by[6, 0, 1] == pytest.approx(0, abs=1e-9)
    assert page.figures.far.figure.text() == f"{before.at_share:.3f} mm"
    report = hands.session.job.report(now)
    assert report is not None
    assert page.figures.near.figure.text() == f"{report.at_share:.3f} mm"
    # Shaped by hand it has no counts to search among, and says so.
    hands.window.commands.run("to tolerance")
    assert "is shaped by hand" in hands.window.cards.told.text()
    # It keeps its tie to its region for deviation, through a file too.
    region = next(hands.session.job.all(Region))
    assert now.recipe is None
    assert now.watches == region.id
    sample = sample_of(hands.session.job, region)
    exact = foot_points(now.geometry, sample.points).signed
    assert now.signed == pytest.approx(exact, abs=1e-6)
    assert hands.session.save(tmp_path / "a.uclay")
    assert hands.session.open(tmp_path / "a.uclay")
    again = hands.session.job.items[surface.id]
    assert isinstance(again, Surface)
    assert again.watches == region.id
    assert again.signed == pytest.approx(now.signed)
    assert nu == 14


def test_neighbours_follow_softly_and_numbers_are_typed(net) -> None:
    hands, pane = net
    surface = chosen(hands)
    nv = surface.geometry.counts[1]
    hands.session.hand.set_soft(2.0, "straight")
    at = seen(pane, surface.geometry.points[6, 2])
    hands.drag([at, at + QPoint(0, -14)], widget=pane, release=False)
    for key in (Qt.Key.Key_Z, Qt.Key.Key_1):
        QTest.keyClick(pane, key)
    QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=at + QPoint(0, -14))
    hands.wait()
    by = (chosen(hands).geometry.points - surface.geometry.points).reshape(-1, 3)
    # Held to z, and as far as was typed whichever way the hand went.
    assert np.abs(by[:, :2]).max() < 1e-9
    assert by[6 * nv + 2, 2] == pytest.approx(1.0)
    height = by[:, 2] / by[6 * nv + 2, 2]
    assert height[6 * nv + 2] == pytest.approx(1)
    assert height[7 * nv + 2] == pytest.approx(2 / 3, abs=1e-6)
    assert height[8 * nv + 2] == pytest.approx(1 / 3, abs=1e-6)
    assert height[9 * nv + 2] == 0
    hands.key(Qt.Key.Key_Z, CTRL, pane)
    assert chosen(hands).recipe is not None


def test_rows_columns_and_degrees_change_and_the_shape_stays(net) -> None:
    hands, pane = net
    shape = surface_grid(chosen(hands).geometry, FINE, FINE)
    hands.press("Insert row")
    hands.press("Insert column")
    assert chosen(hands).geometry.counts == (15, 7)
    assert surface_grid(chosen(hands).geometry, FINE, FINE) == pytest.approx(shape, abs=1e-9)
    page = hands.window.cards.card.shape
    assert page.removes["u"].text() == "Row less: 0.000 mm"
    hands.press("Row less: 0.000 mm")
    hands.press("Column less: 0.000 mm")
    assert chosen(hands).geometry.counts == (14, 6)
    hands.press("Raise v")
    assert chosen(hands).geometry.degrees == (3, 4)
    assert surface_grid(chosen(hands).geometry, FINE, FINE) == pytest.approx(shape, abs=1e-6)
    hands.press("Swap u, v")
    turned = surface_grid(chosen(hands).geometry, 1 - FINE, FINE).transpose(1, 0, 2)
    assert turned == pytest.approx(shape, abs=1e-6)
    signed = chosen(hands).signed
    assert signed is not None
    assert np.quantile(np.abs(signed), 0.95) < 0.06
    QTest.mouseClick(pane, Qt.MouseButton.LeftButton, NONE, QPoint(4, 4))
    assert hands.session.choice.item is None


def test_adaptive_knots_are_chosen_on_the_card(with_demo: Hands) -> None:
    hands = with_demo
    before = chosen(hands)
    hands.press("adaptive")
    hands.wait()
    after = chosen(hands)
    assert after.recipe is not None
    assert after.recipe.settings.knots == "adaptive"
    assert after.geometry.counts == before.geometry.counts
    steps = np.diff(np.unique(after.geometry.knots_u))
    assert steps.max() > 1.5 * steps.min()
    report = hands.session.job.report(after)
    assert report is not None
    assert report.met


def test_chosen_points_are_pulled_to_the_scan_and_a_surface_is_slimmed(net) -> None:
    hands, pane = net
    surface = chosen(hands)
    good = hands.session.job.report(surface)
    assert good is not None
    hands.session.hand.set_pick("row")
    at = seen(pane, surface.geometry.points[6, 2])
    hands.drag([at, at + QPoint(0, -9), at + QPoint(0, -20)], widget=pane)
    bad = hands.session.job.report(chosen(hands))
    assert bad is not None
    assert bad.at_share > 3 * good.at_share
    moved = chosen(hands).geometry.points
    hands.press("Pull to scan")
    pulled = hands.session.job.report(chosen(hands))
    assert pulled is not None
    assert pulled.at_share < 1.3 * good.at_share < 0.5 * bad.at_share
    others = np.delete(chosen(hands).geometry.points, 6, 0)
    assert others == pytest.approx(np.delete(moved, 6, 0))
    # Slimmed, shown with what it costs before it is kept.
    hands.window.commands.run("task slim surface")
    card = hands.window.cards.card
    card.fields.parts["within"][0].setValue(0.5)
    hands.wait()
    assert "14 × 6 control points become" in card.words.text()
    assert "of what measures it lie within" in card.words.text()
    before = chosen(hands).geometry
    hands.key(Qt.Key.Key_Return, widget=pane)
    lean = chosen(hands).geometry
    assert lean.points.size < before.points.size
    away = foot_points(before, surface_grid(lean, FINE, FINE).reshape(-1, 3)).signed
    assert np.abs(away).max() <= 0.5


@pytest.mark.parametrize("key", ["u", "v", "t"])
def test_a_drag_is_held_to_the_surfaces_own_directions(net, key: str) -> None:
    hands, pane = net
    surface = chosen(hands)
    place = surface.geometry.points[6, 2]
    at = seen(pane, place)
    feet = foot_points(surface.geometry, place[None])
    _, along_u, along_v = surface_derivatives(surface.geometry, feet.u, feet.v, 1)[:, :, 0]
    hands.drag([at, at + QPoint(4, -6)], widget=pane, release=False)
    QTest.keyClick(pane, getattr(Qt.Key, f"Key_{key.upper()}"))
    QTest.mouseMove(pane, at + QPoint(22, -12))
    QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=at + QPoint(22, -12))
    hands.wait()
    by = chosen(hands).geometry.points[6, 2] - place
    assert np.linalg.norm(by) > 1e-3
    wanted = {"u": along_u, "v": along_v}.get(key)
    if wanted is None:
        normal = np.cross(along_u, along_v)
        assert abs(by @ normal) < 1e-6 * np.linalg.norm(by) * np.linalg.norm(normal)
    else:
        assert np.linalg.norm(np.cross(by, wanted)) < 1e-6 * np.linalg.norm(by) * np.linalg.norm(
            wanted
        )


def test_the_front_is_there_by_itself(with_demo: Hands) -> None:
    hands, session = with_demo, with_demo.session
    surface, tolerance = chosen(hands), session.job.tolerance
    hands.window.fronts.enabled = True
    session.choice.choose(None)
    session.choice.choose(surface.id)
    hands.wait(lambda: len(session.sight.front) > 5)
    hands.wait()
    front = pareto_front(session.sight.front, tolerance.share)
    met = [
        candidate
        for candidate in front
        if candidate.deviation(tolerance.share) <= tolerance.deviation
    ]
    # Coarse ones, the leanest within tolerance, and richer ones past it.
    assert 0 < len(met) < len(front)
    assert min(candidate.total for candidate in met) < surface.control_points
    assert session.job.items[surface.id] is surface
    # How calm it is, beside how near it lies.
    hands.window.calmness.begin()
    hands.wait()
    calm, figures = session.sight.calm[1], hands.window.cards.card.figures
    assert figures.more.isVisible()
    assert figures.more.figure.text() == f"{calm.times:.2g} ×"
    assert calm.times >= 1
    # Another surface has another front; a changed one is computed anew.
    other = next(s for s in session.job.all(Surface) if s.id != surface.id)
    session.choice.choose(other.id)
    assert session.sight.front == []
    assert session.sight.calm is None
    # What the front promises is what the fit comes to.
    session.choice.choose(surface.id)
    lean = min(met, key=lambda candidate: candidate.total)
    hands.window.fronts.enabled = False
    hands.window.balance.chart.taken.emit(lean)
    hands.wait()
    report = session.job.report(chosen(hands))
    assert report is not None
    assert chosen(hands).control_points == lean.total
    assert report.at_share < 1.1 * lean.deviation(tolerance.share)


def test_a_cast_is_held_and_says_what_that_costs(with_demo: Hands) -> None:
    hands = with_demo
    hands.press("hold")
    card = hands.window.cards.card
    hands.press("flat", card.edges[2])
    edge = chosen(hands).geometry.points[:, 0]
    assert np.linalg.svd(edge - edge.mean(axis=0))[1][2] < 1e-9
    # What that costs is worked out when all is quiet; the hand does not wait for it.
    prices = hands.window.prices
    assert "costs" not in card.words.text()
    prices.enabled = True
    prices.begin()
    hands.wait()
    assert "Holding edges costs" in card.words.text()
    hands.press("z", card.pull)
    net = chosen(hands).geometry.points
    # Seen along z each row and column of the net is one line: a height over the plane.
    assert np.ptp(net[1:-1, 1:, 0], axis=1).max() < 1e-6
    prices.begin()
    hands.wait()
    assert "the pull costs" in card.words.text()
    prices.enabled = False
    hands.press("u", card.closed)
    recipe = chosen(hands).recipe
    assert recipe is not None
    assert (recipe.settings.closed, recipe.settings.pull) == ("u", "")


def test_all_but_the_chosen_points_are_pulled(net) -> None:
    hands, pane = net
    surface = chosen(hands)
    good = hands.session.job.report(surface)
    hands.session.hand.set_pick("row")
    at = seen(pane, surface.geometry.points[6, 2])
    hands.drag([at, at + QPoint(0, -3), at + QPoint(0, -5)], widget=pane)
    moved, bad = chosen(hands).geometry.points, hands.session.job.report(chosen(hands))
    hands.press("Pull the rest")
    made, now = chosen(hands).geometry.points, hands.session.job.report(chosen(hands))
    assert made[6] == pytest.approx(moved[6])
    assert np.abs(made[5] - moved[5]).max() > 0.01
    assert good is not None
    assert bad is not None
    assert now is not None
    assert now.rms < bad.rms
    assert "Holding 6 control points costs" in hands.window.cards.told.text()


def test_a_fit_is_not_ended_unasked_and_comes_back(net) -> None:
    hands, pane = net
    hands.press("fit")
    session, fitted = hands.session, chosen(hands)
    session.hand.may_shape.clear()
    at = seen(pane, fitted.geometry.points[6, 2])
    path = [at, at + QPoint(0, -9), at + QPoint(0, -20)]
    assert hands.window.commands.why_not("fit again")
    hands.drag(path, widget=pane)
    assert chosen(hands).recipe is fitted.recipe
    assert "Drag again" in hands.window.cards.told.text()
    hands.drag(path, widget=pane)
    assert chosen(hands).recipe is None
    hands.window.commands.run("fit again")
    hands.wait()
    again = chosen(hands)
    assert again.recipe == fitted.recipe
    assert np.array_equal(again.geometry.points, fitted.geometry.points)
    hands.key(Qt.Key.Key_Z, CTRL, pane)
    assert chosen(hands).recipe is None


def test_a_surface_that_came_in_is_judged_by_a_scan_or_a_region_of_it(
    with_demo: Hands, tmp_path: Path
) -> None:
    job = with_demo.session.job
    cast = next(each for each in job.all(Surface) if each.made_by(CastSettings))
    region = job.region_of(cast)
    assert region is not None
    # Turned round, as files have them, and off by a known height.
    off = replace(cast.geometry, points=cast.geometry.points[::-1] + np.array([0, 0, 0.2]))
    write_exchange(tmp_path / "other.step", [("Other", off)])
    with_demo.window.documents.open_file(tmp_path / "other.step")
    with_demo.wait()
    with_demo.key(Qt.Key.Key_Return, widget=with_demo.pane)
    assert chosen(with_demo).signed is None
    assert "follows nothing" in with_demo.window.cards.card.about.text()
    judge = with_demo.window.cards.card.shape.judge
    judge.setCurrentIndex(judge.findData(region.scan))
    with_demo.wait()
    by_scan = chosen(with_demo)
    assert by_scan.inside is not None
    assert len(np.intersect1d(by_scan.inside, region.vertices)) > 0.95 * len(region.vertices)
    judge.setCurrentIndex(judge.findData(region.id))
    with_demo.wait()
    by_region = chosen(with_demo)
    assert by_region.signed is not None
    places = sample_of(job, region).points
    assert by_region.signed == pytest.approx(foot_points(off, places).signed, abs=1e-9)
    # It lies above the scan, and faces inwards.
    assert 0.1 < np.median(by_region.signed) < 0.2
    with_demo.session.undo()
    assert chosen(with_demo).inside is not None
    judge.setCurrentIndex(0)
    with_demo.wait()
    assert chosen(with_demo).signed is None
    # What lies far from a scan is judged by none of it.
    far = with_demo.session.job.changed(
        by_scan.id, geometry=replace(off, points=off.points + 500.0), watches=region.scan
    )
    with_demo.session.commit(far, "far")
    with_demo.wait()
    assert "Nothing of the scan lies near it" in with_demo.window.cards.card.shape.words.text()


@pytest.mark.parametrize("count", [16, 30, 84, 400])
@pytest.mark.parametrize("off", [0.02, 0.05, 0.3])
def test_words_in_the_balance_do_not_cover_each_other(
    app: QApplication, count: int, off: float
) -> None:
    chart = Chart()
    chart.resize(520, 140)
    chart.show()
    app.processEvents()
    note = f"4 × 4 = {count} control points\n95 % within {off:.3f} mm"
    chart.show_candidates([], (count, off, note), 0.05, 0.95, 0.019)
    app.processEvents()
    words = [chart.note, chart.noise_words, chart.tolerance_words]
    shown = [each.sceneBoundingRect() for each in words]
    assert not any(one.intersects(other) for one, other in combinations(shown, 2))
    assert all(chart.plot.sceneRect().contains(each) for each in shown[::2])
    # Without the note they stand where they would have stood without it from the first.
    chart.show_candidates([], None, 0.05, 0.95, 0.019)
    alone = chart.tolerance_words.sceneBoundingRect()
    assert alone.right() == pytest.approx(
        chart.plot.getViewBox().sceneBoundingRect().right(), abs=2
    )
