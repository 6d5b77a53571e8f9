"""The leanest surface: adaptive knots, the front and its knee, fairness."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.shapes import height_field
from usual_clay.cli.main import main
from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import LEVELS, Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.cast import cast, fit_once
from usual_clay.core.fit.parameterize.frame import FrameError
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.price import price_of_cast
from usual_clay.core.fit.search.budget import to_tolerance
from usual_clay.core.fit.search.candidates import Candidate, knee_of, pareto_front
from usual_clay.core.fit.search.fairness import Calm, bending_energy, fairness_of, inflections_of
from usual_clay.core.fit.search.front import front
from usual_clay.core.fit.solve.slide import PLACES, Pulls, Start, fit_sliding, pulled, pulls_of
from usual_clay.core.fit.solve.system import Space, seamless, stiffness_of
from usual_clay.core.scan.sample import Sample, sample_of_points
from usual_clay.core.spline.basis import collocation, even_knots, gram
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    surface_derivatives,
    surface_grid,
    surface_normals,
    surface_points,
)
from usual_clay.files.mesh_file import write_mesh

NOISE = 0.012


def height(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """A gentle field with one narrow ridge across it."""
    return 3 * np.sin(x / 40) + 1.5 * (y / 50) ** 2 + 1.2 * np.exp(-(((x - 70) / 5.8) ** 2))


def ridge(count: int = 24_000, seed: int = 0) -> Sample:
    random = np.random.default_rng(seed)
    x, y = random.uniform(0, 120, count), random.uniform(0, 50, count)
    points = np.stack([x, y, height(x, y)], axis=1) + random.normal(0, NOISE, (count, 3))
    return Sample(points, np.tile([0.0, 0, 1], (count, 1)))


def test_a_narrow_ridge_takes_few_control_points() -> None:
    sample, tolerance = ridge(), Tolerance(0.03, 0.95)
    settings = CastSettings(reach=0.05, smoothness=0.1)
    seen: list[Candidate] = []
    even = to_tolerance(sample, settings, tolerance)
    lean = to_tolerance(sample, replace(settings, knots="adaptive"), tolerance, found=seen.append)
    assert even.report.met
    assert lean.report.met
    totals = [found.settings.nu * found.settings.nv for found in (even, lean)]
    # Held to their parameters, points took 104 with even knots, and 52 with adaptive ones; free to
    # crowd parameter lines at the ridge, even ones took 52, but other shapes folded.
    assert totals[0] <= 60
    assert totals[1] <= totals[0]
    # Knots gather at the ridge, and nowhere else.
    knots = lean.cast.surface.knots_u[4:-4]
    lines = surface_grid(lean.cast.surface, knots, np.array([0.5]))[:, 0, 0]
    assert np.mean(np.abs(lines - 70) < 16) > 0.6
    # Judged by the truth, not by the noisy points.
    grid = lean.cast.surface
    inside = surface_grid(grid, np.linspace(0.03, 0.97, 120), np.linspace(0.04, 0.96, 40))
    x, y, z = inside.reshape(-1, 3).T
    assert np.quantile(np.abs(z - height(x, y)), 0.95) < 0.03
    assert inflections_of(grid) < 4
    assert len(seen) > 5
    front = pareto_front(lean.candidates, tolerance.share)
    assert [c.total for c in front] == sorted(c.total for c in front)
    # Adaptive in one direction alone finds the same ridge.
    mixed = cast(sample, replace(settings, nu=12, nv=4, knots="adaptive u"))
    assert np.quantile(np.abs(mixed.feet.signed), 0.95) < 0.05
    assert mixed.surface.knots_v == pytest.approx(even_knots(4, 3))
    with pytest.raises(FitError, match="knots must be even"):
        CastSettings(knots="odd")


def test_ridges_that_cross_and_waves_take_few_control_points_too() -> None:
    random = np.random.default_rng(1)
    x, y = random.uniform(0, 120, 24_000), random.uniform(0, 50, 24_000)
    crossed = height(x, y) - 0.8 * np.exp(-(((y - 20) / 5) ** 2))
    waves = 4 * np.sin(x / 12) * np.cos(y / 14)
    settings = CastSettings(reach=0.05)
    cases = (
        (crossed, "adaptive", 90),
        (waves, "even", 45),
    )
    # Before points that lie far off were held, waves took 50 to 95, and the crossed ridges 110 or
    # more; and surfaces slid so far that some points were lost, and others far from the ends.
    for z, knots, most in cases:
        points = np.stack([x, y, z], axis=1) + random.normal(0, NOISE, (len(x), 3))
        sample = Sample(points, np.tile([0.0, 0, 1], (len(x), 1)))
        found = to_tolerance(sample, replace(settings, knots=knots), Tolerance(0.03, 0.95))
        assert found.report.met
        assert found.settings.nu * found.settings.nv <= most
        assert np.abs(found.cast.feet.signed).max() < 0.15
        grid = surface_grid(found.cast.surface, np.linspace(0, 1, 40), np.linspace(0, 1, 40))
        assert (grid.min(axis=(0, 1)) > [-10, -10, -9]).all()
        assert (grid.max(axis=(0, 1)) < [130, 60, 9]).all()


def test_noise_is_known_and_going_below_it_is_said() -> None:
    sample = ridge()
    assert sample.noise == pytest.approx(NOISE, rel=0.15)
    found = to_tolerance(
        sample,
        CastSettings(reach=0.05, smoothness=0.1, knots="adaptive"),
        Tolerance(0.012, 0.95),
        24,
    )
    assert not found.report.met
    assert "below the scan's noise" in found.words


def test_the_knee_is_where_points_begin_to_buy_little() -> None:
    def candidate(total: int, deviation: float) -> Candidate:
        return Candidate(total, 1, np.full(len(LEVELS), deviation))

    front = [
        candidate(n, d) for n, d in ((16, 1.0), (24, 0.3), (40, 0.05), (80, 0.04), (160, 0.035))
    ]
    knee = knee_of(front, 0.95)
    assert knee is not None
    assert knee.total == 40
    assert knee_of(front[:2], 0.95) is None


def test_fairness_tells_a_calm_surface_from_a_wiggly_one() -> None:
    sample = height_field(8000, noise=0.01)
    calm = cast(sample, CastSettings(nu=6, nv=6, reach=0.1))
    rich = cast(sample, CastSettings(nu=32, nv=32, reach=0.1, smoothness=0.0))
    settings = CastSettings(nu=6, nv=6, reach=0.1)
    base = parameterize(sample, settings)
    told = [
        fairness_of(sample, base, settings, made.surface, made.feet.signed, Tolerance())
        for made in (calm, rich)
    ]
    assert told[0].energy < 0.5 * told[1].energy
    # Of a surface that copies noise, nothing calmer lies as near.
    assert told[0].times is not None
    assert 1 <= told[0].times < 1.5
    assert told[1].times is None or told[1].times < told[1].energy / told[0].energy
    assert told[0].inflections < told[1].inflections
    # The energy of a parabola is a closed form: |zxx|^2 over the base.
    knots = even_knots(6, 3)
    base = replace(parameterize(sample, CastSettings()), size=(60.0, 30.0))
    from usual_clay.core.fit.solve.system import Space, fit_control_points

    u, v = np.random.default_rng(0).random((2, 4000))
    points = np.stack([60 * u, 30 * v, 0.01 * (60 * u) ** 2], axis=1)
    control = fit_control_points(Space(knots, knots, 3, 3), u, v, points)
    parabola = BSplineSurface(knots, knots, control)
    assert bending_energy(parabola, base) == pytest.approx(0.02**2 * 60 * 30, rel=1e-6)


def test_the_command_line_writes_front_fairness_and_knots(tmp_path: Path) -> None:
    x, y = np.meshgrid(np.linspace(0, 120, 160), np.linspace(0, 50, 70), indexing="ij")
    from usual_clay.core.spline.tessellate import grid_triangles

    vertices = np.stack([x, y, height(x, y)], axis=2).reshape(-1, 3)
    vertices += np.random.default_rng(0).normal(0, 0.005, vertices.shape)
    write_mesh(tmp_path / "ridge.ply", vertices, grid_triangles(160, 70))
    done = main(
        [
            "fit",
            str(tmp_path / "ridge.ply"),
            "--tolerance",
            "0.03",
            "--knots",
            "adaptive",
            "--reach",
            "5",
            "--out",
            str(tmp_path / "a.step"),
            "--report",
            str(tmp_path / "a.json"),
            "--front",
            str(tmp_path / "front.csv"),
        ]
    )
    assert done == 0
    told = json.loads((tmp_path / "a.json").read_text())
    assert told["total"] <= 60
    assert len(told["knots"]["u"]) == told["control_points"][0] + 4
    assert told["fairness"]["energy"] > 0
    assert "adaptive" in told["method"]
    head, *rows = (tmp_path / "front.csv").read_text().splitlines()
    assert head.startswith("control points,nu,nv,deviation")
    assert sum(int(row.split(",")[4]) for row in rows) == 1
    totals = [int(row.split(",")[0]) for row in rows]
    assert totals == sorted(totals)
    assert (
        main(
            [
                "fit",
                str(tmp_path / "ridge.ply"),
                "--tolerance",
                "0.03",
                "--controls",
                "8x6",
                "--out",
                str(tmp_path / "a.step"),
                "--front",
                str(tmp_path / "front.csv"),
            ]
        )
        == 2
    )


def test_a_symmetric_cast_has_a_symmetric_net_and_uses_both_halves() -> None:
    random = np.random.default_rng(3)
    x, y = random.uniform(0, 60, 9000), random.uniform(-15, 15, 9000)
    z = 4 * np.cos(y / 12) * np.sin(x / 25 + 0.4)
    points = np.stack([x, y, z], axis=1) + random.normal(0, 0.01, (9000, 3))
    sample = Sample(points, np.tile([0.0, 0, 1], (9000, 1)))
    for knots in ("even", "adaptive"):
        settings = CastSettings(nu=8, nv=7, reach=0.1, symmetric="y", knots=knots)
        made = cast(sample, settings)
        net = made.surface.points
        assert net[:, ::-1] == pytest.approx(net * [1, -1, 1], abs=1e-12)
        assert made.surface.knots_v == pytest.approx(1 - made.surface.knots_v[::-1])
        assert len(made.feet.signed) == len(points)
        assert np.quantile(np.abs(made.feet.signed), 0.95) < 0.03
    found = to_tolerance(sample, CastSettings(reach=0.1, symmetric="y"), Tolerance(0.03))
    assert found.report.met
    # A shape that is not symmetric pays for it, in deviation that is told.
    lop = Sample(points + np.outer(0.01 * y, [0, 0, 1]), sample.normals)
    worse = cast(lop, CastSettings(nu=8, nv=7, reach=0.1, symmetric="y"))
    assert np.quantile(np.abs(worse.feet.signed), 0.95) > 0.1
    turn = np.array([[0.8, -0.6, 0], [0.6, 0.8, 0], [0, 0, 1]])
    with pytest.raises(FitError, match="not laid square to the plane y = 0"):
        cast(Sample(points @ turn.T, sample.normals), CastSettings(nu=8, nv=7, symmetric="y"))


# ---- robust, and what is told ----------------------------------------------------------------


def test_spikes_and_holes_hardly_harm_the_shape() -> None:
    """1 % spikes of up to 2 mm and three holes: at most 1.15 times the clean data's rms."""
    random = np.random.default_rng(5)
    clean = ridge(20_000)
    points = clean.points.copy()
    spikes = random.choice(len(points), len(points) // 100, replace=False)
    points[spikes, 2] += random.uniform(0.3, 2.0, len(spikes)) * random.choice([-1, 1], len(spikes))
    holes = ((30.0, 20.0, 5.0), (72.0, 34.0, 5.0), (100.0, 12.0, 5.0))
    kept = np.ones(len(points), dtype=bool)
    for x, y, radius in holes:
        kept &= np.hypot(points[:, 0] - x, points[:, 1] - y) > radius
    # A ragged border besides.
    kept &= points[:, 0] > 1.5 + 1.2 * np.sin(3 * points[:, 1])
    harmed = Sample(points[kept], clean.normals[kept])
    settings = CastSettings(nu=24, nv=8, reach=0.05)
    off = [rms_to_truth(cast(each, settings).surface) for each in (clean, harmed)]
    # Rich enough that what is off is noise, to which a harmed region then adds little.
    assert off[0] < 0.25 * NOISE
    assert off[1] <= 1.15 * off[0]


def rms_to_truth(surface: BSplineSurface) -> float:
    inside = surface_grid(surface, np.linspace(0.04, 0.96, 150), np.linspace(0.05, 0.95, 60))
    x, y, z = inside.reshape(-1, 3).T
    return float(np.sqrt(np.mean((z - height(x, y)) ** 2)))


def test_symmetry_that_the_shape_does_not_share_has_its_cost_told() -> None:
    random = np.random.default_rng(0)
    x, y = random.uniform(-30, 30, 6000), random.uniform(-15, 15, 6000)
    up = np.tile([0.0, 0, 1], (6000, 1))
    settings = CastSettings(nu=8, nv=6, reach=0.1, smoothness=0.1, frame="axes", symmetric="y")
    costs = []
    for tilt in (0.0, 0.02):
        z = 2 * np.cos(x / 15) + 0.01 * y**2 + tilt * y
        z = z + random.normal(0, 0.01, 6000)
        sample = Sample(np.stack([x, y, z], axis=1), up)
        words = price_of_cast(sample, settings, cast(sample, settings).feet.signed)
        assert words.startswith("symmetry costs")
        costs.append(float(words.split("costs ")[1].split(" mm")[0]))
    assert costs[0] < 0.002
    assert price_of_cast(sample, replace(settings, symmetric=""), np.zeros(6000)) == ""
    # 0.02 mm for each mm of width cannot be had on both sides.
    assert costs[1] == pytest.approx(0.02 * 15 * 0.95 - 0.02, rel=0.1)


def test_a_line_and_what_is_no_number_are_refused() -> None:
    at = np.linspace(0, 50, 400)
    line = np.stack([at, 0.2 * at, 0 * at], axis=1)
    with pytest.raises(FrameError, match="a line"):
        cast(Sample(line, np.tile([0.0, 0, 1], (400, 1))), CastSettings(nu=4, nv=4))
    points = np.zeros((2_000_000, 3))
    points[[7, 1_999_999], 1] = np.nan
    with pytest.raises(FitError, match=r"2 of 2000000 points .*the first is point 8"):
        Sample(points, points)
    with pytest.raises(FitError, match="no finite numbers"):
        sample_of_points(points[-50:])


def test_points_that_slide_come_to_rest_far_sooner_and_nearer() -> None:
    """Against points that are held to their feet in each fit, over as many rounds."""
    sample = ridge(8000)
    settings = CastSettings(nu=14, nv=6, reach=0.05)
    base, off = parameterize(sample, settings), {}
    stiffness, space = stiffness_of(settings.smoothness, base.size), base.start_space(settings)
    for slides in (True, False):
        now = Start(base.u, base.v, np.ones(len(sample.points)))
        for _ in range(6):
            surface, feet = fit_once(sample, base, space, stiffness, now)
            now = Start(feet.u, feet.v, now.weights, surface if slides else None)
        off[slides] = rms_to_truth(surface)
    assert off[True] < 0.5 * off[False]
    # Both come to rest at the same place: from there, holding them moves nothing much.
    rested = cast(sample, settings)
    held = Start(rested.feet.u, rested.feet.v, rested.weights)
    again, _ = fit_once(sample, base, space, stiffness, held)
    grid = np.linspace(0.02, 0.98, 30)
    apart = foot_points(rested.surface, surface_grid(again, grid, grid).reshape(-1, 3)).signed
    assert np.sqrt(np.mean(apart**2)) < 0.5 * NOISE


def _gauss_nodes(
    surface: BSplineSurface, size: tuple[float, float]
) -> tuple[tuple[Floats, Floats], tuple[Floats, Floats], Floats]:
    """Three nodes in each span each way: parameters, tangents, and weights over the base."""
    nodes, weights = np.polynomial.legendre.leggauss(3)
    every = []
    for knots in (surface.knots_u, surface.knots_v):
        breaks = np.unique(knots)
        half = np.diff(breaks)[:, None] / 2
        every.append(((breaks[:-1, None] + half * (1 + nodes)).ravel(), (half * weights).ravel()))
    (u, by_u), (v, by_v) = every
    u, v = (part.ravel() for part in np.meshgrid(u, v, indexing="ij"))
    _, su, sv = surface_derivatives(surface, u, v, 1)
    return (u, v), (su.T, sv.T), size[0] * size[1] * np.outer(by_u, by_v).ravel()


@pytest.mark.parametrize("closed", ["", "v"])
def test_a_sliding_fit_is_that_of_its_dense_equations(closed: str) -> None:
    random = np.random.default_rng(4)
    knots = even_knots(7, 3), even_knots(9, 3)
    space = Space(*knots, 3, 3, closed)
    u, v = random.random((2, 900))
    points, weights = random.normal(size=(900, 3)), random.uniform(0.2, 1, 900)
    halves = random.normal(size=(900, 3, 3))
    matrices = halves @ halves.transpose(0, 2, 1)
    pulls = np.stack([matrices[:, i, j] for i, j in PLACES])
    near = BSplineSurface(*knots, random.normal(size=(7, 9, 3)))
    stiffness, calm = 1e-3, 2e-3
    made = fit_sliding(
        space, u, v, Pulls(pulls, points, near, calm), weights, stiffness, (2.0, 3.0)
    )
    rows = np.einsum("ni,nj->nij", collocation(knots[0], 3, u), collocation(knots[1], 3, v))
    rows = rows.reshape(900, -1)
    if closed:
        rows = rows @ np.kron(np.eye(7), seamless(knots[1], 3))
    sizes = zip(knots, (2.0, 3.0), strict=True)
    grams = [[gram(k, 3, d) * s ** (1 - 2 * d) for d in range(3)] for k, s in sizes]
    energy = sum(f * np.kron(grams[0][a], grams[1][2 - a]) for a, f in ((2, 1), (1, 2), (0, 1)))
    if closed:
        net = np.kron(np.eye(7), seamless(knots[1], 3))
        energy = net.T @ energy @ net
    total = weights.sum()
    left = np.einsum("n,nij,na,nb->aibj", weights / total, matrices, rows, rows)
    at, (su, sv), by = _gauss_nodes(near, (2.0, 3.0))
    across = np.cross(su, sv)
    area = np.linalg.norm(across, axis=1)
    across /= area[:, None]
    along = np.eye(3) - across[:, :, None] * across[:, None]
    along *= (by * np.clip((area.mean() / area) ** 2, 1, 1e4))[:, None, None]
    for (a, b), factor in (((2, 0), 1), ((1, 1), 2), ((0, 2), 1)):
        derived = [
            collocation(k, 3, t, order) / size**order
            for k, t, order, size in zip(knots, at, (a, b), (2.0, 3.0), strict=True)
        ]
        bent = np.einsum("ni,nj->nij", *derived).reshape(len(by), -1)
        bent = bent @ net if closed else bent
        left += calm * factor * np.einsum("nij,na,nb->aibj", along, bent, bent)
    left += stiffness * np.einsum("ab,ij->aibj", energy, np.eye(3))
    right = np.einsum("n,nij,nj,na->ai", weights / total, matrices, points, rows)
    size = 3 * rows.shape[1]
    exact = np.linalg.solve(left.reshape(size, size), right.ravel()).reshape(-1, 3)
    if closed:
        exact = np.kron(np.eye(7), seamless(knots[1], 3)) @ exact
    assert made.reshape(-1, 3) == pytest.approx(exact, rel=1e-7, abs=1e-8)


def test_conditions_hold_exactly_and_say_what_they_cost() -> None:
    sample = ridge(6000)
    plain = CastSettings(nu=12, nv=6, reach=0.05)
    rules = ("straight", "free", "flat", "flat")
    edges = cast(sample, replace(plain, edges=rules))
    net = edges.surface.points
    for row, dimension in ((net[0], 1), (net[:, 0], 2), (net[:, -1], 2)):
        assert np.linalg.svd(row - row.mean(axis=0))[1][dimension:] == pytest.approx(0, abs=1e-9)
    held = replace(plain, edges=rules)
    assert price_of_cast(sample, held, edges.feet.signed).startswith("holding edges costs")
    pulled = cast(sample, replace(plain, pull="z", knots="adaptive"))
    # A height over the plane: nothing is undercut, and each control point stands over its place.
    at = np.linspace(0, 1, 60)
    u, v = (part.ravel() for part in np.meshgrid(at, at))
    assert (surface_normals(pulled.surface, u, v)[:, 2] > 0).all()
    assert np.ptp(pulled.surface.points[:, :, 0], axis=1) == pytest.approx(0, abs=1e-6)
    assert np.quantile(np.abs(pulled.feet.signed), 0.95) < 0.2
    free = replace(plain, pull="z", knots="adaptive")
    assert price_of_cast(sample, free, pulled.feet.signed).startswith("the pull costs")
    for fields, words in (
        ({"pull": "z", "closed": "u"}, "pulled off a mould"),
        ({"closed": "v", "edges": rules}, "has no edges there"),
        ({"edges": ("bent",) * 4}, "free, straight or flat"),
    ):
        with pytest.raises(FitError, match=words):
            replace(plain, **fields)


def test_the_front_runs_from_coarse_to_past_the_tolerance() -> None:
    sample, tolerance = ridge(12_000), Tolerance(0.04, 0.95)
    told: list[Candidate] = []
    made = front(sample, CastSettings(reach=0.05, knots="adaptive"), tolerance, found=told.append)
    line = pareto_front(made, tolerance.share)
    assert {(c.nu, c.nv) for c in told} == {(c.nu, c.nv) for c in made}
    assert line[0].total == 16
    assert line[0].deviation(0.95) > 5 * tolerance.deviation
    assert line[-1].deviation(0.95) < 0.75 * tolerance.deviation
    assert min(c.total for c in line if c.deviation(0.95) <= tolerance.deviation) <= 52


def test_fewer_control_points_are_not_bought_with_wiggles() -> None:
    sample = height_field(4000)
    settings = CastSettings(nu=8, nv=6, reach=0.02)
    base, made = parameterize(sample, settings), cast(sample, settings).surface
    calm = Calm.of(made, base)
    assert calm.allows(made, base)
    random = np.random.default_rng(2)
    for size, allowed in ((1e-4, True), (0.5, False)):
        net = made.points + random.normal(0, size, made.points.shape) * [0, 0, 1]
        assert calm.allows(replace(made, points=net), base) == allowed


def test_pulls_count_across_the_surface_and_all_ways_past_its_edge() -> None:
    made = cast(height_field(3000), CastSettings(nu=6, nv=6, reach=0.1)).surface
    u, v = np.array([0.3, 0.6, 0.0]), np.array([0.4, 0.5, 0.5])
    normal = surface_normals(made, u, v)
    points = surface_points(made, u, v) + 0.05 * normal
    start = Start(u, v, np.ones(3), made)
    pulls = pulls_of(start, points)
    assert pulls is not None
    across = np.cross(normal, [1.0, 0, 0])
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    assert pulled(pulls.matrix, normal) == pytest.approx(normal, abs=1e-12)
    share = np.linalg.norm(pulled(pulls.matrix, across), axis=1)
    assert (share[:2] < 0.1).all()
    assert share[2] == pytest.approx(1.0)
    assert pulls.aims == pytest.approx(points)
    # Nearer to the surface less of what lies along it counts, down to the least.
    on_it = surface_points(made, u, v)
    near = pulls_of(start, on_it, least=0.002)
    assert near is not None
    assert np.linalg.norm(pulled(near.matrix, across), axis=1)[:2] == pytest.approx(0.002)
    # What is to stay near a parameter asks for the surface there to come to it.
    home = np.stack([u, v + 0.01, 0 * u, [0.0, 1.0, 0.0]])
    held = pulls_of(start._replace(home=home), points, least=0.002)
    assert held is not None
    step = surface_points(made, u, v + 0.01) - on_it
    moved = held.aims[1] - points[1]
    assert moved @ step[1] < -0.3 * (step[1] @ step[1])
    assert np.linalg.norm(np.cross(moved, step[1])) < 0.05 * (step[1] @ step[1])
    assert held.aims[0] == pytest.approx(points[0])
