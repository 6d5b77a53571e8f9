"""Runs of points: their course, slips, order, and the probe's ball."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from usual_clay.core.points.ball import BallError, offset_for_ball
from usual_clay.core.points.course import smooth_course, suggest_slips, usual_slip_limit
from usual_clay.core.points.lay import closes_smoothly, is_closed
from usual_clay.core.points.order import order_along_path
from usual_clay.demo.points import BALL, belly_line, probed_outline, true_outline
from usual_clay.demo.shape import signed_distance


def circle(count: int, radius: float, noise: float = 0.0, seed: int = 0) -> np.ndarray:
    turn = np.linspace(0, 2 * np.pi, count, endpoint=False)
    points = radius * np.stack([np.cos(turn), np.sin(turn)], axis=1)
    return points + np.random.default_rng(seed).normal(0, noise or 1e-300, points.shape)


def test_the_course_lies_nearer_to_the_truth_than_the_points() -> None:
    noisy = circle(300, 20, 0.05)
    course = smooth_course(noisy, closed=True)
    off = [np.abs(np.linalg.norm(p, axis=1) - 20) for p in (noisy, course)]
    assert np.sqrt(np.mean(off[1] ** 2)) < 0.7 * np.sqrt(np.mean(off[0] ** 2))
    assert off[1].max() < 0.2
    exact = np.stack([np.arange(50.0), np.arange(50.0) ** 2], axis=1)
    assert smooth_course(exact) == pytest.approx(exact, abs=1e-6)
    assert np.array_equal(smooth_course(exact[:5]), exact[:5])


def test_slips_of_several_points_are_found_and_little_else() -> None:
    points = circle(400, 30, 0.01, seed=3)
    slipped = np.zeros(400, dtype=bool)
    for start, many in ((50, 1), (140, 3), (260, 4), (398, 2)):
        slipped[start : start + many] = True
    points[slipped] *= 1.02
    found = suggest_slips(points, usual_slip_limit(points, True), closed=True)
    assert (found & slipped).sum() == slipped.sum()
    assert (found & ~slipped).sum() <= 4
    clean = circle(400, 30, 0.01, seed=4)
    assert suggest_slips(clean, usual_slip_limit(clean, True), True).sum() == 0


def test_the_demo_outline_is_mended_to_the_true_shape() -> None:
    run, slipped = probed_outline()
    flat = run[:, [0, 2]]
    found = suggest_slips(flat, usual_slip_limit(flat, True), closed=True)
    assert (found & slipped).sum() == 10
    assert (found & ~slipped).sum() <= 5
    moved = offset_for_ball(flat[~found], BALL / 2, "in", closed=True)
    distance = cKDTree(true_outline()[:, [0, 2]]).query(moved.points)[0]
    assert np.sqrt(np.mean(distance**2)) < 0.05
    # Without the ball's offset it would be a ball's radius off.
    raw = cKDTree(true_outline()[:, [0, 2]]).query(flat[~found])[0]
    assert np.median(raw) == pytest.approx(BALL / 2, rel=0.02)


def test_the_ball_goes_to_the_side_it_is_told() -> None:
    ring = circle(200, 10)
    for side, radius in (("in", 8.5), ("out", 11.5), ("left", 8.5), ("right", 11.5)):
        moved = offset_for_ball(ring, 1.5, side, closed=True)
        assert np.linalg.norm(moved.points, axis=1) == pytest.approx(radius, abs=1e-3)
        assert moved.too_tight == 0
    clockwise = offset_for_ball(ring[::-1], 1.5, "in", closed=True)
    assert np.linalg.norm(clockwise.points, axis=1) == pytest.approx(8.5, abs=1e-3)
    line = np.stack([np.linspace(0, 20, 60), np.zeros(60)], axis=1)
    assert offset_for_ball(line, 2, "left").points[:, 1] == pytest.approx(2.0)


def test_cusps_are_trimmed_where_the_ball_is_too_large() -> None:
    # A valley of radius 1 between two flat slopes: a ball of radius 2 cannot lie in it.
    x = np.linspace(-10, 10, 800)
    valley = np.stack([x, np.sqrt(1 + x**2)], axis=1)
    small = offset_for_ball(valley, 0.5, "left")
    assert small.too_tight == 0
    large = offset_for_ball(valley, 3.0, "left")
    assert 0 < large.too_tight < 400
    assert cKDTree(valley).query(large.points)[0].min() > 2.9
    for points, radius in ((valley[:2], 1.0), (valley, 0.0), (valley, np.nan)):
        with pytest.raises(BallError):
            offset_for_ball(points, radius, "left")


def test_loose_points_are_put_in_order() -> None:
    line = belly_line()
    (path,) = order_along_path(line)
    x = line[path, 0]
    assert (np.diff(x) > -0.05).all() or (np.diff(x) < 0.05).all()
    assert sorted(path) == list(range(len(line)))
    ring = circle(120, 10, 0.02, seed=2)[np.random.default_rng(1).permutation(120)]
    (path,) = order_along_path(ring)
    steps = np.linalg.norm(np.diff(ring[path], axis=0), axis=1)
    assert steps.max() < 4 * np.median(steps)
    away = np.array([0, 0, 500.0])
    apart = np.concatenate([line, line[:40] + away])
    parts = order_along_path(apart)
    assert sum(map(len, parts)) == 200
    assert all(np.ptp(apart[part, 2]) < 50 for part in parts)
    doubled = np.concatenate([line, line])
    assert sum(map(len, order_along_path(doubled))) == len(doubled)
    assert len(order_along_path(line[:2])[0]) == 2


def test_the_true_outline_is_on_the_true_shape() -> None:
    outline = true_outline()
    # But for the slot, the holes and the mouth, which a ball does not follow.
    assert np.mean(np.abs(signed_distance(outline)) < 1e-3) > 0.9


def wing(count: int, noise: float = 0.0) -> np.ndarray:
    """A section with a sharp trailing edge, where it begins and ends."""
    t = np.linspace(0, 2 * np.pi, count)
    c = (1 + np.cos(t)) / 2
    thick = 0.2969 * np.sqrt(c) - 0.126 * c - 0.3516 * c**2 + 0.2843 * c**3 - 0.1036 * c**4
    return points_of(100 * c, 60 * thick * np.sign(np.sin(t)), noise)


def points_of(x: np.ndarray, y: np.ndarray, noise: float) -> np.ndarray:
    random = np.random.default_rng(0)
    return np.column_stack([x, y, 0 * x]) + random.normal(0, noise, (len(x), 3)) * [1, 1, 0]


@pytest.mark.parametrize("count", [100, 400, 3000])
@pytest.mark.parametrize("noise", [0.0, 0.01, 0.05])
def test_a_run_closes_by_itself_only_where_that_is_smooth(count: int, noise: float) -> None:
    t = np.linspace(0, 2 * np.pi, count, endpoint=False)
    oval = points_of(40 * np.cos(t), 15 * np.sin(t), noise)
    assert closes_smoothly(oval)
    assert closes_smoothly(np.roll(oval, count // 7, axis=0))
    assert not closes_smoothly(oval[: -count // 8])
    section = wing(count, noise)
    assert is_closed(section)
    assert not closes_smoothly(section)
    # The same section from the middle of its upper side comes back smoothly.
    assert closes_smoothly(np.roll(section[:-1], count // 4, axis=0))
