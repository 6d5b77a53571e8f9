"""Sections, health, mends and symmetry against shapes that are known exactly."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from tests.shapes import box_mesh, height_field, sphere
from usual_clay.cli.codes import BAD_INPUT, MET
from usual_clay.cli.main import main
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.health import border, duplicated, examine, flipped, holes, pieces
from usual_clay.core.scan.mend import MendError, mend, mends_from_words
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.section import sections, stations_along
from usual_clay.core.scan.symmetry import mirror_plane
from usual_clay.demo.scan import SPIKES, pose
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.files.points_file import read_points

UP = np.array([0.0, 0.0, 1.0])


def joined(*meshes: TriangleMesh) -> TriangleMesh:
    starts = np.cumsum([0, *(len(mesh.vertices) for mesh in meshes)])
    return TriangleMesh(
        np.concatenate([mesh.vertices for mesh in meshes]),
        np.concatenate([m.triangles + s for m, s in zip(meshes, starts, strict=False)]),
    )


def moved(mesh: TriangleMesh, x: float) -> TriangleMesh:
    return TriangleMesh(mesh.vertices + np.array([x, 0, 0]), mesh.triangles)


@pytest.mark.parametrize("height", [0.0, 3.0, 9.5])
def test_a_sphere_is_cut_in_circles(height: float) -> None:
    (cut,) = sections(sphere(10, rings=60), UP * height, UP)
    radius = np.sqrt(100 - height**2)
    assert cut.closed
    assert cut.length == pytest.approx(2 * np.pi * radius, rel=0.01)
    assert np.abs(cut.points[:, 2] - height).max() < 1e-9
    steps = np.linalg.norm(np.diff(cut.points, axis=0, append=cut.points[:1]), axis=1)
    assert steps.max() < 0.5
    # In order all the way round: the turn never goes back.
    turn = np.unwrap(np.arctan2(cut.points[:, 1], cut.points[:, 0]))
    assert (np.diff(turn) > 0).all() or (np.diff(turn) < 0).all()


def test_open_scans_and_several_parts_are_cut_apart() -> None:
    ball = sphere(10)
    half = TriangleMesh(
        ball.vertices, ball.triangles[ball.vertices[ball.triangles].min((1, 2)) > -9]
    )
    both = joined(ball, moved(sphere(4), 30))
    cuts = sections(both, np.zeros(3), UP)
    assert [cut.closed for cut in cuts] == [True, True]
    assert cuts[0].length > 2 * cuts[1].length
    opened = sections(half, np.zeros(3), np.array([0.0, 1, 0]))
    assert opened
    assert not opened[0].closed
    assert sections(ball, UP * 11, UP) == []
    assert stations_along(ball, 2, 4) == pytest.approx([-7.5, -2.5, 2.5, 7.5], abs=0.1)


def test_health_counts_what_was_put_wrong() -> None:
    ball = sphere(10, rings=50)
    assert examine(ball).holes == examine(ball).islands == examine(ball).flipped == 0
    centres = ball.vertices[ball.triangles].mean(axis=1)
    gone = np.linalg.norm(centres - [0, 0, 10], axis=1) < 2
    gone |= np.linalg.norm(centres - [10, 0, 0], axis=1) < 1
    triangles = ball.triangles[~gone].copy()
    triangles[:40] = triangles[:40][:, ::-1]
    triangles = np.concatenate([triangles, triangles[100:103]])
    vertices = ball.vertices.copy()
    out = np.argsort(np.linalg.norm(vertices - [0, -10, 0], axis=1))[[0, 60, 200]]
    vertices[out] *= 1.08
    island = moved(sphere(1), 30)
    found = examine(joined(TriangleMesh(vertices, triangles), island))
    assert found.holes == 2
    assert found.largest_hole == pytest.approx(4, abs=2)
    assert found.islands == 1
    assert found.spikes == 3
    assert found.duplicated == 3
    assert found.flipped in range(40, 44)


def test_the_rim_of_an_open_scan_is_no_hole() -> None:
    ball = sphere(10, rings=40)
    upper = ball.vertices[ball.triangles][:, :, 2].min(axis=1) > 0
    cap = TriangleMesh(ball.vertices, ball.triangles[upper])
    assert len(border(cap)) > 20
    assert holes(cap) == []


def test_creases_and_noise_are_no_spikes(lure: TriangleMesh) -> None:
    assert not box_mesh().spikes.any()
    noisy = sphere(10, rings=50)
    rough = noisy.vertices + np.random.default_rng(0).normal(0, 0.02, noisy.vertices.shape)
    assert TriangleMesh(rough, noisy.triangles).spikes.sum() <= 2
    assert lure.spikes.sum() == pytest.approx(SPIKES, abs=2)


def test_mends_mend_and_say_so(lure: TriangleMesh) -> None:
    island = moved(sphere(1), 200)
    worse = joined(lure, island)
    assert pieces(worse).max() == 1
    whole = mend(worse, "islands")
    assert whole.words == "1 islands dropped"
    assert len(whole.mesh.triangles) == len(lure.triangles)
    assert np.array_equal(worse.vertices[whole.origin], whole.mesh.vertices)
    calm = mend(whole.mesh, "spikes")
    assert "spikes levelled" in calm.words
    assert calm.mesh.spikes.sum() <= 1
    filled = mend(calm.mesh, "holes", 20)
    mesh = filled.mesh
    assert filled.words == "2 holes filled"
    assert (filled.origin == -1).sum() == 2
    assert holes(mesh) == []
    assert len(border(mesh)) == 0
    assert not flipped(mesh).any()
    assert mend(lure, "holes", 0.1).words == "0 holes filled"
    turned = lure.triangles.copy()
    turned[500:600] = turned[500:600][:, ::-1]
    fixed = mend(TriangleMesh(lure.vertices, turned), "normals").mesh
    assert np.array_equal(fixed.triangles[0], lure.triangles[0])
    assert not flipped(fixed).any()
    doubled = TriangleMesh(lure.vertices, np.concatenate([lure.triangles, lure.triangles[:7]]))
    assert duplicated(doubled).sum() == 7
    assert mend(doubled, "duplicates").words.startswith("7 ")
    thin = mend(lure, "thin", 20_000)
    assert len(thin.mesh.triangles) == pytest.approx(20_000, abs=4)
    # What it says of the error is the distance of the old points.
    away = MeshTree(thin.mesh.vertices, thin.mesh.triangles).nearest(lure.vertices)[0]
    assert f"at most {away.max():.3f} mm" in thin.words
    assert np.quantile(away, 0.95) < 0.05
    with pytest.raises(MendError, match="fewer"):
        mend(lure, "thin", 10_000_000)


def test_mends_are_read_from_words() -> None:
    assert mends_from_words("islands, spikes,holes:5") == [
        ("islands", 0.0),
        ("spikes", 0.0),
        ("holes", 5.0),
    ]
    for words in ("polish", "holes", "holes:big", "islands:3", "holes:-1"):
        with pytest.raises(MendError):
            mends_from_words(words)


def test_symmetry_of_the_lure_is_found(lure: TriangleMesh) -> None:
    plane = mirror_plane(lure)
    across = pose().turn[:, 1]
    angle = np.degrees(np.arccos(min(1.0, abs(plane.normal @ across))))
    assert angle < 0.05
    side = np.sign(plane.normal @ across)
    assert plane.offset * side == pytest.approx(pose().shift @ across, abs=0.05)
    assert plane.asymmetry < 0.05


def test_a_shape_without_symmetry_says_how_bad_it_is() -> None:
    sample = height_field(4000)
    from scipy.spatial import Delaunay

    x, y, z = sample.points.T
    skewed = np.stack([x, y + 0.4 * x, z + 0.002 * x**2 * y], axis=1)
    mesh = TriangleMesh(skewed, Delaunay(sample.points[:, :2]).simplices)
    assert mirror_plane(mesh).asymmetry > 0.5


def test_slice_command(tmp_path: Path, scan_file: Path, capsys: pytest.CaptureFixture[str]) -> None:
    out = tmp_path / "cuts"
    code = main(["slice", str(scan_file), "--axis", "x", "--count", "5", "--out", str(out)])
    assert code == MET
    told = json.loads((out / "sections.json").read_text())
    assert "5 stations along x" in capsys.readouterr().out
    assert len({entry["station"] for entry in told}) == 5
    for entry in told:
        points = read_points(out / entry["file"]).points
        assert len(points) == entry["points"]
        assert points[:, 0] == pytest.approx(entry["station"], abs=1e-5)
        ring = np.concatenate([points, points[:1]]) if entry["closed"] else points
        length = np.linalg.norm(np.diff(ring, axis=0), axis=1).sum()
        assert length == pytest.approx(entry["length"], abs=1e-3)
    bad = ["slice", str(scan_file), "--axis", "x", "--count", "0", "--out", str(out)]
    assert main(bad) == BAD_INPUT


def test_scan_command(tmp_path: Path, scan_file: Path, capsys: pytest.CaptureFixture[str]) -> None:
    out, report = tmp_path / "mended.ply", tmp_path / "health.json"
    code = main(
        [
            "scan",
            str(scan_file),
            "--mend",
            "islands,spikes,holes:20",
            "--out",
            str(out),
            "--report",
            str(report),
        ]
    )
    assert code == MET
    figures = json.loads(report.read_text())
    assert set(figures) >= {
        "triangles",
        "holes",
        "largest_hole",
        "islands",
        "spikes",
        "flipped",
        "edge_length",
        "noise",
        "bounds",
        "symmetry",
        "seconds",
    }
    assert figures["holes"] == 0
    assert figures["noise"] == pytest.approx(0.02, rel=0.1)
    assert figures["triangles"] == len(read_mesh(out).triangles)
    assert "2 holes filled" in capsys.readouterr().out
    write_mesh(tmp_path / "a.ply", sphere(5).vertices, sphere(5).triangles)
    for more in (["--mend", "polish", "--out", str(out)], ["--mend", "islands"]):
        bad = ["scan", str(tmp_path / "a.ply"), "--report", str(report), *more]
        assert main(bad) == BAD_INPUT
