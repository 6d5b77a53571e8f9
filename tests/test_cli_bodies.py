"""Bodies by command line: reports, exit codes, files that are read again, and damaged ones."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import trimesh

from tests.solids import box_faces, flat, square
from usual_clay.cli.main import main
from usual_clay.files.exchange import read_bodies, read_exchange
from usual_clay.files.step_out import write_exchange


def make(folder: Path, kind: str, *words: str) -> tuple[int, dict[str, Any]]:
    """Make something; return its exit code and its report."""
    report = folder / "report.json"
    report.unlink(missing_ok=True)
    code = main(["make", kind, *words, "--report", str(report)])
    return code, json.loads(report.read_text()) if report.exists() else {}


@pytest.fixture
def faces(tmp_path: Path) -> Path:
    """The six faces of a block, its lid 0.03 mm too high."""
    path = tmp_path / "faces.step"
    write_exchange(path, box_faces(0.03))
    return path


def joined(folder: Path, faces: Path) -> Path:
    out = folder / "block.step"
    code, _ = make(folder, "join", f"faces={faces}", "--set", "gap=0.05", "--out", str(out))
    assert code == 0
    return out


def test_join_tells_its_gaps_and_whether_it_is_closed(tmp_path: Path, faces: Path) -> None:
    out = tmp_path / "block.step"
    code, report = make(tmp_path, "join", f"faces={faces}", "--set", "gap=0.05", "--out", str(out))
    assert code == 0
    assert report["solid"]
    assert report["valid"]
    assert report["faces"] == 6
    assert report["open_edges"] == 0
    assert report["volume"] == pytest.approx(6000, rel=2e-3)
    assert report["seconds"] > 0
    assert {gap["closed"] for gap in report["gaps"]} == {True}
    ((name, back),) = read_bodies(out)
    assert name == "block"
    assert back.volume == pytest.approx(report["volume"])
    out.unlink()
    # It stays open where the gap is wider than the limit: written all the same, and told.
    code, report = make(tmp_path, "join", f"faces={faces}", "--out", str(out))
    assert code == 3
    assert out.exists()
    assert not report["solid"]
    assert report["open_edges"] == 8
    wide = [gap for gap in report["gaps"] if not gap["closed"]]
    assert len(wide) == 4
    for gap in wide:
        assert gap["gap"] == pytest.approx(0.03, abs=1e-6)
        assert gap["angle"] == pytest.approx(90)
        assert len(gap["at"]) == 3
        assert "lid" in gap["between"]


def test_the_other_ways_go_alike_and_one_after_the_other(tmp_path: Path, faces: Path) -> None:
    block = joined(tmp_path, faces)
    outline, roof = tmp_path / "outline.step", tmp_path / "roof.step"
    write_exchange(outline, square())
    write_exchange(roof, [("roof", flat((0, 0, 6), (10, 0, 8), (10, 10, 8), (0, 10, 6)))])
    volume = 6002.0
    for kind, words, expected in (
        ("round", ["--set", "by=width", "--set", "size=2", "--set", "edges=5,0,0"], None),
        ("bevel", ["--set", "size=1", "--set", "edges=5,0,0"], volume - 5),
        ("shell", ["--set", "wall=1", "--set", "open=5,10,30"], None),
        ("cut", [f"outline={outline}", "--set", "length=5"], volume - 180),
        ("mirror-and-unite", ["--set", "axis=x", "--set", "at=10"], 2 * volume),
    ):
        out = tmp_path / f"{kind}.step"
        code, report = make(tmp_path, kind, f"body={block}", *words, "--out", str(out))
        assert code == 0, kind
        assert report["solid"]
        assert report["valid"]
        if expected is not None:
            assert report["volume"] == pytest.approx(expected, rel=1e-5)
    code, report = make(tmp_path, "pad", f"outline={outline}", f"until={roof}",
                        "--out", str(tmp_path / "pad.step"))  # fmt: skip
    assert report["volume"] == pytest.approx(36 * 7)
    some = ["--set", "size=12", "--set", "edges=5,0,0,0,0,15"]
    out = str(tmp_path / "rounded.step")
    code, report = make(tmp_path, "round", f"body={block}", *some, "--out", out)
    assert code == 3
    assert "up to" in report["spots"][0]["words"]


@pytest.mark.parametrize("suffix", [".stl", ".obj", ".3mf"])
def test_triangles_are_watertight(tmp_path: Path, faces: Path, suffix: str) -> None:
    block = joined(tmp_path, faces)
    out = tmp_path / f"out{suffix}"
    code, report = make(tmp_path, "round", f"body={block}", "--set", "size=2", "--out", str(out))
    assert code == 0
    mesh = trimesh.load(out, force="mesh")
    assert mesh.is_watertight
    assert mesh.is_winding_consistent
    assert mesh.volume == pytest.approx(report["volume"], abs=0.01 * report["area"])


def test_what_cannot_be_made_is_one_line(
    tmp_path: Path, faces: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = str(tmp_path / "out.step")
    block = joined(tmp_path, faces)
    write_exchange(tmp_path / "far.step", [("far", flat((0, 0, 99), (1, 0, 99), (1, 1, 99),
                                                        (0, 1, 99)))])  # fmt: skip
    for kind, words, said in (
        ("shell", [f"body={block}", "--set", "wall=9", "--set", "open=5,10,30"], "no room"),
        ("trim", [f"thing={block}", f"by={tmp_path / 'far.step'}"], "does not cut it in two"),
        ("round", [f"body={block}", "--set", "size=50", "--set", "edges=5,0,0"], "cannot be made"),
        ("round", [f"body={faces}"], "holds no body"),
        ("round", [f"body={block}", "--set", "edges=1,2"], "three numbers each"),
    ):
        assert make(tmp_path, kind, *words, "--out", out)[0] == 2
        lines = capsys.readouterr().err.strip().splitlines()
        assert len(lines) == 1
        assert said in lines[0]


def test_a_damaged_file_costs_its_own_process_alone(
    tmp_path: Path, faces: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """References that lead nowhere, or into themselves, can end the kernel."""
    text = joined(tmp_path, faces).read_text()
    capsys.readouterr()
    rng = np.random.default_rng(5)
    lines = text.splitlines()
    body = [k for k, line in enumerate(lines) if line.startswith("#")]
    for number in range(6):
        broken = list(lines)
        for k in rng.choice(body, 4):
            broken[k] = broken[k].replace("(#", f"(#{rng.integers(1, len(body))}", 1)
        path = tmp_path / f"broken {number}.step"
        path.write_text("\n".join(broken))
        code = main(["make", "join", f"faces={path}", "--out", str(tmp_path / "o.step")])
        assert code in (0, 2, 3)
        assert len(capsys.readouterr().err.strip().splitlines()) <= 1
    # What was read after it is read as before.
    assert len(read_exchange(faces)) == 6
