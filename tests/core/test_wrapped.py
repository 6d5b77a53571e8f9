"""Regions that wrap: laid flat by their mesh, closed without a seam, and what cannot be."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.true_shapes import Inside, TrueShape
from usual_clay.cli.codes import BAD_INPUT, MET
from usual_clay.cli.main import main
from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.cast import cast
from usual_clay.core.fit.parameterize.lay import FoldsOverError
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.budget import to_tolerance
from usual_clay.core.fit.solve.system import seamless
from usual_clay.core.scan.flat_maps import FlatError
from usual_clay.core.scan.lay_flat import lay_out_flat
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample, sample_of_points
from usual_clay.core.spline.basis import collocation, even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, runs_round, surface_derivatives
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.files.exchange import read_exchange
from usual_clay.files.mesh_file import write_mesh

NOISE = 0.02


def tube(turn: float = 2 * np.pi, along: int = 120) -> TriangleMesh:
    """A bent, uneven tube with noise, once round or less."""
    count = 140
    closed = turn >= 2 * np.pi
    s = np.linspace(0, 1, along)[:, None]
    a = (np.linspace(0, turn, count, endpoint=not closed))[None]
    radius = 8 + 2 * np.sin(4 * s) + 0.8 * np.cos(2 * a)
    points = np.stack(
        [60 * s + 0 * a, radius * np.cos(a) + 6 * np.sin(2 * s), 0.8 * radius * np.sin(a)], axis=2
    ).reshape(-1, 3)
    triangles = grid_triangles(along, count)
    if closed:
        last = np.arange(along - 1) * count + count - 1
        first = np.arange(along - 1) * count
        seam = [
            np.stack([last, last + count, first + count], axis=1),
            np.stack([last, first + count, first], axis=1),
        ]
        triangles = np.concatenate([triangles, *seam])
    used, triangles = np.unique(triangles, return_inverse=True)
    random = np.random.default_rng(1)
    noisy = points[used] + random.normal(0, NOISE, (len(used), 3))
    return TriangleMesh(noisy, triangles.reshape(-1, 3)[:, ::-1])


def sample_of(mesh: TriangleMesh) -> Sample:
    return Sample(mesh.vertices, mesh.vertex_normals, mesh.triangles)


SETTINGS = CastSettings(nu=12, nv=14, reach=0.02, smoothness=0.1)


def test_a_region_of_a_full_turn_is_closed_without_a_seam() -> None:
    sample = sample_of(tube())
    made = cast(sample, SETTINGS)
    assert np.quantile(np.abs(made.feet.signed), 0.95) < 2.4 * NOISE
    at = np.linspace(0, 1, 9)
    ends = [surface_derivatives(made.surface, at, np.full(9, v), 2) for v in (0.0, 1.0)]
    size = np.abs(ends[0]).max(axis=(1, 2), keepdims=True)
    assert np.abs((ends[0] - ends[1]) / size).max() < 1e-9
    turned = cast(sample, replace(SETTINGS, nu=14, nv=12, closed="u"))
    assert np.abs(turned.surface.points[0] - turned.surface.points[-1]).max() < 1e-9
    # Both ways round are one surface.
    assert np.quantile(np.abs(turned.feet.signed), 0.95) == pytest.approx(
        np.quantile(np.abs(made.feet.signed), 0.95), rel=0.05
    )
    lean = to_tolerance(sample, SETTINGS, Tolerance(0.05))
    assert lean.report.met
    assert lean.settings.nu * lean.settings.nv <= 80


def test_periodic_control_points_give_all_clamped_ones() -> None:
    knots = np.sort(np.concatenate([even_knots(9, 3), [0.07]]))
    spread = seamless(knots, 3)
    assert spread.shape == (10, 7)
    assert spread.sum(axis=1) == pytest.approx(1)
    values = np.random.default_rng(0).normal(size=7)
    for order in range(3):
        first, last = collocation(knots, 3, np.array([0.0, 1.0]), order) @ (spread @ values)
        assert first == pytest.approx(last, abs=1e-9 * 10**order)


def test_part_of_a_turn_is_laid_flat_by_its_mesh() -> None:
    mesh = tube(1.4 * np.pi)
    made = cast(sample_of(mesh), replace(SETTINGS, nu=14))
    assert np.quantile(np.abs(made.feet.signed), 0.95) < 2.4 * NOISE
    flat = lay_out_flat(mesh.vertices, mesh.triangles, "sheet")
    # Little distortion: edges keep their lengths but for what bends two ways.
    ends = mesh.edges
    own = np.linalg.norm(mesh.vertices[ends[:, 0]] - mesh.vertices[ends[:, 1]], axis=1)
    laid = np.linalg.norm(flat.places[ends[:, 0]] - flat.places[ends[:, 1]], axis=1)
    assert np.quantile(laid / own, 0.05) > 0.6
    assert np.quantile(laid / own, 0.95) < 1.6


RADIUS = 8.0


def rolled(inside: Inside, half: float = 2.5, outliers: float = 0.0) -> TrueShape:
    """A part of a cylinder that nearly closes, its points anywhere, 26 mm long."""

    def place(a: Floats, b: Floats) -> Floats:
        return np.stack([a, RADIUS * np.sin(b / RADIUS), RADIUS * np.cos(b / RADIUS)], axis=1)

    box = (-13.0, 13.0, -half * RADIUS, half * RADIUS)
    return TrueShape("rolled", place, box, inside, 0.015, 0.05, outliers)


def test_a_rolled_l_of_scattered_points_is_laid_flat_with_its_lengths() -> None:
    shape = rolled(lambda a, b: ~((a > 0) & (b > 0)), outliers=0.01)
    for seed in (1,):
        sample = shape.sample(6000, seed)
        mesh = TriangleMesh(sample.points, sample.triangles)
        calm = np.setdiff1d(np.arange(len(sample.points)), np.flatnonzero(mesh.spikes))
        places = sample.sheet.places
        ends = mesh.edges[np.isin(mesh.edges, calm).all(axis=1)]
        own, laid = (
            np.linalg.norm(at[ends[:, 0]] - at[ends[:, 1]], axis=1)
            for at in (sample.points, places)
        )
        low, high = np.quantile(laid / own, [0.1, 0.9])
        assert 0.85 < low < high < 1.15
        lean = to_tolerance(sample, CastSettings(knots="adaptive"), Tolerance(0.05))
        assert lean.report.met
        assert lean.settings.nu * lean.settings.nv <= 24


def test_a_rolled_sheet_with_a_window_does_not_run_round() -> None:
    window = rolled(lambda a, b: np.hypot(a, b) > 9.0).sample(6000)
    assert not window.runs_round
    assert sample_of(tube()).runs_round
    lean = to_tolerance(window, CastSettings(knots="adaptive"), Tolerance(0.05))
    assert lean.report.met
    assert lean.settings.nu * lean.settings.nv <= 24


def test_what_cannot_close_or_be_laid_flat_is_told() -> None:
    closed = replace(SETTINGS, closed="v")
    with pytest.raises(FitError, match="does not run round: it has one border"):
        cast(sample_of(tube(1.4 * np.pi)), closed)
    with pytest.raises(FitError, match="needs at least 6 control points"):
        cast(sample_of(tube()), replace(closed, nv=5))
    with pytest.raises(FitError, match="not made symmetric"):
        replace(closed, symmetric="y")
    loose = Sample(tube().vertices, tube().vertex_normals)
    with pytest.raises(FitError, match="loose points"):
        cast(loose, closed)
    with pytest.raises(FoldsOverError):
        cast(loose, SETTINGS)


def without(mesh: TriangleMesh, gone: Bools) -> TriangleMesh:
    """Return a mesh without some of its triangles."""
    used, triangles = np.unique(mesh.triangles[~gone], return_inverse=True)
    return TriangleMesh(mesh.vertices[used], triangles.reshape(-1, 3))


def test_what_is_missing_keeps_no_tube_from_closing() -> None:
    """Holes, bands that a scanner did not see, and triangles that rounding has made slivers."""
    whole = tube()
    middle = whole.vertices[whole.triangles].mean(axis=1)
    random = np.random.default_rng(3)
    away = np.min(
        [np.linalg.norm(middle - whole.vertices[random.integers(len(whole.vertices))], axis=1)
         for _ in range(12)], axis=0,
    )  # fmt: skip
    rounded = TriangleMesh(np.round(whole.vertices / 0.04) * 0.04, whole.triangles)
    for mesh in (without(whole, away < 2.5), rounded):
        sample = sample_of(mesh)
        assert sample.runs_round
        near(cast(sample, CastSettings(12, 10)).surface, whole)
    sample = sample_of(without(whole, middle[:, 0] % 6.0 > 4.0))
    assert sample.runs_round
    lean = to_tolerance(sample, CastSettings(knots="adaptive"), Tolerance(3 * NOISE))
    assert lean.report.met
    assert lean.settings.nu * lean.settings.nv <= 70
    near(lean.made.surface, whole)


def near(surface: BSplineSurface, whole: TriangleMesh) -> None:
    """Assert that a surface lies along all of a tube, also where its scan has holes."""
    assert any(runs_round(surface, 1e-9))
    assert np.quantile(np.abs(foot_points(surface, whole.vertices).signed), 0.95) < 3 * NOISE


def on_the_tube(s: Floats, a: Floats) -> Floats:
    """Return places of the tube, (..., 3)."""
    radius = 8 + 2 * np.sin(4 * s) + 0.8 * np.cos(2 * a)
    parts = 60 * s, radius * np.cos(a) + 6 * np.sin(2 * s), 0.8 * radius * np.sin(a)
    return np.stack(np.broadcast_arrays(*parts), axis=-1).reshape(-1, 3)


@pytest.mark.parametrize("lie", ["anywhere", "in rings", "in lines along it", "with spikes"])
def test_loose_points_that_wrap_are_laid_flat_and_closed(lie: str) -> None:
    """Which side is out goes from each to those about it, also across rows that lie apart."""
    random = np.random.default_rng(4)
    s, a = random.random(6000), random.uniform(0, 2 * np.pi, 6000)
    if lie == "in rings":
        s, a = np.linspace(0, 1, 24)[:, None], np.linspace(0, 2 * np.pi, 200, endpoint=False)
    elif lie == "in lines along it":
        s, a = np.linspace(0, 1, 300)[:, None], np.linspace(0, 2 * np.pi, 24, endpoint=False)
    points = on_the_tube(s, a)
    points += random.normal(0, 0.01, points.shape)
    middle = np.stack([points[:, 0], 6 * np.sin(points[:, 0] / 30), 0 * points[:, 0]], axis=1)
    out = points - middle
    if lie == "with spikes":
        spikes = random.random(len(points)) < 0.05
        points[spikes] += random.normal(0, 1.5, (int(spikes.sum()), 3))
    sample = sample_of_points(points)
    outward = np.einsum("nk,nk->n", sample.normals, out) > 0
    assert max(outward.mean(), 1 - outward.mean()) > (0.95 if lie == "with spikes" else 0.999)
    lean = to_tolerance(sample, CastSettings(knots="adaptive"), Tolerance(0.06, 0.9))
    assert lean.report.met
    assert lean.settings.nu * lean.settings.nv <= 45
    ends = lean.made.surface.points[:, [0, -1]]
    assert np.abs(ends[:, 0] - ends[:, 1]).max() < 1e-9
    clean = on_the_tube(np.linspace(0.02, 0.98, 90)[:, None], np.linspace(0, 6.28, 90))
    assert np.quantile(np.abs(foot_points(lean.made.surface, clean).signed), 0.95) < 0.07


def test_of_a_few_points_of_a_row_or_of_one_far_off_no_side_is_told() -> None:
    random = np.random.default_rng(0)
    for count in (1, 2, 9, 150):
        sample = sample_of_points(random.uniform(0, 9, (count, 3)))
        assert not sample.alike
        with pytest.raises(FitError):
            cast(sample, CastSettings(12, 13))
    assert not sample_of_points(np.ones((500, 3))).alike
    far = np.concatenate([random.uniform(0, 1, (5000, 2)), [[1e7, 0.0]]])
    assert not sample_of_points(np.column_stack([far, np.zeros(5001)])).hangs_together
    loose = Sample(far[:, [0, 1, 1]], np.ones((5001, 3)), np.zeros((0, 3), dtype=int))
    assert not loose.runs_round


def test_pieces_of_a_sheet_are_laid_flat_together() -> None:
    mesh = tube(1.4 * np.pi)
    bands = without(mesh, mesh.vertices[mesh.triangles].mean(axis=1)[:, 0] % 6.0 > 4.0)
    flat = lay_out_flat(bands.vertices, bands.triangles, "sheet")
    ends = bands.edges
    own = np.linalg.norm(bands.vertices[ends[:, 0]] - bands.vertices[ends[:, 1]], axis=1)
    laid = np.linalg.norm(flat.places[ends[:, 0]] - flat.places[ends[:, 1]], axis=1)
    low, high = np.quantile(laid / own, [0.1, 0.9])
    assert 0.6 < low < high < 1.6
    far = TriangleMesh(
        np.concatenate([mesh.vertices, mesh.vertices + np.array([300.0, 0, 0])]),
        np.concatenate([mesh.triangles, mesh.triangles + len(mesh.vertices)]),
    )
    with pytest.raises(FlatError, match="pieces too far apart"):
        lay_out_flat(far.vertices, far.triangles, "sheet")


def test_the_command_line_closes_a_wrapped_scan_and_takes_borders(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    scan, out, report = tmp_path / "tube.ply", tmp_path / "tube.step", tmp_path / "tube.json"
    write_mesh(scan, tube().vertices, tube().triangles)
    usual = ["fit", str(scan), "--tolerance", "0.05", "--out", str(out), "--report", str(report)]
    assert main([*usual, "--reach", "2", "--smooth", "0.1", "--controls", "10x14"]) == MET
    told = json.loads(report.read_text())
    assert "closed in v" in told["method"]
    (surface,) = read_exchange(out)
    assert list(surface.counts) == told["control_points"]
    assert np.abs(surface.points[:, 0] - surface.points[:, -1]).max() < 1e-6
    away = foot_points(surface, tube().vertices).signed
    assert np.quantile(np.abs(away), 0.95) == pytest.approx(told["p95"], rel=0.02)
    from tests.core.test_patch import LEFT, field
    from usual_clay.files.step_out import write_exchange

    borders = tmp_path / "borders.step"
    write_exchange(borders, [(f"border {k}", curve) for k, curve in enumerate(LEFT)])
    write_mesh(scan, field().vertices, field().triangles)
    assert (
        main([*usual, "--borders", str(borders), "--knots", "adaptive", "--smooth", "0.1"]) == MET
    )
    told = json.loads(report.read_text())
    assert told["method"].startswith("four-corner patch")
    assert told["p95"] <= 0.05
    capsys.readouterr()
    assert main([*usual, "--borders", str(borders), "--closed", "v"]) == BAD_INPUT
    assert "does not close" in capsys.readouterr().err


def test_where_the_conformal_map_fails_another_is_found_or_it_is_told(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    mesh = tube(1.2 * np.pi, along=60)

    def fails(*_: object) -> None:
        raise RuntimeError("lscm failed")

    monkeypatch.setattr("igl.lscm", fails)
    flat = lay_out_flat(mesh.vertices, mesh.triangles, "sheet").places
    # Nothing folds: every triangle keeps its sense.
    a, b, c = (flat[mesh.triangles[:, k]] for k in range(3))
    sense = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
    assert (sense > 0).mean() > 0.999
    monkeypatch.setattr("igl.map_vertices_to_circle", fails)
    with pytest.raises(FlatError, match="mend the scan first"):
        lay_out_flat(mesh.vertices, mesh.triangles, "sheet")
    with pytest.raises(FitError, match="mend the scan first"):
        cast(sample_of(mesh), SETTINGS)
