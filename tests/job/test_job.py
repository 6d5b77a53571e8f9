"""The job as a value: edits, history, staleness and remaking."""

from __future__ import annotations

from dataclasses import FrozenInstanceError, replace

import numpy as np
import pytest

from tests.alike import difference
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import Motion
from usual_clay.job.change_scan import moved as with_moved
from usual_clay.job.change_scan import with_mesh
from usual_clay.job.history import DEEPEST, History
from usual_clay.job.items import Curve, Followed, PointList, Region, Scan, Surface
from usual_clay.job.job import Job, JobError, sample_of
from usual_clay.job.remake import (
    basis_of,
    given_for,
    is_stale,
    make,
    remade,
    stale,
    with_made,
    with_quick_followers,
)


def back(job: Job) -> Surface:
    return next(surface for surface in job.all(Surface) if surface.name == "Back cast")


def region(job: Job) -> Region:
    return next(job.all(Region))


def test_an_edit_makes_a_new_job_that_shares_the_rest(demo_job: Job) -> None:
    scan = next(demo_job.all(Scan))
    renamed = demo_job.changed(scan.id, name="Other")
    assert demo_job.items[scan.id].name == "Lure scan"
    assert renamed.items[scan.id].name == "Other"
    assert renamed.items[scan.id].mesh is scan.mesh
    assert renamed.items[back(demo_job).id] is back(demo_job)
    assert list(renamed.items) == list(demo_job.items)
    with pytest.raises(TypeError):
        demo_job.items["x"] = scan
    with pytest.raises(FrozenInstanceError):
        scan.name = "x"
    with pytest.raises(ValueError, match="read-only"):
        scan.mesh.vertices[0] = 0


def test_ids_are_never_used_again_and_names_stay_apart(demo_job: Job) -> None:
    first = back(demo_job)
    fewer = demo_job.without(first.id)
    assert fewer.new_id("surface") != first.id
    more = demo_job.with_item(replace(first, id=demo_job.new_id("surface")))
    assert more.next_number == demo_job.next_number + 1
    assert demo_job.free_name("Back") == "Back 2"
    assert demo_job.changed(first.id, name="Back 2").free_name("Back") == "Back 3"
    assert demo_job.free_name("Belly") == "Belly"


def test_deleting_leaves_followers_loose_and_respects_locks(demo_job: Job) -> None:
    surface, chosen = back(demo_job), region(demo_job)
    assert demo_job.followers(chosen.id) == [surface]
    without = demo_job.without(chosen.id)
    assert without.is_loose(back(without))
    assert back(without).geometry is surface.geometry
    assert stale(without) == []
    # Without its region nothing tells any more what area a point stands for.
    before, after = demo_job.report(surface), without.report(back(without))
    assert before is not None
    assert after is not None
    assert after.max == before.max
    assert after.within_share == before.plain_share
    scanless = demo_job.without(chosen.scan)
    assert not list(scanless.all(Region))
    assert list(scanless.all(Surface))
    for locked_id, deleted in ((surface.id, surface.id), (chosen.id, chosen.scan)):
        locked = demo_job.changed(locked_id, locked=True)
        with pytest.raises(JobError, match="locked"):
            locked.without(deleted)


def test_what_follows_an_edit_is_stale_until_it_is_remade(demo_job: Job) -> None:
    surface = back(demo_job)
    assert not is_stale(demo_job, surface)
    assert surface.recipe is not None
    recipe = replace(surface.recipe, settings=CastSettings(nu=8, nv=5, reach=0.1))
    edited = demo_job.changed(surface.id, recipe=recipe)
    assert stale(edited) == [surface.id]
    basis = basis_of(edited, back(edited))
    assert basis is not None
    assert basis.recipe == recipe
    partial: list[Cast] = []
    made = make(basis.recipe, given_for(edited, basis.recipe), found=partial.append)
    done = edited.with_item(with_made(back(edited), made, basis))
    assert back(done).geometry.counts == (8, 5)
    assert stale(done) == []
    assert partial
    halfway = with_made(back(edited), partial[0], None)
    assert is_stale(edited.with_item(halfway), halfway)
    assert [(c.nu, c.nv) for c in back(done).candidates] == [(14, 6), (8, 5)]
    # Made once more it is the same, and no further candidate.
    again = remade(done, back(done)).items[surface.id]
    assert difference(again, back(done)) == ""


def test_a_changed_region_makes_its_surface_stale_but_not_a_locked_one(demo_job: Job) -> None:
    surface, chosen = back(demo_job), region(demo_job)
    edited = demo_job.changed(chosen.id, vertices=chosen.vertices[::2])
    assert stale(edited) == [surface.id]
    assert stale(edited.changed(surface.id, locked=True)) == []
    renamed = demo_job.changed(chosen.id, name="Top")
    assert stale(renamed) == []


def test_remaking_is_a_pure_function(demo_job: Job) -> None:
    surface = back(demo_job)
    assert surface.recipe is not None
    sample = sample_of(demo_job, region(demo_job))
    given = given_for(demo_job, surface.recipe)
    one, two = (make(surface.recipe, given) for _ in range(2))
    assert np.array_equal(one.surface.points, two.surface.points)
    assert np.allclose(one.surface.points, surface.geometry.points, atol=1e-9)
    direct = cast(sample, surface.recipe.settings)
    assert np.array_equal(direct.surface.points, one.surface.points)


def test_report_follows_the_jobs_one_aim(demo_job: Job) -> None:
    surface = back(demo_job)
    strict = replace(demo_job, tolerance=Tolerance(0.02, 0.95))
    reports = [job.report(surface) for job in (demo_job, strict)]
    assert reports[0] is not None
    assert reports[1] is not None
    assert reports[0].within_share > reports[1].within_share
    assert reports[0].at_share == reports[1].at_share
    assert demo_job.report(replace(surface, signed=None)) is None


def test_history_goes_back_and_forward() -> None:
    jobs = [Job(name=f"{number}") for number in range(5)]
    history = History(jobs[0])
    for job in jobs[1:4]:
        history.commit(job, f"edit {job.name}")
    assert history.undo() is jobs[2]
    assert history.redo_words == "edit 3"
    assert history.undo() is jobs[1]
    history.commit(jobs[4], "other")
    assert history.redo() is jobs[4]
    assert history.redo_words is None
    assert [history.undo() for _ in range(4)] == [jobs[1], jobs[0], jobs[0], jobs[0]]
    assert history.undo_words is None


def test_a_dragged_slider_is_one_step_and_results_are_none() -> None:
    start = Job(name="start")
    history = History(start)
    for number in range(6):
        history.commit(Job(name=f"drag {number}"), "smoothness", onto_last=True)
    history.amend(Job(name="result"))
    assert history.job.name == "result"
    assert history.undo() is start
    assert history.redo().name == "result"
    history.commit(Job(name="next"), "reach", onto_last=True)
    assert history.undo().name == "result"


def test_history_has_an_end() -> None:
    history = History(Job())
    for number in range(DEEPEST + 20):
        history.commit(Job(name=str(number)), f"edit {number}")
    for _ in range(DEEPEST + 20):
        history.undo()
    assert history.job.name == "20"


def test_a_sample_needs_its_scan(demo_job: Job) -> None:
    chosen = region(demo_job)
    assert np.array_equal(
        sample_of(demo_job, chosen).points,
        demo_job.items[chosen.scan].mesh.vertices[chosen.vertices],
    )
    with pytest.raises(JobError, match="no longer in the job"):
        sample_of(demo_job.without(chosen.scan), chosen)


def test_a_patch_is_judged_by_the_scan_inside_it_through_mends_and_moves(demo_job: Job) -> None:
    patch = next(s for s in demo_job.all(Surface) if s.name == "Belly patch")
    scan = next(demo_job.all(Scan))
    measured = demo_job.measured(patch)
    assert isinstance(measured, Region)
    assert measured.id not in demo_job.items
    assert patch.inside is not None
    assert patch.signed is not None
    assert len(sample_of(demo_job, measured).points) == len(patch.signed)
    # Shaped by hand, then the scan loses half of its vertices: what is left of the inside judges.
    by_hand = replace(patch, recipe=None, made_of=None, watches=scan.id)
    job = demo_job.with_item(by_hand)
    kept = np.flatnonzero(scan.mesh.vertices[:, 1] > 0)
    place = np.full(len(scan.mesh.vertices), -1)
    place[kept] = np.arange(len(kept))
    corners = place[scan.mesh.triangles]
    half = TriangleMesh(scan.mesh.vertices[kept], corners[(corners >= 0).all(axis=1)])
    mended = with_mesh(job, scan.id, half, kept)
    again = mended.get(patch.id, Surface)
    assert again is not None
    assert again.inside is not None
    assert again.signed is not None
    assert (
        half.vertices[again.inside] == scan.mesh.vertices[np.intersect1d(patch.inside, kept)]
    ).all()
    same = np.isin(patch.inside, kept)
    assert again.signed == pytest.approx(patch.signed[same], abs=1e-6)
    report = mended.report(again)
    assert report is not None
    assert report.points == int(same.sum())
    # What follows a scan that is moved is made anew, the patch and its borders.
    turned = with_moved(demo_job, scan.id, Motion(np.eye(3), np.array([0.0, 0, 5.0])))
    assert patch.id not in stale(turned)
    assert any(item_id in stale(turned) for item_id in patch.recipe.all("borders"))
    # Without its scan it is loose, and keeps its shape.
    alone = demo_job.without(scan.id).get(patch.id, Surface)
    assert alone is not None
    assert alone.geometry is patch.geometry
    assert demo_job.without(scan.id).measured(alone) is None


def test_what_follows_at_once_does_so_while_a_hand_drags(demo_job: Job) -> None:
    named = {curve.name: curve for curve in demo_job.all(Curve)}
    front, twin = named["Top outline, front"], named["Top outline, front twin"]
    net = front.geometry.points + np.array([0.0, 0.4, 0.0])
    moved = replace(front, geometry=replace(front.geometry, points=net))
    now = with_quick_followers(demo_job.with_item(moved), front.id)
    followed = now.items[twin.id]
    assert isinstance(followed, Curve)
    assert followed.geometry.points == pytest.approx(net * [1, -1, 1])
    assert not is_stale(now, followed)
    # What takes longer waits for the hand to let go, and a locked one keeps its shape.
    others = [item.id for item in demo_job.all(Followed) if item.id not in (front.id, twin.id)]
    assert [i for i in others if now.items[i] is not demo_job.items[i]] == []
    locked = demo_job.changed(twin.id, locked=True).with_item(moved)
    assert with_quick_followers(locked, front.id).items[twin.id] is locked.items[twin.id]


def test_figures_are_worked_out_once_for_a_state(demo_job: Job) -> None:
    surface = back(demo_job)
    assert demo_job.report(surface) is demo_job.report(surface)
    finer = replace(demo_job, tolerance=replace(demo_job.tolerance, deviation=0.01))
    assert finer.report(surface) is not demo_job.report(surface)
    assert finer.report(surface).within_share < demo_job.report(surface).within_share


def test_what_only_old_steps_hold_is_let_go_when_it_is_too_much(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("usual_clay.job.history.MOST_BYTES", 40_000)
    shared = PointList(id="points-0", name="stays", points=np.zeros((100_000, 3)))
    history = History(Job().with_item(shared))
    for number in range(60):
        # 2,400 bytes each, gone with the next; what all steps share counts for none of them.
        points = np.full((100, 3), float(number))
        item = PointList(id="points-1", name="changes", points=points)
        history.commit(history.job.with_item(item), "change")
    undone = 0
    while history.undo_words is not None:
        history.undo()
        undone += 1
    assert 15 <= undone <= 20
    assert history.job.items["points-1"].points[0, 0] == 59 - undone
