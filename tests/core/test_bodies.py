"""Bodies against closed forms: joined, cut, pushed, hollowed, rounded; and what is refused."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import pytest
import trimesh
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
)
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from scipy.interpolate import make_interp_spline

from tests import solids
from tests.solids import box_faces, flat, line, made, square
from usual_clay.core.body import combine, rounds
from usual_clay.core.body.body_shape import BodyError, BodyShape
from usual_clay.core.body.faces import faces_of
from usual_clay.core.body.mass import area_of, forget, volume_of
from usual_clay.core.body.rounds import attempt
from usual_clay.core.body.settings import (
    BevelSettings,
    CloseSettings,
    CombineSettings,
    DrillSettings,
    JoinSettings,
    PadSettings,
    PartSettings,
    RoundSettings,
    ShellSettings,
    ThickenSettings,
    TrimSettings,
)
from usual_clay.core.body.shapes import Named, body_of, read
from usual_clay.core.body.triangles import triangles_at
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.check.joints import face_of_surface, find_joints
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.basis import SplineError, even_knots, greville
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import BSplineSurface

TOP = (5.0, 10.0, 30.0)


@cache
def block() -> tuple[str, BodyShape]:
    return solids.block()


def plane(z: float) -> tuple[str, SimpleShape]:
    return "Plane", SimpleShape("plane", np.array([0.0, 0.0, z]), np.array([0.0, 0.0, 1.0]))


def test_figures_are_those_of_closed_forms() -> None:
    for shape, volume, area in (
        (BRepPrimAPI_MakeCylinder(3, 5).Shape(), 45 * np.pi, 48 * np.pi),
        (BRepPrimAPI_MakeSphere(7).Shape(), 4 / 3 * np.pi * 343, 4 * np.pi * 49),
    ):
        body = body_of(Named(shape).filled("face"))
        assert body.volume == pytest.approx(volume, rel=1e-9)
        assert body.area == pytest.approx(area, rel=1e-9)
    cylinder = body_of(Named(BRepPrimAPI_MakeCylinder(3, 5).Shape()).filled("face"))
    assert cylinder.inertia[2, 2] == pytest.approx(0.5 * 45 * np.pi * 9, rel=1e-6)
    assert np.allclose(cylinder.centre, [0, 0, 2.5])
    # The seam of a round face is no open edge, and no sharp one.
    assert cylinder.open_edges == 0
    assert sorted(np.round(cylinder.edge_turns, 6)) == pytest.approx([0, np.pi / 2, np.pi / 2])


def test_figures_of_a_freeform_body_are_those_of_fine_triangles() -> None:
    faces = box_faces()
    knots = even_knots(6, 3)
    x, y = np.meshgrid(10 * greville(knots, 3), 20 * greville(knots, 3), indexing="ij")
    bulge = 6 * np.sin(np.pi * x / 10) * np.sin(np.pi * y / 20) * (1 + x / 10)
    lid = BSplineSurface(knots, knots, np.stack([x, y, 30 + bulge], axis=-1))
    body = made("join", JoinSettings(), faces=[*faces[:1], ("lid", lid), *faces[2:]]).shape
    assert body.is_solid
    for chord in (0.1, 0.02, 0.002):
        vertices, triangles = triangles_at(body, chord)
        middles = vertices[triangles].mean(axis=1)
        on_lid = middles[:, 2] > 30.01
        assert on_lid.sum() > 20 / chord**0.5
        off = np.abs(foot_points(lid, middles[on_lid]).signed)
        assert 0.1 * chord < off.max() < chord
    fine = trimesh.Trimesh(vertices, triangles)
    assert fine.volume > 6050
    assert body.volume == pytest.approx(fine.volume, rel=1e-4)
    assert body.area == pytest.approx(fine.area, rel=1e-4)
    assert body.centre == pytest.approx(fine.center_mass, rel=1e-4)
    # Per density; about the centre of mass for either.
    assert np.trace(body.inertia) == pytest.approx(np.trace(fine.moment_inertia), rel=1e-3)


def test_a_joined_block_is_a_solid_whatever_way_its_faces_turn() -> None:
    faces = box_faces()
    turned = [(n, replace(f, points=f.points[::-1]) if k % 2 else f) for k, (n, f) in
              enumerate(faces)]  # fmt: skip
    for each in (faces, turned):
        whole = made("join", JoinSettings(), faces=each)
        assert whole.wanted
        assert whole.shape.is_solid
        assert whole.shape.valid
        assert whole.shape.volume == pytest.approx(6000)
        assert sorted(whole.shape.names) == sorted(name for name, _ in faces)
        assert (whole.shape.edge_turns == pytest.approx(np.pi / 2)) is True


def test_a_gap_is_closed_up_to_its_limit_and_told_beyond_it() -> None:
    closed = made("join", JoinSettings(gap=0.05), faces=box_faces(0.03))
    assert closed.shape.is_solid
    # By the least move: each corner of the three faces that meet there comes to their middle.
    assert closed.shape.volume == pytest.approx(10 * 20 * 30.01)
    assert "by moving borders up to 0.020 mm" in closed.words
    left = made("join", JoinSettings(gap=0.01), faces=box_faces(0.03))
    assert not left.wanted
    assert not left.shape.is_solid
    assert left.shape.open_edges == 8
    wide = [gap for gap in left.gaps if not gap.closed]
    assert len(wide) == 4
    for gap in wide:
        assert gap.gap == pytest.approx(0.03, abs=1e-6)
        assert "lid" in gap.between
        assert gap.at[2] == pytest.approx(30, abs=0.05)
        assert np.degrees(gap.angle) == pytest.approx(90, abs=1e-6)
    # Those that meet are told as joined.
    assert sum(gap.closed for gap in left.gaps) == 8


def test_a_pad_inside_a_spline_of_many_spans_holds_what_it_should() -> None:
    """The kernel alone was 17 % off: it takes an edge for one polynomial."""
    turn = np.linspace(0, 2 * np.pi, 41)
    away = 10 * (1 + 0.2 * np.cos(3 * turn))
    places = np.stack([away * np.cos(turn), away * np.sin(turn), 0 * turn], axis=1)
    places[-1] = places[0]
    spline = make_interp_spline(np.linspace(0, 1, 41), places, 3)
    outline = BSplineCurve(spline.t, spline.c)
    body = made("pad", PadSettings(length=5), outline=("Ring", outline)).shape
    flat_area = np.pi * 100 * 1.02
    assert body.volume == pytest.approx(5 * flat_area, rel=1e-4)
    fine = curve_points(outline, np.linspace(0, 1, 20001))
    x, y = fine[:, 0], fine[:, 1]
    exact = float(np.sum(x[:-1] * y[1:] - x[1:] * y[:-1]) / 2)
    around = float(np.linalg.norm(np.diff(fine, axis=0), axis=1).sum())
    assert body.volume == pytest.approx(5 * exact, rel=1e-6)
    assert body.area == pytest.approx(2 * exact + 5 * around, rel=1e-6)
    assert body.centre == pytest.approx([0, 0, 2.5], abs=1e-3)


def test_what_shares_faces_with_what_was_measured_is_measured_for_itself() -> None:
    cube = BRepPrimAPI_MakeBox(gp_Pnt(5, 0, 0), 2.0, 3.0, 4.0).Shape()
    pin = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(6, 1.5, -1), gp_Dir(0, 0, 1)), 0.5, 6.0).Shape()
    assert volume_of(cube) == pytest.approx(24)
    # The same faces, turned.
    assert volume_of(cube.Reversed()) == pytest.approx(-24)
    bored = BRepAlgoAPI_Cut(cube, pin).Shape()
    assert volume_of(bored) == pytest.approx(24 - np.pi)
    assert area_of(bored) == pytest.approx(52 - np.pi / 2 + 4 * np.pi)
    forget()
    assert volume_of(bored) == pytest.approx(24 - np.pi)


def test_a_corner_is_set_back_to_one_smooth_face() -> None:
    edges = (5.0, 0, 0, 0, 10.0, 0, 0, 0, 15.0)
    plain = made("round", RoundSettings(size=2.0, edges=edges), body=block())
    back = made("round", RoundSettings(size=2.0, edges=edges, setback=4.0), body=block())
    assert "1 corner set back by 4 mm" in back.words
    assert back.shape.is_solid
    assert back.shape.valid
    assert back.shape.faces == plain.shape.faces == 10
    joints = [each for each in find_joints(faces_of("B", back.shape), 0.1)
              if any("Corner" in name for name in each.between)]  # fmt: skip
    # It goes on from three rounds and three faces.
    assert len(joints) == 6
    assert max(np.degrees(joint.angle) for joint in joints) < 0.8
    assert max(joint.gap for joint in joints) < 2e-3
    # Whatever lies farther off than the distance is as it was.
    far = np.linalg.norm(back.shape.vertices, axis=1) > 4.1
    away = np.abs(MeshTree(*triangles_at(plain.shape, 1e-3)).nearest(back.shape.vertices)[0])
    assert away[far].max() < 2e-3
    assert 0.05 < away[~far].max() < 1
    short = made("round", RoundSettings(size=2.0, edges=edges, setback=2.2), body=block())
    assert not short.wanted
    assert "the corner at 0.0, 0.0, 0.0 cannot be set back by 2.2 mm" in short.words


def test_curved_sheets_are_brought_together_and_stay_as_they_were_elsewhere() -> None:
    random, even = np.random.default_rng(5), np.linspace(0, 20, 7)
    sheets = []
    for x, y in ((0, 0), (20, 0), (0, 20), (20, 20)):
        grid = np.stack(np.meshgrid(x + even, y + even, indexing="ij"), axis=-1)
        height = 3 * np.sin(grid[..., :1] / 15) * np.cos(grid[..., 1:] / 12)
        points = np.concatenate([grid, height], axis=2) + random.normal(0, 0.02, 3)
        knots = even_knots(7, 3)
        sheets.append(BSplineSurface(knots, knots, points + random.normal(0, 0.005, (7, 7, 3))))
    named = [(f"Sheet {k}", sheet) for k, sheet in enumerate(sheets)]
    before = find_joints([face_of_surface(*each) for each in named], 0.2)
    whole = made("join", JoinSettings(gap=0.2, closed=False), faces=named).shape
    after = find_joints(faces_of("All", whole), 0.2)
    assert len(before) == len(after) == 4
    assert max(joint.gap for joint in before) > 0.02
    # What is left is what their own knots cannot follow of each other.
    assert max(joint.gap for joint in after) < 1e-3
    assert whole.open_edges == 8
    for sheet, face in zip(sheets, faces_of("All", whole), strict=True):
        moved = np.linalg.norm(face.surface.points - sheet.points, axis=2)
        assert moved[1:-1, 1:-1].max() < 1e-9
        assert 0.005 < moved.max() < 0.1


def test_faces_apart_and_a_face_that_is_missing_are_told() -> None:
    open_box = made("join", JoinSettings(), faces=box_faces(sides=range(5)))
    nothing = [gap for gap in open_box.gaps if not np.isfinite(gap.gap)]
    assert len(nothing) == 4
    assert all(gap.at[0] == pytest.approx(10) for gap in nothing)
    shut = made("close", CloseSettings(), faces=box_faces(sides=range(5)))
    assert shut.shape.is_solid
    assert shut.shape.volume == pytest.approx(6000)
    assert "Cap" in shut.shape.names
    with pytest.raises(BodyError, match="no opening"):
        made("close", CloseSettings(), faces=[block()])


def test_a_surface_that_crosses_itself_is_named() -> None:
    t = np.linspace(-1, 1, 9)
    loop = np.stack([t**3 - 0.5 * t, t**2, 0 * t], axis=1) * 10
    points = np.stack([loop, loop + np.array([0, 0, 10])], axis=1)

    crossing = BSplineSurface(even_knots(9, 3), even_knots(2, 1), points)
    with pytest.raises(BodyError, match="Loop crosses itself"):
        made("join", JoinSettings(), faces=[("Loop", crossing), *box_faces()])


def test_cut_by_a_plane_a_line_or_a_surface() -> None:
    larger = made("trim", TrimSettings(), thing=block(), by=plane(12)).shape
    assert larger.volume == pytest.approx(3600)
    lower = made("trim", TrimSettings(keep=(5, 5, 5)), thing=block(), by=plane(12)).shape
    assert lower.volume == pytest.approx(2400)
    both = made("split", PartSettings(), thing=block(), by=plane(12)).shape
    assert both.solids == 2
    assert both.volume == pytest.approx(6000)
    # The cut bounds both, from this side and from that.
    a, b, c = (both.vertices[both.triangles[:, k]] for k in range(3))
    assert (a * np.cross(b, c)).sum() / 6 == pytest.approx(6000)
    assert both.area == pytest.approx(2200 + 2 * 200)
    face = box_faces()[0]
    for way in ("normal", "z"):
        half = made("trim", TrimSettings(way=way), thing=face,
                    by=("Line", line((4, -1, 3), (4, 21, 3)))).shape  # fmt: skip
        assert half.area == pytest.approx(120)
    sheet = flat((-1, -1, 8), (11, -1, 8), (11, 21, 8), (-1, 21, 8))
    less = made("take away", CombineSettings(), body=block(), others=("Sheet", sheet)).shape
    assert less.volume == pytest.approx(4400)
    with pytest.raises(BodyError, match="does not cut it in two") as told:
        made("trim", TrimSettings(), thing=block(), by=plane(99))
    assert told.value.at is not None


def test_pads_and_cuts() -> None:
    assert made("pad", PadSettings(length=5), outline=square()).shape.volume == pytest.approx(180)
    added = made("pad", PadSettings(length=-5), outline=square(), body=block()).shape
    assert added.volume == pytest.approx(6180)
    assert made("cut", PadSettings(length=5), outline=square(), body=block()).shape.volume == (
        pytest.approx(5820)
    )
    through = made("cut", PadSettings(through=True), outline=square(15), body=block()).shape
    assert through.volume == pytest.approx(6000 - 36 * 30)
    roof = ("Roof", flat((0, 0, 6), (10, 0, 8), (10, 10, 8), (0, 10, 6)))
    floor = ("Floor", flat((0, 0, -6), (10, 0, -8), (10, 10, -8), (0, 10, -6)))
    up = made("pad", PadSettings(), outline=square(), until=roof).shape
    assert up.volume == pytest.approx(36 * 7)
    assert "Roof" in up.names
    between = made("pad", PadSettings(), outline=square(), until=[roof, floor]).shape
    assert between.volume == pytest.approx(2 * 36 * 7)
    short = ("Roof", flat((0, 0, 6), (7, 0, 8), (7, 10, 8), (0, 10, 6)))
    with pytest.raises(BodyError, match=r"Roof does not cover .* sticks out") as told:
        made("pad", PadSettings(), outline=square(), until=short)
    assert told.value.at is not None
    assert told.value.at[0] > 7
    with pytest.raises(BodyError, match=r"c and a are 6\.000 mm apart"):
        made("pad", PadSettings(), outline=square()[:3])
    with pytest.raises(BodyError, match="misses the body"):
        made("cut", PadSettings(length=-5), outline=square(), body=block())


@pytest.mark.parametrize(
    "corners",
    [
        ((2.5, -0.2), (1.1, 2.6), (-1.2, 3.2), (-3.3, -0.1), (-1.1, -2.4), (1.2, -2.8)),
        ((3.7, 0.0), (0.3, 2.7), (-2.7, 2.7), (-2.6, -2.0), (1.0, -3.7)),
    ],
)
def test_stock_between_two_waves_holds_what_its_triangles_do(corners) -> None:
    """Faces parted at all of their knots came out damaged, and the volume was 13 % off."""
    sides = [
        (f"side {k}", line((*a, 0), (*b, 0)))
        for k, (a, b) in enumerate(zip(corners, (*corners[1:], corners[0]), strict=True))
    ]
    knots = even_knots(10, 3)
    places = 80 * (greville(knots, 3) - 0.5)
    x, y = np.meshgrid(places, places, indexing="ij")
    height = 15 + np.sin(x / 6) * np.cos(y / 7)
    ends = [
        (name, BSplineSurface(knots, knots, np.stack([x, y, z], axis=-1)))
        for name, z in (("top", height), ("foot", 1 - height))
    ]
    body = made("pad", PadSettings(), outline=sides, until=ends).shape
    assert body.is_solid
    fine = trimesh.Trimesh(*triangles_at(body, 0.01), process=False)
    assert body.volume == pytest.approx(fine.volume, rel=1e-3)
    assert body.area == pytest.approx(fine.area, rel=1e-3)


def test_holes_and_slots_of_recognised_shapes() -> None:
    up, over = np.array([0.0, 0, 1]), np.array([1.0, 0, 0])
    hole = ("Hole", SimpleShape("cylinder", np.array(TOP), up, 1.251, 0.0, (-5.0, 0.0)))
    drilled = made("drill", DrillSettings(rounded=0.1), body=block(), shapes=hole)
    assert drilled.shape.volume == pytest.approx(6000 - np.pi * 1.25**2 * 30)
    assert "2.502 to 2.500" in drilled.words
    blind = made("drill", DrillSettings(rounded=0.1, depth=4), body=block(), shapes=hole).shape
    assert blind.volume == pytest.approx(6000 - np.pi * 1.25**2 * 4)
    sides = [
        ("A", SimpleShape("plane", np.array([4.0, 10, 28]), over)),
        ("B", SimpleShape("plane", np.array([6.01, 10, 28]), -over)),
    ]
    bed = ("Bed", SimpleShape("plane", np.array([5.0, 10, 26]), up))
    slot = made("drill", DrillSettings(rounded=0.5), body=block(), shapes=[*sides, bed])
    assert slot.shape.volume == pytest.approx(6000 - 2 * 20 * 4)
    with pytest.raises(BodyError, match="without a floor"):
        made("drill", DrillSettings(), body=block(), shapes=sides)
    away = ("Far", SimpleShape("cylinder", np.array([50.0, 0, 0]), up, 1.0, 0.0, (0.0, 5.0)))
    with pytest.raises(BodyError, match="Far misses the body"):
        made("drill", DrillSettings(), body=block(), shapes=away)


def test_solids_are_combined() -> None:
    pad = ("Pad", made("pad", PadSettings(length=5, both=True), outline=square()).shape)
    for kind, volume in (("unite", 6180), ("take away", 5820), ("intersect", 180)):
        assert made(kind, CombineSettings(), body=block(), others=pad).shape.volume == (
            pytest.approx(volume)
        )
    twice = made("mirror and unite", TwinSettings(axis="x", at=10.0), body=block()).shape
    assert twice.volume == pytest.approx(12000)
    pin = ("Pin", SimpleShape("cylinder", np.zeros(3), np.eye(3)[2], radius=2.0))
    with pytest.raises(SplineError, match="a cylinder is no mirror plane"):
        made("mirror and unite", TwinSettings(), body=block(), plane=pin)
    far = ("Far", made("pad", PadSettings(length=5), outline=square(99)).shape)
    with pytest.raises(BodyError, match="nothing is left"):
        made("intersect", CombineSettings(), body=block(), others=far)
    shell = ("Open", made("join", JoinSettings(), faces=box_faces(sides=range(5))).shape)
    with pytest.raises(BodyError, match="Open is an open shell"):
        made("unite", CombineSettings(), body=block(), others=shell)


def stock(noise: float, count: int) -> tuple[str, BodyShape]:
    """Return stock of 20 x 14 mm under a roof that is nearly the same on both sides of y = 0."""
    x, y = np.meshgrid(np.linspace(-15, 15, count), np.linspace(-12, 12, count), indexing="ij")
    z = 20 - 0.02 * y**2 + 2 * np.sin(x / 8)
    z = z + np.random.default_rng(0).normal(0, noise, z.shape)
    knots = even_knots(count, 3)
    roof = BSplineSurface(knots, knots, np.stack([x, y, z], axis=-1))
    corners = [(-10, -7, 0), (10, -7, 0), (10, 7, 0), (-10, 7, 0)]
    sides = [(f"side {k}", line(corners[k], corners[(k + 1) % 4])) for k in range(4)]
    return "Stock", made("pad", PadSettings(), outline=sides, until=("Roof", roof)).shape


def test_what_nearly_lies_on_its_image_loses_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    """The kernel gave nothing at all, or an open shell."""
    # One try is enough: it is the half that is looked at here.
    monkeypatch.setattr(combine, "FUZZY", combine.FUZZY[:1])
    name, body = stock(0.002, 5)
    whole = made("mirror and unite", TwinSettings(axis="y"), body=(name, body))
    assert whole.shape.valid
    assert whole.shape.is_solid
    assert "its larger half" in whole.words
    assert whole.shape.volume == pytest.approx(body.volume, rel=1e-3)


def test_rounds_that_open_a_solid_are_none() -> None:
    body = stock(0.0, 4)[1]
    good, bad = (
        [([k], [np.full(33, size)]) for k in range(12) if k not in (0, 5, 10)]
        for size in (2.0, 7.2)
    )
    assert attempt(body.exact, "round", good, 1.0) is not None
    assert attempt(body.exact, "round", bad, 1.0) is None


def test_walls() -> None:
    for settings, volume in (
        (ShellSettings(wall=1, open=TOP), 6000 - 8 * 18 * 29),
        (ShellSettings(wall=1), 6000 - 8 * 18 * 28),
        (ShellSettings(wall=1, outward=True, open=TOP), 12 * 22 * 31 - 6000),
        (ShellSettings(wall=1, open=TOP, other=(5, 10, 0), other_wall=3), 6000 - 8 * 18 * 27),
    ):
        assert made("shell", settings, body=block()).shape.volume == pytest.approx(volume)
    with pytest.raises(BodyError, match="has no room"):
        made("shell", ShellSettings(wall=6, open=TOP), body=block())
    one = made("round", RoundSettings(size=2, edges=(0, 0, 15)), body=block()).shape
    with pytest.raises(BodyError, match=r"bends to a radius of 2\.00 mm") as told:
        made("shell", ShellSettings(wall=3), body=("Rounded", one))
    assert told.value.at is not None
    assert np.linalg.norm(told.value.at[:2]) < 2
    for both in (False, True):
        thick = made("thicken", ThickenSettings(2, both=both), surface=box_faces()[0]).shape
        assert thick.volume == pytest.approx(400)


def test_rounds_by_radius_by_width_and_varying() -> None:
    edge = (5.0, 0.0, 0.0)
    corner = (1 - np.pi / 4) * 10
    plain = made("round", RoundSettings(size=1, edges=edge), body=block()).shape
    assert plain.volume == pytest.approx(6000 - corner)
    wide = made("round", RoundSettings(by="width", size=2, edges=edge), body=block()).shape
    assert wide.volume == pytest.approx(6000 - 2 * corner)
    cone = made("round", RoundSettings(size=1, to=2, edges=edge), body=block()).shape
    assert cone.volume == pytest.approx(6000 - corner * 7 / 3, rel=1e-5)
    all_of_them = made("round", RoundSettings(size=1), body=block())
    assert all_of_them.shape.valid
    assert "12 edges rounded" in all_of_them.words
    bevel = made("bevel", BevelSettings(size=1, edges=edge), body=block()).shape
    assert bevel.volume == pytest.approx(6000 - 5)


def test_an_edge_that_cannot_be_rounded_is_told_and_the_others_are() -> None:
    some = made("round", RoundSettings(size=12, edges=(5, 0, 0, 0, 0, 15)), body=block())
    assert not some.wanted
    assert some.shape.volume < 6000
    (spot,) = some.spots
    assert "front and left" in spot.words
    assert "up to 9.9" in spot.words
    with pytest.raises(BodyError, match="cannot be made at 40 mm"):
        made("round", RoundSettings(size=40, edges=(5, 0, 0)), body=block())


def test_a_round_of_a_width_is_even_where_the_angle_changes() -> None:
    slab = BRepPrimAPI_MakeBox(gp_Pnt(-40, -40, -10), 80, 80, 10).Shape()
    axis = gp_Ax2(gp_Pnt(0, 0, -5), gp_Dir(np.sin(0.6), 0, np.cos(0.6)))
    post = BRepPrimAPI_MakeCylinder(axis, 8, 40).Shape()
    whole = body_of(Named(BRepAlgoAPI_Fuse(slab, post).Shape()).filled("face"))
    # Where the post stands on the slab it bends inward.
    (foot,) = np.flatnonzero(whole.edge_turns < -0.3)
    settings = RoundSettings(by="width", size=4, edges=tuple(whole.middle(int(foot))))
    before = read(whole.exact)
    (run,) = rounds._runs(before, settings.edges, settings.sharp)
    run.laws = [rounds._law(before, edge, settings) for edge in run.edges]
    assert run.laws[0].max() / run.laws[0].min() > 1.7
    tries = rounds.Tries(whole.exact, "round")
    built = tries.build([run], 1.0)
    assert built is not None
    assert np.nanmin(built.widths[run.edges[0]]) < 0.96 * 4
    for _ in range(rounds.CORRECTIONS):
        rounds._corrected(built, [run], settings)
        built = tries.build([run], 1.0)
        assert built is not None
    assert np.nanmax(np.abs(built.widths[run.edges[0]] - 4)) < 0.01 * 4
    assert made("round", settings, body=("Post", whole)).shape.valid


def test_triangles_of_a_body_are_watertight_and_as_near_as_asked() -> None:
    body = made("round", RoundSettings(size=3), body=block()).shape
    for chord in (0.1, 0.01):
        vertices, joined = triangles_at(body, chord)
        edges = np.concatenate([joined[:, [0, 1]], joined[:, [1, 2]], joined[:, [2, 0]]])
        there, back = ({tuple(e) for e in each} for each in (edges, edges[:, ::-1]))
        assert there == back
        assert len(there) == len(edges)
        a, b, c = (vertices[joined[:, k]] for k in range(3))
        volume = np.einsum("nk,nk->", a, np.cross(b, c)) / 6
        assert abs(volume - body.volume) < chord * body.area


def test_a_solid_that_is_inside_out_is_not_sound() -> None:
    box = BRepPrimAPI_MakeBox(1.0, 2.0, 3.0).Shape()
    for shape, volume, sound in ((box, 6.0, True), (box.Reversed(), -6.0, False)):
        body = body_of(Named(shape))
        assert body.volume == pytest.approx(volume)
        assert body.valid is sound
