"""STEP, IGES and STL out, and read back."""

from __future__ import annotations

import re
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest

from tests.core.test_spline import any_surface
from usual_clay.core.fit.curve.fitter import fit_sequence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.files.deliver import write_pieces
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import read_curves, read_exchange
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.step_out import write_exchange
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
        with pytest.raises(FileError, match=r"no surface.* to write"):
            write_pieces(path, [], 0.1)
    with pytest.raises(FileError, match="surfaces are written as"):
        write_pieces(tmp_path / "a.doc", [("A", any_surface())], 0.1)
    with pytest.raises(FileError, match="could not be written"):
        write_pieces(tmp_path / "none" / "a.step", [("A", any_surface())], 0.1)


def test_what_cannot_be_read_is_told(tmp_path: Path) -> None:
    path = tmp_path / "words.step"
    path.write_text("no step file")
    with pytest.raises(FileError, match=r"words\.step"):
        read_exchange(path)


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
    with pytest.raises(FileError, match="no surface"):
        write_pieces(tmp_path / "a.stl", [("ring", closed)], 0.1)
    with pytest.raises(FileError, match="no curve"):
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
