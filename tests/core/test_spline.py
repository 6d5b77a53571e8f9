"""Spline mathematics against SciPy, closed forms and its own invariants."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import BSpline, RectBivariateSpline

from usual_clay.core.spline.basis import SplineError, even_knots, gram
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_box, curve_derivatives, curve_points
from usual_clay.core.spline.knots import (
    insert_knot,
    raise_degree,
    removal_residuals,
    remove_knot,
    reverse,
    split,
)
from usual_clay.core.spline.seeds import nearer_seed
from usual_clay.core.spline.surface import (
    BSplineSurface,
    isocurve,
    surface_box,
    surface_derivatives,
    surface_grid,
    surface_normals,
    surface_points,
    swap_directions,
)

T = np.linspace(0, 1, 301)


def any_curve(seed: int, degree: int, rational: bool = False) -> BSplineCurve:
    rng = np.random.default_rng(seed)
    count = degree + 1 + int(rng.integers(1, 8))
    inner = np.sort(rng.random(count - degree - 1))
    knots = np.r_[np.zeros(degree + 1), inner, np.ones(degree + 1)]
    weights = rng.uniform(0.4, 2.5, count) if rational else None
    return BSplineCurve(knots, rng.normal(size=(count, 3)) * 10, weights)


def any_surface(seed: int = 0, rational: bool = False) -> BSplineSurface:
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.linspace(0, 60, 9), np.linspace(0, 30, 7), indexing="ij")
    points = np.stack([x, y, rng.normal(size=x.shape) * 2], axis=-1)
    weights = rng.uniform(0.6, 1.6, x.shape) if rational else None
    return BSplineSurface(even_knots(9, 3), even_knots(7, 2), points, weights)


@pytest.mark.parametrize("degree", range(1, 8))
def test_curve_and_derivatives_equal_scipy(degree: int) -> None:
    curve = any_curve(degree, degree)
    spline = BSpline(curve.knots, curve.points, degree)
    ours = curve_derivatives(curve, T, 3)
    for order in range(4):
        theirs = spline.derivative(order)(T) if order <= degree else np.zeros((len(T), 3))
        scale = np.abs(theirs).max() + 1
        assert np.abs(ours[order] - theirs)[1:-1].max() < 1e-9 * scale


def test_rational_circle_is_round() -> None:
    corner = np.sqrt(0.5)
    points = np.array(
        [[1, 0], [1, 1], [0, 1], [-1, 1], [-1, 0], [-1, -1], [0, -1], [1, -1], [1, 0]]
    )
    weights = np.array([1, corner] * 4 + [1])
    knots = np.array([0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 4]) / 4
    circle = BSplineCurve(knots, np.c_[7.0 * points, np.zeros(9)], weights)
    place, first, second = curve_derivatives(circle, T, 2)
    assert np.allclose(np.linalg.norm(place, axis=1), 7.0, atol=1e-12)
    bend = np.linalg.norm(np.cross(first, second), axis=1) / np.linalg.norm(first, axis=1) ** 3
    assert np.allclose(bend, 1 / 7.0, atol=1e-10)


@pytest.mark.parametrize("count", [1, 7, 500, 40_000])
def test_surface_equals_scipy(count: int) -> None:
    rng = np.random.default_rng(3)
    x, y = np.linspace(0, 1, 14), np.linspace(0, 1, 11)
    theirs = RectBivariateSpline(x, y, rng.normal(size=(14, 11)))
    ku, kv = theirs.get_knots()
    height = theirs.get_coeffs().reshape(len(ku) - 4, len(kv) - 4)
    surface = BSplineSurface(ku, kv, np.stack([height * 0, height, height * 2], axis=-1))
    u, v = rng.random((2, count))
    u[-1], v[0] = 1.0, 0.0
    ours = surface_derivatives(surface, u, v, 2)
    # A knot that is there several times makes spans without width, where no point lies.
    doubled = insert_knot(insert_knot(surface, ku[6], 2), kv[5], 1, "v")
    assert np.allclose(surface_derivatives(doubled, u, v, 2), ours, atol=1e-8)
    for index, (du, dv) in enumerate([(0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2)]):
        expected = theirs.ev(u, v, dx=du, dy=dv)
        assert np.allclose(ours[index, 1], expected, atol=1e-9 * (1 + np.abs(expected).max()))


def test_rational_surface_derivatives_against_differences() -> None:
    surface, h = any_surface(4, rational=True), 1e-5
    u, v = np.random.default_rng(5).uniform(0.05, 0.95, (2, 200))
    exact = surface_derivatives(surface, u, v, 2)

    def s(du: float, dv: float) -> np.ndarray:
        return surface_derivatives(surface, u + du * h, v + dv * h)[0]

    assert np.allclose(exact[1], (s(1, 0) - s(-1, 0)) / (2 * h), atol=1e-4)
    assert np.allclose(
        exact[4], (s(1, 1) - s(1, -1) - s(-1, 1) + s(-1, -1)) / (4 * h * h), atol=0.1
    )
    assert np.allclose(exact[5], (s(0, 1) - 2 * s(0, 0) + s(0, -1)) / (h * h), atol=0.1)


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 6), st.booleans(), st.floats(0.02, 0.98))
def test_changes_that_keep_the_shape(seed: int, degree: int, rational: bool, t: float) -> None:
    curve = any_curve(seed, degree, rational)
    before = curve_points(curve, T)
    finer = insert_knot(curve, t)
    assert len(finer.points) == len(curve.points) + 1
    assert np.allclose(curve_points(finer, T), before, atol=1e-9)
    back, error = remove_knot(finer, t)
    assert error < 1e-8
    assert np.allclose(curve_points(back, T), before, atol=1e-8)
    raised = raise_degree(curve)
    assert raised.degree == degree + 1
    assert np.allclose(curve_points(raised, T), before, atol=1e-7)
    assert np.allclose(curve_points(reverse(curve), 1 - T), before, atol=1e-10)
    left, right = split(curve, t)
    assert np.allclose(curve_points(left, T), curve_points(curve, T * t), atol=1e-8)
    assert np.allclose(curve_points(right, T), curve_points(curve, t + T * (1 - t)), atol=1e-8)
    low, high = curve_box(curve)
    assert (before >= low - 1e-9).all()
    assert (before <= high + 1e-9).all()


def test_removing_a_knot_states_the_error_it_makes() -> None:
    curve = BSplineCurve(even_knots(6, 3), [[i, (i % 2) * 3.0, 0] for i in range(6)])
    slimmer, error = remove_knot(curve, 1 / 3)
    dense = np.linspace(0, 1, 5000)
    moved = np.linalg.norm(curve_points(curve, dense) - curve_points(slimmer, dense), axis=1)
    assert error > 0.1
    assert moved.max() == pytest.approx(error, rel=0.02)
    with pytest.raises(SplineError, match=r"no inner knot at 0\.4"):
        remove_knot(curve, 0.4)
    # A knot that was only inserted is told from those that the shape needs, by its equations.
    finer = insert_knot(insert_knot(curve, 0.45), 1 / 3)
    needed = removal_residuals(finer.knots, finer.points)
    assert (needed < 1e-12).tolist() == [True, True, True, False]
    fewer = np.delete(finer.knots, 7)
    rows = np.eye(len(finer.points) - 1)[:, :, None] * [1.0, 0, 0]
    inserted = [insert_knot(BSplineCurve(fewer, row), 2 / 3).points[:, 0] for row in rows]
    left = np.linalg.lstsq(np.transpose(inserted), finer.points, rcond=None)[0]
    misses = np.linalg.norm(np.transpose(inserted) @ left - finer.points, axis=1)
    assert needed[3] == pytest.approx(misses.max())


@pytest.mark.parametrize("direction", ["u", "v"])
def test_surface_changes_keep_the_shape(direction: str) -> None:
    surface = any_surface(2, rational=True)
    t = np.linspace(0, 1, 40)
    before = surface_grid(surface, t, t)
    for changed in (insert_knot(surface, 0.37, 2, direction), raise_degree(surface, direction)):
        assert np.allclose(surface_grid(changed, t, t), before, atol=1e-8)
    back, error = remove_knot(insert_knot(surface, 0.37, 1, direction), 0.37, direction)
    assert error < 1e-8
    assert back.counts == surface.counts
    part = split(surface, 0.6, direction)[1]
    at = 0.6 + 0.4 * t
    expected = surface_grid(surface, at, t) if direction == "u" else surface_grid(surface, t, at)
    assert np.allclose(surface_grid(part, t, t), expected, atol=1e-8)
    line = isocurve(surface, direction, 0.3)
    fixed = np.full(40, 0.3)
    on = (
        surface_points(surface, t, fixed) if direction == "u" else surface_points(surface, fixed, t)
    )
    assert np.allclose(curve_points(line, t), on, atol=1e-10)


def test_swap_turns_the_normal_and_box_holds_the_surface() -> None:
    surface = any_surface(7)
    u, v = np.random.default_rng(1).random((2, 50))
    assert np.allclose(
        surface_normals(surface, u, v), -surface_normals(swap_directions(surface), v, u)
    )
    low, high = surface_box(surface)
    points = surface_points(surface, u, v)
    assert (points >= low).all()
    assert (points <= high).all()


def test_foot_points_find_a_known_offset() -> None:
    surface = any_surface(8)
    rng = np.random.default_rng(2)
    u, v = rng.uniform(0.03, 0.97, (2, 4000))
    offset = rng.uniform(-0.2, 0.2, 4000)
    points = surface_points(surface, u, v) + offset[:, None] * surface_normals(surface, u, v)
    found = foot_points(surface, points)
    assert np.allclose(found.signed, offset, atol=1e-7)
    assert np.abs(found.u - u).max() < 1e-5
    far = surface_points(surface, np.zeros(50), v[:50]) - [5.0, 0, 0]
    assert (foot_points(surface, far).u == 0).all()


def test_curve_foot_points_beat_a_dense_search() -> None:
    curve = any_curve(11, 4, rational=True)
    points = np.random.default_rng(6).normal(size=(200, 3)) * 10
    _, feet, distance = curve_foot_points(curve, points)
    dense = curve_points(curve, np.linspace(0, 1, 20001))
    best = np.linalg.norm(points[:, None] - dense[None, ::20], axis=2).min(axis=1)
    assert (distance <= best + 1e-6).all()
    assert np.allclose(np.linalg.norm(feet - points, axis=1), distance)


def test_gram_matrix_is_the_integral() -> None:
    knots = even_knots(8, 3)
    t = (np.arange(20000) + 0.5) / 20000
    rows = BSpline(knots, np.eye(8), 3).derivative(2)(t)
    assert np.allclose(gram(knots, 3, 2), rows.T @ rows / 20000, rtol=1e-5, atol=1e-2)


@pytest.mark.parametrize(
    ("knots", "count"),
    [
        ([0, 0, 0, 1, 1], 3),
        ([0, 0, 0.2, 1, 1, 1], 3),
        ([0, 0, np.nan, 1, 1], 3),
        ([0, 0, 0.8, 0.2, 1, 1], 4),
        ([0, 0, 0, 0.5, 0.5, 0.5, 1, 1, 1], 6),
    ],
)
def test_knots_that_are_no_knots_are_refused(knots: list[float], count: int) -> None:
    with pytest.raises(SplineError):
        BSplineCurve(np.array(knots), np.zeros((count, 3)))


def test_feet_of_very_many_points_are_those_of_each_alone() -> None:
    """On two threads, with a few points that take far longer than the others."""
    surface = any_surface(3)
    random = np.random.default_rng(6)
    (u0, u1), (v0, v1) = surface.domain
    u, v = random.uniform(u0, u1, 90_000), random.uniform(v0, v1, 90_000)
    points = surface_points(surface, u, v) + random.normal(0, 0.05, (90_000, 3))
    points[::900] += random.normal(0, 3.0, (100, 3))
    far = np.clip(u + 0.2 * (u1 - u0), u0, u1), v
    many = foot_points(surface, points, far)
    some = np.concatenate([np.arange(0, 90_000, 900), random.choice(90_000, 300)])
    alone = foot_points(surface, points[some], (far[0][some], far[1][some]))
    assert np.abs(many.signed[some]) == pytest.approx(np.abs(alone.signed), rel=1e-6, abs=1e-9)
    assert np.linalg.norm(points - many.feet, axis=1) == pytest.approx(
        np.abs(many.signed), abs=1e-6
    )
    # Seeds that are off by something that varies slowly are brought near their feet.
    nearer = nearer_seed(surface, points, far)
    off = [np.median(np.abs(seed[0] - many.u)) for seed in (far, nearer)]
    assert off[1] < 0.2 * off[0]
