"""Curves from curves, against closed forms: offsets, chains, holds, arcs, joints, profiles."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from scipy.spatial import cKDTree

from tests.shapes import sphere
from usual_clay.core.arrays import as_place, as_places
from usual_clay.core.build.alter import SplitSettings, split_up
from usual_clay.core.build.combine import (
    BridgeSettings,
    CopySettings,
    PairSettings,
    bridge,
    copied,
    pair_into_space,
)
from usual_clay.core.build.offset import OffsetSettings, offset
from usual_clay.core.build.placed import (
    AcrossSettings,
    InSurfaceSettings,
    LaidSettings,
    in_surface,
    lay_onto,
    set_across,
)
from usual_clay.core.check.comb import comb_of
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.check.joint import joint
from usual_clay.core.check.live import live_distance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.arcs import longest_arc, with_splines
from usual_clay.core.fit.curve.fair import FairSettings, SlimSettings, can_go, fair, slim
from usual_clay.core.fit.curve.holds import ClashError, Hold, apply_holds
from usual_clay.core.spline.basis import SplineError, even_knots
from usual_clay.core.spline.chain import chain, extend
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.drawn_numbers import NUMBERS
from usual_clay.core.spline.knots import insert_knot
from usual_clay.core.spline.make import ROUND, DrawnSettings, Handle, circle, make_curve
from usual_clay.core.spline.parts import (
    crossings,
    distance_between,
    evenly,
    extremes,
    length_of,
    parts_at,
)
from usual_clay.core.spline.surface import BSplineSurface

UP = np.array([0.0, 0, 1])


def controls(*points: tuple[float, float, float], degree: int = 3) -> BSplineCurve:
    return make_curve(DrawnSettings("controls", points, degree))


def ring(radius: float = 10.0) -> BSplineCurve:
    return circle(np.zeros(3), radius, UP, np.array([1.0, 0, 0]))


def tight() -> BSplineCurve:
    """A curve with a bend of less than a millimetre's radius."""
    return controls(
        (0, 0, 0), (10, 0, 0), (20, 0, 0), (22, 14, 0), (24, 0, 0), (34, 0, 0), (44, 0, 0)
    )


def bend_at(curve: BSplineCurve, t: float) -> tuple[np.ndarray, np.ndarray]:
    _, first, second = curve_derivatives(curve, [t], 2)[:, 0]
    speed = np.linalg.norm(first)
    return first / speed, (second - (second @ first) / speed**2 * first) / speed**2


# ---- made from few numbers -------------------------------------------------------------------


def test_rectangles_and_arcs_about_a_centre() -> None:
    drawn = DrawnSettings("rectangle", ((0, 0, 2), (40, 30, 2)), rho=ROUND, corner=5)
    made = make_curve(drawn)
    assert length_of(made) == pytest.approx(2 * (30 + 20) + 10 * np.pi, rel=1e-9)
    assert comb_of(made).smallest_radius == pytest.approx(5, rel=1e-3)
    assert curve_points(made, [0.0, 1.0])[:, 2] == pytest.approx([2, 2])
    assert length_of(make_curve(replace(drawn, corner=0.0))) == pytest.approx(140)
    with pytest.raises(SplineError, match=r"16 mm do not fit into sides of 30.00"):
        make_curve(replace(drawn, corner=16.0))
    with pytest.raises(SplineError, match="apart in both"):
        make_curve(DrawnSettings("rectangle", ((0, 0, 0), (4, 0, 0))))
    arc = make_curve(DrawnSettings("arc about", ((1, 1, 0), (4, 1, 0), (1, -8, 0))))
    assert length_of(arc) == pytest.approx(3 * np.pi / 2, rel=1e-9)
    assert curve_points(arc, [1.0])[0] == pytest.approx([1, -2, 0], abs=1e-9)
    with pytest.raises(SplineError, match="no length"):
        make_curve(DrawnSettings("arc about", ((0, 0, 0), (4, 0, 0), (9, 0, 0))))


def test_handles_set_tangent_and_radius_at_through_points() -> None:
    places = ((0.0, 0, 0), (10.0, 5, 0), (20.0, 0, 0), (30.0, 4, 0))
    plain = make_curve(DrawnSettings("through", places))
    handles = (Handle(1, (30.0, 0, 0), 6.0), Handle(3, (20.0, 20, 0)))
    made = make_curve(DrawnSettings("through", places, handles=handles))
    t, _, away = curve_foot_points(made, np.array(places))
    assert away.max() < 1e-9
    derived = curve_derivatives(made, t, 1)[1]
    assert derived[1] == pytest.approx([30, 0, 0], abs=1e-6)
    assert derived[3] == pytest.approx([20, 20, 0], abs=1e-6)
    ahead, bend = bend_at(made, t[1])
    assert np.cross(ahead, bend)[2] == pytest.approx(1 / 6, rel=1e-6)
    assert curve_foot_points(plain, np.array(places))[2].max() < 1e-9
    circle_of = [(5 * np.cos(a), 5 * np.sin(a), 0.0) for a in np.arange(8) * np.pi / 4]
    closed = make_curve(DrawnSettings("through", tuple(circle_of), closed=True))
    ends = curve_derivatives(closed, [0.0, 1.0], 2)
    assert ends[:, 0] == pytest.approx(ends[:, 1], abs=1e-9)
    assert np.linalg.norm(evenly(closed, 200), axis=1) == pytest.approx(5, abs=0.01)
    with pytest.raises(SplineError, match="three points or more"):
        make_curve(DrawnSettings("through", places[:2], closed=True))
    with pytest.raises(SplineError, match="no point 9"):
        make_curve(DrawnSettings("through", places, handles=(Handle(8, (1.0, 0, 0)),)))


# ---- beside, longer, joined, parted ----------------------------------------------------------


@pytest.mark.parametrize("distance", [3.0, -3.0])
def test_an_offset_circle_is_a_circle(distance: float) -> None:
    made = offset(ring(), OffsetSettings(distance, "z"))
    assert made.words == ""
    radii = np.linalg.norm(evenly(made.curve, 400), axis=1)
    # To the left of a circle that runs counter-clockwise is inside.
    assert radii == pytest.approx(10 - distance, abs=0.006)


@pytest.mark.parametrize("distance", [8.0, -5.0])
def test_loops_of_an_offset_larger_than_a_radius_are_removed(distance: float) -> None:
    assert comb_of(tight()).smallest_radius < 1
    made = offset(tight(), OffsetSettings(distance, "z"))
    away = cKDTree(evenly(tight(), 8000)).query(evenly(made.curve, 500))[0]
    assert away.min() > abs(distance) - 0.02
    assert np.quantile(away, 0.95) < abs(distance) + 0.02
    assert "removed" in made.words
    # Its bends to the left have radii of 6.4 mm and more: nothing is lost nearer than that.
    assert offset(tight(), OffsetSettings(5.0, "z")).words == ""
    with pytest.raises(SplineError, match="leaves nothing"):
        offset(ring(), OffsetSettings(12.0, "z"))
    with pytest.raises(SplineError, match="more than 0"):
        offset(ring(), OffsetSettings(0.0, "z"))


def test_curves_are_extended_as_they_run_straight_or_round() -> None:
    curve = tight()
    parabola = controls((0, 0, 0), (5, 0, 0), (10, 10, 0), degree=2)
    longer = evenly(extend(parabola, 1, 4.0), 200)
    # x = 10 t, y = 10 t^2: the same parabola goes on.
    assert longer[:, 1] == pytest.approx(longer[:, 0] ** 2 / 10, abs=1e-9)
    for how in ("as it runs", "straight", "round"):
        for end in (0, 1):
            made = extend(curve, end, 6.0, how)
            assert length_of(made) - length_of(curve) == pytest.approx(6, abs=1e-4)
            assert curve_foot_points(made, evenly(curve, 200))[2].max() < 1e-6
    arc = parts_at(ring(4.0), np.array([0.25]))[0]
    rounder = extend(arc, 1, 5.0, "round")
    assert np.linalg.norm(evenly(rounder, 100), axis=1) == pytest.approx(4, abs=1e-6)
    with pytest.raises(SplineError, match="into itself"):
        extend(arc, 1, 40.0, "round")


def test_curves_are_parted_and_joined_again() -> None:
    curve = tight()
    one, other = parts_at(curve, np.array([0.37]))
    whole = chain([other, one])
    assert whole.gap < 1e-12
    assert len(whole.curve.points) == len(curve.points)
    assert curve_foot_points(whole.curve, evenly(curve, 300))[2].max() < 1e-9
    away = replace(other, points=other.points + np.array([0, 0, 0.02]))
    assert chain([one, away]).gap == pytest.approx(0.02)
    # Tops and ends of a circle, and where a line above it seems to cross it.
    assert curve_points(ring(), extremes(ring(), 1))[:, 1] == pytest.approx([10, -10], abs=1e-9)
    line = make_curve(DrawnSettings("line", ((-20, 0, 2), (20, 0, 2))))
    found = crossings(line, ring(), UP)
    assert curve_points(line, found.first)[:, 0] == pytest.approx([-10, 10], abs=1e-9)
    assert found.gap == pytest.approx([2, 2])
    parts = split_up(SplitSettings("crossings"), [ring(), line])
    assert len(parts.curves) in (2, 3)
    assert "near miss: the curves pass 2.000 mm apart" in parts.words
    longest = split_up(SplitSettings("share", 0.3, keep="longest"), [curve]).curves[0]
    assert length_of(longest) == pytest.approx(0.7 * length_of(curve), rel=1e-5)
    with pytest.raises(SplineError, match="nothing cuts"):
        split_up(SplitSettings("extremes", axis="z"), [curve])


# ---- holds -------------------------------------------------------------------------------


def test_holds_hold_and_keep_the_curve_near() -> None:
    curve = tight()
    asked = [
        Hold("fixed", 0.0, place=(0, 0, 0)),
        Hold("level", 0.0),
        Hold("upright", 1.0),
        Hold("size", axis="x", value=45.0),
    ]
    held = apply_holds(curve, asked)
    ends = curve_derivatives(held, [0.0, 1.0], 1)
    assert ends[0, 0] == pytest.approx([0, 0, 0], abs=1e-6)
    assert ends[0, 1, 0] == pytest.approx(45, abs=1e-6)
    assert ends[1, 0, 1:] == pytest.approx([0, 0], abs=1e-5)
    assert ends[1, 1, :2] == pytest.approx([0, 0], abs=1e-5)
    # An end that is held a little aside leaves the far half nearly where it was.
    aside = apply_holds(curve, [Hold("fixed", 0.0, place=(0, 0.1, 0))])
    far = curve_points(curve, np.linspace(0.5, 1, 50))
    assert curve_foot_points(aside, far)[2].max() < 0.02
    neighbour = controls((44.3, 0.2, 0), (50, 3, 0), (60, 8, 0), (70, 9, 1))
    assert (
        joint(apply_holds(curve, [Hold("curved", 1.0, other=0)], [neighbour]), neighbour).grade == 2
    )
    on = apply_holds(curve, [Hold("on curve", 0.5, other=0)], [neighbour])
    assert curve_foot_points(neighbour, curve_points(on, [0.5]))[2][0] < 1e-6
    own_twin = apply_holds(curve, [Hold("mirrored", axis="x", value=21.0)])
    assert own_twin.points[:, 0] + own_twin.points[::-1, 0] == pytest.approx(42, abs=1e-9)
    across = apply_holds(curve, [Hold("across", 1.0, axis="x", value=44.0)])
    assert curve_derivatives(across, [1.0], 1)[1, 0, 1:] == pytest.approx([0, 0], abs=1e-6)


def test_holds_that_clash_are_named() -> None:
    clash = [
        Hold("fixed", 0.0, place=(0, 0, 0)),
        Hold("level", 0.5),
        Hold("fixed", 1.0, place=(40, 0, 0)),
        Hold("size", axis="x", value=50),
    ]
    with pytest.raises(ClashError) as told:
        apply_holds(tight(), clash)
    for words in ("start fixed in place", "end fixed in place", "along x 50 mm"):
        assert words in str(told.value)
    assert "level" not in str(told.value)


# ---- fair, slim, arcs ------------------------------------------------------------------------


def test_fairing_keeps_to_its_band_and_slimming_to_its_tolerance() -> None:
    random = np.random.default_rng(1)
    smooth = slim(tight(), SlimSettings(30, knots="even")).curve
    rough = replace(smooth, points=smooth.points + random.normal(0, 0.03, (30, 3)) * [1, 1, 0])
    made = fair(rough, FairSettings(0.05))
    assert made.moved <= 0.05
    assert curve_foot_points(rough, evenly(made.curve, 2000))[2].max() < 0.0505
    third = [
        np.linalg.norm(curve_derivatives(c, np.linspace(0, 1, 400), 3)[3], axis=1).mean()
        for c in (smooth, rough, made.curve)
    ]
    # Most of the roughness is gone again.
    assert third[2] - third[0] < 0.5 * (third[1] - third[0])
    assert made.curve.points[[0, 1, -1]] == pytest.approx(rough.points[[0, 1, -1]])
    lean = slim(rough, SlimSettings(within=0.1))
    assert lean.moved <= 0.1
    spare = can_go(rough, 0.1)
    assert len(spare.curve.points) + spare.count == 30
    assert spare.count > 5
    assert spare.moved <= 0.1
    assert not spare.exactly
    assert curve_foot_points(spare.curve, evenly(rough, 2000))[2].max() < 0.1005
    # A knot that was put in goes again exactly, and first.
    more = insert_knot(insert_knot(spare.curve, 0.37), 0.71)
    exact = can_go(more, 1e-5)
    assert len(exact.exactly) == 2
    assert exact.curve.points == pytest.approx(spare.curve.points, abs=1e-9)
    assert can_go(controls((0, 0, 0), (1, 2, 0), (3, 0, 0)), 1e-6).count == 0
    with pytest.raises(FitError, match="wider than 0"):
        fair(rough, FairSettings(0.0))
    with pytest.raises(FitError, match="at least 6"):
        slim(rough, SlimSettings(4, 5))


def test_the_longest_arc_is_found_and_met_in_curvature() -> None:
    turn = np.linspace(0, np.pi / 2, 400)
    arc = np.stack([20 * np.sin(turn), 20 - 20 * np.cos(turn), 0 * turn], axis=1)
    line = np.stack([np.linspace(-15, 0, 200)[:-1], np.zeros(199), np.zeros(199)], axis=1)
    t = np.linspace(0, 30, 400)[1:]
    wave = arc[-1] + np.stack([2 * np.sin(t / 5) ** 2, t, 0 * t], axis=1)
    run = np.concatenate([line, arc, wave])
    run[:, :2] += np.random.default_rng(0).normal(0, 0.01, (len(run), 2))
    made = with_splines(run, Tolerance(0.03, 0.95), 2)
    assert made.stretch.radius == pytest.approx(20, rel=0.01)
    assert made.stretch.centre == pytest.approx([0, 20, 0], abs=0.1)
    assert made.stretch.stop - made.stretch.start > 390
    for rest in (made.before, made.after):
        assert rest is not None
        assert rest.report.met
        assert joint(rest.fit.curve, made.stretch.curve).grade >= 2
    straight = longest_arc(line, 0.03)
    assert np.isinf(straight.radius)
    assert (straight.start, straight.stop) == (0, len(line))
    with pytest.raises(FitError, match="too few"):
        longest_arc(line[:5], 0.03)


# ---- judging ---------------------------------------------------------------------------------


def test_joints_are_told_in_figures() -> None:
    line = make_curve(DrawnSettings("line", ((-10, 0, 0), (0, 0, 0))))
    arc = make_curve(DrawnSettings("arc about", ((0, 5, 0), (0, 0, 0), (5, 5, 0))))
    met = joint(line, arc)
    assert (met.ends, met.grade) == ((1, 0), 1)
    assert met.curvature_step == pytest.approx(1 / 5)
    assert met.curvature_share == pytest.approx(1)
    turned = make_curve(DrawnSettings("line", ((0, 0.004, 0), (10, 10.004, 0))))
    open_ = joint(line, turned)
    assert open_.grade == -1
    assert open_.gap == pytest.approx(0.004)
    assert np.degrees(open_.angle) == pytest.approx(45)
    assert "open: gap 0.004 mm, 45.00°" in open_.words
    halves = parts_at(tight(), np.array([0.6]))
    assert joint(*halves).grade >= 2
    # A smooth curve parted inside a span meets in all derivatives.
    assert (
        joint(
            *parts_at(controls((0, 0, 0), (3, 5, 0), (7, 5, 0), (9, 0, 0)), np.array([0.4]))
        ).grade
        == 3
    )


def test_distances_are_the_least_and_the_most() -> None:
    inner = circle(np.array([2.0, 0, 0]), 5.0, UP, np.array([1.0, 0, 0]))
    found = distance_between(inner, ring())
    assert found.least == pytest.approx(3, abs=1e-6)
    assert found.most == pytest.approx(7, abs=1e-3)
    assert found.at_least == pytest.approx(np.array([[7, 0, 0], [10, 0, 0]]), abs=1e-3)


def test_live_distances_follow_one_moved_point() -> None:
    x = np.linspace(0, 100, 40)
    curve = controls(*np.stack([x, 6 * np.sin(x / 15), 0 * x], axis=1).tolist())
    points = evenly(curve, 5000) + np.random.default_rng(0).normal(0, 0.02, (5000, 3))
    moved = curve.points.copy()
    moved[20] += [0.0, 0.4, 0.2]
    after = replace(curve, points=moved)
    live = live_distance(curve, points).follow(after)
    assert live.distance == pytest.approx(curve_foot_points(after, points)[2], abs=5e-5)


# ---- placed ----------------------------------------------------------------------------------


def test_bridges_start_anywhere_and_give_the_whole() -> None:
    one = controls((0, 0, 0), (10, 0, 0), (20, 2, 0), (30, 2, 0))
    other = controls((40, 20, 0), (50, 22, 0), (60, 20, 0), (70, 20, 0))
    settings = BridgeSettings(first_at=0.8, second_at=0.2)
    made = bridge(one, other, settings)
    for curve, t, end in ((one, 0.8, 0.0), (other, 0.2, 1.0)):
        assert curve_points(made, [end])[0] == pytest.approx(curve_points(curve, [t])[0])
        for got, want in zip(bend_at(made, end), bend_at(curve, t), strict=True):
            assert got == pytest.approx(want, abs=1e-9)
    whole = bridge(one, other, replace(settings, whole=True))
    assert whole.points[[0, -1]] == pytest.approx(np.stack([one.points[0], other.points[-1]]))
    assert curve_foot_points(whole, evenly(made, 60))[2].max() < 1e-6
    kept = parts_at(one, np.array([0.8]))[0]
    assert curve_foot_points(whole, evenly(kept, 60))[2].max() < 1e-6
    back = bridge(one, other, replace(settings, first_way="after"))
    assert bend_at(back, 0.0)[0] == pytest.approx(-bend_at(one, 0.8)[0])
    # Ends that cross still meet both, and say nothing false.
    crossed = bridge(
        one, controls((25, -9, 0), (25, 0, 0), (25, 9, 0)), BridgeSettings(second_at=1.0)
    )
    assert bend_at(crossed, 0.0)[0] == pytest.approx(bend_at(one, 1.0)[0])
    assert np.isfinite(evenly(crossed, 50)).all()
    assert copied(one, CopySettings("z", 7.0)).points == pytest.approx(
        one.points + np.array([0, 0, 7])
    )


def test_a_curve_that_turns_back_is_paired_stretch_by_stretch() -> None:
    u = np.linspace(0, 1, 60)
    truth = np.stack(
        [30 - 10 * (2 * u - 1) ** 2, 10 * np.cos(1.2 * (2 * u - 1) + 0.2), 8 * (2 * u - 1)], axis=1
    )
    views = [
        make_curve(DrawnSettings("through", tuple(map(tuple, truth * flat))))
        for flat in ([1, 0, 1], [1, 1, 0])
    ]
    made = pair_into_space(*views, PairSettings("x", within=0.005)).curve
    assert len(made.points) < 30
    assert np.quantile(curve_foot_points(made, truth)[2], 0.95) < 0.01


def test_profiles_stand_square_to_a_curve() -> None:
    path = controls((0, 0, 0), (10, 0, 0), (20, 2, 4), (30, 2, 9))
    profile = circle(np.array([5.0, 5, 5]), 3.0, np.array([1.0, 0, 0]), np.array([0.0, 1, 0]))
    made = set_across(profile, path, AcrossSettings(12.0, "length"))
    t = curve_foot_points(path, made.points.mean(axis=0)[None])[0]
    place, ahead = curve_derivatives(path, t, 1)[:, 0]
    own = evenly(made, 60) - place
    assert np.abs(own @ ahead).max() < 1e-6 * np.linalg.norm(ahead)
    assert length_of(parts_at(path, t)[0]) == pytest.approx(12, abs=1e-3)
    assert length_of(made) == pytest.approx(6 * np.pi, rel=1e-6)
    with pytest.raises(SplineError, match="is not on it"):
        set_across(profile, path, AcrossSettings(1e3, "length"))
    with pytest.raises(SplineError, match="straight profile"):
        set_across(controls((0, 0, 0), (1, 0, 0), degree=1), path, AcrossSettings())
    with pytest.raises(SplineError, match="does not lie in a plane"):
        set_across(path, profile, AcrossSettings())


def test_curves_are_laid_onto_planes_scans_and_surfaces() -> None:
    ball = sphere(10.0, 60)
    above = circle(np.array([0.0, 0, 20]), 5.0, UP, np.array([1.0, 0, 0]))
    flat = lay_onto(above, None, LaidSettings("z", 1.0))
    assert flat.points[:, 2] == pytest.approx(1.0)
    on = evenly(lay_onto(above, ball, LaidSettings("item", along="z")), 200)
    assert np.hypot(on[:, 0], on[:, 1]) == pytest.approx(5, abs=0.02)
    assert on[:, 2] == pytest.approx(np.sqrt(75), abs=0.05)
    nearest = evenly(lay_onto(above, ball, LaidSettings("item")), 200)
    assert np.linalg.norm(nearest, axis=1) == pytest.approx(10, abs=0.05)
    with pytest.raises(SplineError, match="misses it in part"):
        lay_onto(above, ball, LaidSettings("item", along="x"))
    u = np.linspace(0, 20, 6)
    grid = np.stack([*np.meshgrid(u, u, indexing="ij"), np.zeros((6, 6))], axis=2)
    grid[..., 2] = np.sin(grid[..., 0] / 6) + 0.05 * grid[..., 1]
    knots = even_knots(6, 3)
    surface = BSplineSurface(knots, knots, grid)
    edge = in_surface(surface, InSurfaceSettings("along u", 1.0))
    assert edge.points == pytest.approx(grid[:, -1])
    cut = evenly(in_surface(surface, InSurfaceSettings("x", 8.0)), 100)
    assert cut[:, 0] == pytest.approx(8.0, abs=0.01)
    from usual_clay.core.spline.closest import foot_points

    assert np.abs(foot_points(surface, cut).signed).max() < 0.01
    with pytest.raises(SplineError, match="misses the surface"):
        in_surface(surface, InSurfaceSettings("x", 80.0))


@pytest.mark.parametrize("kind", ["line", "circle", "arc about", "arc", "rectangle", "controls"])
@pytest.mark.parametrize("axis", [0, 1, 2])
def test_a_typed_number_is_the_curves_own(kind: Any, axis: int) -> None:
    random = np.random.default_rng(axis)
    normal = as_place(np.eye(3)[axis])
    for _ in range(20):
        points = random.uniform(-20, 20, (3 if kind in ("arc", "arc about", "controls") else 2, 3))
        points[:, axis] = 4.0
        settings = DrawnSettings(kind, as_places(points), normal=normal)
        for one in NUMBERS[kind]:
            low = np.linalg.norm(points[2] - points[0]) / 2 if kind == "arc" else 0.0
            value = low + random.uniform(0.2, 3)
            made = one.write(settings, value)
            assert one.read(made) == pytest.approx(value)
            # Where it begins stays; of an arc through three points where it ends, too.
            assert made.array[0] == pytest.approx(points[0])
            if kind == "arc":
                assert made.array[2] == pytest.approx(points[2])
                bends = curve_comb(make_curve(made))
                assert bends == pytest.approx(np.full(len(bends), 1 / value), rel=1e-6)
            assert made.array[:, axis] == pytest.approx(np.full(len(points), 4.0))


def curve_comb(curve: BSplineCurve) -> np.ndarray:
    """Return how a curve bends at places along it, 1/mm."""
    _, first, second = curve_derivatives(curve, np.linspace(*curve.domain, 30), 2)
    return np.linalg.norm(np.cross(first, second), axis=1) / np.linalg.norm(first, axis=1) ** 3


def test_numbers_draw_what_is_not_clicked_yet() -> None:
    one = DrawnSettings("rectangle", ((1.0, 2.0, 3.0),), normal=(0.0, -1.0, 0.0))
    width, height = NUMBERS["rectangle"]
    made = make_curve(height.write(width.write(one, 30), 18))
    assert made.points.min(axis=0) == pytest.approx([1, 2, 3])
    assert made.points.max(axis=0) == pytest.approx([31, 2, 21])
    (radius,) = NUMBERS["circle"]
    ring = make_curve(radius.write(replace(one, kind="circle"), 5))
    assert curve_comb(ring) == pytest.approx(np.full(30, 0.2))
    arc = DrawnSettings("arc", ((0, 0, 0), (5, 1, 0), (10, 0, 0)))
    with pytest.raises(SplineError, match=r"at least 5\.000 mm"):
        NUMBERS["arc"][0].write(arc, 4)
