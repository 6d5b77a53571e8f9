"""Ties: never lost and never wrong through edits and undo; lost ones made again; things moved."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.core.test_from_curves import body_net
from usual_clay.core.build.affine import Affine, PlaceSettings, affine_of
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.loft import LoftSettings
from usual_clay.core.build.net import NetSettings
from usual_clay.core.build.sections import BuildError
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings
from usual_clay.core.errors import FitError
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import curve_points
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.core.spline.surface import surface_grid, surface_points
from usual_clay.files.job_file import read_job, write_job
from usual_clay.job.edits import ties
from usual_clay.job.edits.curves import reshaped
from usual_clay.job.edits.make import add, loosened
from usual_clay.job.edits.placing import PlaceError, middle_of, placed
from usual_clay.job.edits.surfaces import away_from_curves, reshaped_surface
from usual_clay.job.history import History
from usual_clay.job.items import Curve, PointList, Shape, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipe_kind import RecipeError
from usual_clay.job.remake import remade, stale, with_quick_followers

T = np.linspace(0, 1, 12)


def drawn(job: Job, name: str, *points: tuple[float, float, float]) -> tuple[Job, Curve]:
    job, made, _ = add(job, "drawn", DrawnSettings("controls", points), name)
    assert isinstance(made, Curve)
    return job, made


def settled(job: Job) -> Job:
    """Make all that is stale, in order, as the window does."""
    while late := stale(job):
        for item_id in late:
            job = remade(job, job.items[item_id])  # type: ignore[arg-type]
    return job


def moved(job: Job, curve_id: str, index: int, by: np.ndarray) -> Job:
    curve = job.the(curve_id, Curve)
    points = curve.geometry.points.copy()
    points[index % len(points)] += by
    return job.with_item(reshaped(job, curve, replace(curve.geometry, points=points)))


def test_ties_hold_through_two_hundred_edits_and_undo() -> None:
    job = Job()
    job, low = drawn(job, "Low", (0, 0, 0), (10, 2, 0), (20, -1, 1), (30, 0, 0))
    job, high = drawn(job, "High", (0, 9, 2), (12, 8, 3), (22, 11, 2), (30, 9, 4))
    job, sheet, _ = add(job, "ruled", RuledSettings(), edges=[low.id, high.id])
    job, twin, _ = add(job, "surface twin", TwinSettings("y", -3.0), surface=sheet.id)
    job, wall, _ = add(job, "extrude", ExtrudeSettings("z", 4.0), curve=high.id)
    random, history = np.random.default_rng(5), History(job)
    for step in range(200):
        if step % 5 == 4:
            history.undo() if random.random() < 0.7 else history.redo()
        else:
            which = (low.id, high.id)[int(random.integers(2))]
            edited = moved(history.job, which, int(random.integers(4)), random.normal(size=3))
            history.commit(settled(edited), "move a point")
        now = history.job
        assert not stale(now)
        rims = [curve_points(now.the(each.id, Curve).geometry, T) for each in (low, high)]
        made = now.the(sheet.id, Surface).geometry
        for k, rim in enumerate(rims):
            assert surface_points(made, T, np.full(12, float(k))) == pytest.approx(rim, abs=1e-9)
        mirrored = surface_grid(now.the(twin.id, Surface).geometry, T, T).reshape(-1, 3)
        own = surface_grid(made, T, T).reshape(-1, 3) * [1, -1, 1] + [0, -6, 0]
        assert np.sort(mirrored, axis=0) == pytest.approx(np.sort(own, axis=0), abs=1e-9)
        top = surface_points(now.the(wall.id, Surface).geometry, T, np.ones(12))
        assert top == pytest.approx(rims[1] + [0, 0, 4], abs=1e-9)
    while history.undo_words:
        history.undo()
    assert history.job is job


def test_a_net_goes_with_the_hand_and_is_exact_when_it_rests() -> None:
    job, ids = Job(), []
    for number, line in enumerate((*body_net()[0], *body_net()[1])):
        curve = Curve(id=job.new_id("curve"), name=f"Line {number}", geometry=line)
        job = job.with_item(curve)
        ids.append(curve.id)
    settings = NetSettings(within=0.03, mend=2.0)
    job, net, _ = add(job, "net", settings, along=ids[:4], across=ids[4:])
    pulled = moved(job, ids[1], 6, np.array([0.0, 0.3, 0.8]))
    live = with_quick_followers(pulled, ids[1])
    about, exact = live.the(net.id, Surface), settled(pulled).the(net.id, Surface)
    assert net.id in stale(live)
    before = job.the(net.id, Surface).geometry
    assert np.greater(about.geometry.counts, before.counts).all()
    seen = curve_points(pulled.the(ids[1], Curve).geometry, T)
    went, off, rests = (
        float(np.abs(foot_points(each, seen).signed).max())
        for each in (before, about.geometry, exact.geometry)
    )
    # It crosses the others no more: both give way by half, in the hand's answer as at rest.
    assert rests < 0.2
    assert off < 0.5 * went
    # A source that is deleted leaves it loose; what lies where that lay is offered first.
    lost = job.the(ids[1], Curve)
    without = job.without(ids[1])
    assert without.is_loose(without.the(net.id, Surface))
    again = replace(lost, id=without.new_id("curve"), name="Again")
    again = replace(again, geometry=replace(lost.geometry, points=lost.geometry.points + 0.01))
    without, _ = drawn(without.with_item(again), "Elsewhere", (0, 90, 0), (200, 90, 0))
    (gap,) = ties.missing(without, without.the(net.id, Surface))
    assert gap.role == "Along 2"
    first, second = ties.offers(without, without.the(net.id, Surface), gap)[:2]
    assert first.item == again.id
    assert first.away < 0.05 < second.away
    tied = ties.tied_again(without, without.the(net.id, Surface), {gap.source: again.id})
    assert not tied.is_loose(tied.the(net.id, Surface))
    assert tied.the(net.id, Surface).recipe.all("across") == tuple(ids[4:])  # type: ignore[union-attr]
    with pytest.raises(RecipeError, match="takes a spline"):
        ties.tied_again(without, without.the(net.id, Surface), {gap.source: net.id})


def test_things_are_moved_turned_scaled_and_mirrored_with_copies() -> None:
    job, line = drawn(Job(), "Line", (0, 0, 0), (10, 2, 0), (20, 0, 0))
    job, follows, _ = add(job, "extrude", ExtrudeSettings("z", 4.0), curve=line.id)
    dots = PointList(id=job.new_id("points"), name="Dots", points=np.eye(3))
    ball = SimpleShape("sphere", np.array([1.0, 0, 0]), np.array([0, 0, 1.0]), 2.0, 0.0, (0.0, 2.0))
    job = job.with_item(dots)
    shape = Shape(id=job.new_id("shape"), name="Ball", geometry=ball)
    job = job.with_item(shape)
    middle = middle_of(job, [line])
    half = affine_of(PlaceSettings("scale", factors=(1.0, 0.5, 1.0)), middle)
    narrow, ids, words = placed(job, [line.id], half)
    assert (ids, words) == ([line.id], "")
    flat = narrow.the(line.id, Curve)
    assert np.ptp(flat.geometry.points[:, 1]) == pytest.approx(1.0)
    # It is still drawn by its points, and what follows goes with it.
    settings = flat.made_by(DrawnSettings)
    assert settings is not None
    assert settings.array.tolist() == flat.geometry.points.tolist()
    wall = settled(narrow).the(follows.id, Surface)
    assert np.ptp(wall.geometry.points[..., 1]) == pytest.approx(1.0)
    quarter = affine_of(PlaceSettings("turn", angle=np.pi / 2, about="origin"), middle)
    turned, _, _ = placed(job, [line.id, dots.id], quarter)
    assert turned.the(dots.id, PointList).points == pytest.approx(
        np.array([[0, 1.0, 0], [-1, 0, 0], [0, 0, 1]])
    )
    # Copies leave the thing, each a step farther; what followed does so no more when it is moved.
    step = affine_of(PlaceSettings("move", by=(0.0, 5.0, 0.0)), middle)
    copied, ids, _ = placed(job, [line.id], step, 3)
    assert copied.the(line.id, Curve) is line
    rows = [copied.the(each, Curve).geometry.points[0, 1] for each in ids]
    assert rows == pytest.approx([5.0, 10.0, 15.0])
    alone, _, words = placed(job, [follows.id], step)
    assert alone.the(follows.id, Surface).recipe is None
    assert "stands by itself" in words
    mirror = affine_of(PlaceSettings("mirror", axis="y", about="origin"), middle)
    assert mirror.turns_over
    over = placed(job, [follows.id, shape.id], mirror)[0]
    grid = surface_grid(over.the(follows.id, Surface).geometry, T, T)
    own = surface_grid(job.the(follows.id, Surface).geometry, T, T)
    assert grid[..., 1].min() == pytest.approx(-own[..., 1].max())
    line_axis = np.array([5.0, 0, 0]), np.array([0.0, 0, 2.0])
    about = affine_of(PlaceSettings("turn", angle=np.pi), middle, line_axis)
    assert about.apply(np.array([6.0, 0, 0])) == pytest.approx([4.0, 0, 0])
    with pytest.raises(PlaceError, match="Ball would be no sphere any more"):
        placed(job, [shape.id], half)
    with pytest.raises(PlaceError, match="Line is locked"):
        placed(job.changed(line.id, locked=True), [line.id], step)
    with pytest.raises(FitError, match="none of them 0"):
        PlaceSettings(factors=(1.0, 0.0, 1.0))
    assert Affine(np.eye(3) * 2, np.zeros(3)).size == pytest.approx(2.0)


def test_what_is_shaped_by_hand_is_judged_by_its_curves_and_tied_again(tmp_path: Path) -> None:
    job = Job()
    job, low = drawn(job, "Low", (0, 0, 0), (10, 2, 0), (20, -1, 1), (30, 0, 0))
    job, high = drawn(job, "High", (0, 9, 2), (12, 8, 3), (22, 11, 2), (30, 9, 4))
    job, loft, _ = add(job, "loft", LoftSettings(), sections=[low.id, high.id])
    before = job.report(loft)  # type: ignore[arg-type]
    assert before is not None
    assert before.max <= 0.05
    net = loft.geometry.points.copy()  # type: ignore[attr-defined]
    net[0] += [0.0, 0.0, 1.0]
    geometry = replace(loft.geometry, points=net)  # type: ignore[attr-defined]
    shaped = reshaped_surface(job, job.the(loft.id, Surface), geometry)
    job = job.with_item(shaped)
    after = job.report(shaped)
    assert after is not None
    assert after.max > 0.5
    assert not shaped.by_area
    assert [name for name, _, _ in away_from_curves(job, shaped, 0.95)] == ["Low", "High"]
    path = tmp_path / "shaped.uclay"
    write_job(path, job)
    again = read_job(path)
    kept = again.the(loft.id, Surface)
    assert kept.recipe is None
    assert kept.former == loft.recipe
    back = settled(ties.tied_again(again, kept, {}))
    assert back.the(loft.id, Surface).geometry.points == pytest.approx(loft.geometry.points)  # type: ignore[attr-defined]
    # Set loose it can be tied again too.
    loose = loosened(back, back.the(loft.id, Surface))
    assert ties.tied_again(loose, loose.the(loft.id, Surface), {}).the(loft.id, Surface).recipe


def test_a_curve_that_crosses_itself_makes_no_section() -> None:
    turn = np.linspace(0, 2 * np.pi, 9)
    eight = np.stack([np.sin(turn), np.sin(2 * turn), 0 * turn], axis=1) * 10
    job, crossed = drawn(Job(), "Eight", *map(tuple, eight[1:].tolist()))
    job, plain = drawn(job, "Plain", (0, 0, 5), (10, 5, 5), (20, 0, 5))
    with pytest.raises(BuildError, match="section 1 crosses itself near") as told:
        add(job, "loft", LoftSettings(), sections=[crossed.id, plain.id])
    assert told.value.at is not None
