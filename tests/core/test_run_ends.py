"""Runs traced to their very ends and no farther, and sparse ones: shape, strays, no folds."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from scipy.spatial import cKDTree

from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.points.course import lone_strays
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import curve_points


@pytest.mark.parametrize("seed", [0, 1, 4, 40, 58, 61, 65, 100])
def test_a_clean_run_is_followed_to_both_of_its_ends(seed: int) -> None:
    """Waves of many kinds, evenly spaced and not: the ends leave every course, and are shape."""
    random = np.random.default_rng(seed)
    count = int(random.integers(9, 220))
    pace, high, begin = random.uniform(1, 11, 3), random.uniform(2, 14, 3), random.uniform(0, 6, 3)
    s = np.linspace(0, 1, count) ** (1 + random.uniform(0, 1.5) * random.integers(0, 2))
    run = (high * np.sin(np.outer(s, pace) + begin)) * [1, 1, seed % 2]
    run[:, 0] += 100 * s
    run += random.normal(0, (0, 0.005, 0.02)[seed % 3], run.shape)
    traced = trace(PointSequence(run), TraceSettings(knots="adaptive"), Tolerance(0.06))
    away = curve_foot_points(traced.fit.curve, run)[2]
    assert traced.report.met
    assert away[[0, -1]].max() < 0.2


@pytest.mark.parametrize("count", [45, 55, 60, 65])
def test_no_point_of_a_wave_is_left_out(count: int) -> None:
    s = np.linspace(0, 1, count)
    run = PointSequence(np.stack([100 * s, 0 * s, 6 * np.sin(9 * s)], axis=1))
    for knots in ("even", "adaptive"):
        fitted = fit_sequence(run, TraceSettings(controls=12, knots=knots))  # type: ignore[arg-type]
        assert fitted.believed.all()
        assert np.abs(fitted.signed).max() < 0.02


@pytest.mark.parametrize(("count", "slips"), [(120, 1), (300, 2)])
def test_a_slip_at_the_end_of_a_run_is_left_out(count: int, slips: int) -> None:
    s = np.linspace(0, 1, count)
    run = np.stack([50 * np.cos(2.5 * s), 0 * s, 50 * np.sin(2.5 * s)], axis=1)
    run[:, [0, 2]] += np.random.default_rng(1).normal(0, 0.02, (count, 2))
    run[:slips, 0] += 1.0
    fitted = trace(PointSequence(run), TraceSettings(knots="adaptive"), Tolerance(0.08)).fit
    assert (~fitted.believed).nonzero()[0].tolist() == list(range(slips))
    assert np.abs(np.linalg.norm(fitted.curve.points[0][[0, 2]]) - 50) < 0.3


@pytest.mark.parametrize("count", [10, 12, 14, 20])
def test_the_shape_of_a_sparse_run_is_not_taken_for_noise(count: int) -> None:
    s = np.linspace(0, 1, count)
    run = np.stack([40 * s, 0 * s, 15 * np.tanh(8 * (s - 0.5))], axis=1)
    traced = trace(PointSequence(run), TraceSettings(knots="adaptive"), Tolerance(0.05))
    assert traced.report.met
    assert traced.settings.controls <= 7
    # As many control points as points pass through them.
    helix = np.stack([20 * np.cos(7 * s), 20 * np.sin(7 * s), 30 * s], axis=1)[: count // 2 + 3]
    settings = TraceSettings(controls=4, knots="even")
    assert trace(PointSequence(helix), settings, Tolerance(0.002)).report.met


@pytest.mark.parametrize("seed", [1, 6, 22])
def test_of_a_run_too_sparse_to_have_a_course_the_curve_tells_what_strays(seed: int) -> None:
    """Uneven steps hid the strays: drawn to them it took 61 and 86 control points, or failed."""
    random = np.random.default_rng(seed)
    t = np.sort(random.random(170)) ** 1.5
    wave = 30 * np.sin(2 * np.pi * (2 * t + 3 * t * t))
    points = np.stack([400 * t, wave, 0 * t], axis=1)
    points[:, :2] += random.normal(0, 0.15, (170, 2))
    strays = random.choice(np.arange(5, 165), 4, replace=False)
    points[strays, :2] += random.normal(0, 12, (4, 2))
    made = trace(PointSequence(points), TraceSettings(knots="adaptive"), Tolerance(0.45))
    assert made.report.met
    assert made.settings.controls <= 17
    far = np.abs(made.fit.signed) > 3
    assert not made.fit.believed[far].any()


def wing(t: np.ndarray) -> np.ndarray:
    x = 0.5 * (1 + np.cos(2 * np.pi * t))
    y = 60 * (0.2969 * np.sqrt(x) - 0.126 * x - 0.3516 * x**2 + 0.2843 * x**3 - 0.1036 * x**4)
    return np.stack([100 * x, np.where(t < 0.5, y, -y), 0 * t], axis=1)


def upper(t: np.ndarray) -> np.ndarray:
    return wing(0.5 - np.arccos(np.clip(2 * t * t - 1, -1, 1)) / (2 * np.pi))[::-1]


def arc(t: np.ndarray) -> np.ndarray:
    return np.stack([40 * np.cos(2.6 * t), 15 * np.sin(2.6 * t), 0 * t], axis=1)


def helix(t: np.ndarray) -> np.ndarray:
    return np.stack([15 * np.cos(7 * t), 15 * np.sin(7 * t), 30 * t], axis=1)


def egg(t: np.ndarray) -> np.ndarray:
    turn = 2 * np.pi * t
    x = 30 * np.cos(turn) * (1 + 0.2 * np.cos(turn))
    return np.stack([x, 18 * np.sin(turn), 3 * np.sin(2 * turn)], axis=1)


SPARSE = [(arc, 10, 0.2), (arc, 30, 0.1), (helix, 13, 0.3), (helix, 30, 0.1), (egg, 8, 0.8)]
UNEVEN = [(egg, 17, 0.15), (upper, 10, 0.6), (upper, 22, 0.5), (wing, 42, 0.2), (wing, 170, 0.15)]


@pytest.mark.parametrize(("shape", "count", "off"), [*SPARSE, *UNEVEN])
def test_between_sparse_points_a_curve_lies_where_the_shape_does(
    shape: Callable[[np.ndarray], np.ndarray], count: int, off: float
) -> None:
    """It ran 4 mm past the ends of the arc, and to and fro along the wing, and was called met."""
    closed = shape is egg
    points = shape(np.linspace(0, 1, count, endpoint=not closed))
    truth = shape(np.linspace(0, 1, 6000))
    length = np.linalg.norm(np.diff(truth, axis=0), axis=1).sum()
    for knots in ("even", "adaptive"):
        settings = TraceSettings(knots=knots)  # type: ignore[arg-type]
        traced = trace(PointSequence(points, closed), settings, Tolerance(0.05))
        assert traced.report.met
        places = curve_points(traced.fit.curve, np.linspace(0, 1, 4000))
        assert cKDTree(truth).query(places)[0].max() < off
        steps = np.linalg.norm(np.diff(places, axis=0), axis=1)
        assert steps.sum() == pytest.approx(length, rel=0.02)


def test_a_detour_to_one_point_alone_is_no_course() -> None:
    t = np.sort(np.random.default_rng(2).random(60))
    run = np.stack([200 * t, 20 * np.sin(9 * t), 0 * t], axis=1)
    assert not lone_strays(run, 0.5).any()
    run[[12, 40], 1] += [20.0, -15.0]
    assert np.flatnonzero(lone_strays(run, 0.5)).tolist() == [12, 40]


def test_a_held_end_is_no_stray() -> None:
    """A curve drawn onto a scan took 200 control points: its end lay a little beside the rest."""
    s = np.linspace(0, 1, 240)
    run = np.stack([10 * s, 0 * s, 4 * np.sin(3 * s)], axis=1)
    run += np.random.default_rng(0).normal(0, 0.0002, run.shape)
    run[-1, 1] += 0.03
    traced = trace(PointSequence(run, held=(True, True)), TraceSettings(), Tolerance(0.035, 0.999))
    assert traced.settings.controls < 9
    assert traced.fit.curve.points[-1] == pytest.approx(run[-1], abs=1e-9)
