"""``./run float`` from files: STEP bodies and meshes, reports, and what is refused."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from tests.core.test_floating import barge
from usual_clay.cli.main import main
from usual_clay.core.body.kernel import silenced
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.mesh_file import write_mesh
from usual_clay.files.step_out import write_exchange

STRAIGHT = np.array([0.0, 0.0, 1.0, 1.0])


@pytest.fixture(scope="module")
def box(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A barge of the kernel's, 100 x 30 x 20 mm."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    path = tmp_path_factory.mktemp("bodies") / "box.step"
    with silenced():
        writer = STEPControl_Writer()
        solid = BRepPrimAPI_MakeBox(gp_Pnt(-50, -15, 0), gp_Pnt(50, 15, 20)).Shape()
        writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
        writer.Write(str(path))
    return path


def test_a_step_body_floats_and_its_report_has_the_figures(box: Path, tmp_path: Path) -> None:
    edge, out = tmp_path / "edge.step", tmp_path / "out.json"
    places = [np.array([[-50.0, y, 20], [50.0, y, 20]]) for y in (15.0, -15.0)]
    write_exchange(edge, [(f"edge {k}", BSplineCurve(STRAIGHT, p)) for k, p in enumerate(places)])
    words = ["float", str(box), "--draft", "8", "--centre", "0,0,9", "--angles", "0:50:10"]
    assert main([*words, "--mark", f"deck={edge}", "--report", str(out)]) == 0
    told = json.loads(out.read_text())
    assert told["volume"] == pytest.approx(24_000)
    assert told["waterplane_area"] == pytest.approx(3_000)
    assert told["centre_of_buoyancy"] == pytest.approx([0, 0, 4], abs=1e-6)
    assert told["km"] == pytest.approx(told["kb"] + told["bm"])
    assert told["gm"] == pytest.approx(4 + 900 / 96 - 9)
    assert [row["angle"] for row in told["righting"]] == pytest.approx([0, 10, 20, 30, 40, 50])
    tan = np.tan(np.radians(20))
    wall = np.sin(np.radians(20)) * (told["gm"] + told["bm"] * tan**2 / 2)
    assert told["righting"][2]["gz"] == pytest.approx(wall, rel=1e-3)
    assert [bool(row["under"]) for row in told["righting"]] == [False] * 4 + [True] * 2


def test_a_mesh_lies_as_its_weights_let_it(tmp_path: Path) -> None:
    body, path, out = barge(), tmp_path / "barge.stl", tmp_path / "out.json"
    write_mesh(path, body.vertices, body.triangles)
    words = ["float", str(path), "--material", "0.35", "--weight", "3@20,2,2"]
    assert main([*words, "--report", str(out)]) == 0
    told = json.loads(out.read_text())
    assert told["mass"] == pytest.approx(24.0, rel=1e-4)
    assert told["trim"] > 0.5
    assert told["heel"] != pytest.approx(0.0, abs=0.1)


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--mass", "90"], "it sinks: it weighs 90.00 g"),
        (["--draft", "25"], "it is 20.00 mm tall"),
        ([], "give --draft, --mass, --material or --weight"),
        (["--draft", "5", "--angles", "0:10"], "--angles is FROM:TO:STEP"),
        (["--draft", "5", "--weight", "3"], "--weight is G@X,Y,Z"),
        (["--draft", "5", "--density", "0"], "a density must be more than 0"),
    ],
)
def test_what_makes_no_sense_is_told(
    box: Path, more: list[str], words: str, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["float", str(box), *more]) == 2
    assert words in capsys.readouterr().err


def test_damaged_and_open_bodies_are_one_line(
    box: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    cut = tmp_path / "cut.step"
    text = box.read_text()
    cut.write_text(text[: len(text) // 2])
    assert main(["float", str(cut), "--draft", "5"]) == 2
    body, path = barge(), tmp_path / "open.stl"
    write_mesh(path, body.vertices, body.triangles[2:])
    assert main(["float", str(path), "--draft", "5"]) == 2
    assert "the body is open along" in capsys.readouterr().err
