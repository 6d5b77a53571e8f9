"""Long measuring and reading beside the window: followed at once, exact a moment later."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from scipy.spatial import cKDTree

from tests.bench.hands import Hands
from usual_clay.bench.edits.surfaces import reshape_surface
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.knots import insert_knot, raise_degree, reverse
from usual_clay.core.spline.surface import BSplineSurface, surface_grid, swap_directions
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.files.job_file import read_job, write_job
from usual_clay.job.edits.surfaces import (
    forget_feet,
    is_followed_only,
    live_of_surface,
    reshaped_surface,
    retold_surface,
)
from usual_clay.job.items import Region, Scan, Surface
from usual_clay.job.job import Job


def hairpin(gap: float) -> BSplineSurface:
    """Two sheets one over the other, so far apart, that run into each other at x = 40."""
    x = np.array([0.0, 15, 30, 45, 45, 30, 15, 0])
    z = np.array([0.0, 0, 0, 0, 1, 1, 1, 1]) * gap
    y = np.linspace(0, 20, 5)
    net = np.stack([np.tile(x[:, None], 5), np.tile(y, (8, 1)), np.tile(z[:, None], 5)], axis=2)
    return BSplineSurface(even_knots(8, 3), even_knots(5, 3), net)


@pytest.fixture
def judged() -> Job:
    """A hairpin of 10 mm that a scan judges which lies 1 mm over its lower sheet."""
    x, y = np.meshgrid(np.linspace(2, 25, 60), np.linspace(2, 18, 40), indexing="ij")
    points = np.stack([x, y, np.ones_like(x)], axis=2).reshape(-1, 3)
    mesh = TriangleMesh(points, grid_triangles(60, 40))
    region = Region(id="region-2", name="All", scan="scan-1", vertices=np.arange(len(points)))
    shape = hairpin(10.0)
    surface = Surface(
        id="surface-3", name="Hairpin", geometry=shape, watches="region-2",
        signed=foot_points(shape, points).signed,
    )  # fmt: skip
    job = Job(next_number=4)
    for item in (Scan(id="scan-1", name="Scan", mesh=mesh), region, surface):
        job = job.with_item(item)
    return job


def the(job: Job) -> Surface:
    return job.the("surface-3", Surface)


def far_off(job: Job) -> np.ndarray:
    """How far the scan lies from the surface: by a million places on it."""
    t = np.linspace(0, 1, 1000)
    places = surface_grid(the(job).geometry, t, t).reshape(-1, 3)
    return cKDTree(places).query(job.the("scan-1", Scan).mesh.vertices)[0]


def test_what_is_followed_is_measured_anew(hands: Hands, judged: Job, tmp_path: Path) -> None:
    session = hands.session
    session.commit(judged, "hairpin")
    hands.wait()
    # The upper sheet comes down past the scan: the nearest place is on it now.
    reshape_surface(session, the(judged), hairpin(1.3), "close")
    followed = the(session.job)
    assert is_followed_only(followed)
    assert np.median(np.abs(followed.signed)) == pytest.approx(1.0, abs=0.01)
    # A file that is written before that holds what is measured.
    assert session.save(tmp_path / "a.uclay")
    hands.wait()
    exact = the(session.job)
    assert exact is not followed
    assert session.is_saved
    # The next drag begins with the feet that this one left, and with what was measured.
    live = live_of_surface(session.job, exact)
    assert live.surface is exact.geometry
    assert live.signed is exact.signed
    forget_feet()
    again = live_of_surface(session.job, exact)
    assert np.abs(again.signed) == pytest.approx(np.abs(exact.signed), abs=1e-6)
    assert the(read_job(tmp_path / "a.uclay")).signed == pytest.approx(exact.signed)
    assert exact.geometry is followed.geometry
    assert not is_followed_only(exact)
    # Places on a grid lie a little farther off than the nearest of all.
    beyond = far_off(session.job) - np.abs(exact.signed)
    assert -1e-9 < beyond.min() < beyond.max() < 0.02
    assert np.median(np.abs(exact.signed)) < 0.35
    session.rename("surface-3", "Other")
    assert not session.is_saved
    session.undo()
    # It is no step of its own, and comes back by undo and redo.
    session.undo()
    assert the(session.job).geometry is the(judged).geometry
    session.redo()
    hands.wait()
    assert the(session.job).signed == pytest.approx(exact.signed)


def test_another_net_of_the_same_shape_is_as_far_off(judged: Job) -> None:
    surface, shape = the(judged), the(judged).geometry
    for net, turned in (
        (insert_knot(shape, 0.37, direction="u"), False),
        (raise_degree(shape, "v"), False),
        (reverse(shape, "u"), True),
        (reverse(swap_directions(shape), "u"), False),
    ):
        told = retold_surface(judged, surface, net, turned)
        assert told.signed == pytest.approx(reshaped_surface(judged, surface, net).signed, abs=1e-6)
        assert told.recipe is None
        assert not is_followed_only(told)


def test_feet_follow_weights_turns_and_other_knots(judged: Job) -> None:
    surface, shape = the(judged), the(judged).geometry
    live = live_of_surface(judged, surface)
    assert live is not None
    weights = np.ones(shape.counts)
    weights[2, 2] = 4.0
    raised = replace(shape, points=shape.points + np.array([0, 0, 0.2]))
    richer = insert_knot(raised, 0.4, direction="v")
    for made in (replace(raised, weights=weights), richer):
        assert live.follow(made).signed == pytest.approx(
            foot_points(made, live.points).signed, abs=1e-5
        )
    turned = live.turned
    assert turned.surface.counts == shape.counts[::-1]
    assert turned.signed == pytest.approx(foot_points(turned.surface, live.points).signed, abs=1e-6)
    assert live.follow(replace(shape)).signed is live.signed


def test_a_job_is_read_beside_the_window(
    hands: Hands, judged: Job, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, documents = hands.session, hands.window.documents
    write_job(tmp_path / "a.uclay", judged)
    before = session.job
    documents.open_file(tmp_path / "a.uclay")
    # What is open stays, and can be worked on, until it is there.
    assert session.job is before
    assert session.work.shown().words == "Opening a.uclay"
    hands.wait()
    assert session.path == tmp_path / "a.uclay"
    assert session.choice.item == "surface-3"
    # What was changed meanwhile is not lost unasked.
    monkeypatch.setattr(documents, "may_leave", lambda: session.is_saved)
    documents.open_file(tmp_path / "a.uclay")
    session.rename("surface-3", "Mine")
    hands.wait()
    assert the(session.job).name == "Mine"


def test_what_is_moved_by_numbers_is_measured_when_it_rests(hands: Hands, judged: Job) -> None:
    session = hands.session
    session.commit(judged, "hairpin")
    session.choice.choose("surface-3")
    hands.wait()
    hands.window.commands.run("move")
    hands.wait()
    card = hands.window.cards.card
    # Turned over about its middle it lies nearly where it lay: feet that follow lose their way.
    card.set_settings(replace(card._settings, does="turn", axis="z", angle=np.pi))
    followed = session.shown.the("surface-3", Surface)
    hands.wait()
    exact = session.shown.the("surface-3", Surface)
    places = judged.the("scan-1", Scan).mesh.vertices
    assert exact.signed == pytest.approx(foot_points(exact.geometry, places).signed, abs=1e-9)
    assert np.abs(followed.signed - exact.signed).max() > 1.0
    hands.key(Qt.Key.Key_Return, widget=hands.pane)
    assert the(session.job).signed is exact.signed
    assert not is_followed_only(the(session.job))
