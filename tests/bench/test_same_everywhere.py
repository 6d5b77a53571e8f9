"""The window, `fit` and `make` give the identical surface for the same settings."""

from __future__ import annotations

import json
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.bench.hands import Hands
from usual_clay.bench.edits.casts import start_cast
from usual_clay.bench.edits.making import search, start_making
from usual_clay.bench.edits.scans import add_scan
from usual_clay.cli.main import main
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.deliver import write_item
from usual_clay.files.exchange import read_exchange
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.files.sources import take_for, with_region
from usual_clay.files.step_out import write_exchange
from usual_clay.job.edits import make
from usual_clay.job.items import Curve, Region, Scan, Surface


def sheet(nx: int, ny: int, half: bool = False) -> TriangleMesh:
    """A bent strip of known shape with noise; of a symmetric one the half with y above 0."""
    random = np.random.default_rng(3)
    x, y = np.meshgrid(np.linspace(0, 60, nx), np.linspace(0 if half else -15, 15, ny))
    z = 3 * np.cos(x / 14) - 0.012 * y**2 + random.normal(0, 0.01, x.shape)
    return grid_mesh(np.stack([x, y, z], axis=2), False)


def tube(around: int, along: int) -> TriangleMesh:
    """An egg-shaped tube with noise."""
    random = np.random.default_rng(4)
    t, x = np.meshgrid(np.linspace(0, 2 * np.pi, around, endpoint=False), np.linspace(0, 50, along))
    r = 8 + 1.5 * np.sin(x / 50 * np.pi) + 0.6 * np.cos(2 * t) + random.normal(0, 0.01, t.shape)
    return grid_mesh(np.stack([x, r * np.cos(t), 1.2 * r * np.sin(t)], axis=2), True)


def grid_mesh(places: np.ndarray, closed: bool) -> TriangleMesh:
    rows, columns = places.shape[:2]
    at = np.arange(rows * columns).reshape(rows, columns)
    if closed:
        at = np.concatenate([at, at[:, :1]], axis=1)
    a, b, c, d = (part.ravel() for part in (at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]))
    triangles = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    return TriangleMesh(places.reshape(-1, 3), triangles)


def save(path: Path, mesh: TriangleMesh) -> None:
    write_mesh(path, mesh.vertices, mesh.triangles)


def borders() -> list[BSplineCurve]:
    """Four curves round a part of the sheet, that meet at its corners."""

    def side(one: tuple[float, float], two: tuple[float, float]) -> BSplineCurve:
        share = np.linspace(0, 1, 7)[:, None]
        flat = (1 - share) * np.array(one) + share * np.array(two)
        lift = 3 * np.cos(flat[:, 0] / 14) - 0.012 * flat[:, 1] ** 2
        return BSplineCurve(even_knots(7, 3), np.column_stack([flat, lift]))

    ring = [(10.0, -10.0), (50.0, -10.0), (50.0, 10.0), (10.0, 10.0)]
    return [side(ring[k], ring[(k + 1) % 4]) for k in range(4)]


def to_words(settings: Any) -> list[str]:
    """Return settings as `make` is told them."""
    usual = type(settings)()
    changed = [
        f.name for f in fields(settings) if getattr(settings, f.name) != getattr(usual, f.name)
    ]
    return [word for name in changed for word in ("--set", f"{name}={getattr(settings, name)}")]


def in_window(hands: Hands, path: Path, settings: CastSettings) -> str:
    """Cast a surface over the whole of a scan in the window; return its region's id."""
    session = hands.session
    add_scan(session, read_mesh(path), path.name, "mm")
    scan = next(session.job.all(Scan))
    everything = np.ones(len(scan.mesh.vertices), dtype=bool)
    job, (region,) = with_region(session.job, scan, everything)
    session.commit(job, "region")
    start_cast(session, job.the(region, Region), settings)
    hands.wait()
    return region


def only(path: Path) -> BSplineSurface:
    (surface,) = read_exchange(path)
    return surface


def assert_identical(one: BSplineSurface, other: BSplineSurface) -> None:
    for name in ("knots_u", "knots_v", "points"):
        assert np.array_equal(getattr(one, name), getattr(other, name)), name


STRIP = CastSettings(nu=9, nv=6, smoothness=0.2, reach=0.1)
CASES: dict[str, tuple[TriangleMesh, CastSettings, list[str]]] = {
    "even": (sheet(90, 50), STRIP, []),
    "adaptive": (
        sheet(90, 50), CastSettings(8, 5, smoothness=0.2, reach=0.1, knots="adaptive"),
        ["--knots", "adaptive"],
    ),
    "symmetric": (
        sheet(90, 30, half=True),
        CastSettings(9, 6, smoothness=0.2, reach=0.1, symmetric="y"), ["--symmetric", "y"],
    ),
    "pulled": (
        sheet(90, 50), CastSettings(9, 6, smoothness=0.2, reach=0.1, pull="z"), ["--pull", "z"]
    ),
    "closed": (
        tube(80, 60), CastSettings(9, 8, smoothness=0.2, reach=0.1, closed="v"), ["--closed", "v"]
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_cast(hands: Hands, tmp_path: Path, name: str) -> None:
    mesh, settings, options = CASES[name]
    path = tmp_path / "scan.ply"
    save(path, mesh)
    out, report = [tmp_path / f"{word}.step" for word in ("fit", "make", "window")], tmp_path / "r"
    told = ["fit", str(path), "--tolerance", "0.3", "--smooth", "0.2", "--reach", "10", *options]
    counts = ["--controls", f"{settings.nu}x{settings.nv}"]
    assert main([*told, *counts, "--out", str(out[0]), "--report", str(report)]) == 0
    figures = json.loads(report.read_text())
    made = ["make", "cast", f"measured={path}", *to_words(settings), "--tolerance", "0.3"]
    assert main([*made, "--out", str(out[1]), "--report", str(report)]) == 0

    session = hands.session
    in_window(hands, path, settings)
    surface = next(session.job.all(Surface))
    write_item(out[2], surface, 0.01)
    for other in out[1:]:
        assert_identical(only(out[0]), only(other))
    # And all say the same of it.
    judged = session.job.report(surface)
    assert judged is not None
    for told_of in (figures, json.loads(report.read_text())):
        assert told_of["p95"] == judged.p95
        assert told_of["control_points"] == [settings.nu, settings.nv]
    assert ("price" in figures) == (name in ("symmetric", "pulled"))


def test_half_of_a_symmetric_shape_is_as_calm_by_command_line_as_in_the_window(
    hands: Hands, tmp_path: Path
) -> None:
    mesh, settings, _ = CASES["symmetric"]
    path, report = tmp_path / "half.ply", tmp_path / "half.json"
    save(path, mesh)
    told = ["--symmetric", "y", "--tolerance", "0.05", "--smooth", "0.2", "--reach", "10"]
    told += ["--controls", "9x6", "--out", str(tmp_path / "half.step"), "--report", str(report)]
    assert main(["fit", str(path), *told]) == 0
    surface = only(tmp_path / "half.step")
    # Its own mirror image, to the last digit that a file keeps.
    mirrored = surface.points * [1, -1, 1]
    assert any(
        np.abs(mirrored - flipped).max() < 1e-9
        for flipped in (surface.points[::-1], surface.points[:, ::-1])
    )
    session = hands.session
    in_window(hands, path, settings)
    hands.window.calmness.enabled = True
    hands.window.calmness.begin()
    hands.wait()
    calm = session.sight.calm
    assert calm is not None
    bends = json.loads(report.read_text())["fairness"]
    assert bends["against_smoothest"] == pytest.approx(calm[1].against_smoothest, rel=1e-9)
    assert bends["against_smoothest"] < 6


def test_a_patch(hands: Hands, tmp_path: Path) -> None:
    scan, lines = tmp_path / "scan.ply", tmp_path / "borders.step"
    save(scan, sheet(90, 50))
    write_exchange(lines, [(f"border {k}", curve) for k, curve in enumerate(borders())])
    settings = PatchSettings(nu=9, nv=7, smoothness=0.2)
    out = [tmp_path / f"{word}.step" for word in ("fit", "make", "window")]
    told = ["fit", str(scan), "--borders", str(lines), "--tolerance", "0.3", "--smooth", "0.2"]
    assert main([*told, "--controls", "9x7", "--out", str(out[0])]) == 0
    sources = [f"scan={scan}", f"borders={lines}"]
    words = to_words(settings)
    told = ["--tolerance", "0.3", "--out", str(out[1])]
    assert main(["make", "patch", *sources, *words, *told]) == 0

    session = hands.session
    add_scan(session, read_mesh(scan), scan.name, "mm")
    job, curves = take_for(session.job, (Curve,), lines, "mm")
    session.commit(job, "borders")
    roles: dict[str, Any] = {"scan": next(job.all(Scan)).id, "borders": curves}
    start_making(session, make.planned(job, "patch", settings, **roles), "Patching", "patch")
    hands.wait()
    write_item(out[2], next(session.job.all(Surface)), 0.01)
    for other in out[1:]:
        assert_identical(only(out[0]), only(other))


def test_a_search(hands: Hands, tmp_path: Path) -> None:
    """What is found is found everywhere, and made again from its settings it is the same."""
    path, out = tmp_path / "scan.ply", [tmp_path / "fit.step", tmp_path / "make.step"]
    save(path, sheet(70, 40))
    told = ["--tolerance", "0.05", "--smooth", "0.2", "--reach", "10", "--knots", "adaptive"]
    assert main(["fit", str(path), *told, "--out", str(out[0])]) == 0
    settings = CastSettings(smoothness=0.2, reach=0.1, knots="adaptive")
    made = ["make", "cast", f"measured={path}", *to_words(settings), "--tolerance", "0.05"]
    assert main([*made, "--search", "--out", str(out[1])]) == 0
    session = hands.session
    region = in_window(hands, path, settings)
    search(session, next(session.job.all(Surface)))
    hands.wait()
    found = next(session.job.all(Surface))
    write_item(tmp_path / "window.step", found, 0.01)
    for other in (out[1], tmp_path / "window.step"):
        assert_identical(only(out[0]), only(other))
    assert found.recipe is not None
    _, again, _ = make.add(session.job, "cast", found.recipe.settings, measured=region)
    assert_identical(found.geometry, again.geometry)
