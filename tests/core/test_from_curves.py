"""Surfaces from curves, against closed forms, and what is said of curves that make none."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
import pytest
from scipy.spatial import cKDTree

from usual_clay.core.build.blend import BlendSettings, blend
from usual_clay.core.build.crossings import families
from usual_clay.core.build.fill import FillSettings, fill_guide
from usual_clay.core.build.guide import Guide, Spend
from usual_clay.core.build.lean import Built, lean_surface
from usual_clay.core.build.loft import LoftSettings, loft_guide
from usual_clay.core.build.net import NetSettings, net_guide
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings, sweep_guide, two_rail_guide
from usual_clay.core.build.sections import BuildError
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings, extrude, ruled
from usual_clay.core.build.turned import RevolveSettings, TubeSettings, revolve_guide, tube_guide
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.progress import silent
from usual_clay.core.spline.boundary import border_curve
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.knots import reverse as reverse_surface
from usual_clay.core.spline.surface import (
    BSplineSurface,
    runs_round,
    surface_normals,
    surface_points,
)
from usual_clay.job.made import Given
from usual_clay.job.recipes import KINDS

T = np.linspace(0, 1, 500)
EVEN = tuple(x.ravel() for x in np.meshgrid(np.linspace(0, 1, 60), np.linspace(0, 1, 60)))


def curve(points: np.ndarray, count: int = 12, closed: bool = False) -> BSplineCurve:
    """A spline through dense places, far nearer to them than any tolerance here."""
    run = PointSequence(points[:-1] if closed else points, closed, held=(not closed, not closed))
    return fit_sequence(run, TraceSettings(count)).curve


def ring(radius: float, height: float) -> BSplineCurve:
    turn = 2 * np.pi * T
    return curve(np.column_stack([radius * np.cos(turn), radius * np.sin(turn), height + 0 * T]),
                 16, True)  # fmt: skip


def places(surface: BSplineSurface) -> np.ndarray:
    return surface_points(surface, *EVEN)


def body(x: np.ndarray, s: np.ndarray) -> np.ndarray:
    """A long body, its back half: x along, s across from side to side."""
    width = 20 * np.sin(np.pi * (0.08 + 0.84 * x)) ** 0.8
    height = 12 * np.sin(np.pi * (0.06 + 0.86 * x)) ** 0.7
    turn = np.pi * s
    y = width * np.cos(turn) * (1 + 0.1 * np.sin(3 * x))
    return np.stack([200 * x, y, height * np.sin(turn) + 4 * np.sin(4 * x)], axis=-1)


@lru_cache(maxsize=1)
def body_net() -> tuple[tuple[BSplineCurve, ...], tuple[BSplineCurve, ...]]:
    along = tuple(curve(body(T, np.full(500, s)), 14) for s in np.linspace(0, 1, 4))
    across = tuple(curve(body(np.full(500, x), T), 10) for x in np.linspace(0, 1, 6))
    return along, across


# ---- closed forms ------------------------------------------------------------------------------


def test_a_loft_of_circles_is_a_cone_however_they_run() -> None:
    sections = ring(20, 0), reverse(ring(15, 10)), ring(10, 20)
    settings = LoftSettings(within=0.02)
    built = lean_surface(loft_guide(sections, settings), settings)
    assert built.farthest <= 0.02
    assert np.prod(built.surface.counts) <= 60
    found = places(built.surface)
    off = np.hypot(found[:, 0], found[:, 1]) - (20 - found[:, 2] / 2)
    assert np.abs(off).max() < 0.03
    # It runs once round without a seam.
    ends = [surface_normals(built.surface, np.full(9, u), np.linspace(0, 1, 9)) for u in (0, 1)]
    assert ends[0] == pytest.approx(ends[1], abs=1e-6)
    square = LoftSettings(within=0.02, start="square")
    begun = lean_surface(loft_guide(sections, square), square).surface
    slope = np.diff(surface_points(begun, np.linspace(0, 1, 9), np.zeros(9) + 0.0)[:, 2])
    assert np.abs(slope).max() < 0.05
    side = surface_normals(begun, np.linspace(0, 1, 9), np.zeros(9))
    assert np.abs(side[:, 2]).max() < 0.05


def test_a_net_passes_each_curve_lean_in_any_order_of_picking() -> None:
    along, across = body_net()
    settings = NetSettings(within=0.017)
    built = lean_surface(net_guide(along, across, settings), settings)
    assert built.farthest <= 0.017
    # The kernel's exact network takes 43,780 of degree 9; plain least squares 140.
    assert np.prod(built.surface.counts) <= 100
    for line in (*along, *across):
        points = curve_points(line, np.linspace(0, 1, 200))
        assert np.abs(foot_points(built.surface, points).signed).max() <= 0.019
    assert np.abs(foot_points(built.surface, body(*EVEN).reshape(-1, 3)).signed).max() < 0.25
    shuffled = lean_surface(
        net_guide(
            (reverse(along[2]), along[0], along[3], along[1]),
            (across[3], reverse(across[0]), *across[4:], across[2], across[1]),
            settings,
        ),
        settings,
    )
    away = foot_points(built.surface, places(shuffled.surface)).signed
    assert np.abs(away).max() < 0.05
    railed = KINDS["loft"].make(
        LoftSettings(within=0.017), Given.of(sections=across, rails=along), silent, print
    )
    assert set(railed.away) >= {"rail 4", "section 6"}
    assert max(float(away.max()) for away in railed.away.values()) <= 0.017
    assert families((*along, *across), 0.05) == ([0, 1, 2, 3], [4, 5, 6, 7, 8, 9])


@pytest.mark.parametrize("counts", [(2, 6), (4, 2), (2, 2)])
def test_a_net_takes_as_many_of_either_family_as_there_are(counts: tuple[int, int]) -> None:
    along = tuple(curve(body(T, np.full(500, s)), 14) for s in np.linspace(0.2, 0.8, counts[0]))
    across = tuple(
        curve(body(np.full(500, x), 0.2 + 0.6 * T), 10) for x in np.linspace(0, 1, counts[1])
    )
    settings = NetSettings(within=0.05)
    for one, other in ((along, across), (across, along)):
        built = lean_surface(net_guide(one, other, settings), settings)
        assert built.farthest <= 0.05
        assert built.total <= 60


def test_nets_and_rails_run_round() -> None:
    def radius(z: np.ndarray | float) -> np.ndarray | float:
        return 10 + 5 * np.sin(z / 10)

    rings = [ring(float(radius(z)), z) for z in (0.0, 10.0, 20.0, 30.0)]
    z = 30 * T
    lines = [
        curve(np.column_stack([radius(z) * np.cos(q), radius(z) * np.sin(q), z]), 8)
        for q in (0.2, 1.7, 3.3, 4.8)
    ]
    mixed = (rings[2], reverse(rings[0]), rings[3], rings[1])
    for along, across, closed in ((mixed, tuple(lines[::-1]), 0), (tuple(lines), mixed, 1)):
        built = lean_surface(net_guide(along, across, NetSettings()), NetSettings())
        assert built.farthest <= 0.05
        assert runs_round(built.surface, 1e-9)[closed]
        found = places(built.surface)
        off = np.hypot(found[:, 0], found[:, 1]) - radius(found[:, 2])
        assert np.abs(off).max() < 0.15
    between = curve(np.column_stack([20 - 5 * T, 0 * T, 10 * T + 3 * np.sin(np.pi * T)]), 6)
    rails = ring(20, 0), reverse(ring(15, 10))
    built = lean_surface(two_rail_guide(rails, (between,), TwoRailSettings()), TwoRailSettings())
    assert built.farthest <= 0.05
    assert runs_round(built.surface, 1e-9)[0]


def test_a_guided_revolve_of_an_ellipse_is_an_ellipsoid_with_a_smooth_pole() -> None:
    quarter = curve(
        np.column_stack([20 * np.sin(np.pi / 2 * T), 0 * T, 12 * np.cos(np.pi / 2 * T)])
    )
    axis = np.zeros(3), np.array([0.0, 0, 1])
    settings = RevolveSettings(within=0.02)
    built = lean_surface(revolve_guide(quarter, axis, None, settings), settings)
    found = places(built.surface)
    size = np.hypot(np.hypot(found[:, 0], found[:, 1]) / 20, found[:, 2] / 12)
    assert np.abs(size - 1).max() * 20 < 0.05
    # It faces away from its axis, whichever way that points.
    for way in (axis, (axis[0], -axis[1])):
        whole = lean_surface(revolve_guide(quarter, way, None, settings), settings).surface
        middle = surface_normals(whole, *(np.full(1, 0.5),) * 2)[0]
        assert middle @ surface_points(whole, *(np.full(1, 0.5),) * 2)[0] > 0
    # The pole is one place, and level across.
    assert np.ptp(built.surface.points[:, 0], axis=0).max() < 1e-9
    assert np.ptp(built.surface.points[:, 1, 2]) < 1e-9
    assert built.surface.points[0, 0, 2] == pytest.approx(built.surface.points[0, 1, 2])
    turn = 2 * np.pi * T
    rail = curve(
        np.column_stack([20 * np.cos(turn), 14 * np.sin(turn), 2 * np.cos(2 * turn) - 2]), 24, True
    )
    guided = lean_surface(revolve_guide(quarter, axis, rail, RevolveSettings()), RevolveSettings())
    assert guided.farthest <= 0.05
    points = curve_points(rail, np.linspace(0, 1, 200))
    assert np.abs(foot_points(guided.surface, points).signed).max() <= 0.06


def test_a_tube_keeps_its_radius_and_says_where_its_path_is_too_tight() -> None:
    turn = 4 * np.pi * T
    helix = curve(np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), 30 * T]), 40)
    settings = TubeSettings(radii=(3.0,))
    built = lean_surface(tube_guide(helix, None, settings), settings)
    away = curve_foot_points(helix, places(built.surface))[2]
    assert np.abs(away - 3).max() < 0.06
    assert np.prod(built.surface.counts) <= 200
    wide = TubeSettings(radii=(25.0,))
    assert "tighter than the tube" in tube_guide(helix, None, wide).words
    straight = curve(np.column_stack([50 * T, 0 * T, 0 * T]), 4)
    capped = TubeSettings(radii=(2.0, 4.0), ends="round")
    closed = lean_surface(tube_guide(straight, None, capped), capped).surface
    ends = places(closed)[:, 0]
    assert (ends.min(), ends.max()) == pytest.approx((-2.0, 54.0), abs=0.05)
    kinked = BSplineCurve(
        np.array([0, 0, 0.5, 1, 1.0]), np.array([[0, 0, 0], [9, 0, 0], [9, 9, 0.0]])
    )
    with pytest.raises(BuildError, match=r"kink near 9\.0, 0\.0, 0\.0"):
        tube_guide(kinked, None, settings)


def test_profiles_are_carried_along_rails_and_paths() -> None:
    first = curve(np.column_stack([100 * T, -10 - 5 * np.sin(3 * T), 0 * T]), 8)
    second = curve(np.column_stack([100 * T, 10 + 4 * T, 3 * T]), 8)

    def profile(at: float, miss: float = 0.0) -> BSplineCurve:
        a, b = (curve_points(rail, [at])[0] for rail in (first, second))
        rise = np.column_stack([0 * T, 0 * T, 8 * np.sin(np.pi * T)])
        return curve(a + (b - a) * T[:, None] + rise + [0, 0, miss], 6)

    settings = TwoRailSettings()
    profiles = profile(0.5), profile(1.0), profile(0.0)
    built = lean_surface(two_rail_guide((first, reverse(second)), profiles, settings), settings)
    assert built.farthest <= 0.05
    assert np.prod(built.surface.counts) <= 48
    for line in (first, second, *profiles):
        points = curve_points(line, np.linspace(0, 1, 100))
        assert np.abs(foot_points(built.surface, points).signed).max() <= 0.06
    missed = two_rail_guide((first, second), (profile(0.3, 0.4),), settings)
    assert missed.gaps[0].gap == pytest.approx(0.4, abs=0.05)
    assert "profile 1 and its rails" in missed.words
    far = curve(np.column_stack([0 * T, T * 20, 200 + 0 * T]), 4)
    with pytest.raises(BuildError, match=r"profile 1 lies .* mm from its rails"):
        two_rail_guide((first, second), (far,), settings)
    crossing = curve(np.column_stack([100 * T, 10 - 20 * T, 0 * T]), 4)
    across = curve(np.column_stack([0 * T, -10 + 20 * T, 5 * np.sin(np.pi * T)]), 6)
    straight = curve(np.column_stack([100 * T, -10 + 20 * T, 0 * T]), 4)
    with pytest.raises(BuildError, match=r"the rails cross near (49|50)\.\d, -?0\.\d, 0\.0"):
        two_rail_guide((straight, crossing), (across,), settings)
    # Rails that touch at their end are none that cross: the surface runs to a point there.
    meeting = curve(np.column_stack([100 * T, 10 * (1 - T), 0 * T]), 4)
    other = curve(np.column_stack([100 * T, -10 * (1 - T), 0 * T]), 4)
    pointed = lean_surface(two_rail_guide((other, meeting), (across,), settings), settings)
    assert pointed.farthest <= 0.05
    assert (
        np.ptp(surface_points(pointed.surface, np.ones(9), np.linspace(0, 1, 9)), axis=0).max()
        < 0.1
    )
    # Parallel to itself along a straight path a profile gives an extruded surface.
    path = curve(np.column_stack([0 * T, 0 * T, 30 * T]), 4)
    shape = curve(np.column_stack([6 * T, 2 * np.sin(np.pi * T), 0 * T]), 6)
    parallel = SweepSettings(way="parallel", within=0.01)
    swept = lean_surface(sweep_guide(path, (shape,), parallel), parallel).surface
    pushed = extrude(shape, None, ExtrudeSettings("z", 30.0))
    assert np.abs(foot_points(pushed, places(swept)).signed).max() < 0.03


def dome(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return np.stack([x, y, np.sqrt(900 - x * x - y * y)], axis=-1)


def dome_edges(corners: np.ndarray) -> tuple[BSplineCurve, ...]:
    ends = zip(corners, np.roll(corners, -1, axis=0), strict=True)
    return tuple(curve(dome(*(a + (b - a) * T[:, None]).T), 6) for a, b in ends)


def test_a_fill_is_calm_meets_what_is_beside_and_says_where_a_loop_is_open() -> None:
    square = 8.0 * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]])
    edges = dome_edges(square)
    # In any order, either way round.
    loop = edges[2], reverse(edges[0]), edges[3], reverse(edges[1])
    grid = np.linspace(-16, 16, 60)
    even = np.linspace(0, 1, 60)
    whole = dome(*np.meshgrid(grid, grid, indexing="ij"))
    beside = lean_surface(Guide((), even, even, whole), Spend(within=0.001)).surface
    found = {}
    for smooth in (0, 1):
        settings = FillSettings(within=0.01, smooth=smooth)  # type: ignore[arg-type]
        built = lean_surface(fill_guide(loop, (beside,), settings), settings)
        assert built.farthest <= 0.01
        t = np.linspace(0.03, 0.97, 40)
        turns = []
        for u, v in ((t, 0 * t), (t, 0 * t + 1), (0 * t, t), (0 * t + 1, t)):
            out = surface_points(built.surface, u, v) / 30
            cos = np.abs((surface_normals(built.surface, u, v) * out).sum(axis=1))
            turns.append(np.degrees(np.arccos(np.clip(cos, 0, 1))).max())
        off = np.linalg.norm(places(built.surface), axis=1) - 30
        found[smooth] = max(turns), float(np.abs(off).max())
    # G1 brings the whole of it to the dome, not its edges alone.
    assert found[1][0] < 0.8 < 2.0 < found[0][0]
    assert found[1][1] < 0.05 < found[0][1]
    with pytest.raises(BuildError, match=r"edges \d and \d are 16\.\d+ mm apart near"):
        fill_guide(edges[:3], (), FillSettings())
    for count in (2, 3):
        fewer = dome_edges(square[:3])[:count] if count == 3 else (edges[0], _bowed(edges[0]))
        built = lean_surface(fill_guide(fewer, (), FillSettings()), FillSettings())
        assert built.farthest <= 0.05
    turn = np.arange(6) * np.pi / 3
    six = fill_guide(
        dome_edges(10 * np.column_stack([np.cos(turn), np.sin(turn)])), (), FillSettings()
    )
    assert "2 of its corners, of up to 63 degrees" in six.words


def test_feet_near_a_side_that_shrinks_to_a_point_are_the_nearest() -> None:
    """On a lens between two bowed edges, against very many places of it."""
    random = np.random.default_rng(1)
    settings = FillSettings(within=0.02)
    for _ in range(3):
        bow, twist = random.uniform(0.1, 0.5), random.uniform(-0.4, 0.4)
        edges = []
        for side in (1, -1):
            y = side * bow * 30 * np.sin(np.pi * T) * (1 + 0.3 * side * T)
            z = 4 * np.sin(3 * T + side) + twist * y
            edges.append(curve(np.stack([30 * T, y, z - z[0] - (z[-1] - z[0] - 5) * T], 1), 10))
        lens = lean_surface(fill_guide(tuple(edges), (), settings), settings).surface
        points = np.concatenate([curve_points(edge, np.linspace(0, 1, 200)) for edge in edges])
        u, v = np.meshgrid(*[np.linspace(0, 1, 400)] * 2, indexing="ij")
        seen = cKDTree(surface_points(lens, u.ravel(), v.ravel())).query(points)[0]
        assert (np.abs(foot_points(lens, points).signed) <= seen + 1e-9).all()


def test_a_blend_meets_both_surfaces_in_tangent_and_curvature_everywhere() -> None:
    even = np.linspace(0, 1, 40)
    x, y = np.meshgrid(20 * even, 30 * even, indexing="ij")
    one = np.stack([x, y, 0.02 * x**2 + np.sin(y / 8)], axis=-1)
    two = np.stack([x + 32, y, 14 - 0.015 * (x - 3) ** 2 + np.sin(y / 6)], axis=-1)
    near = Spend(within=0.002)
    first, second = (lean_surface(Guide((), even, even, g), near).surface for g in (one, two))
    second = reverse_surface(second, "v")
    made = {}
    for smooth in (0, 1, 2):
        settings = BlendSettings(first_smooth=smooth, second_smooth=smooth)  # type: ignore[arg-type]
        between = blend(first, second, settings)
        assert between.counts[1] == 2 * smooth + 2
        for surface, border in ((first, "v0"), (second, "v1")):
            joint = edge_joint(surface, between, border_curve(between, border))
            assert joint.gap.max() < 1e-9
            made[smooth, border] = np.degrees(joint.angle.max()), joint.step.max()
    for border in ("v0", "v1"):
        assert made[0, border][0] > 5
        assert made[1, border][0] < 1e-4
        assert made[2, border][0] < 1e-4
        assert made[2, border][1] < 1e-6 < made[1, border][1]
    with pytest.raises(FitError, match="strength"):
        BlendSettings(first_strength=0.0)


def _bowed(edge: BSplineCurve) -> BSplineCurve:
    bow = 4 * np.sin(np.linspace(0, np.pi, len(edge.points)))[:, None]
    return BSplineCurve(edge.knots, edge.points + bow * np.array([0, 1.0, 0]))


def test_straight_surfaces_are_exact() -> None:
    arc = curve(np.column_stack([np.cos(np.pi * T), np.sin(np.pi * T), 0 * T]) * 10)
    pushed = extrude(arc, None, ExtrudeSettings("plane", 5.0, True))
    assert pushed.counts == (len(arc.points), 2)
    assert np.ptp(pushed.points[..., 2]) == pytest.approx(10.0)
    other = reverse(curve(np.column_stack([20 * np.cos(np.pi * T), 20 * np.sin(np.pi * T),
                                           8 + 0 * T]), 7))  # fmt: skip
    between = ruled((arc, other), RuledSettings())
    middle = surface_points(between, np.linspace(0, 1, 50), np.full(50, 0.5))
    ends = [surface_points(between, np.linspace(0, 1, 50), np.full(50, v)) for v in (0.0, 1.0)]
    assert middle == pytest.approx((ends[0] + ends[1]) / 2, abs=1e-9)
    assert curve_foot_points(arc, ends[0])[2].max() < 1e-9
    assert curve_foot_points(other, ends[1])[2].max() < 1e-9


def test_counts_by_hand_are_kept() -> None:
    along, across = body_net()
    settings = NetSettings(nu=9, nv=7, degree=4)
    built = lean_surface(net_guide(along, across, settings), settings)
    assert built.surface.counts == (9, 7)
    assert built.surface.degrees == (4, 4)


# ---- bad input ---------------------------------------------------------------------------------


def _net_apart() -> Guide:
    along, across = body_net()
    lifted = BSplineCurve(across[2].knots, across[2].points + np.array([0, 0, 3.0]))
    return net_guide(along, (*across[:2], lifted, *across[3:]), NetSettings())


BAD: dict[str, tuple[Callable[[], object], str]] = {
    "one section": (lambda: loft_guide((ring(5, 0),), LoftSettings()), "two sections or more"),
    "two equal": (lambda: loft_guide((ring(5, 0), ring(5, 0)), LoftSettings()), "on each other"),
    "crossed order": (
        lambda: loft_guide(tuple(ring(5, z) for z in (0, 20, 10, 30)), LoftSettings()),
        "pick them in the order 1, 3, 2, 4",
    ),
    "open and closed": (
        lambda: loft_guide((ring(5, 0), body_net()[1][0]), LoftSettings()), "all are to be closed"
    ),
    "one family": (lambda: net_guide((ring(5, 0),), body_net()[1], NetSettings()), "two curves"),
    "a net apart": (_net_apart, r"across 3 do not cross: they pass at 3\.\d+ mm near"),
    "one rail": (
        lambda: two_rail_guide((ring(5, 0),), (ring(5, 0),), TwoRailSettings()), "two rails"
    ),
    "not finite": (
        lambda: lean_surface(
            Guide((), np.zeros(4), np.zeros(4), np.full((4, 4, 3), np.nan)), Spend()
        ),
        "not finite",
    ),
    "no radius": (lambda: TubeSettings(radii=(0.0,)), "more than 0 mm"),
    "no turn": (lambda: RevolveSettings(angle=0.0), "more than 0 and at most 360"),
    "no length": (lambda: ExtrudeSettings(length=0.0), "must not be 0"),
}  # fmt: skip


@pytest.mark.parametrize("name", BAD)
def test_what_makes_no_surface_says_what_where_and_what_to_do(name: str) -> None:
    do, words = BAD[name]
    with pytest.raises((BuildError, FitError), match=words):
        do()


def test_what_does_not_quite_touch_is_mended_and_told() -> None:
    along, across = body_net()
    lifted = BSplineCurve(across[2].knots, across[2].points + np.array([0, 0, 0.2]))
    settings = NetSettings(within=0.15)
    built: Built = lean_surface(
        net_guide(along, (*across[:2], lifted, *across[3:]), settings), settings
    )
    told = {gap.between: gap.gap for gap in built.gaps if gap.gap > 0.05}
    assert set(told) == {f"along {k} and across 3" for k in (2, 3)} or len(told) == 4
    assert max(told.values()) == pytest.approx(0.2, abs=0.05)
    assert "across 3 pass at" in built.words
