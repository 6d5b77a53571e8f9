"""Simple shapes, motions and registering, against closed forms and the demo's truth."""

from __future__ import annotations

import numpy as np
import pytest

from tests.shapes import box_mesh, sphere
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.points.ball_in_space import offset_along_normals
from usual_clay.core.points.course import suggest_slips
from usual_clay.core.points.project import onto_line, onto_mesh, onto_plane, onto_world
from usual_clay.core.scan.closest import MOST_IN_ONE, MeshTree
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import (
    Motion,
    MotionError,
    by_plane_and_direction,
    by_principal_axes,
    by_symmetry,
    by_three_points,
    shortest_turn,
)
from usual_clay.core.scan.region import smooth_parts, within_creases
from usual_clay.core.scan.register import by_pairs, settle_onto
from usual_clay.core.scan.sample import Sample, sample_of_points
from usual_clay.core.scan.shapes import (
    ShapeError,
    ShapeSettings,
    SimpleShape,
    fit_shape,
    shape_at,
    shape_distance,
    shape_normals,
)
from usual_clay.core.scan.symmetry import mirror_plane
from usual_clay.core.spline.curve import curve_derivatives, curve_points
from usual_clay.demo.points import probed_outline, true_outline
from usual_clay.demo.scan import pose
from usual_clay.demo.shape import HOLES, SLOT, profile

AXIS = np.array([0.3, -0.5, 0.81]) / np.linalg.norm([0.3, -0.5, 0.81])
POINT = np.array([4.0, -7.0, 12.0])
SHAPES = {
    "plane": SimpleShape("plane", POINT, AXIS, span=(0, 10)),
    "sphere": SimpleShape("sphere", POINT, AXIS, radius=9.0),
    "cylinder": SimpleShape("cylinder", POINT, AXIS, radius=6.0, span=(-8, 8)),
    "cone": SimpleShape("cone", POINT, AXIS, angle=np.radians(25), span=(5, 20)),
}


def on_shape(shape: SimpleShape, count: int = 1500, noise: float = 0.02, seed: int = 3) -> Sample:
    """Points on two fifths of a shape, with noise and one in forty far off."""
    random = np.random.default_rng(seed)
    first = np.cross(AXIS, [1.0, 0, 0])
    first /= np.linalg.norm(first)
    second = np.cross(AXIS, first)
    turn, share = random.uniform(0, 2.5, count), random.uniform(0, 1, count)
    ring = np.cos(turn)[:, None] * first + np.sin(turn)[:, None] * second
    along = (shape.span[0] + share * (shape.span[1] - shape.span[0]))[:, None] * shape.axis
    if shape.kind == "plane":
        points = POINT + 10 * share[:, None] * ring
    elif shape.kind == "sphere":
        rise = (share - 0.3)[:, None]
        points = POINT + 9 * (np.sqrt(1 - rise**2) * ring + rise * AXIS)
    elif shape.kind == "cylinder":
        points = POINT + 6 * ring + along
    else:
        points = POINT + along + (along @ AXIS)[:, None] * np.tan(shape.angle) * ring
    normals = shape_normals(shape, points)
    points = points + noise * random.normal(size=count)[:, None] * normals
    points[::40] += 1.5 * normals[::40]
    return Sample(points, normals)


@pytest.mark.parametrize("kind", list(SHAPES))
def test_shapes_are_found_through_noise_and_outliers(kind: str) -> None:
    shape = SHAPES[kind]
    fit = fit_shape(on_shape(shape))
    found = fit.shape
    assert found.kind == kind
    if kind != "sphere":
        assert np.degrees(np.arccos(min(1, abs(found.axis @ AXIS)))) < 0.1
    assert found.radius == pytest.approx(shape.radius, abs=0.02)
    assert found.angle == pytest.approx(shape.angle, abs=0.002)
    if kind in ("sphere", "cone"):
        assert np.linalg.norm(found.point - POINT) < 0.05
    else:
        assert abs(shape_distance(shape, found.point[None])[0] + shape.radius) < 0.02
    # Residuals are the noise; what was put off stays off.
    assert np.sqrt(np.mean(np.delete(fit.signed, np.s_[::40]) ** 2)) == pytest.approx(0.02, rel=0.1)
    assert np.abs(fit.signed[::40]).min() > 1.2
    # The distance grows along the normal, at unit speed.
    places = on_shape(shape, 50, seed=5).points
    step = shape_distance(shape, places + 0.01 * shape_normals(shape, places))
    assert step - shape_distance(shape, places) == pytest.approx(np.full(50, 0.01), abs=1e-6)


def test_what_cannot_be_a_shape_is_refused() -> None:
    few = on_shape(SHAPES["plane"], 6)
    with pytest.raises(ShapeError, match="too few for a cone"):
        fit_shape(few, ShapeSettings("cone"))
    with pytest.raises(ShapeError, match="no simple shape is called"):
        ShapeSettings("blob")
    # A flat is no huge sphere.
    with pytest.raises(ShapeError, match="no such shape"):
        fit_shape(on_shape(SHAPES["plane"]), ShapeSettings("sphere"))


def nearest(mesh: TriangleMesh, lure_point: list[float]) -> int:
    return int(np.argmin(np.linalg.norm(pose().to_lure(mesh.vertices) - lure_point, axis=1)))


def test_drilled_holes_and_the_slot_are_recognised(lure: TriangleMesh) -> None:
    for hole in HOLES:
        _, _, belly, centre = profile(np.array([hole["x"]]))
        low = float(centre[0] - belly[0])
        seed = nearest(lure, [hole["x"] + hole["radius"], 0, low + hole["depth"] / 2])
        fit, region = shape_at(lure, seed, 0.02)
        assert fit.shape.kind == "cylinder"
        assert fit.shape.radius == pytest.approx(hole["radius"], abs=0.02)
        axis, point = fit.shape.axis @ pose().turn, pose().to_lure(fit.shape.point[None])[0]
        assert np.degrees(np.arccos(abs(axis[2]))) < 1
        assert point[:2] == pytest.approx([hole["x"], 0], abs=0.05)
        assert 100 < region.sum() < 2000
    tilt = SLOT["tilt"]
    normal = np.array([np.cos(tilt), 0, np.sin(tilt)])
    _, _, belly, centre = profile(np.array([SLOT["x"]]))
    deep = np.array([SLOT["x"], 0, float(centre[0] - belly[0])])
    deep = deep + 3.5 * np.array([-np.sin(tilt), 0, np.cos(tilt)])
    for side in (1, -1):
        fit, _ = shape_at(lure, nearest(lure, list(deep + side * SLOT["half"] * normal)), 0.02)
        assert fit.shape.kind == "plane"
        assert np.degrees(np.arccos(abs(fit.shape.axis @ pose().turn @ normal))) < 0.5
        off = (pose().to_lure(fit.shape.point[None])[0] - deep) @ normal
        assert off == pytest.approx(side * SLOT["half"], abs=0.02)


def test_creases_divide_a_box_into_its_faces() -> None:
    box = box_mesh()
    number = smooth_parts(box)
    assert (number >= 0).all()
    sizes = np.bincount(number)
    assert (sizes > 20).sum() == 6
    for part in np.flatnonzero(sizes > 20):
        inside = box.vertices[number == part]
        assert np.ptp(inside, axis=0).min() < 4
    mixed = box.vertices[:, 2] > 4
    face = within_creases(box, mixed)
    assert face.sum() < mixed.sum()
    assert np.median(box.vertices[face][:, 2]) == pytest.approx(10, abs=1)


# ---- motions ---------------------------------------------------------------------------------


def test_three_points_go_where_they_should() -> None:
    points = np.array([[3.0, 1, 2], [5, 4, 2.5], [2, 6, 9]])
    moved = by_three_points(points).apply(points)
    assert moved[0] == pytest.approx([0, 0, 0], abs=1e-12)
    assert moved[1, 1:] == pytest.approx([0, 0], abs=1e-12)
    assert moved[2, 2] == pytest.approx(0, abs=1e-12)
    assert moved[1, 0] > 0
    assert moved[2, 1] > 0
    with pytest.raises(MotionError, match="on a line"):
        by_three_points(np.array([[0.0, 0, 0], [1, 1, 1], [3, 3, 3]]))


def test_planes_and_directions_become_ground_and_axis() -> None:
    motion = by_plane_and_direction(AXIS, np.array([1.0, 0.2, 0.4]), POINT, np.zeros(3))
    assert motion.turn @ AXIS == pytest.approx([0, 0, 1])
    turned = motion.turn @ [1.0, 0.2, 0.4]
    assert turned[1] == pytest.approx(0, abs=1e-12)
    assert turned[0] > 0
    assert motion.apply(POINT[None])[0] == pytest.approx([0, 0, 0], abs=1e-12)
    assert np.linalg.det(motion.turn) == pytest.approx(1)
    with pytest.raises(MotionError, match="square to the ground"):
        by_plane_and_direction(AXIS, AXIS, None, np.zeros(3))
    back = motion.then(motion.inverse)
    assert back.apply(POINT[None])[0] == pytest.approx(POINT)
    over = shortest_turn(AXIS, -AXIS)
    assert over @ AXIS == pytest.approx(-AXIS)
    assert np.linalg.det(over) == pytest.approx(1)


def test_the_scan_is_set_straight_to_the_truth(lure: TriangleMesh) -> None:
    plane = mirror_plane(lure)
    motion = by_symmetry(lure, plane)
    whole = Motion(pose().turn, pose().shift).then(motion)
    # Its own y is y again, to 0.05 degrees, and its middle plane y = 0, to 0.05 mm.
    across = whole.turn @ [0.0, 1, 0]
    assert np.degrees(np.arccos(min(1.0, abs(across[1])))) < 0.05
    assert abs(whole.shift[1]) < 0.05
    # The outline on it then settles the rest.
    straight = TriangleMesh(motion.apply(lure.vertices), lure.triangles)
    run = true_outline()[::40]
    start = Motion(np.eye(3), straight.box.mean(axis=0) * [1, 0, 1] - run.mean(axis=0))
    settled = settle_onto(run, straight, start)
    rest = whole.then(settled.motion.inverse)
    assert np.degrees(rest.angle) < 0.05
    assert np.abs(rest.shift).max() < 0.05
    assert settled.rms < 0.03
    axes = by_principal_axes(lure)
    spread = axes.apply(lure.vertices)
    assert np.argsort(-np.ptp(spread, axis=0)).tolist() == [0, 2, 1]


def test_a_scan_settles_onto_another(lure: TriangleMesh) -> None:
    true = by_pairs(lure.vertices[:50], pose().to_lure(lure.vertices[:50]))
    assert true.rms < 1e-9
    small = Motion(
        by_three_points(np.array([[0.0, 0, 0], [1, 0.02, -0.01], [0, 1, 0.03]])).turn,
        np.array([0.4, -0.3, 0.5]),
    )
    away = small.apply(lure.vertices)
    found = settle_onto(away, lure)
    left = found.motion.apply(away) - lure.vertices
    assert np.sqrt((left**2).sum(axis=1).mean()) < 0.01
    with pytest.raises(MotionError, match="three pairs"):
        by_pairs(away[:2], lure.vertices[:2])
    line = np.arange(9.0)[:, None] * [1, 2, 3]
    with pytest.raises(MotionError, match="on a line"):
        by_pairs(line, line)


def test_trees_in_parts_answer_as_one(monkeypatch: pytest.MonkeyPatch, lure: TriangleMesh) -> None:
    assert len(lure.triangles) < MOST_IN_ONE
    points = lure.vertices[::60] + np.random.default_rng(0).normal(0, 2, lure.vertices[::60].shape)
    whole = MeshTree(lure.vertices, lure.triangles)
    monkeypatch.setattr("usual_clay.core.scan.closest.MOST_IN_ONE", 20_000)
    parts = MeshTree(lure.vertices, lure.triangles)
    assert len(parts._parts) > 6
    assert parts.nearest(points)[0] == pytest.approx(whole.nearest(points)[0], abs=1e-12)
    towards = -lure.vertex_normals[::60]
    hits = [tree.first_hits(lure.vertices[::60] - 5 * towards, towards) for tree in (whole, parts)]
    # A ray through an edge may name either triangle: the place is what counts.
    assert (hits[0][0] == hits[1][0]).mean() > 0.9
    assert hits[0][1] == pytest.approx(hits[1][1])


# ---- points and runs -------------------------------------------------------------------------


def test_points_are_brought_down() -> None:
    points = np.random.default_rng(1).normal(size=(40, 3)) * 20
    flat = onto_plane(points, POINT, AXIS)
    assert (flat - POINT) @ AXIS == pytest.approx(np.zeros(40), abs=1e-12)
    assert np.cross(points - flat, AXIS) == pytest.approx(np.zeros((40, 3)), abs=1e-12)
    line = onto_line(points, POINT, AXIS)
    assert (points - line) @ AXIS == pytest.approx(np.zeros(40), abs=1e-12)
    assert onto_world(points, "zx", 3.0)[:, 1] == pytest.approx(np.full(40, 3.0))
    assert (onto_world(points, "y")[:, [0, 2]] == 0).all()
    ball = sphere(10, 60)
    away = np.linalg.norm(onto_mesh(points, ball), axis=1)
    assert away == pytest.approx(np.full(40, 10), abs=0.06)


def test_a_ball_is_offset_along_the_scans_normals() -> None:
    ball = sphere(10, 60)
    turn = np.linspace(0, 2 * np.pi, 50)
    path = np.stack([np.cos(turn), np.sin(turn) * 0.8, 0.6 * np.sin(turn)], axis=1)
    path *= 11.5 / np.linalg.norm(path, axis=1, keepdims=True)
    moved = offset_along_normals(path, 1.5, ball)
    assert moved.kept.all()
    assert np.linalg.norm(moved.points, axis=1) == pytest.approx(np.full(50, 10), abs=0.02)
    inside = offset_along_normals(path * 8.5 / 11.5, 1.5, ball)
    assert np.linalg.norm(inside.points, axis=1) == pytest.approx(np.full(50, 10), abs=0.05)


def test_points_already_out_do_not_make_new_slips() -> None:
    run, slipped = probed_outline()
    flat = run[:, [0, 2]]
    first = suggest_slips(flat, 0.09, closed=True)
    assert (first & slipped).sum() == slipped.sum()
    again = suggest_slips(flat, 0.09, closed=True, left_out=first)
    assert again.sum() <= 2
    assert not (again & first).any()


def test_a_spline_follows_a_run_and_closes_smoothly() -> None:
    turn = np.linspace(0, 2 * np.pi, 300, endpoint=False)
    ring = np.stack([30 * np.cos(turn), 12 * np.sin(turn), 2 * np.sin(2 * turn)], axis=1)
    fit = fit_sequence(PointSequence(ring, closed=True), TraceSettings(48))
    assert fit.signed.max() < 0.005
    assert (
        fit.signed.max()
        < 0.2 * fit_sequence(PointSequence(ring, closed=True), TraceSettings(24)).signed.max()
    )
    for order in range(3):
        ends = curve_derivatives(fit.curve, np.array([0.0, 1.0]), order)[order]
        assert ends[0] == pytest.approx(ends[1], abs=1e-6 * 1000**order)
    opened = fit_sequence(PointSequence(ring[:150]), TraceSettings(12, 5))
    assert opened.curve.degree == 5
    assert opened.signed.max() < 0.01
    assert curve_points(opened.curve, np.array([0.0]))[0] == pytest.approx(ring[0], abs=0.05)
    # Away from a straight line the distance is the foot's, not that of equal parameters.
    line = np.arange(60.0)[:, None] * [1.0, 0, 0] + [0, 0, 0.5] * (np.arange(60) % 2)[:, None]
    assert fit_sequence(PointSequence(line), TraceSettings(4)).signed == pytest.approx(
        np.full(60, 0.25), abs=0.05
    )
    with pytest.raises(FitError, match="too few"):
        fit_sequence(PointSequence(ring[:8]), TraceSettings(9))
    with pytest.raises(FitError, match="one spot"):
        fit_sequence(PointSequence(np.ones((30, 3))), TraceSettings(9))
    with pytest.raises(FitError, match="control points"):
        TraceSettings(3, 3)


def test_loose_points_get_normals_to_one_side() -> None:
    random = np.random.default_rng(4)
    flat = random.uniform(-20, 20, (3000, 2))
    points = np.column_stack([flat, 3 * np.sin(flat[:, 0] / 8)])
    normals = sample_of_points(points).normals
    slope = 3 / 8 * np.cos(flat[:, 0] / 8)
    true = np.column_stack([-slope, np.zeros(3000), np.ones(3000)])
    true /= np.linalg.norm(true, axis=1, keepdims=True)
    assert np.quantile(np.einsum("nk,nk->n", normals, true), 0.02) > 0.99
