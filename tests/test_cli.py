"""The command line: the same core without a window."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from tests.core.test_from_curves import body_net
from tests.shapes import box_mesh
from usual_clay.cli.codes import BAD_INPUT, MET, NOT_MET
from usual_clay.cli.main import main
from usual_clay.core.check.deviation import Tolerance, judge
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.demo.make import BACK_SEED
from usual_clay.demo.points import true_outline, write_point_lists
from usual_clay.demo.scan import pose
from usual_clay.files.exchange import read_curves, read_exchange
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.files.points_file import read_points
from usual_clay.files.step_out import write_exchange

FIGURES = {
    "points",
    "control_points",
    "total",
    "within_share",
    "within_share_of_points",
    "rms",
    "p95",
    "max",
    "noise",
    "seconds",
    "met",
    "knots",
    "method",
    "fairness",
    "degree",
    "closed",
}


def back_region(spread: float = 0.3) -> str:
    x, y, z = pose().to_scan(np.array([BACK_SEED]))[0]
    return f"{x},{y},{z},{spread}"


def test_fit_to_tolerance_writes_a_surface_and_its_report(
    tmp_path: Path, scan_file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out, report = tmp_path / "back.step", tmp_path / "back.json"
    code = main(
        [
            "fit",
            str(scan_file),
            "--tolerance",
            "0.05",
            "--region",
            back_region(),
            "--reach",
            "10",
            "--out",
            str(out),
            "--report",
            str(report),
        ]
    )
    assert code == MET
    figures = json.loads(report.read_text())
    assert set(figures) == FIGURES
    assert figures["met"] is True
    assert figures["within_share"] >= 0.95
    assert figures["p95"] <= 0.05
    assert figures["noise"] == pytest.approx(0.02, rel=0.15)
    (surface,) = read_exchange(out)
    assert list(surface.counts) == figures["control_points"]
    assert figures["total"] == np.prod(surface.counts) <= 200
    assert "control points" in capsys.readouterr().out
    # What the report says is true of the file that was written.
    mesh = read_mesh(scan_file)
    from usual_clay.demo.make import back_of

    signed = foot_points(surface, mesh.vertices[back_of(mesh)]).signed
    again = judge(signed, Tolerance(0.05))
    assert again.points == pytest.approx(figures["points"], rel=0.01)
    assert again.within_share == pytest.approx(figures["within_share"], abs=0.003)


def test_fit_with_given_counts_may_miss_the_tolerance(tmp_path: Path, scan_file: Path) -> None:
    out, report = tmp_path / "back.igs", tmp_path / "back.json"
    code = main(
        [
            "fit",
            str(scan_file),
            "--tolerance",
            "0.03",
            "--share",
            "0.9",
            "--controls",
            "6x4",
            "--region",
            back_region(),
            "--smooth",
            "0.1",
            "--out",
            str(out),
            "--report",
            str(report),
        ]
    )
    assert code == NOT_MET
    figures = json.loads(report.read_text())
    assert figures["control_points"] == [6, 4]
    assert figures["met"] is False
    assert read_exchange(out)[0].counts == (6, 4)


def test_units_scale_the_result(tmp_path: Path, scan_file: Path) -> None:
    sizes = []
    for unit, region in (("mm", 1.0), ("in", 25.4)):
        x, y, z = pose().to_scan(np.array([BACK_SEED]))[0] * region
        out = tmp_path / f"{unit}.step"
        main(
            [
                "fit",
                str(scan_file),
                "--tolerance",
                "9",
                "--controls",
                "5x4",
                "--unit",
                unit,
                "--region",
                f"{x},{y},{z},0.3",
                "--out",
                str(out),
            ]
        )
        sizes.append(np.ptp(read_exchange(out)[0].points.reshape(-1, 3), axis=0))
    assert sizes[1] == pytest.approx(sizes[0] * 25.4, rel=1e-3)


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--tolerance", "0"], "tolerance must be more than 0"),
        (["--tolerance", "-1"], "tolerance must be more than 0"),
        (["--tolerance", "nan"], "is no number"),
        (["--tolerance", "1", "--share", "2"], "share must be"),
        (["--tolerance", "1", "--controls", "many"], "--controls must be"),
        (["--tolerance", "1", "--controls", "2x2"], "must be 4 to 200"),
        (["--tolerance", "1", "--region", "here"], "--region must be"),
        (["--tolerance", "1", "--region", "1,2,nan,0.5"], "finite"),
        (["--tolerance", "1", "--region", "all"], "folds over its base plane.*four-corner patch"),
        (["--tolerance", "1", "--reach", "300", "--controls", "5x5"], "reach must be"),
    ],
)
def test_bad_input_is_one_line_and_exit_2(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], more: list[str], words: str
) -> None:
    cube = box_mesh()
    write_mesh(tmp_path / "cube.ply", cube.vertices, cube.triangles)
    out = tmp_path / "o.step"
    assert main(["fit", str(tmp_path / "cube.ply"), "--out", str(out), *more]) == BAD_INPUT
    told = capsys.readouterr().err
    assert told.count("\n") == 1
    import re

    assert re.search(words, told), told
    assert not out.exists()


def test_too_few_points_and_no_mesh_are_bad_input(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    one = tmp_path / "one.obj"
    one.write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    words = tmp_path / "words.ply"
    words.write_text("a letter")
    for path, expected in ((one, "3 points, fewer than"), (words, "no readable PLY")):
        code = main(["fit", str(path), "--tolerance", "1", "--out", str(tmp_path / "o.step")])
        assert code == BAD_INPUT
        assert expected in capsys.readouterr().err


def test_rows_of_points_are_fitted_as_a_scan_is(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    x, y = np.meshgrid(np.linspace(0, 60, 60), np.linspace(0, 30, 7))
    points = np.stack([x, y, 3 * np.sin(x / 15) + 0.01 * y**2], axis=2).reshape(-1, 3)
    path, out = tmp_path / "rows.csv", tmp_path / "rows.step"
    np.savetxt(path, points, delimiter=",", header="x,y,z", comments="")
    asked = ["fit", str(path), "--tolerance", "0.02", "--out", str(out)]
    assert main(asked) == MET
    (surface,) = read_exchange(out)
    assert isinstance(surface, BSplineSurface)
    assert np.prod(surface.counts) <= 30
    off = np.abs(foot_points(surface, points).signed)
    assert np.quantile(off, 0.95) < 0.0201
    # A list has no surface that a region could spread over.
    assert main([*asked, "--region", "1,2,3,0.4"]) == BAD_INPUT
    assert "of a point list all points are taken" in capsys.readouterr().err


def test_demo_without_a_display_says_how_to_get_a_picture() -> None:
    environment = {
        key: value
        for key, value in os.environ.items()
        if key not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    }
    ran = subprocess.run(
        [sys.executable, "-m", "usual_clay", "demo"],
        env=environment,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert ran.returncode == BAD_INPUT
    assert "./run shots" in ran.stderr
    assert "Traceback" not in ran.stderr


def test_trace_writes_lean_curves_and_their_report(tmp_path: Path) -> None:
    outline, _ = write_point_lists(tmp_path)
    for ending in ("step", "igs", "svg", "csv"):
        out, report = tmp_path / f"a.{ending}", tmp_path / "a.json"
        told = ["trace", str(outline), "--tolerance", "0.05", "--out", str(out)]
        told += ["--report", str(report)]
        assert main(told) == MET
        figures = json.loads(report.read_text())
        assert figures["met"] is True
        assert figures["p95"] <= 0.05
        assert figures["control_points"] == [figures["total"]]
        assert figures["total"] < 40
        assert figures["segments"] == 1
        assert 0.005 < figures["noise"] < 0.02
        assert out.stat().st_size > 200
    assert "width=" in (tmp_path / "a.svg").read_text()
    places = read_points(tmp_path / "a.csv").points
    away = cKDTree(true_outline()).query(places)[0]
    assert np.median(away) == pytest.approx(1.5, abs=0.02)


def test_trace_parts_a_run_at_its_corners_and_refuses_what_makes_no_sense(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    share = np.linspace(0, 1, 80, endpoint=False)[:, None]
    ends = np.array([[0.0, 0], [40, 0], [40, 30], [0, 30], [0, 0]])
    flat = np.concatenate([a + (b - a) * share for a, b in pairwise(ends)])
    np.savetxt(tmp_path / "square.csv", flat, delimiter=",", header="x [mm],y [mm]", comments="")
    told = [
        "trace",
        str(tmp_path / "square.csv"),
        "--tolerance",
        "0.02",
        "--corners",
        "40",
        "--out",
        str(tmp_path / "a.step"),
        "--report",
        str(tmp_path / "a.json"),
    ]
    assert main(told) == MET
    figures = json.loads((tmp_path / "a.json").read_text())
    assert (figures["segments"], figures["corners"]) == (4, 4)
    assert len(read_curves(tmp_path / "a.step")) == 4
    half = tmp_path / "half.csv"
    np.savetxt(half, flat[:150], delimiter=",")
    lean = ["trace", str(half), "--tolerance", "0.001", "--controls", "5", "--knots", "even"]
    assert main([*lean, "--out", str(tmp_path / "b.step")]) == NOT_MET
    for more, words in (
        (["--closed"], "does not close"),
        (["--controls", "many"], "auto or a number"),
        (["--corners", "200"], "0 to 180"),
        (["--degree", "9"], "degree must be"),
        (["--tolerance", "0"], "more than 0"),
    ):
        told = ["trace", str(half), "--tolerance", "0.05", "--out", str(tmp_path / "c.step"), *more]
        assert main(told) == BAD_INPUT
        assert words in capsys.readouterr().err


def test_options_are_read_as_they_are_typed(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    scan, out = tmp_path / "box.ply", tmp_path / "top.step"
    mesh = box_mesh()
    write_mesh(scan, mesh.vertices, mesh.triangles)
    told = ["fit", str(scan), "--controls", "4x4", "--sides", "straight", "--out", str(out)]
    # A place that begins with a minus, and decimal commas.
    for region in (["--region", "-3,2,10,0.1"], ["--region=-3,2,10,0.1"]):
        assert main([*told, *region, "--tolerance", "0,05", "--reach", "2,5"]) == MET
        (surface,) = read_exchange(out)
        assert surface.points[..., 2] == pytest.approx(10, abs=1e-6)
    assert main([*told, "--tolerance", "1.234,5"]) == BAD_INPUT
    assert capsys.readouterr().err == "usual-clay: argument --tolerance: “1.234,5” is no number\n"


def test_make_builds_surfaces_from_curves_and_tells_what_does_not_touch(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    along, across = body_net()
    lifted = BSplineCurve(across[2].knots, across[2].points + np.array([0, 0, 0.1]))
    write_exchange(tmp_path / "along.step", [(f"a{k}", c) for k, c in enumerate(along)])
    apart = [*across[:2], lifted, *across[3:]]
    write_exchange(tmp_path / "across.step", [(f"b{k}", c) for k, c in enumerate(apart)])
    out, report = tmp_path / "net.step", tmp_path / "net.json"
    sources = [f"along={tmp_path / 'along.step'}", f"across={tmp_path / 'across.step'}"]
    told = ["--out", str(out), "--report", str(report), "--tolerance", "0,08"]
    assert main(["make", "net", *sources, *told]) == MET
    figures = json.loads(report.read_text())
    assert figures["total"] == np.prod(figures["control_points"]) <= 120
    assert figures["p95"] <= figures["farthest"] <= 0.08
    assert len(figures["farthest_of"]) == 10
    worst = max(figures["gaps"], key=lambda gap: gap["gap"])
    assert worst["between"].endswith("across 3")
    assert worst["gap"] == pytest.approx(0.1, abs=0.03)
    assert len(worst["at"]) == 3
    (surface,) = read_exchange(out)
    assert list(surface.points.shape[:2]) == figures["control_points"]
    # A finer tolerance than the gap allows is not met, and said.
    assert main(["make", "net", *sources, *told[:-1], "0.01"]) == NOT_MET
    assert "was not met" in json.loads(report.read_text())["words"]
    capsys.readouterr()
    assert main(["make", "net", sources[0], *told]) == BAD_INPUT
    assert "role across" in capsys.readouterr().err
