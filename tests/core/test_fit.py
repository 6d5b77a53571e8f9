"""Fitting: the linear system, the frame, cast, robustness and the search for a budget."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.interpolate import LSQBivariateSpline

from tests.shapes import height_field
from usual_clay.core.check.deviation import (
    Tolerance,
    ToleranceError,
    at_share,
    distance_levels,
    judge,
)
from usual_clay.core.errors import FitError
from usual_clay.core.fit.cast import cast, laid_for_knots
from usual_clay.core.fit.parameterize.frame import (
    FrameError,
    base_frame,
    even_out,
    follow_sides,
    slope_stretch,
)
from usual_clay.core.fit.parameterize.lay import FoldsOverError, parameterize
from usual_clay.core.fit.parameterize.region import CastSettings, KnotRule
from usual_clay.core.fit.search.budget import to_tolerance
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.solve.adaptive import NARROWEST, _about_worst
from usual_clay.core.fit.solve.ease import eased
from usual_clay.core.fit.solve.laid import Laid
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.fit.solve.system import Space, fit_control_points, seamless
from usual_clay.core.progress import Cancelled
from usual_clay.core.scan.noise import estimate_noise
from usual_clay.core.scan.sample import Sample, neighbours_of
from usual_clay.core.spline.basis import clamped, collocation, even_knots, gram, greville
from usual_clay.core.spline.surface import BSplineSurface, surface_points

UP = np.array([0.0, 0.0, 1.0])


def space(nu: int, nv: int, p: int = 3, q: int = 3) -> Space:
    return Space(even_knots(nu, p), even_knots(nv, q), p, q)


@pytest.mark.parametrize(("nu", "nv", "p", "q"), [(9, 6, 3, 3), (5, 12, 2, 3), (7, 7, 1, 5)])
def test_system_equals_a_dense_reference(nu: int, nv: int, p: int, q: int) -> None:
    random = np.random.default_rng(nu)
    u, v = random.random((2, 3000))
    points, weights = random.normal(size=(3000, 3)), random.uniform(0.1, 1, 3000)
    made = space(nu, nv, p, q)
    rows = np.einsum(
        "ni,nj->nij", collocation(made.knots_u, p, u), collocation(made.knots_v, q, v)
    ).reshape(3000, -1)
    size, stiffness = (70.0, 20.0), 0.02
    along = [gram(made.knots_u, p, k) * size[0] ** (1 - 2 * k) for k in range(3)]
    across = [gram(made.knots_v, q, k) * size[1] ** (1 - 2 * k) for k in range(3)]
    energy = sum(f * np.kron(along[k], across[2 - k]) for k, f in ((2, 1), (1, 2), (0, 1)))
    matrix = rows.T @ (rows * weights[:, None]) / weights.sum() + stiffness * energy
    expected = np.linalg.solve(matrix, rows.T @ (points * weights[:, None]) / weights.sum())
    fitted = fit_control_points(made, u, v, points, weights, stiffness, size)
    assert np.abs(fitted.reshape(-1, 3) - expected).max() < 1e-8


def test_system_equals_scipys_spline() -> None:
    random = np.random.default_rng(1)
    u, v = random.random((2, 5000))
    height = np.sin(5 * u) * np.cos(3 * v)
    made = space(9, 8)
    theirs = LSQBivariateSpline(
        u, v, height, made.knots_u[4:-4], made.knots_v[4:-4], bbox=[0, 1, 0, 1]
    )
    ours = fit_control_points(made, u, v, height[:, None])
    assert np.abs(ours.ravel() - theirs.get_coeffs()).max() < 1e-6


def test_open_control_points_are_refused_or_settled_by_smoothness() -> None:
    random = np.random.default_rng(2)
    u, v = random.random((2, 400)) * 0.4
    points = np.stack([u, v, u * v], axis=1)
    with pytest.raises(FitError, match="leave some control points open"):
        fit_control_points(space(12, 12), u, v, points)
    calm = fit_control_points(space(12, 12), u, v, points, None, 1e-9)
    assert np.abs(calm).max() < 3


def test_frame_finds_the_least_rectangle() -> None:
    random = np.random.default_rng(3)
    flat = np.stack([random.uniform(0, 80, 4000), random.uniform(0, 20, 4000)], axis=1)
    turn = np.radians(33)
    along = np.array([np.cos(turn), np.sin(turn), 0])
    across = np.array([-np.sin(turn), np.cos(turn), 0])
    points = flat[:, :1] * along + flat[:, 1:] * across + [5, 6, 7]
    frame = base_frame(points, np.tile(UP, (4000, 1)))
    assert abs(frame.axes[0] @ along) > 0.9995
    assert frame.size == pytest.approx([80, 20], rel=0.02)
    assert frame.axes[2] @ UP == pytest.approx(1)
    local = frame.local(points)
    assert local[:, :2].min() > -1e-9
    assert (local[:, :2] <= frame.size + 1e-9).all()


def test_frame_along_world_axes_and_locked() -> None:
    sample = height_field(500)
    down = -sample.normals
    for choice, plane in (("axes", "xy"), ("locked", "yx"), ("locked", "xy")):
        frame = base_frame(sample.points, down, choice, plane)
        assert np.abs(frame.axes).max(axis=1) == pytest.approx([1, 1, 1])
        assert frame.axes[2] @ UP == pytest.approx(-1)
        assert np.linalg.det(frame.axes) == pytest.approx(1)
    locked = base_frame(sample.points, sample.normals, "locked", "yx")
    assert abs(locked.axes[0, 1]) == 1


def test_sides_follow_a_taper() -> None:
    random = np.random.default_rng(5)
    u, across = random.random((2, 20_000))
    width = 1 - 0.8 * u
    v = 0.5 + 0.3 * u + (across - 0.5) * width
    followed = follow_sides(u, v)
    middle = (u > 0.05) & (u < 0.95)
    assert np.abs(followed - across)[middle & (width > 0.4)].max() < 0.06
    assert follow_sides(u, across) == pytest.approx(across, abs=0.03)


def test_parameters_advance_with_the_length_on_the_surface() -> None:
    # A quarter arch: on the base its end is steep, on the surface all is even.
    turn = np.random.default_rng(5).uniform(0, np.radians(70), 20_000)
    base = np.sin(turn) / np.sin(np.radians(70))
    evened, stretch = even_out(base, base, slope_stretch(np.sin(turn), np.cos(turn)))
    assert np.abs(evened - turn / np.radians(70)).max() < 0.02
    assert stretch == pytest.approx(np.radians(70) / np.sin(np.radians(70)), rel=0.02)


def test_cast_reproduces_what_a_spline_can_hold() -> None:
    sample = height_field()
    made = cast(sample, CastSettings(nu=16, nv=12, reach=0.0, smoothness=0.0))
    assert judge(made.feet.signed, Tolerance(0.001)).within_share > 0.999
    # Positive lies on the side of the normal.
    lifted = Sample(sample.points + 0.3 * UP, sample.normals)
    other = cast(lifted, CastSettings(nu=16, nv=12, reach=0.0, smoothness=0.0))
    below = surface_points(other.surface, [0.5], [0.5])[0] - 0.05 * UP
    from usual_clay.core.spline.closest import foot_points

    assert foot_points(other.surface, below[None]).signed[0] < 0


def test_cast_runs_past_its_region_by_the_reach() -> None:
    sample = height_field()
    for reach in (0.0, 0.4):
        made = cast(sample, CastSettings(reach=reach, sides="straight", nu=8, nv=6))
        length = np.ptp(surface_points(made.surface, [0.0, 1.0], [0.5, 0.5])[:, 0])
        assert length == pytest.approx(60 * (1 + reach), rel=0.03)


def test_one_smoothness_means_the_same_at_any_size() -> None:
    small = height_field(noise=0.01)
    large = Sample(small.points * 100, small.normals)
    settings = CastSettings(nu=14, nv=10, smoothness=0.7)
    one, other = cast(small, settings), cast(large, settings)
    assert np.abs(one.surface.points * 100 - other.surface.points).max() < 1e-3
    stiff = cast(small, replace(settings, smoothness=1.0))
    rms = [judge(d.feet.signed, Tolerance()).rms for d in (one, stiff)]
    assert rms[1] > 1.5 * rms[0]


def test_gaps_stay_calm() -> None:
    sample = height_field(8000, noise=0.01)
    x, y, _ = sample.points.T
    kept = (x - 30) ** 2 + (y - 15) ** 2 > 36
    holed = Sample(sample.points[kept], sample.normals[kept])
    made = cast(holed, CastSettings(nu=14, nv=10, reach=0.2))
    assert judge(made.feet.signed, Tolerance(0.05)).met
    from usual_clay.core.spline.closest import foot_points

    missing = foot_points(made.surface, sample.points[~kept])
    assert np.abs(missing.signed).max() < 0.35


def test_spikes_do_not_pull_the_surface() -> None:
    clean = height_field(8000, noise=0.01)
    random = np.random.default_rng(4)
    hit = random.choice(8000, 80, replace=False)
    points = clean.points.copy()
    points[hit, 2] += random.uniform(0.5, 2.0, 80)
    settings = CastSettings(nu=10, nv=8, reach=0.1)
    spiked = cast(Sample(points, clean.normals), settings)
    reference = cast(clean, settings)
    keep = np.ones(8000, dtype=bool)
    keep[hit] = False
    rms = np.sqrt(np.mean(spiked.feet.signed[keep] ** 2))
    assert rms < 1.1 * np.sqrt(np.mean(reference.feet.signed[keep] ** 2))
    assert spiked.weights[hit].max() < 0.1


def test_a_narrow_ridge_is_no_spike() -> None:
    random = np.random.default_rng(6)
    x, y = random.uniform(0, 60, 9000), random.uniform(0, 30, 9000)
    z = np.exp(-(((x - 25) / 2) ** 2)) + random.normal(0, 0.01, 9000)
    sample = Sample(np.stack([x, y, z], axis=1), np.tile(UP, (9000, 1)))
    made = cast(sample, CastSettings(nu=50, nv=4, reach=0.0))
    assert judge(made.feet.signed, Tolerance(0.04)).met


def test_knots_about_one_point_that_is_far_off_stay_apart() -> None:
    """It was as wide as nothing, and all knots came in at one place."""
    sample = height_field(900, 0.0)
    points = sample.points.copy()
    points[450, 2] += 500.0
    base = parameterize(sample, CastSettings(4, 4))
    begun = Start(base.u, base.v, np.ones(len(points)))
    laid = laid_for_knots(Sample(points, sample.normals), base, 1e-3, begun)
    even = even_knots(4, 3)
    attempt = laid.fitted(Space(even, even, 3, 3))
    tried = _about_worst(laid, attempt, (9, 9))
    assert len(tried) == 3
    for each in tried:
        for knots in (each.space.knots_u, each.space.knots_v):
            assert np.diff(knots[3:-3]).min() > NARROWEST


def test_noise_is_found() -> None:
    for noise in (0.005, 0.02, 0.1):
        assert estimate_noise(height_field(20_000, noise).points) == pytest.approx(noise, rel=0.1)
    assert height_field(10, 0.1).noise == 0.0


def test_regions_that_cannot_be_cast_say_why() -> None:
    few = height_field(50)
    with pytest.raises(FitError, match="50 points, fewer than the 100 control points"):
        cast(few, CastSettings())
    line = np.stack([np.linspace(0, 9, 400), np.zeros(400), np.zeros(400)], axis=1)
    with pytest.raises(FrameError, match="is a line"):
        cast(Sample(line, np.tile(UP, (400, 1))), CastSettings())
    sample = height_field(3000)
    folded = sample.normals.copy()
    folded[:900, 2] = -1
    with pytest.raises(FoldsOverError, match=r"faces away.*four-corner patch"):
        parameterize(Sample(sample.points, folded), CastSettings())


@pytest.mark.parametrize(
    "fields",
    [
        {"nu": 3},
        {"nv": 201},
        {"degree": 8},
        {"degree": 5, "nu": 5},
        {"smoothness": -0.1},
        {"reach": 1.2},
        {"frame": "tilted"},
        {"plane": "xx"},
        {"sides": "wild"},
    ],
)
def test_settings_out_of_range_are_refused(fields: dict) -> None:
    with pytest.raises(FitError):
        CastSettings(**fields)


def test_to_tolerance_is_lean_and_keeps_every_candidate() -> None:
    sample = height_field(6000, noise=0.005)
    told: list[Candidate] = []
    found = to_tolerance(sample, CastSettings(reach=0.1), Tolerance(0.012), found=told.append)
    assert found.report is not None
    assert found.report.met
    nu, nv = found.settings.nu, found.settings.nv
    # The settings are the answer: whoever makes by them gets the very same surface.
    again = cast(sample, found.settings)
    assert np.array_equal(again.surface.points, found.made.surface.points)
    assert found.cast.surface.counts == (nu, nv)
    assert nu != nv
    assert nu * nv <= 80
    assert {(c.nu, c.nv) for c in told} <= {(c.nu, c.nv) for c in found.candidates}
    for a, b in ((nu - 1, nv), (nu, nv - 1)):
        if min(a, b) >= 4:
            smaller = cast(sample, CastSettings(nu=a, nv=b, reach=0.1))
            assert judge(smaller.feet.signed, Tolerance(0.012)).within_share < 0.96
    assert "control points" in found.words


def test_to_tolerance_says_when_it_cannot() -> None:
    noisy = height_field(6000, noise=0.05)
    below = to_tolerance(noisy, CastSettings(), Tolerance(0.02), limit=12)
    assert not below.report.met
    assert "below the scan's noise" in below.words
    rough = height_field(20_000)
    rough = Sample(rough.points + 0.5 * np.sin(rough.points[:, :1] * 0.8) * UP, rough.normals)
    short = to_tolerance(rough, CastSettings(), Tolerance(0.05), limit=8)
    assert not short.report.met
    assert "was not met" in short.words
    assert "up to 8 × 8" in short.words
    assert max(c.nu for c in short.candidates) <= 8


def test_to_tolerance_stops_at_once_and_keeps_the_best() -> None:
    calls = []

    def progress(_fraction: float, _words: str) -> None:
        calls.append(1)
        if len(calls) > 5:
            raise Cancelled

    found = to_tolerance(
        height_field(3000, 0.01), CastSettings(), Tolerance(0.012), progress=progress
    )
    assert found.cancelled
    assert found.report is None
    assert "Stopped" in found.words
    # What is made by its settings is as near as the best that was seen.
    best = min(c.deviation(0.95) for c in found.candidates)
    made = cast(height_field(3000, 0.01), found.settings)
    assert judge(made.feet.signed, Tolerance(0.012)).at_share <= 1.1 * best


@pytest.mark.parametrize("knots", ["even", "adaptive"])
def test_where_a_fit_fails_on_the_way_the_best_so_far_is_kept(knots: KnotRule) -> None:
    sample, tolerance = height_field(3000, 0.01), Tolerance(0.024)
    seen: list[float] = []

    def found(candidate: Candidate) -> None:
        seen.append(candidate.deviation(0.95))
        if len(seen) == 1:
            raise FitError("the points leave some control points open")

    made = to_tolerance(sample, CastSettings(knots=knots), tolerance, found=found)
    assert made.report is not None
    assert not made.report.met
    assert "was not met" in made.words
    assert made.report.at_share <= 1.1 * min(seen)


def test_figures_of_deviation() -> None:
    signed = np.array([-0.3, -0.02, 0.01, 0.04, 0.05])
    report = judge(signed, Tolerance(0.04, 0.5))
    assert report.within_share == pytest.approx(0.6)
    assert report.met
    assert report.max == pytest.approx(0.3)
    assert report.rms == pytest.approx(np.sqrt(np.mean(signed**2)))
    assert at_share(distance_levels(signed), 0.5) == pytest.approx(report.at_share)
    assert Tolerance(0.05, 0.95).noise_floor(0.02) == pytest.approx(0.0392, abs=1e-4)
    for tolerance, share in ((0, 0.9), (-1, 0.9), (np.nan, 0.9), (0.1, 0), (0.1, 1.2)):
        with pytest.raises(ToleranceError):
            Tolerance(tolerance, share)


@pytest.mark.parametrize(("seed", "closed"), [(0, ""), (1, ""), (2, ""), (3, "u"), (4, "u")])
def test_knots_find_those_of_the_surface_that_the_points_are_of(seed: int, closed: str) -> None:
    random = np.random.default_rng(seed)
    true = clamped([0.3, 0.42, 0.8], 3), clamped([0.55], 3)
    x, y = np.meshgrid(*(greville(knots, 3) for knots in true), indexing="ij")
    net = np.stack([80 * x, 40 * y, random.normal(0, 4, x.shape)], axis=2)
    if closed:
        net = np.einsum("ij,jkl->ikl", seamless(true[0], 3), net[:4])
    u, v = random.random((2, 4000))
    points = surface_points(BSplineSurface(*true, net), u, v)
    near = neighbours_of(points)
    start = Start(u, v, np.ones(len(u)))
    laid = Laid(points, start, 1e-12, (80.0, 40.0), 1e-6, near, fixed=True)
    begun = laid.fitted(Space(clamped([0.25, 0.5, 0.72], 3), clamped([0.45], 3), 3, 3, closed))
    _, made = eased(laid, begun, "uv", lambda _direction: None)
    assert np.allclose(made.space.knots_u, true[0], atol=1e-6)
    assert np.allclose(made.space.knots_v, true[1], atol=1e-6)
    assert begun.square > 1e-3
    assert made.square < 1e-12
    # What is kept stays, and a direction that is not asked for too.
    _, made = eased(laid, begun, "u", lambda _direction: np.array([0.5]))
    inner = made.space.knots_u[4:-4]
    assert inner[1] == 0.5
    assert made.space.knots_v[4] == 0.45
    assert made.square < begun.square
