"""Curves from drawings and exchange files, and points along curves."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.make import circle
from usual_clay.core.spline.parts import evenly, length_of
from usual_clay.files.deliver import write_pieces
from usual_clay.files.errors import FileError
from usual_clay.files.svg_file import write_svg
from usual_clay.files.svg_read import read_svg
from usual_clay.files.take_in import read_splines

DRAWING = """<svg xmlns="http://www.w3.org/2000/svg" width="100mm" height="50mm"
 viewBox="0 0 200 100">
<path id="bow" d="M 20 80 Q 60 20 100 80"/>
<g transform="translate(100 0)"><circle id="ring" cx="50" cy="50" r="20"/></g>
<polyline points="0,0 20,0 20,40"/>
<text x="4" y="9">not a curve</text></svg>"""


def wave() -> BSplineCurve:
    x = np.linspace(0, 40, 9)
    points = np.stack([x, 0 * x, 5 * np.sin(x / 6)], axis=1)
    return BSplineCurve(np.concatenate([[0] * 3, np.linspace(0, 1, 7), [1] * 3]), points)


def test_a_drawing_comes_back_at_its_true_size(tmp_path: Path) -> None:
    path = tmp_path / "wave.svg"
    write_svg(path, [("wave", wave())], "side")
    ((name, back),) = read_svg(path, "side")
    assert name == "wave"
    # Smooth pieces are one curve again, of as many control points as before.
    assert len(back.points) == len(wave().points)
    assert curve_foot_points(back, evenly(wave(), 300))[2].max() < 1e-6
    assert length_of(back) == pytest.approx(length_of(wave()), rel=1e-6)


def test_units_transforms_and_shapes_of_a_drawing(tmp_path: Path) -> None:
    path = tmp_path / "drawing.svg"
    path.write_text(DRAWING)
    found = dict(read_svg(path, "top"))
    bow, ring = found["bow"], found["ring"]
    # 200 units are 100 mm; rows go down, so y is minus half of them.
    assert bow.points[[0, -1]] == pytest.approx(np.array([[10, -40, 0], [50, -40, 0]]), abs=1e-6)
    away = np.linalg.norm(evenly(ring, 100) - [75, -25, 0], axis=1)
    assert away == pytest.approx(10, abs=0.01)
    (line,) = (curve for name, curve in found.items() if name.startswith("drawing"))
    assert line.degree == 1
    assert line.points == pytest.approx(np.array([[0, 0, 0], [10, 0, 0], [10, -20, 0]]), abs=1e-6)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("<svg", "no readable SVG"),
        ('<svg xmlns="http://www.w3.org/2000/svg"/>', "no lines or curves"),
        ('<!DOCTYPE svg [<!ENTITY a "b">]><svg/>', "entities"),
    ],
)
def test_drawings_that_are_none_are_refused(tmp_path: Path, words: str, said: str) -> None:
    path = tmp_path / "bad.svg"
    path.write_text(words)
    with pytest.raises(FileError, match=said):
        read_svg(path)


def test_curves_come_back_from_step_and_iges_trimmed_and_exact(tmp_path: Path) -> None:
    ring = circle(np.zeros(3), 8.0, np.array([0, 0, 1.0]), np.array([1.0, 0, 0]))
    for suffix in (".step", ".igs"):
        path = tmp_path / f"curves{suffix}"
        write_pieces(path, [("wave", wave()), ("ring", ring)], 0.01)
        found = read_splines(path)
        assert len(found) == 2
        backs = [back for _, back in found if isinstance(back, BSplineCurve)]
        for back, own in zip(sorted(backs, key=length_of), (wave(), ring), strict=True):
            assert back.domain == (0.0, 1.0)
            away = cKDTree(evenly(own, 20_000)).query(evenly(back, 200))[0].max()
            assert away < 2e-3
            assert length_of(back) == pytest.approx(length_of(own), rel=1e-9)
    (tmp_path / "no.step").write_text("no")
    with pytest.raises(FileError, match="no readable STEP"):
        read_splines(tmp_path / "no.step")


def test_points_along_a_curve_stay_within_a_chord(tmp_path: Path) -> None:
    path = tmp_path / "points.csv"
    write_pieces(path, [('a "wave"', wave())], 0.01)
    head, *rows = path.read_text().splitlines()
    assert head == "curve,x [mm],y [mm],z [mm]"
    assert rows[0].startswith('"a ""wave"""')
    points = np.array([[float(v) for v in row.rsplit(",", 3)[1:]] for row in rows])
    along = np.linspace(0, len(points) - 1, 40 * len(points))
    straight = np.stack([np.interp(along, np.arange(len(points)), c) for c in points.T], axis=1)
    assert curve_foot_points(wave(), straight)[2].max() < 0.01
    with pytest.raises(FileError, match="there is nothing to write"):
        write_pieces(path, [], 0.01)
