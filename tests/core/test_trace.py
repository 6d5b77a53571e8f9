"""Curves traced, drawn, joined and judged, against closed forms and against SciPy."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from scipy.interpolate import make_interp_spline, splev, splprep
from scipy.spatial import cKDTree

from usual_clay.core.build.combine import (
    BridgeSettings,
    PairSettings,
    TwinSettings,
    bridge,
    pair_into_space,
    twin,
)
from usual_clay.core.check.comb import comb_of, in_words
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.corners import find_corners
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.pulls import knot_slopes
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings, parts_of
from usual_clay.core.fit.curve.trace import trace, trace_parts
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.points.course import noise_of
from usual_clay.core.progress import Cancelled
from usual_clay.core.spline.basis import SplineError, clamped
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.make import DrawnSettings, arc_through, conic, make_curve
from usual_clay.demo.points import probed_outline, true_outline

NOISE = 0.012


def bumpy(count: int = 6000, seed: int = 0, noise: float = NOISE) -> np.ndarray:
    """A long gentle run with one narrow bump."""
    s = np.linspace(0, 1, count)
    x, y = 120 * s, 8 * np.sin(3 * s) + 5 * np.exp(-(((s - 0.62) / 0.03) ** 2))
    run = np.stack([x, y, 0 * s], axis=1)
    run[:, :2] += np.random.default_rng(seed).normal(0, noise, (count, 2))
    return run


def rectangle(count: int = 120, noise: float = 0.01) -> np.ndarray:
    share = np.linspace(0, 1, count, endpoint=False)[:, None]
    ends = np.array([[0.0, 0], [40, 0], [40, 30], [0, 30], [0, 0]])
    sides = [a + (b - a) * share for a, b in pairwise(ends)]
    flat = np.concatenate(sides)
    flat = flat + np.random.default_rng(1).normal(0, noise, flat.shape)
    return np.column_stack([flat, np.zeros(len(flat))])


# ---- fitting ---------------------------------------------------------------------------------


def test_adaptive_knots_spend_half_as_much_as_even_ones() -> None:
    tolerance = Tolerance(0.03, 0.95)
    found: dict[str, int] = {}
    seen: list[Candidate] = []
    for rule in ("even", "adaptive"):
        made = trace(
            PointSequence(bumpy()), TraceSettings(knots=rule), tolerance, found=seen.append
        )
        assert made.report.met
        assert made.report.at_share <= 0.03
        found[rule] = made.settings.controls
        counts = [c.total for c in made.candidates]
        assert counts == sorted(counts)
        assert made.settings.controls in counts
        # The curve lies nearer to the truth than to the noisy points.
        true = bumpy(noise=0.0)
        away = np.quantile(curve_foot_points(made.fit.curve, true)[2], 0.95)
        assert away < made.report.at_share
    assert found["adaptive"] <= 0.5 * found["even"]
    assert {c.nu for c in seen} >= {4, 10, found["adaptive"] + 1}


def test_fewer_knots_than_scipys_at_the_same_deviation() -> None:
    run = bumpy()
    # SciPy's smoothing spline, at the smoothing that just reaches the same 95 % deviation.
    best = None
    for smoothing in np.geomspace(0.9, 3.0, 14) * len(run) * NOISE**2 * 2:
        tck, u = splprep(run[:, :2].T, s=smoothing)
        curve = BSplineCurve(tck[0], np.column_stack([*tck[1], np.zeros(len(tck[0]) - 4)]))
        deviation = float(np.quantile(curve_foot_points(curve, run, u)[2], 0.95))
        if deviation <= 0.03:
            best = min(best or 10**9, len(tck[0]) - 4)
        assert np.allclose(np.array(splev(u[:5], tck)).T, curve_points(curve, u[:5])[:, :2])
    assert best is not None
    ours = trace(PointSequence(run), TraceSettings(knots="adaptive"), Tolerance(0.03, 0.95))
    assert ours.report.at_share <= 0.03
    assert ours.settings.controls <= 0.5 * best


def test_the_probed_outline_is_traced_to_the_truth() -> None:
    run, slipped = probed_outline()
    made = trace(
        PointSequence(run, closed=True), TraceSettings(knots="adaptive"), Tolerance(0.05, 0.95)
    )
    assert made.report.met
    assert made.settings.controls <= 16
    # Slips do not draw it: what is left lies as near as without them.
    assert np.quantile(made.fit.signed[~slipped], 0.95) < 0.05
    assert made.fit.signed[slipped].max() > 0.3
    # Its ends meet smoothly.
    for order in range(3):
        ends = curve_derivatives(made.fit.curve, np.array([0.0, 1.0]), order)[order]
        assert ends[0] == pytest.approx(ends[1], rel=1e-5, abs=1e-5 * np.abs(ends).max())
    # Half a ball's diameter outside the true outline.
    places = curve_points(made.fit.curve, np.linspace(0, 1, 500))
    away = cKDTree(true_outline()).query(places)[0]
    assert np.quantile(np.abs(away - 1.5), 0.95) < 0.1


def test_corners_part_a_run_and_arcs_do_not() -> None:
    square = rectangle()
    assert find_corners(square, True, np.radians(35)).tolist() == [0, 120, 240, 360]
    parts = trace_parts(
        PointSequence(square, True), TraceSettings(corners=np.radians(35)), Tolerance(0.05)
    )
    assert [part.settings.controls for part in parts] == [4] * 4
    assert all(part.report.met for part in parts)
    ends = [part.fit.curve.points for part in parts]
    for one, other in zip(ends, [*ends[1:], ends[0]], strict=True):
        assert one[-1] == pytest.approx(other[0], abs=1e-12)
    turn = np.linspace(0, 2 * np.pi, 200, endpoint=False)
    ring = np.stack([10 * np.cos(turn), 10 * np.sin(turn), 0 * turn], axis=1)
    assert len(find_corners(ring, True, np.radians(35))) == 0
    assert len(parts_of(PointSequence(square[:300]), np.radians(35))) == 3
    with pytest.raises(FitError, match="only 4 parts"):
        fit_sequence(PointSequence(square, True), TraceSettings(corners=np.radians(35), part=4))


def test_what_cannot_be_met_or_is_stopped_says_so() -> None:
    made = trace(
        PointSequence(bumpy(2000)), TraceSettings(knots="adaptive"), Tolerance(0.004, 0.95)
    )
    assert not made.report.met
    assert "below the run's noise" in made.words
    assert PointSequence(bumpy(2000)).noise == pytest.approx(NOISE, rel=0.15)

    def stop(fraction: float, _words: str) -> None:
        if fraction > 0.3:
            raise Cancelled

    stopped = trace(
        PointSequence(bumpy(2000)), TraceSettings(), Tolerance(0.03, 0.95), progress=stop
    )
    assert stopped.words.startswith("Stopped.")
    assert len(stopped.candidates) >= 2
    with pytest.raises(FitError, match="too few"):
        trace(PointSequence(bumpy(6)[:3]), TraceSettings(), Tolerance(0.05))


# Runs of our own, (n, 3), and whether they close; counts that the search before took with noise of
# 0.01 mm at 0.03 mm: 19, 25, 30, 50.
def wing(count: int) -> np.ndarray:
    turn = np.linspace(0, 2 * np.pi, count)
    x = 0.5 * (1 + np.cos(turn))
    y = 0.6 * (0.2969 * np.sqrt(x) - 0.126 * x - 0.3516 * x**2 + 0.2843 * x**3 - 0.1036 * x**4)
    return 100 * np.column_stack([x, np.where(turn < np.pi, y, -y) + 0.05 * x * (1 - x), 0 * x])


def flat_ring(count: int) -> np.ndarray:
    turn = np.linspace(0, 2 * np.pi, count, endpoint=False)
    return np.column_stack([60 * np.cos(turn), 6 * np.sin(turn), 0 * turn])


def chirp(count: int) -> np.ndarray:
    s = np.linspace(0, 1, count)
    return np.column_stack([100 * s, 3 * np.sin(2 * np.pi * (2 * s + 4 * s**2)), 5 * s**2])


RUNS = {"wing": (wing, False, 11), "ring": (flat_ring, True, 11), "chirp": (chirp, False, 19)}


def strewn(run: np.ndarray, seed: int, strays: float) -> np.ndarray:
    """Add noise of 0.01 mm, and gross errors to a share of the points."""
    random = np.random.default_rng(seed)
    flat = np.ptp(run, axis=0) > 0
    out = random.random(len(run)) < strays
    noise = random.normal(0, 0.01, run.shape) + 1.2 * out[:, None] * random.normal(0, 1, run.shape)
    return run + noise * flat


@pytest.mark.parametrize("name", RUNS)
def test_curves_are_lean_steady_and_near_the_truth_with_strays_too(name: str) -> None:
    make, closed, most = RUNS[name]
    truth = make(4000)
    for strays, draws in ((0.0, 2), (0.05, 2)):
        counts = []
        for seed in range(draws):
            run = PointSequence(strewn(make(2000), seed, strays), closed)
            made = trace(run, TraceSettings(knots="adaptive"), Tolerance(0.03))
            counts.append(made.settings.controls)
            believed = made.fit.believed
            assert np.mean(~believed) == pytest.approx(strays, abs=0.012)
            assert np.quantile(made.fit.signed[believed], 0.95) <= 0.03
            assert made.report.met or "stray far from their run" in made.words
            assert np.quantile(curve_foot_points(made.fit.curve, truth)[2], 0.95) < 0.03
            # What was found is what these settings give.
            again = fit_sequence(run, made.settings)
            assert again.curve.points == pytest.approx(made.fit.curve.points, abs=1e-12)
        assert max(counts) <= most
        assert max(counts) - min(counts) <= max(1, min(counts) // 6)


def test_the_best_degree_is_the_leanest_of_those_tried() -> None:
    turn = np.linspace(0, 3 * np.pi, 200)
    run = PointSequence(np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), 3 * turn]))
    best = trace(run, TraceSettings(knots="adaptive", any_degree=True), Tolerance(0.01))
    counts = {}
    for degree in (2, 3, 4, 5):
        alone = trace(run, TraceSettings(12, degree, "adaptive"), Tolerance(0.01))
        assert alone.report.met
        counts[degree] = alone.settings.controls
    assert best.report.met
    assert best.settings.any_degree
    assert best.settings.controls == min(counts.values()) < counts[3]
    assert counts[best.settings.degree] == best.settings.controls


def test_places_change_with_knots_as_differences_tell() -> None:
    random = np.random.default_rng(0)
    for degree in (1, 2, 3, 5):
        inner = np.sort(random.random(5))
        knots, t = clamped(inner, degree), random.random(300)
        points = random.normal(size=(len(knots) - degree - 1, 3))
        slopes = knot_slopes(BSplineCurve(knots, points), t)
        for k in range(5):
            moved = []
            for step in (1e-6, -1e-6):
                there = inner.copy()
                there[k] += step
                moved.append(curve_points(BSplineCurve(clamped(there, degree), points), t))
            assert slopes[:, :, k] == pytest.approx((moved[0] - moved[1]) / 2e-6, abs=1e-5)


def test_noise_is_told_across_a_run_however_it_is_spaced() -> None:
    random = np.random.default_rng(3)
    for count, noise in ((400, 0.01), (4000, 0.1)):
        turn = np.sort(random.random(count)) * 2 * np.pi
        ring = np.column_stack([30 * np.cos(turn), 20 * np.sin(turn), 0 * turn])
        assert noise_of(ring) < 0.02 * noise
        ring[:, :2] += random.normal(0, noise, (count, 2))
        assert noise_of(ring) == pytest.approx(noise, rel=0.15)
        ring[::20, 1] += 5.0
        assert noise_of(ring) == pytest.approx(noise, rel=0.5)


# ---- drawing ---------------------------------------------------------------------------------


def drawn(kind: str, *points: tuple[float, float, float], **more: object) -> BSplineCurve:
    return make_curve(DrawnSettings(kind, points, **more))


def test_round_curves_are_round() -> None:
    t = np.linspace(0, 1, 41)
    arc = drawn("arc", (3, 0, 1), (0, 3, 1), (-3, 0, 1))
    away = curve_points(arc, t) - [0, 0, 1]
    assert np.linalg.norm(away, axis=1) == pytest.approx(np.full(41, 3.0), abs=1e-12)
    assert (away[:, 1] > -1e-9).all()
    # The long way round, where the middle point lies there.
    long = curve_points(drawn("arc", (3, 0, 0), (-3, 0, 0), (0, -3, 0)), t)
    assert long[:, 1].max() == pytest.approx(3, abs=1e-2)
    ring = drawn("circle", (1, 2, 3), (1, 4.5, 3), normal=(1, 0, 0))
    assert np.linalg.norm(curve_points(ring, t) - [1, 2, 3], axis=1) == pytest.approx(
        np.full(41, 2.5), abs=1e-12
    )
    assert comb_of(ring).smallest_radius == pytest.approx(2.5, abs=1e-9)
    parabola = curve_points(conic(*np.array([[-1.0, 1, 0], [0, -1, 0], [1, 1, 0]]), 0.5), t)
    assert parabola[:, 1] == pytest.approx(parabola[:, 0] ** 2, abs=1e-12)
    fuller = curve_points(conic(*np.array([[-1.0, 1, 0], [0, -1, 0], [1, 1, 0]]), 0.8), t)
    assert fuller[20, 1] == pytest.approx(1 - 2 * 0.8)


def test_through_points_equal_scipys_and_tension_flattens() -> None:
    points = np.array([[0.0, 0, 0], [4, 3, 1], [9, 1, 2], [12, 6, 0], [20, 5, 1]])
    places = tuple(map(tuple, points))
    for spacing, power in (("uniform", 0.0), ("centripetal", 0.5), ("chord", 1.0)):
        curve = drawn("through", *places, spacing=spacing)
        t = np.concatenate(
            [[0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1) ** power)]
        )
        t /= t[-1]
        assert curve_points(curve, t) == pytest.approx(points, abs=1e-10)
        fine = np.linspace(0, 1, 60)
        assert curve_points(curve, fine) == pytest.approx(
            make_interp_spline(t, points)(fine), abs=1e-9
        )
    loose = curve_points(drawn("through", *places), np.linspace(0, 1, 400))
    tight = curve_points(drawn("through", *places, tension=0.9), np.linspace(0, 1, 400))
    chords = np.concatenate(
        [a + (b - a) * np.linspace(0, 1, 200)[:, None] for a, b in pairwise(points)]
    )
    away = [cKDTree(chords).query(line)[0].mean() for line in (loose, tight)]
    assert away[1] < 0.7 * away[0]
    assert len(drawn("controls", *places, degree=7).points) == 5


def test_points_that_make_no_curve_are_refused() -> None:
    with pytest.raises(SplineError, match="points 2 and 3 are on one spot"):
        drawn("through", (0, 0, 0), (1, 1, 0), (1, 1, 0), (4, 1, 0))
    with pytest.raises(SplineError, match="one spot"):
        drawn("line", (1, 1, 1), (1, 1, 1))
    with pytest.raises(SplineError, match="on a line"):
        arc_through(*np.array([[0.0, 0, 0], [1, 1, 0], [2, 2, 0]]))
    with pytest.raises(SplineError, match="needs 3 points"):
        drawn("arc", (0, 0, 0), (1, 0, 0))
    with pytest.raises(SplineError, match="radius"):
        drawn("circle", (0, 0, 0), (0, 0, 0))
    with pytest.raises(SplineError, match="rho"):
        drawn("conic", (0, 0, 0), (1, 1, 0), (2, 0, 0), rho=1.0)
    with pytest.raises(SplineError, match="no curve is called"):
        drawn("squiggle", (0, 0, 0))
    # Fewer points than the degree asks for lower it.
    assert drawn("controls", (0, 0, 0), (1, 0, 0), degree=5).degree == 1


# ---- joining ---------------------------------------------------------------------------------


def geometry_at(curve: BSplineCurve, t: float) -> list[np.ndarray]:
    """Place, unit tangent, curvature vector and the curvature's change along the arc."""
    step = 1e-5 if t < 0.5 else -1e-5
    sizes = []
    for at in (t, t + step):
        _, d1, d2 = curve_derivatives(curve, np.array([at]), 2)[:, 0]
        sizes.append(np.linalg.norm(np.cross(d1, d2)) / np.linalg.norm(d1) ** 3)
    place, d1, d2 = curve_derivatives(curve, np.array([t]), 2)[:, 0]
    speed = np.linalg.norm(d1)
    bend = (d2 - (d2 @ d1) / speed**2 * d1) / speed**2
    change = np.array([(sizes[1] - sizes[0]) / (step * speed)])
    return [place, d1 / speed, bend, change]


@pytest.mark.parametrize("smooth", [0, 1, 2, 3])
def test_a_bridge_meets_both_curves_as_smoothly_as_asked(smooth: int) -> None:
    one = drawn("through", (0, 0, 0), (5, 1, 0), (10, 3, 0), (14, 7, 0))
    other = drawn("through", (20, 12, 1), (25, 12, 2), (30, 10, 0))
    made = bridge(
        one, other, BridgeSettings(first_smooth=smooth, second_smooth=smooth, first_strength=1.3)
    )
    pairs = (
        (geometry_at(one, 1.0), geometry_at(made, 0.0)),
        (geometry_at(made, 1.0), geometry_at(other, 0.0)),
    )
    for a, b in pairs:
        for order in range(smooth + 1):
            assert a[order] == pytest.approx(b[order], abs=1e-9 if order < 3 else 2e-4)
        if smooth < 2:
            assert np.abs(a[smooth + 1] - b[smooth + 1]).max() > 1e-3
    assert len(made.points) == 2 * (smooth + 1)
    # From a start the bridge leaves against the curve's own run.
    back = bridge(one, other, BridgeSettings(first_at=0, second_at=1))
    assert geometry_at(back, 0.0)[1] == pytest.approx(-geometry_at(one, 0.0)[1], abs=1e-9)
    with pytest.raises(SplineError, match="one spot"):
        bridge(one, one, BridgeSettings(first_at=1, second_at=1))


def test_twins_are_mirrored_and_pairs_meet_in_space() -> None:
    one = drawn("controls", (0, 1, 2), (4, 5, 1), (9, 2, 0))
    other = curve_points(twin(one, TwinSettings("y", 1.5).plane), np.linspace(0, 1, 9))
    assert other == pytest.approx(curve_points(one, np.linspace(0, 1, 9)) * [1, -1, 1] + [0, 3, 0])
    x = np.linspace(0, 90, 300)
    side = fit_sequence(
        PointSequence(np.stack([x, 0 * x, 6 * np.sin(x / 30)], axis=1)), TraceSettings(14)
    ).curve
    top = fit_sequence(
        PointSequence(np.stack([x, 8 * np.cos(x / 40), 0 * x], axis=1)), TraceSettings(14)
    ).curve
    paired = pair_into_space(side, top, PairSettings("x"))
    space = curve_points(paired.curve, np.linspace(0, 1, 80))
    assert space[:, 2] == pytest.approx(6 * np.sin(space[:, 0] / 30), abs=0.01)
    assert space[:, 1] == pytest.approx(8 * np.cos(space[:, 0] / 40), abs=0.01)
    assert paired.words == ""
    shorter = replace(top, points=top.points * [0.98, 1, 1])
    told = pair_into_space(side, shorter, PairSettings("x"))
    assert "differ by up to 1.8" in told.words
    matched = pair_into_space(side, shorter, PairSettings("x", match=True)).curve
    assert curve_points(matched, np.array([1.0]))[0] == pytest.approx(space[-1], abs=0.05)
    far = replace(top, points=top.points + np.array([200.0, 0, 0]))
    with pytest.raises(SplineError, match="do not meet along x"):
        pair_into_space(side, far, PairSettings("x"))
    ring = drawn("circle", (0, 0, 0), (5, 0, 0))
    with pytest.raises(SplineError, match="turns back 0 times and the second 1 time:"):
        pair_into_space(side, ring, PairSettings("x"))


# ---- judging ---------------------------------------------------------------------------------


def test_combs_tell_bends_inflections_and_uneven_spans() -> None:
    x = np.linspace(0, 4 * np.pi, 400)
    wave = fit_sequence(
        PointSequence(np.stack([10 * x, 10 * np.sin(x), 0 * x], axis=1)), TraceSettings(48)
    ).curve
    comb = comb_of(wave)
    assert len(comb.inflections) == 3
    assert comb.inflections[:, 0] == pytest.approx(10 * np.pi * np.array([1, 2, 3]), abs=2)
    assert comb.smallest_radius == pytest.approx(10, rel=0.06)
    assert "3 inflections" in in_words(comb)
    line = comb_of(drawn("line", (0, 0, 0), (4, 4, 4)))
    assert line.smallest_radius == np.inf
    assert in_words(line) == "no inflection"
    # Curvature vectors are those of the analytic ellipse.
    turn = np.linspace(0, 2 * np.pi, 300)
    ellipse = fit_sequence(
        PointSequence(np.stack([20 * np.cos(turn), 10 * np.sin(turn), 0 * turn], axis=1)),
        TraceSettings(60),
    ).curve
    found = comb_of(ellipse)
    inside = slice(200, -200)
    place, size = found.points[inside], np.linalg.norm(found.curvature[inside], axis=1)
    angle = np.arctan2(place[:, 1] / 10, place[:, 0] / 20)
    true = 200 / (400 * np.sin(angle) ** 2 + 100 * np.cos(angle) ** 2) ** 1.5
    assert size == pytest.approx(true, rel=0.04)
    sharp = drawn(
        "controls",
        *[(float(i), 0.0, 0.0) for i in range(5)],
        (5, 4, 0),
        (5, 5, 0),
        (5, 6, 0),
        (5, 7, 0),
    )
    assert comb_of(sharp).peak_ratio > 4
    assert "times faster" in in_words(comb_of(sharp))
