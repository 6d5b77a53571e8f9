"""STEP, IGES and STL out, and read back."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.core.test_spline import any_surface
from usual_clay.core.spline.closest import foot_points
from usual_clay.files.deliver import write_surfaces
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import read_exchange, write_exchange
from usual_clay.files.mesh_file import read_mesh
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
    write_exchange(path, [("Back drape", surface.geometry)])
    text = path.read_text()
    assert "SI_UNIT(.MILLI.,.METRE.)" in text
    assert "B_SPLINE_SURFACE_WITH_KNOTS('Back drape',3,3" in text
    assert np.abs(read_exchange(path)[0].points - surface.geometry.points).max() < 1e-9


def test_stl_stays_within_the_chord_height(tmp_path: Path) -> None:
    surface = any_surface(4)
    path = tmp_path / "out.stl"
    write_surfaces(path, [("A", surface)], chord=0.05)
    mesh = read_mesh(path)
    centres = mesh.vertices[mesh.triangles].mean(axis=1)[::7]
    assert np.abs(foot_points(surface, centres).signed).max() < 0.05


def test_what_cannot_be_written_is_told(tmp_path: Path) -> None:
    for path in (tmp_path / "a.step", tmp_path / "a.stl"):
        with pytest.raises(FileError, match="no surface to write"):
            write_surfaces(path, [], 0.1)
    with pytest.raises(FileError, match="surfaces are written as"):
        write_surfaces(tmp_path / "a.doc", [("A", any_surface())], 0.1)
    with pytest.raises(FileError, match="could not be written"):
        write_surfaces(tmp_path / "none" / "a.step", [("A", any_surface())], 0.1)


def test_what_cannot_be_read_is_told(tmp_path: Path) -> None:
    path = tmp_path / "words.step"
    path.write_text("no step file")
    with pytest.raises(FileError, match=r"words\.step"):
        read_exchange(path)
