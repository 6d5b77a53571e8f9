"""STEP, IGES and STL out, and read back."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import ezdxf
import numpy as np
import pytest
import trimesh

from tests.core.test_spline import any_surface
from tests.solids import box_faces, write_facets
from usual_clay.core.body.afloat import ClosedMesh
from usual_clay.core.body.operate import operate
from usual_clay.core.body.settings import JoinSettings
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.files.body_file import read_body
from usual_clay.files.deliver import DeliverSettings, Written, deliver, write_pieces
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import read_curves, read_exchange
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.step_out import Piece, write_exchange
from usual_clay.job.items import Surface
from usual_clay.job.job import Job


@pytest.mark.parametrize("suffix", [".step", ".igs"])
@pytest.mark.parametrize("rational", [False, True])
def test_control_points_come_back_the_same(tmp_path: Path, suffix: str, rational: bool) -> None:
    surfaces = [any_surface(2, rational), any_surface(5)]
    path = tmp_path / f"out{suffix}"
    write_exchange(path, [("Back", surfaces[0]), ("Belly", surfaces[1])])
    back = read_exchange(path)
    assert len(back) == 2
    for made, read in zip(surfaces, back, strict=True):
        assert np.abs(made.points - read.points).max() < 1e-9
        assert np.abs(made.knots_u - read.knots_u).max() < 1e-9
        assert np.abs(made.knots_v - read.knots_v).max() < 1e-9
        assert (made.weights is None) == (read.weights is None)
        if made.weights is not None and read.weights is not None:
            assert np.abs(made.weights - read.weights).max() < 1e-9


def test_step_says_millimetres_and_names(tmp_path: Path, demo_job: Job) -> None:
    surface = next(demo_job.all(Surface))
    path = tmp_path / "back.step"
    write_exchange(path, [("Back cast", surface.geometry)])
    text = path.read_text()
    assert "SI_UNIT(.MILLI.,.METRE.)" in text
    assert "B_SPLINE_SURFACE_WITH_KNOTS('Back cast',3,3" in text
    assert np.abs(read_exchange(path)[0].points - surface.geometry.points).max() < 1e-9


def test_stl_stays_within_the_chord_height(tmp_path: Path) -> None:
    surface = any_surface(4)
    path = tmp_path / "out.stl"
    write_pieces(path, [("A", surface)], chord=0.05)
    mesh = read_mesh(path)
    centres = mesh.vertices[mesh.triangles].mean(axis=1)[::7]
    assert np.abs(foot_points(surface, centres).signed).max() < 0.05


def test_what_cannot_be_written_is_told(tmp_path: Path) -> None:
    for path in (tmp_path / "a.step", tmp_path / "a.stl"):
        with pytest.raises(FileError, match="there is nothing to write"):
            write_pieces(path, [], 0.1)
    with pytest.raises(FileError, match="handed over is written as"):
        write_pieces(tmp_path / "a.doc", [("A", any_surface())], 0.1)
    with pytest.raises(FileError, match="could not be written"):
        write_pieces(tmp_path / "none" / "a.step", [("A", any_surface())], 0.1)


def test_what_cannot_be_read_is_told(tmp_path: Path) -> None:
    path = tmp_path / "words.step"
    path.write_text("no step file")
    with pytest.raises(FileError, match=r"words\.step"):
        read_exchange(path)


def test_every_format_holds_size_names_and_colours_as_far_as_it_can(tmp_path: Path) -> None:
    """In another unit, with another axis up: a reader that heeds these gets the same thing."""
    surface, body = any_surface(), operate("join", JoinSettings(), {"faces": box_faces()}).shape
    curve = make_curve(DrawnSettings("through", ((0, 0, 0), (20, 0, 9), (45, 0, 4), (60, 0, 30))))
    points = np.array([[0.0, 0.0, 0.0], [25.4, 0.0, 50.8]])
    pieces = [Piece("Back", surface, "#a8623f"), Piece("Block", body, "#3fa862", "Lip parts"),
              Piece("Line", curve), Piece("Probe", points)]  # fmt: skip
    low, high = np.asarray(trimesh.Trimesh(body.vertices, body.triangles).bounds)

    def give(suffix: str, **more: Any) -> Written:
        settings = DeliverSettings(suffix=suffix, unit="in", up="y", chord=0.01, **more)
        return deliver(pieces, settings, tmp_path / f"all{suffix}", "Job")

    step = give(".step")
    assert step.words == (
        "Wrote 1 surface, 1 body, 1 curve to all.step, in inches, y up. STEP does not hold 1 point"
        " list."
    )
    assert "INCH" in (text := (tmp_path / "all.step").read_text())
    assert re.findall(r"PRESENTATION_LAYER_ASSIGNMENT\('([^']*)'", text) == ["Lip parts"]
    back = read_exchange(tmp_path / "all.step")[0]
    turned = surface.points[..., [0, 2, 1]] * [1, 1, -1]
    assert np.abs(back.points - turned).max() < 1e-9
    text = give(".obj").files[0].read_text()
    assert re.findall("^o (.*)", text, re.M) == ["Back", "Block"]
    for suffix, unit in ((".glb", 1000.0), (".3mf", 1.0)):
        give(suffix)
        scene = trimesh.load(tmp_path / f"all{suffix}", force="scene")
        assert {"Back", "Block"} <= set(scene.graph.nodes_geometry) | set(scene.geometry), suffix
        block = scene.geometry[next(k for k in scene.geometry if "Block" in k)]
        size = np.ptp(block.vertices, axis=0) * unit
        assert size == pytest.approx((high - low)[[0, 2, 1]], abs=1e-3), suffix
        if suffix != ".3mf":
            assert tuple(block.visual.main_color[:3]) == (63, 168, 98)
    (drawn,) = ezdxf.readfile(give(".dxf").files[0]).modelspace()
    assert np.array(drawn.control_points) * 25.4 == pytest.approx(
        curve.points[:, [0, 2, 1]] * [1, 1, -1]
    )
    assert drawn.dxf.layer == "Line"
    each = deliver(pieces[:2], DeliverSettings(suffix=".stl", each=True), tmp_path, "Job")
    assert [file.name for file in each.files] == ["Back.stl", "Block.stl"]
    told = int(re.search(r"([\d ]+) triangles", each.words)[1].replace(" ", ""))  # type: ignore[index]
    assert told == sum(len(read_mesh(file).triangles) for file in each.files)
    give(".csv")
    assert '"Probe",1.000000,2.000000,0.000000' in (tmp_path / "all.csv").read_text()


@pytest.mark.parametrize("suffix", [".step", ".igs"])
def test_curves_come_back_the_same_closed_ones_too(tmp_path: Path, suffix: str) -> None:
    turn = np.linspace(0, 2 * np.pi, 200, endpoint=False)
    ring = np.stack([30 * np.cos(turn), 12 * np.sin(turn), 0 * turn], axis=1)
    closed = fit_sequence(PointSequence(ring, closed=True), TraceSettings(14)).curve
    arc = make_curve(DrawnSettings("arc", ((3, 0, 0), (0, 3, 1), (-3, 0, 0))))
    path = tmp_path / f"a{suffix}"
    write_pieces(path, [("ring", closed), ("arc", arc), ("face", any_surface())], 0.1)
    back = read_curves(path)
    # IGES readers take a rational arc for the circle that it is.
    for curve in (closed, arc) if suffix == ".step" else (closed,):
        found = min(
            np.abs(other.points - curve.points).max()
            for other in back
            if other.points.shape == curve.points.shape and other.degree == curve.degree
        )
        assert found < 1e-6
    with pytest.raises(FileError, match="STL does not hold 1 curve"):
        write_pieces(tmp_path / "a.stl", [("ring", closed)], 0.1)
    with pytest.raises(FileError, match="SVG does not hold 1 surface"):
        write_pieces(tmp_path / "a.svg", [("face", any_surface())], 0.1)


def test_an_svg_is_of_true_size_and_exact_for_cubics(tmp_path: Path) -> None:
    places = ((0.0, 0.0, 0.0), (20.0, 0.0, 9.0), (45.0, 0.0, 4.0), (60.0, 0.0, 30.0))
    curve = make_curve(DrawnSettings("through", places))
    write_pieces(tmp_path / "a.svg", [('the "first" <line>', curve)], 0.1)
    root = ElementTree.parse(tmp_path / "a.svg").getroot()
    (path,) = root.iter("{http://www.w3.org/2000/svg}path")
    numbers = np.array(re.findall(r"-?[0-9.]+(?:e-?[0-9]+)?", path.attrib["d"]), dtype=float)
    start, pieces = numbers[:2], numbers[2:].reshape(-1, 3, 2)
    share = np.linspace(0, 1, 30)[:, None]
    for piece in pieces:
        a, b, c, d = start, *piece
        bezier = (
            (1 - share) ** 3 * a
            + 3 * share * (1 - share) ** 2 * b
            + 3 * share**2 * (1 - share) * c
            + share**3 * d
        )
        space = np.column_stack([bezier[:, 0], np.zeros(30), -bezier[:, 1]])
        assert curve_foot_points(curve, space)[2].max() < 1e-6
        start = d
    assert start == pytest.approx([60, -30], abs=1e-6)
    width = float(root.attrib["width"].removesuffix("mm"))
    assert width == pytest.approx(np.ptp(curve.points[:, 0]) + 4, abs=0.5)
    box = [float(word) for word in root.attrib["viewBox"].split()]
    assert box[2] == pytest.approx(width, rel=1e-4)


def test_a_step_of_ten_thousand_faces_is_read_whole(tmp_path: Path) -> None:
    path = tmp_path / "many.step"
    mesh = write_facets(path)
    body = read_body(path)
    assert len(body.triangles) == len(mesh.triangles) > 10_000
    assert body.volume == pytest.approx(ClosedMesh.of(mesh.vertices, mesh.triangles).volume)
