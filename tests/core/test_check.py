"""Checks against closed forms: curvature, draft, stripes, joints of known figures, dents."""

from __future__ import annotations

import numpy as np
import pytest
from OCP.Geom import Geom_CylindricalSurface, Geom_RectangularTrimmedSurface, Geom_ToroidalSurface
from OCP.GeomConvert import GeomConvert
from OCP.gp import gp_Ax3, gp_Dir, gp_Pnt
from trimesh.creation import icosphere

from tests.solids import flat, made
from usual_clay.bench.stage.judging import Scaling, contour_step, on_contours, scale_of, shades
from usual_clay.core.body.faces import faces_of
from usual_clay.core.body.kernel import surface_from_kernel
from usual_clay.core.body.settings import JoinSettings
from usual_clay.core.check.curvature import bent, draft_angle
from usual_clay.core.check.cut_comb import comb_of_cut, comb_of_isocurves, words_of
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.check.joints import GRADES, face_of_surface, find_joints
from usual_clay.core.check.reflection import lamp_lines, mirrored, room, stripes
from usual_clay.core.check.spots import spots_of
from usual_clay.core.check.thickness import wall_thickness
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.job.checking import NothingNearError, against_scan
from usual_clay.job.combs import parts_of
from usual_clay.job.face_figures import tightest_of, undercut_of
from usual_clay.job.items import Surface

AXES = gp_Ax3(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))


def from_kernel(surface: object, u: float, v: tuple[float, float]) -> BSplineSurface:
    trimmed = Geom_RectangularTrimmedSurface(surface, 0, u, *v)
    return surface_from_kernel(GeomConvert.SurfaceToBSplineSurface_s(trimmed))


def paraboloid(a: float, b: float) -> BSplineSurface:
    """Return z = a x^2 + b y^2 over [-1, 1] squared, exactly."""
    x = np.array([-1.0, 0.0, 1.0])
    square = np.array([1.0, -1.0, 1.0])
    points = np.stack(
        [*np.meshgrid(x, x, indexing="ij"), a * square[:, None] + b * square[None]], axis=-1
    )
    knots = even_knots(3, 2)
    return BSplineSurface(knots, knots, points)


def places(surface: BSplineSurface, count: int = 15) -> tuple[np.ndarray, np.ndarray]:
    t = np.linspace(0.05, 0.95, count)
    u, v = (x.ravel() for x in np.meshgrid(t, t, indexing="ij"))
    return u * surface.knots_u[-1], v * surface.knots_v[-1]


def test_curvature_of_torus_saddle_and_bowl() -> None:
    big, small = 10.0, 3.0
    torus = from_kernel(Geom_ToroidalSurface(AXES, big, small), 1.5, (0.0, 6.0))
    found = bent(torus, *places(torus))
    reach = np.hypot(found.points[:, 0], found.points[:, 1])
    across = (reach - big) / small
    assert found.gaussian == pytest.approx(across / small / reach, abs=1e-9)
    assert np.abs(found.mean) == pytest.approx(np.abs((1 / small + across / reach) / 2), abs=1e-9)
    assert found.smallest_radius == pytest.approx(np.full(len(reach), small), rel=1e-9)
    for a, b in ((0.3, -0.2), (0.4, 0.1)):
        surface = paraboloid(a, b)
        found = bent(surface, *places(surface))
        x, y = found.points[:, 0], found.points[:, 1]
        slope = 1 + (2 * a * x) ** 2 + (2 * b * y) ** 2
        assert found.gaussian == pytest.approx(4 * a * b / slope**2, abs=1e-9)
        mean = ((1 + 4 * b * b * y * y) * 2 * a + (1 + 4 * a * a * x * x) * 2 * b) / 2
        assert found.mean == pytest.approx(mean / slope**1.5, abs=1e-9)
        assert (found.least <= found.greatest).all()


def test_draft_of_a_cone_and_the_tightest_place_and_undercut() -> None:
    lean = np.radians(7)
    t = np.linspace(0, 2 * np.pi, 9)
    normals = np.stack([np.cos(t) * np.cos(lean), np.sin(t) * np.cos(lean),
                        np.full(9, np.sin(lean))], axis=1)  # fmt: skip
    assert draft_angle(normals, np.array([0, 0, 2.0])) == pytest.approx(np.full(9, lean))
    bowl = paraboloid(0.5, 0.2)
    radius, at = tightest_of(bowl)
    assert radius == pytest.approx(1.0, rel=5e-3)
    assert np.abs(at[:2]).max() < 0.05
    up = np.array([0, 0, 1.0])
    assert undercut_of(bowl, up) in (0.0, 1.0)
    assert undercut_of(bowl, up) + undercut_of(bowl, -up) == pytest.approx(1.0)


def test_stripes_of_a_cylinder_lie_where_they_must() -> None:
    """On a lying cylinder the mirrored height is twice the normal's, seen from one side."""
    cylinder = from_kernel(
        Geom_CylindricalSurface(gp_Ax3(gp_Pnt(0, 0, 0), gp_Dir(0, 1, 0)), 5.0), 6.0, (0.0, 20.0)
    )
    u, v = places(cylinder, 60)
    found = bent(cylinder, u, v)
    eye = np.array([1.0, 0.0, 0.0])
    facing = found.normals @ eye > 0.2
    angle = np.arctan2(found.normals[:, 2], found.normals[:, 0])
    # The eye looks level: a normal raised by an angle mirrors what stands twice as high.
    height = np.arcsin(np.sin(2 * angle))
    told = stripes(found.normals, eye, np.array([0.0, 0, 1]), 14)
    sharp = np.abs(np.sin(14 * height)) > 0.3
    exact = (np.sin(14 * height) > 0).astype(float)
    assert np.abs(told - exact)[facing & sharp].max() < 0.05
    scale = scale_of("mean", [found.mean], [found.area], Scaling())
    assert scale[1] == pytest.approx(0.1, rel=1e-6)
    assert np.ptp(shades("mean", found.mean, (-0.1, 0.1)), axis=0).max() < 1e-9
    assert scale_of("mean", [found.mean], [found.area], Scaling(0.02, 0.3)) == (0.02, 0.3)
    # Where nothing lies behind half of a skin, the walls of the rest set the scale.
    walls = np.array([2.0, 2.0, 2.4, np.inf, np.inf, np.inf])
    scale = scale_of("walls", [walls], [np.ones(6)], Scaling())
    assert scale[1] == pytest.approx(3.0)
    assert np.isfinite(shades("walls", walls, scale)).all()
    assert np.isfinite(scale_of("walls", [walls[3:]], [np.ones(3)], Scaling())).all()
    # A lamp's tubes along the cylinder: one straight above, the others by equal turns.
    tilt = np.arctan2(found.normals[:, 0], found.normals[:, 2])
    lit = lamp_lines(found.normals, np.array([1.0, 0, 0]), 6) > 0.9
    away = np.abs((tilt + np.pi / 12) % (np.pi / 6) - np.pi / 12)
    assert lit[away < 0.01].all()
    assert not lit[away > 0.1].any()


def test_a_room_is_mirrored_from_where_the_eye_looks() -> None:
    """A level mirror seen from straight above shows the ceiling; one to the side a window."""
    eye = np.array([[0.0, 0, 1], [0.6, 0, 0.8]])
    way = mirrored(np.array([[0.0, 0, 1]]), eye[1])
    assert way == pytest.approx(np.array([[-0.6, 0, 0.8]]))
    up = np.array([[0.0, 0, 1], [0.0, -1, 0]])
    above, aside = room(up, eye[0])[0], room(np.array([[np.sqrt(0.5), 0, np.sqrt(0.5)]]), eye[0])[0]
    assert above == pytest.approx(0.62)
    assert aside in (0.96, 0.18)
    # On the floor light and dark tiles, and nothing else.
    below = room(np.array([[0.1, 0.05, -1.0], [0.05, 0.3, -1.0]]) / 1.02, np.array([0.0, 0, -1]))
    assert set(np.round(below, 2)) <= {0.16, 0.26}


def test_walls_are_as_thick_as_they_were_made() -> None:
    outer, inner = icosphere(subdivisions=5, radius=20), icosphere(subdivisions=5, radius=17)
    vertices = np.concatenate([outer.vertices, inner.vertices + np.array([0, 0, 1])])
    triangles = np.concatenate([outer.faces, inner.faces[:, ::-1] + len(outer.vertices)])
    normals = outer.vertices / 20
    thick = wall_thickness(outer.vertices, normals, MeshTree(vertices, triangles))
    # From the outer ball's skin towards its middle to a ball that lies higher by 1 mm.
    z = normals[:, 2]
    exact = 20 - (z + np.sqrt(z**2 - 1 + 17**2))
    assert np.abs(thick - exact).max() < 0.05
    assert thick.min() == pytest.approx(2, abs=0.05)


def test_contour_lines_lie_at_round_figures() -> None:
    assert contour_step((0.0, 10.0)) == pytest.approx(1.0)
    assert contour_step((-0.1, 0.1)) == pytest.approx(0.02)
    slope = np.linspace(0, 10, 101)[:, None] * np.ones((1, 5))
    lines = on_contours(slope, (0.0, 10.0))
    assert np.flatnonzero(lines[:, 2]).tolist() == list(range(10, 101, 10))


def wall(lift: float, lean: float, bend: float, flow: float = 0.0) -> BSplineSurface:
    """Return a sheet beside x = 0 to the right, leaning and bending away from level."""
    x = np.array([0.0, 10 / 3, 20 / 3, 10.0])
    y = np.array([0.0, 20.0])
    # The control points of a cubic: what is square to the third, what is cubic to the last.
    height = lift + np.tan(lean) * x + bend * 50 * np.array([0, 0, 1 / 3, 1])
    height = height + flow * 1000 / 6 * np.array([0, 0, 0, 1])
    points = np.stack([*np.meshgrid(x, y, indexing="ij"), np.repeat(height[:, None], 2, 1)], -1)
    return BSplineSurface(even_knots(4, 3), even_knots(2, 1), points)


@pytest.mark.parametrize(("lift", "lean", "bend", "flow", "grade"), [
    (0.0, 0.0, 0.0, 0.0, "G3"), (0.0, 0.0, 0.0, 0.004, "G2"), (0.0, 0.0, 0.05, 0.0, "G1"),
    (0.0, 3.0, 0.0, 0.0, "G0"), (0.05, 0.0, 0.0, 0.0, "open"),
])  # fmt: skip
def test_joints_of_known_gap_angle_step_and_flow(
    lift: float, lean: float, bend: float, flow: float, grade: str
) -> None:
    left = flat((-10, 0, 0), (0, 0, 0), (0, 20, 0), (-10, 20, 0))
    faces = [
        face_of_surface("Left", left),
        face_of_surface("Right", wall(lift, np.radians(lean), bend, flow)),
    ]
    (joint,) = find_joints(faces, 0.2)
    assert joint.grade == grade
    assert joint.length == pytest.approx(20)
    assert joint.gap == pytest.approx(lift, abs=1e-9)
    assert np.degrees(joint.angle) == pytest.approx(lean, abs=1e-6)
    # Along it each class that is wanted is reached, or not, as the class of the whole says.
    for k, wanted in enumerate(GRADES[1:]):
        short, reached = joint.short_of(wanted)[1:-1], GRADES.index(grade)
        assert (short > 1).all() if k >= reached else (short <= 1).all(), wanted
    if not lean and not lift:
        assert joint.step == pytest.approx(bend, rel=1e-6, abs=1e-9)
        assert joint.flow == pytest.approx(flow, rel=1e-4, abs=1e-5)


def test_edges_that_run_away_from_each_other_have_no_joint() -> None:
    strip = flat((0, 20, 0), (0, 0, 0), (3, 0, 0), (3, 20, 0))
    left = flat((-10, 0, 0), (0, 0, 0), (0, 20, 0), (-10, 20, 0))
    faces = [face_of_surface("Strip", strip), face_of_surface("Left", left)]
    # The short sides of the strip lie within the limit too, but lead away from the other sheet.
    (joint,) = find_joints(faces, 5.0)
    assert joint.length == pytest.approx(20)


def test_a_joined_block_has_twelve_square_joints() -> None:
    from tests.solids import box_faces

    whole = made("join", JoinSettings(), faces=box_faces()).shape
    joints = find_joints(faces_of("Block", whole), 0.1)
    assert len(joints) == 12
    assert {joint.grade for joint in joints} == {"G0"}
    assert all(np.degrees(joint.angle) == pytest.approx(90) for joint in joints)
    assert sorted(round(joint.length) for joint in joints) == [10] * 4 + [20] * 4 + [30] * 4


def test_what_lies_past_the_end_of_what_was_made_is_not_off_it() -> None:
    """Two sheets with a crease, under a scan that reaches farther and stands off by 0.03 mm."""
    x, y = np.meshgrid(np.linspace(-14, 14, 141), np.linspace(-3, 23, 131), indexing="ij")
    scan = TriangleMesh(
        np.stack([x, y, 0.03 - np.maximum(x, 0)], axis=-1).reshape(-1, 3), grid_triangles(141, 131)
    )
    sheets = [
        Surface(id=name, name=name, geometry=flat(*corners))
        for name, corners in {
            "Left": ((-10, 0, 0), (0, 0, 0), (0, 20, 0), (-10, 20, 0)),
            "Right": ((0, 0, 0), (10, 0, -10), (10, 20, -10), (0, 20, 0)),
        }.items()
    ]
    found = against_scan(sheets, scan, Tolerance(0.05))
    assert found.report.max == pytest.approx(0.03, abs=1e-6)
    assert found.spots == []
    assert scan.vertex_areas.sum() - found.unmade == pytest.approx(200 + 200 * np.sqrt(2), rel=0.02)
    # Where all lies far off the figures of nothing would be no figures.
    away = TriangleMesh(scan.vertices + np.array([0.0, 0, 500]), scan.triangles)
    with pytest.raises(NothingNearError, match="nothing lies within 1 mm of what is shown"):
        against_scan(sheets, away, Tolerance(0.05))
    # Over the crease nothing ends.
    assert found.judged[np.abs(scan.vertices @ [1, 0, 0]) + (y.ravel() - 10) ** 2 < 0.01].all()


def test_spots_of_known_dents() -> None:
    step = np.linspace(0, 40, 81)
    x, y = np.meshgrid(step, step, indexing="ij")
    depth = np.zeros_like(x)
    for (cx, cy), radius, deep in (((10, 10), 4.0, -0.3), ((30, 28), 2.5, 0.2)):
        depth += deep * (np.hypot(x - cx, y - cy) < radius)
    mesh = TriangleMesh(np.stack([x, y, 0 * x], axis=-1).reshape(-1, 3), grid_triangles(81, 81))
    first, second = spots_of(mesh, depth.ravel(), 0.05)
    assert first.area == pytest.approx(np.pi * 16, rel=0.06)
    assert second.area == pytest.approx(np.pi * 6.25, rel=0.15)
    assert first.greatest == pytest.approx(-0.3)
    assert second.mean == pytest.approx(0.2)
    assert np.linalg.norm(first.at[:2] - [10, 10]) < 4
    assert spots_of(mesh, depth.ravel(), 0.5) == []


def test_combs_on_a_cut_are_those_of_the_exact_curve() -> None:
    # An eighth of a cylinder of 20 mm round the axis z, cut square to x: straight lines; square
    # to z: arcs; leaning by 30 degrees, square to z: an ellipse.
    radius, lean = 20.0, np.radians(30)
    arc = make_curve(DrawnSettings("arc", tuple(
        (radius * np.cos(a), radius * np.sin(a), 0.0) for a in (0.0, 0.6, 1.2)
    )))  # fmt: skip
    for angle in (0.0, lean):
        turn = np.array(
            [[1, 0, 0], [0, np.cos(angle), -np.sin(angle)], [0, np.sin(angle), np.cos(angle)]]
        )
        ends = [arc.points @ turn.T, (arc.points + np.array([0.0, 0, 40])) @ turn.T]
        weights = None if arc.weights is None else np.stack([arc.weights] * 2, axis=1)
        surface = BSplineSurface(arc.knots, even_knots(2, 1), np.stack(ends, axis=1), weights)
        (part,) = parts_of(Surface(id="s", name="s", geometry=surface))
        (line,) = comb_of_cut(*part, 2, 20.0)
        assert np.abs(line.points[:, 2] - 20).max() < 1e-9
        bend = np.linalg.norm(line.curvature, axis=1)
        # Half axes of the ellipse, and its curvature at each place.
        a, b = radius, radius / np.cos(angle)
        off = np.arccos(np.clip(line.points[:, 0] / a, -1, 1))
        exact = a * b / (a**2 * np.sin(off) ** 2 + b**2 * np.cos(off) ** 2) ** 1.5
        assert np.abs(bend - exact).max() < 1e-9
        assert np.abs(line.curvature[:, 2]).max() < 1e-12
        assert not len(line.inflections)
    rows = comb_of_isocurves(surface, "u", 3)
    assert all(np.linalg.norm(x.curvature, axis=1) == pytest.approx(1 / radius) for x in rows)
    assert "3 lines, no inflection, smallest radius 20 mm" in words_of(rows)
