"""Distances, lengths, radii, areas and angles against closed forms; and as items that follow."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from OCP.Geom import Geom_CylindricalSurface, Geom_ToroidalSurface
from OCP.gp import gp_Ax3, gp_Dir, gp_Pnt
from trimesh.creation import icosphere

from tests.core.test_check import from_kernel
from tests.solids import flat
from usual_clay.core.check.measure import (
    DistanceSettings,
    MeasureError,
    SizeSettings,
    WallSettings,
    area_of_mesh,
    area_of_surface,
    length_of_curve,
    measure_between,
    reach_along,
    smallest_radius,
    thing_of_curve,
    thing_of_mesh,
    thing_of_points,
    thing_of_surface,
)
from usual_clay.core.check.thickness import thinnest_wall
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.job_file import read_job, write_job
from usual_clay.job.edits import make
from usual_clay.job.items import Curve, Dimension, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import remade, stale

# As good as once round.
ROUND = 2 * np.pi * 0.9999


def line(*places: tuple[float, float, float]) -> BSplineCurve:
    return BSplineCurve(even_knots(len(places), 1), np.array(places, dtype=float))


def torus() -> BSplineSurface:
    """Return a ring about z of radii 20 and 3, as good as closed."""
    whole = Geom_ToroidalSurface(gp_Ax3(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), 20, 3)
    return from_kernel(whole, ROUND, (0.0, ROUND))


def test_skew_lines_balls_and_rings_are_as_far_apart_as_they_are() -> None:
    one, other = line((0, 0, 0), (100, 0, 0)), line((30, -40, 7), (30, 40, 7))
    figure = measure_between(thing_of_curve(one), thing_of_curve(other), "least")
    assert figure.value == pytest.approx(7, abs=1e-9)
    assert figure.ends[0] == pytest.approx([30, 0, 0], abs=1e-6)
    assert measure_between(thing_of_curve(one), thing_of_curve(other), "angle").value == (
        pytest.approx(90)
    )
    along = measure_between(thing_of_curve(one), thing_of_curve(other), "along x")
    assert along.value == pytest.approx(20)
    assert measure_between(thing_of_curve(one), thing_of_curve(other), "greatest").value == (
        pytest.approx(np.hypot(70, 7), rel=1e-3)
    )
    # A tube about y of radius 5 and a ring about z of radii 20 and 3 beside it.
    side = Geom_CylindricalSurface(gp_Ax3(gp_Pnt(60, -3, 0), gp_Dir(0, 1, 0)), 5.0)
    tube, ring = from_kernel(side, 6.0, (0.0, 6.0)), torus()
    figure = measure_between(thing_of_surface(tube), thing_of_surface(ring), "least")
    assert figure.value == pytest.approx(60 - 5 - 23, abs=1e-5)
    ball = icosphere(subdivisions=5, radius=10)
    far = thing_of_points(np.array([[0.0, 0, 25], [0, 0, 40]]))
    figure = measure_between(thing_of_mesh(ball.vertices, ball.faces), far, "least")
    assert figure.value == pytest.approx(15, abs=0.01)
    with pytest.raises(MeasureError, match="direction"):
        measure_between(far, thing_of_curve(one), "angle")


def test_lengths_radii_areas_and_reaches_are_those_of_closed_forms() -> None:
    ring = torus()
    assert smallest_radius(ring).value == pytest.approx(3, rel=1e-3)
    assert area_of_surface(ring).value == pytest.approx(4 * np.pi**2 * 20 * 3, rel=1e-3)
    assert area_of_surface(flat((0, 0, 0), (4, 0, 0), (4, 5, 0), (0, 5, 0))).value == (
        pytest.approx(20)
    )
    ball = icosphere(subdivisions=5, radius=10)
    assert area_of_mesh(ball.vertices, ball.faces).value == pytest.approx(400 * np.pi, rel=2e-3)
    assert reach_along(ball.vertices, 2).value == pytest.approx(20, abs=1e-6)
    bent = line((0, 0, 0), (3, 4, 0), (3, 4, 12))
    assert length_of_curve(bent).value == pytest.approx(17, rel=1e-4)
    assert smallest_radius(line((0, 0, 0), (1, 0, 0))).words == "straight"
    # A parabola's tightest bend is at its foot.
    knots = np.array([0.0, 0, 0, 1, 1, 1])
    bowl = BSplineCurve(knots, np.array([[-5.0, 0, 5], [0, 0, -5], [5, 0, 5]]))
    tight = smallest_radius(bowl)
    assert tight.value == pytest.approx(2.5, rel=1e-4)
    assert tight.ends[0] == pytest.approx([0, 0, 0], abs=0.01)


def test_a_dimension_follows_goes_stale_and_comes_back_from_its_file(tmp_path: Path) -> None:
    job = Job("Measured")
    plate = Surface(
        id="surface-1", name="Plate", geometry=flat((0, 0, 0), (40, 0, 0), (40, 30, 0), (0, 30, 0))
    )
    edge = Curve(id="curve-1", name="Edge", geometry=line((0, 0, 8), (40, 0, 8)))
    job = job.with_item(plate).with_item(edge)
    job, gap, _ = make.add(job, "distance", DistanceSettings(), one="surface-1", other="curve-1")
    job, long, _ = make.add(job, "size", SizeSettings("along x"), thing="surface-1")
    assert isinstance(gap, Dimension)
    assert gap.figure.value == pytest.approx(8)
    assert long.figure.words == "40.000 mm"
    higher = replace(edge, geometry=line((0, 0, 11), (40, 0, 11)))
    job = job.with_item(higher)
    assert list(stale(job)) == [gap.id]
    job = remade(job, job.the(gap.id, Dimension))
    assert job.the(gap.id, Dimension).figure.value == pytest.approx(11)
    write_job(tmp_path / "m.uclay", job)
    again = read_job(tmp_path / "m.uclay")
    assert not list(stale(again))
    assert again.the(gap.id, Dimension).figure.value == pytest.approx(11)
    with pytest.raises(MeasureError, match="length of curves"):
        make.add(job, "size", SizeSettings("length"), thing="surface-1")


def test_a_wall_is_told_where_it_is_marked_and_where_it_is_thinnest() -> None:
    outer, inner = icosphere(subdivisions=5, radius=10), icosphere(subdivisions=5, radius=8)
    vertices = np.concatenate([outer.vertices, inner.vertices + np.array([0.5, 0, 0])])
    hollow = inner.faces[:, ::-1] + len(outer.vertices)
    triangles = np.concatenate([outer.faces, hollow])
    marked = np.array([[-12.0, 0, 0]])
    figure = thinnest_wall(vertices, triangles, marked)
    assert figure.value == pytest.approx(2.5, abs=0.02)
    assert figure.ends == pytest.approx(np.array([[-10, 0, 0], [-7.5, 0, 0]]), abs=0.1)
    both = thinnest_wall(vertices, triangles, np.concatenate([marked, -marked]))
    assert both.value == pytest.approx(1.5, abs=0.02)
    anywhere = thinnest_wall(vertices, triangles, np.zeros((0, 3)))
    assert anywhere.value == pytest.approx(1.5, abs=0.02)
    with pytest.raises(MeasureError, match="nothing lies behind"):
        thinnest_wall(np.eye(3), np.array([[0, 1, 2]]), marked)
    job = Job("Walls")
    scan = Scan(id="scan-1", name="Ball", mesh=TriangleMesh(vertices, triangles))
    job, wall, _ = make.add(job.with_item(scan), "wall", WallSettings((12.0, 0, 0)), thing="scan-1")
    assert isinstance(wall, Dimension)
    assert wall.figure.value == pytest.approx(1.5, abs=0.02)
