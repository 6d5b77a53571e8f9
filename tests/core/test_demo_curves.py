"""The demo job's curves against the generator's truth."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from usual_clay.core.check.joint import joint
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import curve_points
from usual_clay.core.spline.parts import evenly
from usual_clay.demo.curves import GILL_FRONT, GILL_REAR, STATIONS, gill_edge
from usual_clay.demo.points import true_outline
from usual_clay.demo.shape import SLOT, carved, signed_distance
from usual_clay.job.items import Curve
from usual_clay.job.job import Job
from usual_clay.job.remake import stale

NEAR = 0.1


def named(job: Job, name: str) -> Curve:
    return next(curve for curve in job.all(Curve) if curve.name == name)


def spread(curve: Curve, truth: np.ndarray) -> float:
    return float(np.quantile(cKDTree(truth).query(evenly(curve.geometry, 800))[0], 0.95))


def top_truth() -> np.ndarray:
    """The true outline as it is seen from above, both halves."""
    x = np.concatenate(
        [
            np.linspace(0.02, 1, 30),
            np.linspace(1, 95, 700),
            95 + np.sin(np.linspace(0, np.pi / 2, 60))[:-1],
        ]
    )
    height = np.linspace(-3.0, 3.0, 61)
    low, high = np.zeros((len(x), len(height))), np.full((len(x), len(height)), 14.0)
    for _ in range(40):
        middle = (low + high) / 2
        places = np.stack([np.repeat(x, len(height)), middle.ravel(), np.tile(height, len(x))], 1)
        inside = (carved(places) < 0).reshape(middle.shape)
        low, high = np.where(inside, middle, low), np.where(inside, high, middle)
    half = np.stack([x, low.max(axis=1), 0 * x], axis=1)
    # Close points, as the tail's end is steep.
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(half, axis=0), axis=1))])
    at = np.linspace(0, along[-1], 8000)
    half = np.stack([np.interp(at, along, column) for column in half.T], axis=1)
    return np.concatenate([half, half * [1, -1, 1]])


def test_the_centre_outline_has_two_halves_and_a_corner_at_the_slot(demo_job: Job) -> None:
    truth = true_outline()
    back, belly = named(demo_job, "Back outline"), named(demo_job, "Belly outline")
    tail = named(demo_job, "Tail bridge, side")
    for curve in (back, belly, tail):
        assert spread(curve, truth) < NEAR
    assert back.control_points + belly.control_points < 32
    meets = joint(back.geometry, belly.geometry)
    assert meets.gap < 1e-9
    corner = curve_points(back.geometry, np.array([0.0, 1.0]))[meets.ends[0]]
    assert corner[0] == pytest.approx(SLOT["x"], abs=0.4)
    for half in (back, belly):
        assert joint(half.geometry, tail.geometry).grade >= 1


def test_the_top_outline_has_few_points_and_follows_its_twin(demo_job: Job) -> None:
    truth = top_truth()
    for part in ("front", "rear"):
        curve = named(demo_job, f"Top outline, {part}")
        twin = named(demo_job, f"Top outline, {part} twin")
        assert curve.control_points <= 8
        assert spread(curve, truth) < NEAR
        assert twin.geometry.points == pytest.approx(curve.geometry.points * [1, -1, 1])
    ends = (
        named(demo_job, "Top outline, front").geometry.points[-1],
        named(demo_job, "Top outline, rear").geometry.points[0],
    )
    # The gill plate's step stays a step between two curves.
    assert GILL_FRONT - 0.3 < ends[0][0] < ends[1][0] < GILL_REAR + 0.3
    tail = named(demo_job, "Tail bridge, top")
    assert spread(tail, truth) < NEAR
    assert joint(tail.geometry, named(demo_job, "Top outline, rear").geometry).grade >= 2


def test_the_gill_edge_and_the_profiles_lie_on_the_true_surface(demo_job: Job) -> None:
    edge = named(demo_job, "Gill edge")
    away = curve_foot_points(edge.geometry, gill_edge(200))[2]
    assert np.quantile(away, 0.95) < NEAR
    assert np.ptp(edge.geometry.points, axis=0).min() > 1
    for station in STATIONS:
        profile = named(demo_job, f"Profile x = {station:g}")
        places = evenly(profile.geometry, 600)
        assert np.quantile(np.abs(signed_distance(places)), 0.95) < NEAR
        assert np.abs(places[:, 0] - station).max() < 1e-6
        report = demo_job.report(profile)
        assert report is not None
        assert report.met
    assert not stale(demo_job)
