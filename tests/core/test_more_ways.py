"""Further ways to make surfaces from curves: tips, joints, poles, patches, tapers, blanks."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest
from scipy.spatial import cKDTree

from tests.core.test_from_curves import T, curve, dome, dome_edges, places, ring
from usual_clay.core.body.operate import operate
from usual_clay.core.build.blank import BlankSettings, blank_guide
from usual_clay.core.build.blend import BlendSettings, blend
from usual_clay.core.build.cover import CoverSettings
from usual_clay.core.build.fill import FillSettings, FlatSettings, fill_guide, flat_face
from usual_clay.core.build.guide import Guide, Spend
from usual_clay.core.build.lean import lean_surface
from usual_clay.core.build.loft import LoftSettings, loft_guide
from usual_clay.core.build.net import NetSettings, net_guide
from usual_clay.core.build.rails import TwoRailSettings, two_rail_guide
from usual_clay.core.build.sections import BuildError
from usual_clay.core.build.straight import ExtrudeSettings, extrude
from usual_clay.core.build.surface_edits import MeetTwinSettings, meeting_its_twin, mirror_image
from usual_clay.core.build.turned import TubeSettings, tube_guide
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.errors import FitError
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.boundary import BORDERS, border_curve, edge_of, third_inward
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.surface import BSplineSurface, surface_normals, surface_points

EVEN = np.linspace(0, 1, 50)


def sheet(form: object, size: float = 25.0, within: float = 5e-4) -> BSplineSurface:
    grid = np.linspace(-size, size, 60)
    even = np.linspace(0, 1, 60)
    whole = form(*np.meshgrid(grid, grid, indexing="ij"))  # type: ignore[operator]
    return lean_surface(Guide((), even, even, whole), Spend(within=within)).surface


def wavy(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return np.stack([x, y, 1.5 * np.sin(x / 6) + np.cos(y / 5)], axis=-1)


@lru_cache(maxsize=1)
def ground_sheet() -> BSplineSurface:
    return sheet(wavy)


def polygon(count: int) -> tuple[BSplineCurve, ...]:
    """Edges of a polygon on the wavy sheet."""
    turn = 2 * np.pi * np.arange(count) / count + 0.3
    corners = 12 * np.column_stack([np.cos(turn), np.sin(turn)])
    ends = zip(corners, np.roll(corners, -1, axis=0), strict=True)
    return tuple(curve(wavy(*(a + (b - a) * T[:, None]).T), 10) for a, b in ends)


def test_a_loft_ends_in_a_tip_that_is_round_or_sharp() -> None:
    heights = (0.0, 3.0, 6.0, 8.0)
    sections = tuple(ring(5 * np.sqrt(1 - (z / 10) ** 2), z) for z in heights)
    tip = np.array([[0.0, 0.0, 10.0], [0.0, 0.0, -40.0]])
    turns = {}
    for way in ("sharp", "round"):
        settings = LoftSettings(within=0.02, stop=way)  # type: ignore[arg-type]
        built = lean_surface(loft_guide(sections, settings, tip), settings)
        found = places(built.surface)
        assert found[:, 2].max() == pytest.approx(10.0, abs=1e-6)
        assert built.farthest <= 0.02
        normals = surface_normals(built.surface, np.linspace(0, 1, 9), np.full(9, 1 - 1e-6))
        turns[way] = float(np.degrees(np.arccos(np.abs(normals[:, 2]))).max())
        if way == "round":
            # Half a ball.
            off = np.hypot(found[:, 0], found[:, 1]) / 5
            assert np.abs(off**2 + (found[:, 2] / 10) ** 2 - 1).max() < 0.02
    assert turns["round"] < 0.01 < 5 < turns["sharp"]
    # Without a place of its own a tip stands ahead of its section.
    alone = LoftSettings(stop="round")
    assert lean_surface(loft_guide(sections[:1], alone), alone).surface.points[..., 2].max() > 2


def test_a_loft_goes_on_from_what_lies_beside_in_tangent_and_curvature() -> None:
    sides = ground_sheet(), sheet(lambda x, y: wavy(x, y) + np.array([90.0, 0.0, 4.0]))
    first = min((border_curve(sides[0], b) for b in BORDERS), key=lambda c: -c.points[:, 0].mean())
    last = min((border_curve(sides[1], b) for b in BORDERS), key=lambda c: c.points[:, 0].mean())
    steps = {}
    for way in ("free", "G1", "G2"):
        settings = LoftSettings(within=0.02, start=way, stop=way, degree=4)  # type: ignore[arg-type]
        built = lean_surface(loft_guide((first, last), settings, None, sides[::-1]), settings)
        joints = [
            edge_joint(side, built.surface, line)
            for side, line in zip(sides, (first, last), strict=True)
        ]
        angle = max(float(np.degrees(joint.angle).max()) for joint in joints)
        steps[way] = angle, max(float(joint.step.max()) for joint in joints)
    assert steps["G1"][0] < 0.1 < 2 < steps["free"][0]
    assert steps["G2"][0] < 0.1
    assert steps["G2"][1] < 0.002 < 0.005 < steps["G1"][1]
    with pytest.raises(BuildError, match="no surface lies beside the first section"):
        loft_guide((first, last), LoftSettings(start="G1"))
    few = LoftSettings(start="G2", degree=2)
    low = loft_guide((first, last), few, None, sides)
    with pytest.raises(FitError, match="one of G2 degree 3 or more"):
        lean_surface(low, few)


def test_a_fill_bends_as_what_lies_beside_and_passes_what_lies_inside() -> None:
    ground, edges = ground_sheet(), polygon(4)
    settings = FillSettings(within=0.02, smooth=2)
    built = lean_surface(fill_guide(edges, (ground,), settings), settings)
    joints = [edge_joint(ground, built.surface, edge) for edge in edges]
    assert max(float(np.degrees(joint.angle).max()) for joint in joints) < 0.1
    assert max(float(joint.step.max()) for joint in joints) < 0.003
    assert built.total <= 130
    inside = wavy(np.array([0.0, 3.0]), np.array([5.0, -4.0]))
    line = curve(wavy(16 * T - 8, T), 8)
    plain = FillSettings(within=0.02, smooth=0)
    passed = lean_surface(fill_guide(edges, (), plain, (line,), inside), plain)
    along = curve_points(line, EVEN)
    for points in (inside, along):
        assert np.abs(foot_points(passed.surface, points).signed).max() < 0.025
    without = lean_surface(fill_guide(edges, (), plain), plain)
    assert np.abs(foot_points(without.surface, along).signed).max() > 0.2


@pytest.mark.parametrize("count", [4])
def test_a_loop_is_covered_by_one_lean_trimmed_face(count: int) -> None:
    ground, edges = ground_sheet(), polygon(count)
    # In any order, either way round; one end does not quite meet.
    loop = [edges[0], reverse(edges[-1]), *edges[1:-1]]
    lifted = edges[1].points.copy()
    lifted[0, 2] += 0.02
    loop[2] = replace(edges[1], points=lifted)
    turns = {}
    for smooth in (0, 1):
        settings = CoverSettings(smooth=smooth, within=0.02)  # type: ignore[arg-type]
        given = {"edges": [(f"e{k}", each) for k, each in enumerate(loop)]}
        given["beside"] = [("ground", ground)]  # type: ignore[list-item]
        made = operate("cover", settings, given)
        shape = made.shape
        assert shape.valid
        assert shape.faces == 1
        assert shape.open_edges == count
        assert [gap.gap for gap in made.gaps] == [pytest.approx(0.02, abs=1e-3)]
        line = np.concatenate([curve_points(each, np.linspace(0, 1, 2000)) for each in edges])
        assert cKDTree(line).query(shape.edge_points)[0].max() < 0.03
        on_rim = cKDTree(line).query(shape.vertices)[0] < 0.03
        feet = foot_points(ground, shape.vertices[on_rim])
        out = surface_normals(ground, feet.u, feet.v)
        # It faces as the ground does, and where that is asked for goes on from it.
        along = np.einsum("nk,nk->n", out, shape.normals[on_rim]).min()
        turns[smooth] = float(np.degrees(np.arccos(np.clip(along, -1, 1))))
    assert turns[1] < 0.8 < 2 < turns[0] < 60
    with pytest.raises(BuildError, match="the loop does not close"):
        operate("cover", CoverSettings(), {"edges": given["edges"][:-1]})


@pytest.mark.parametrize("count", [3, 5])
def test_a_fill_in_patches_is_smooth_across_them_and_to_what_lies_beside(count: int) -> None:
    ground, edges = ground_sheet(), polygon(count)
    middle = (0.5, -0.5, float(wavy(np.array(0.5), np.array(-0.5))[2]))
    made = []
    for part in (1, 2):
        settings = FillSettings(within=0.02, smooth=1, part=part, of=count, middle=middle)
        made.append(lean_surface(fill_guide(edges, (ground,), settings), settings))
    first, second = made
    for one in made:
        assert one.surface.points[-1, -1] == pytest.approx(middle, abs=0.01)
        assert one.total <= 80
    spoke = edge_joint(first.surface, second.surface, border_curve(first.surface, "u1"))
    assert spoke.gap.max() < 0.01
    assert np.degrees(spoke.angle).max() < 0.12
    outer = edge_joint(ground, first.surface, border_curve(first.surface, "v0"))
    assert np.degrees(outer.angle[:-3]).max() < 0.3
    with pytest.raises(BuildError, match=f"{count} edges make {count} patches, not 9"):
        fill_guide(edges, (), FillSettings(part=1, of=9))
    with pytest.raises(FitError, match="there is no patch 5 of 4"):
        FillSettings(part=5, of=4)


def test_a_net_runs_to_poles_and_keeps_a_family() -> None:
    def ellipsoid(turn: np.ndarray, way: np.ndarray) -> np.ndarray:
        return np.stack(
            [-40 * np.cos(way), 12 * np.cos(turn) * np.sin(way), 9 * np.sin(turn) * np.sin(way)],
            axis=-1,
        )

    along = tuple(
        curve(ellipsoid(np.full(500, q), np.pi * T), 12) for q in np.linspace(0, np.pi, 5)
    )
    across = tuple(curve(ellipsoid(np.pi * T, np.full(500, w)), 10) for w in (0.6, 1.2, 1.9, 2.5))
    settings = NetSettings(within=0.02)
    for families in ((along, across), (across, along)):
        guide = net_guide(*families, settings)
        assert len(guide.poles) == 2
        built = lean_surface(guide, settings)
        assert built.farthest <= 0.02
        assert built.total <= 140
        off = np.sqrt(((places(built.surface) / [40, 12, 9]) ** 2).sum(axis=1)) - 1
        assert np.abs(off).max() * 9 < 0.06
    lines = tuple(curve(np.column_stack([40 * T, 0 * T + y, 0 * T]), 6) for y in (0, 10, 20))
    rows = tuple(curve(np.column_stack([0 * T + x, 20 * T, 0 * T + 0.1]), 6) for x in (0, 20, 40))
    for keeps, own in (("along", 0.0), ("across", 0.1), ("both", 0.05)):
        kept = NetSettings(within=0.2, keeps=keeps)  # type: ignore[arg-type]
        built = lean_surface(net_guide(lines, rows, kept), kept)
        assert built.distances["along 2"].max() == pytest.approx(own, abs=0.005)


def test_rails_tubes_and_pushed_curves_do_as_they_are_asked() -> None:
    rails = tuple(curve(np.column_stack([100 * T, y + 0 * T, 0 * T]), 6) for y in (0.0, 20.0))
    profile = curve(np.column_stack([0 * T, 20 * T, 5 * np.sin(np.pi * T)]), 6)
    guide = two_rail_guide(rails, (profile,), TwoRailSettings(marks=(0.5, 0.7)))
    row = int(np.argmin(np.abs(guide.grid[:, 0, 0] - 50)))
    ends = guide.grid[row, [0, -1], 0]
    assert ends[1] - ends[0] == pytest.approx(20.0, abs=1.0)
    with pytest.raises(BuildError, match="of the rails cross"):
        two_rail_guide(rails, (profile,), TwoRailSettings(marks=(0.5, 0.7, 0.6, 0.6)))
    short = curve(np.column_stack([50 + 0 * T, 2 + 16 * T, 5 * np.sin(np.pi * T)]), 8)
    for brought, high in (("both", 6.25), ("moved", 5.0), ("scaled", 5.0)):
        guide = two_rail_guide(rails, (short,), TwoRailSettings(brought=brought))  # type: ignore[arg-type]
        drawn = guide.grid[len(guide.u) // 2]
        assert drawn[[0, -1], 1] == pytest.approx([0, 20], abs=1e-6)
        assert drawn[:, 2].max() == pytest.approx(high, abs=0.02)
        assert guide.gaps[0].gap == pytest.approx(2.0, abs=1e-3)
    path = curve(np.column_stack([30 * T, 5 * np.sin(3 * T), 0 * T]), 8)
    flat = TubeSettings(radii=(2.0,), ends="flat", within=0.02)
    tube = lean_surface(tube_guide(path, None, flat), flat)
    away = curve_foot_points(path, places(tube.surface))[2]
    assert away.max() < 2.03
    assert away.min() < 1e-6
    assert tube.farthest <= 0.02
    circle = ring(10, 0.0)
    leaning = places(extrude(circle, None, ExtrudeSettings(length=10, taper=np.radians(10))))
    wide = 10 + leaning[:, 2] * np.tan(np.radians(10))
    assert np.hypot(leaning[:, 0], leaning[:, 1]) == pytest.approx(wide, abs=0.005)
    normal = np.array([0.3, 0, 1]) / np.hypot(0.3, 1)
    plane = SimpleShape("plane", np.array([0, 0, 8.0]), normal, 0.0, 0.0, (0.0, 0.0))
    top = surface_points(extrude(circle, None, ExtrudeSettings(), plane), EVEN, np.ones(50))
    assert (top - plane.point) @ normal == pytest.approx(0, abs=1e-9)
    roof = sheet(dome, 16.0, 1e-3)
    up = surface_points(extrude(circle, None, ExtrudeSettings(), roof), EVEN, np.ones(50))
    assert np.abs(foot_points(roof, up).signed).max() < 0.003
    with pytest.raises(BuildError, match="places of the curve lead past it"):
        extrude(circle, None, ExtrudeSettings(length=-10), roof)


def test_flat_faces_are_exact_and_blanks_fill_their_box() -> None:
    circle = ring(10, 3.0)
    face = flat_face((circle,), FlatSettings())
    assert isinstance(face, BSplineSurface)
    found = places(face)
    assert found[:, 2] == pytest.approx(3.0, abs=1e-9)
    assert np.hypot(found[:, 0], found[:, 1]).max() == pytest.approx(10, abs=0.01)
    rim = surface_points(face, EVEN, np.ones(50))
    assert curve_foot_points(circle, rim)[2].max() < 1e-9
    square = dome_edges(8.0 * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]))
    with pytest.raises(BuildError, match=r"they leave it by \d\.\d+ mm near"):
        flat_face(square, FlatSettings())
    box = np.array([[0.0, -10, -5], [80.0, 10, 15]])
    for form, pointed in (("half", "both"), ("tube", "end"), ("flat", "none")):
        settings = BlankSettings(form=form, pointed=pointed, nv=8)  # type: ignore[arg-type]
        blank = lean_surface(blank_guide(box, settings), settings).surface
        assert blank.counts == (8, 8)
        seen = places(blank)
        assert np.ptp(seen[:, 0]) == pytest.approx(80, abs=0.5)
        assert np.ptp(seen[:, 1]) == pytest.approx(20, abs=0.8)
    with pytest.raises(FitError, match="as many control points as you ask for"):
        BlankSettings(nu=0)


def test_blends_are_g3_and_a_surface_meets_its_twin() -> None:
    even = np.linspace(0, 1, 40)
    x, y = np.meshgrid(20 * even, 30 * even, indexing="ij")
    spend = Spend(within=1e-4, degree=4)
    one, other = (
        lean_surface(Guide((), even, even, np.stack(part, -1)), spend).surface
        for part in ((x, y, 0.002 * x**3 + np.sin(y / 8)), (x + 35, y, 5 + np.cos(y / 8) + 0.2 * x))
    )
    made = blend(one, other, BlendSettings(first_smooth=3, second_smooth=3))
    # Up to the pace all three derivatives across are those of the surface that it goes on from.
    own, near = edge_of(one, "u1"), edge_of(made, "v0")
    t = np.linspace(0, 1, 9)
    pace = -np.linalg.norm(curve_points(near.first, t), axis=1) / np.linalg.norm(
        curve_points(own.first, t), axis=1
    )
    assert np.ptp(pace) < 1e-9
    thirds = curve_points(third_inward(one, "u1"), t), curve_points(third_inward(made, "v0"), t)
    assert thirds[1] == pytest.approx(pace[:, None] ** 3 * thirds[0], abs=1e-6)
    assert np.abs(thirds[1]).max() > 0.1
    # A strength that changes along the edge leaves the joint as exact.
    uneven = BlendSettings(first_strength=0.6, first_end=1.4)
    joint = edge_joint(one, blend(one, other, uneven), border_curve(one, "u1"))
    assert np.degrees(joint.angle).max() < 1e-4
    assert joint.step.max() < 1e-4
    half = np.stack([x, 0.5 * y + 0.02, 8 - 0.01 * (0.5 * y + 3) ** 2], axis=-1)
    side = lean_surface(Guide((), even, even, half), Spend(within=1e-3)).surface
    meets = meeting_its_twin(side, MeetTwinSettings())
    twin = mirror_image(meets, (np.zeros(3), np.array([0.0, 1.0, 0.0])))
    border = min((border_curve(meets, b) for b in BORDERS), key=lambda c: abs(c.points[:, 1]).max())
    joint = edge_joint(meets, twin, border)
    assert np.degrees(joint.angle).max() < 1e-6
    assert joint.gap.max() < 1e-9
    assert joint.step.max() < 1e-6


def test_borders_are_their_curves_exactly_when_asked() -> None:
    ground, loose = ground_sheet(), polygon(4)
    starts = [edge.points[0] for edge in loose]
    edges = tuple(
        BSplineCurve(edge.knots, np.concatenate([edge.points[:-1], starts[(k + 1) % 4][None]]))
        for k, edge in enumerate(loose)
    )
    settings = FillSettings(within=0.02, smooth=1, borders="exact")
    built = lean_surface(fill_guide(edges, (ground,), settings), settings)
    for edge in edges:
        places_on = curve_points(edge, EVEN)
        ends = [border_curve(built.surface, border) for border in BORDERS]
        assert min(float(curve_foot_points(end, places_on)[2].max()) for end in ends) < 1e-9
        assert np.degrees(edge_joint(ground, built.surface, edge).angle).max() < 0.1
    assert built.total <= 130
    apart = np.concatenate([edges[0].points[:-1], edges[0].points[-1:] + 0.01])
    gap = BSplineCurve(edges[0].knots, apart)
    with pytest.raises(BuildError, match="apart: exact borders take edges that meet"):
        fill_guide((gap, *edges[1:]), (), settings)
    with pytest.raises(BuildError, match="four edges or fewer"):
        fill_guide(polygon(5), (), FillSettings(borders="exact", mend=1.0))
    sections = edges[0], edges[2]
    lofted = LoftSettings(within=0.02, borders="exact")
    made = lean_surface(loft_guide(sections, lofted), lofted).surface
    for section in sections:
        seen = curve_points(section, EVEN)
        assert (
            min(
                float(curve_foot_points(border_curve(made, border), seen)[2].max())
                for border in BORDERS
            )
            < 1e-9
        )
