"""Four-corner patches: exact borders, joints, symmetry, and what goes wrong, told."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from usual_clay.core.build.placed import drawn_on
from usual_clay.core.check.deviation import Tolerance, at_share, distance_levels
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.errors import FitError
from usual_clay.core.fit.cast import folds_in
from usual_clay.core.fit.patch.budget import patch_to_tolerance
from usual_clay.core.fit.patch.meet import Ribbon
from usual_clay.core.fit.patch.network import Piece, ribbon_of, solve_together
from usual_clay.core.fit.patch.patch import PatchSettings, patch
from usual_clay.core.fit.price import price_of_patch
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.moving_least_squares import smoothed_places
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.boundary import border_curve
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.four_borders import GapError, coons_patch, four_borders
from usual_clay.core.spline.knots import raise_degree
from usual_clay.core.spline.make import DrawnSettings, arc_through, through_points
from usual_clay.core.spline.parts import evenly
from usual_clay.core.spline.surface import surface_grid
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.demo.shape import signed_distance
from usual_clay.job.items import Curve, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import stale

NOISE = 0.02
ALONE = [None] * 4


def height(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """A hump on a gentle slope, symmetric about y = 0."""
    return 4 * np.exp(-(((x - 20) / 12) ** 2) - (y / 10) ** 2) + 0.01 * x


def field(gap: float = 0.0, seed: int = 0) -> TriangleMesh:
    """A scan of it, 70 x 40 mm, with a strip missing at x = 12 that is `gap` wide."""
    x, y = np.meshgrid(np.linspace(-5, 65, 211), np.linspace(-20, 20, 121), indexing="ij")
    points = np.stack([x, y, height(x, y)], axis=2).reshape(-1, 3)
    points[:, 2] += np.random.default_rng(seed).normal(0, NOISE, len(points))
    triangles = grid_triangles(211, 121)
    middle = points[triangles].mean(axis=1)[:, 0]
    kept = triangles[np.abs(middle - 12) > gap / 2]
    used, triangles = np.unique(kept, return_inverse=True)
    return TriangleMesh(points[used], triangles.reshape(-1, 3))


def on(*corners: tuple[float, float]) -> BSplineCurve:
    """A border on the true shape through places in x and y."""
    t = np.linspace(0, 1, 7)
    x, y = (np.interp(t, np.linspace(0, 1, len(corners)), c) for c in np.array(corners).T)
    return through_points(np.stack([x, y, height(x, y)], axis=1), spacing="uniform")


LEFT = [
    on((0, -9), (30, -7)),
    on((30, -7), (32, 0), (30, 7)),
    on((30, 7), (0, 9)),
    on((0, 9), (0, -9)),
]
RIGHT = [LEFT[1], on((30, -7), (60, -8)), on((60, -8), (60, 8)), on((60, 8), (30, 7))]


def moved(curve: BSplineCurve, *by: float) -> BSplineCurve:
    return replace(curve, points=curve.points + np.array(by))


def truth(surface, low: float = 0.0) -> np.ndarray:
    at = np.linspace(low, 1 - low, 60)
    grid = surface_grid(surface, at, at).reshape(-1, 3)
    return np.abs(grid[:, 2] - height(grid[:, 0], grid[:, 1]))


def test_a_patch_takes_its_borders_exactly_and_the_scans_shape_inside() -> None:
    made = patch(field(), LEFT[::-1], ALONE, PatchSettings(10, 10))
    for border in LEFT:
        assert np.abs(foot_points(made.surface, evenly(border, 100)).signed).max() < 1e-6
    assert np.quantile(truth(made.surface), 0.95) < 0.012
    points = field().vertices[made.inside]
    assert len(points) == len(made.feet.signed)
    assert (points[:, 0] > -0.1).all()
    assert (points[:, 0] < 32.5).all()
    # Its normal is the scan's, whichever way round the borders are given.
    other = patch(field(), LEFT, ALONE, PatchSettings(10, 10))
    for each in (made, other):
        assert np.sign(each.feet.signed[points[:, 2] > height(*points.T[:2]) + 0.03]).mean() > 0.9


@pytest.mark.parametrize(("grade", "most", "step"), [("G1", 0.15, 1.0), ("G2", 0.15, 0.01)])
def test_a_neighbour_is_gone_on_from(grade: str, most: float, step: float) -> None:
    first = patch(field(), LEFT, ALONE, PatchSettings(10, 10)).surface
    beside = [first, None, None, None]
    plain = patch(field(), RIGHT, beside, PatchSettings(9, 9))
    held = patch(field(), RIGHT, beside, PatchSettings(9, 9, joints=(grade, "G0", "G0", "G0")))
    before, after = (edge_joint(first, each.surface, RIGHT[0]) for each in (plain, held))
    assert after.gap.max() < 1e-6
    assert np.degrees(after.angle.max()) < most < 3 * np.degrees(before.angle.max())
    inner = slice(6, -6)
    assert after.step[inner].max() < step
    # The neighbour's second derivative is noisy where it ends; G2 takes that over.
    assert np.quantile(truth(held.surface), 0.95) < (0.02 if grade == "G1" else 0.06)


def test_a_symmetric_patch_has_a_symmetric_net_and_says_what_moved() -> None:
    made = patch(field(), LEFT, ALONE, PatchSettings(9, 9, symmetric="y"))
    net = made.surface.points
    image = min(
        float(np.abs(net - turned * [1, -1, 1]).max()) for turned in (net[::-1], net[:, ::-1])
    )
    assert image < 1e-12
    assert np.quantile(truth(made.surface), 0.95) < 0.012
    shifted = [moved(c, 0, 0.03, 0) for c in LEFT]
    assert (
        "moved by up to 0.0"
        in patch(field(), shifted, ALONE, PatchSettings(9, 9, symmetric="y")).words
    )
    with pytest.raises(FitError, match="not symmetric about x = 0"):
        patch(field(), LEFT, ALONE, PatchSettings(9, 9, symmetric="x"))


def test_the_leanest_patch_within_tolerance_is_found() -> None:
    tolerance = Tolerance(0.045)
    found = patch_to_tolerance(field(), LEFT, ALONE, PatchSettings(knots="adaptive"), tolerance)
    assert found.report.met
    rich = patch(field(), LEFT, ALONE, PatchSettings(20, 20))
    nu, nv = found.cast.surface.counts
    assert nu * nv <= rich.surface.points.size / 9
    assert at_share(distance_levels(found.cast.feet.signed), 0.95) <= 0.045
    assert "control points" in found.words


@pytest.mark.parametrize("knots", ["even", "adaptive"])
def test_borders_of_a_raised_degree_have_knots_that_coincide(knots: str) -> None:
    raised = [raise_degree(curve) for curve in LEFT]
    assert any((np.diff(curve.knots[5:-5]) == 0).any() for curve in raised)
    settings = PatchSettings(14, 14, knots=knots)  # type: ignore[arg-type]
    made = patch(field(), raised, ALONE, settings)
    for border in raised:
        assert np.abs(foot_points(made.surface, evenly(border, 100)).signed).max() < 1e-6
    assert np.quantile(truth(made.surface), 0.95) < 0.012


def test_a_round_feature_is_four_arcs_of_one_circle() -> None:
    turn = np.radians([0, 90, 180, 270, 360])
    flat = TriangleMesh(field().vertices * [1, 1, 0.001], field().triangles)
    arcs = []
    for a, b in pairwise(turn):
        at = np.array([a, (a + b) / 2, b])
        arcs.append(arc_through(*np.stack([30 + 8 * np.cos(at), 8 * np.sin(at), 0 * at], axis=1)))
    made = patch(flat, arcs, ALONE, PatchSettings(8, 8))
    for arc in arcs:
        assert np.abs(foot_points(made.surface, evenly(arc, 60)).signed).max() < 2e-4


def test_what_makes_no_patch_is_told() -> None:
    apart = [*LEFT[:3], moved(LEFT[3], 0, 0, 0.4)]
    with pytest.raises(GapError, match=r"borders 3 and 4 are 0.400 mm apart"):
        patch(field(), apart, ALONE, PatchSettings())
    closed = patch(field(), apart, ALONE, PatchSettings(closing=0.5))
    assert "gaps of up to 0.4000 mm were closed" in closed.words
    assert four_borders(apart, 0.5).gap == pytest.approx(0.4)
    assert "in 2 islands" in patch(field(gap=4.0), LEFT, ALONE, PatchSettings()).words
    far = [moved(c, 0, 0, 300.0) for c in LEFT]
    with pytest.raises(FitError, match="no part of the scan"):
        patch(field(), far, ALONE, PatchSettings())
    first = patch(field(), LEFT, ALONE, PatchSettings()).surface
    other = [
        on((31, -7), (60, -8)),
        on((60, -8), (60, 8)),
        on((60, 8), (31, 7)),
        on((31, 7), (31, -7)),
    ]
    joined = PatchSettings(joints=("G0", "G0", "G0", "G1"))
    with pytest.raises(FitError, match=r"no edge of the neighbour: .* strays by"):
        patch(field(), other, [None, None, None, first], joined)


def test_borders_on_a_scan_leave_its_noise_alone() -> None:
    mesh = field()
    random = np.random.default_rng(1)
    x, y, _ = mesh.vertices.T
    inner = mesh.vertices[(np.abs(y) < 17) & (np.abs(x - 30) < 31)]
    places = inner[random.choice(len(inner), 800, replace=False)]
    calm = smoothed_places(mesh, places)
    off = [float(np.std(p[:, 2] - height(p[:, 0], p[:, 1]))) for p in (places, calm)]
    assert off[0] == pytest.approx(NOISE, rel=0.1)
    assert off[1] < 0.45 * off[0]
    # A spike beside a place does not draw it.
    spiked = mesh.vertices.copy()
    spike = int(np.argmin(np.linalg.norm(spiked - [25, 3, height(25, 3)], axis=1)))
    spiked[spike, 2] += 3.0
    beside = smoothed_places(TriangleMesh(spiked, mesh.triangles), spiked[[spike + 2]])[0]
    assert abs(beside[2] - height(beside[0], beside[1])) < 0.03
    clicked = [(x, y, float(height(x, y))) for x, y in ((2.0, -8.0), (15.0, -11.0), (31.0, -6.0))]
    line = drawn_on(DrawnSettings("through", tuple(clicked), within=0.03), mesh)
    assert line.points[[0, -1]] == pytest.approx(np.array(clicked)[[0, -1]])
    assert len(line.points) <= 8
    along = evenly(line, 200)
    assert np.quantile(np.abs(along[:, 2] - height(*along.T[:2])), 0.95) < 0.02
    with pytest.raises(SplineError, match="drawn through points"):
        drawn_on(DrawnSettings("line", tuple(clicked[:2])), mesh)


def test_a_surface_that_folds_over_is_told() -> None:
    surface = patch(field(), LEFT, ALONE, PatchSettings(8, 8)).surface
    points = field().vertices
    inside = points[(np.abs(points[:, 0] - 15) < 8) & (np.abs(points[:, 1]) < 5)]
    up = np.tile([0.0, 0.0, 1.0], (len(inside), 1))
    every, sure = np.arange(len(inside)), np.ones(len(inside))
    assert folds_in(surface, foot_points(surface, inside), (every, up), sure) == ""
    # Spikes face anywhere, and a mesh may face inwards as a whole: neither is a fold.
    some = np.arange(len(inside)) % 20 == 0
    turned = every, np.where(some[:, None], -up, up)
    assert folds_in(surface, foot_points(surface, inside), turned, sure)
    spiky = np.where(some, 0.1, 1.0)
    assert folds_in(surface, foot_points(surface, inside), turned, spiky) == ""
    assert folds_in(surface, foot_points(surface, inside), (every, -up), sure) == ""
    net = surface.points.copy()
    net[3:5] = net[4:2:-1]
    folded = replace(surface, points=net)
    assert "folds over at" in folds_in(folded, foot_points(folded, inside), (every, up), sure)


# ---- the demo job ----------------------------------------------------------------------------


def test_the_lures_patches_are_lean_near_the_truth_and_meet(demo_job: Job) -> None:
    surfaces = {s.name: s for s in demo_job.all(Surface) if s.name.endswith("patch")}
    assert set(surfaces) == {"Back patch", "Belly patch", "Gill plate patch"}
    assert sum(s.control_points for s in surfaces.values()) <= 300
    assert not stale(demo_job)
    for surface in surfaces.values():
        report = demo_job.report(surface)
        assert report is not None
        assert report.met
        at = np.linspace(0, 1, 90)
        places = surface_grid(surface.geometry, at, at).reshape(-1, 3)
        assert np.quantile(np.abs(signed_distance(places)), 0.95) < 0.05
    back, belly = (surfaces[name].geometry for name in ("Back patch", "Belly patch"))
    for line in ("Widest line", "Widest line twin"):
        border = next(c for c in demo_job.all(Curve) if c.name == line).geometry
        joint = edge_joint(back, belly, border)
        assert joint.gap.max() < 1e-3
        assert np.degrees(joint.angle.max()) < 0.2
    for net in (back.points, belly.points):
        assert (
            min(
                float(np.abs(net - turned * [1, -1, 1]).max())
                for turned in (net[::-1], net[:, ::-1])
            )
            < 1e-9
        )


def cross(x: float, y: float) -> dict[tuple[float, float], list[BSplineCurve]]:
    """The borders of four patches that meet at (x, y), all of them on the true shape."""
    quarters = {}
    for a in (0.0, 60.0):
        for b in (-12.0, 12.0):
            quarters[a, b] = [
                on((x, y), (a, y)),
                on((a, y), (a, b)),
                on((a, b), (x, b)),
                on((x, b), (x, y)),
            ]
    return quarters


def test_patches_are_solved_together_and_meet_smoothly() -> None:
    mesh, quarters = field(), list(cross(27.0, 1.0).values())
    settings = PatchSettings(7, 7, knots="adaptive")
    alone = [patch(mesh, curves, ALONE, settings) for curves in quarters]
    pieces = [Piece(each.surface, mesh.vertices[each.inside], each.weights) for each in alone]
    found = solve_together(pieces)
    assert len(found) == 4
    ribbons: list[list[Ribbon]] = [[], [], [], []]
    surfaces = [piece.surface for piece in pieces]
    for seam, inward in found:
        line = border_curve(pieces[seam.pieces[0]].surface, seam.sides[0])
        middle = curve_points(line, [0.5])
        for k, number in enumerate(seam.pieces):
            away = [curve_foot_points(curve, middle)[2][0] for curve in quarters[number]]
            border = int(np.argmin(away))
            ribbons[number].append(ribbon_of(surfaces, seam, inward, k == 1, border))
    made = [
        patch(mesh, curves, ALONE, replace(settings, ribbons=tuple(own)))
        for curves, own in zip(quarters, ribbons, strict=True)
    ]
    for seam, _ in found:
        line = border_curve(pieces[seam.pieces[0]].surface, seam.sides[0])
        before, after = (
            edge_joint(fits[seam.pieces[0]].surface, fits[seam.pieces[1]].surface, line)
            for fits in (alone, made)
        )
        assert after.gap.max() < 1e-6
        # Exact but at the corners, where the borders' own directions count.
        assert np.degrees(np.median(after.angle)) < 0.05 < np.degrees(np.median(before.angle))
        assert after.angle.max() < before.angle.max()
    # Neither leans on the other: the joints cost next to nothing, told for each.
    for one, two, curves, own in zip(alone, made, quarters, ribbons, strict=True):
        assert np.quantile(truth(two.surface), 0.95) < np.quantile(truth(one.surface), 0.95) + 0.02
        held = replace(settings, ribbons=tuple(own))
        assert "joints costs 0.00" in price_of_patch(mesh, curves, ALONE, held, two.surface)


def test_what_cannot_be_solved_together_is_told() -> None:
    far = [moved(curve, 0, 0, 5) for curve in LEFT]
    surfaces = [coons_patch(four_borders(curves, 0.1)) for curves in (LEFT, far)]
    points = surface_grid(surfaces[0], np.linspace(0, 1, 9), np.linspace(0, 1, 9)).reshape(-1, 3)
    pieces = [Piece(surface, points, np.ones(len(points))) for surface in surfaces]
    with pytest.raises(FitError, match="share a border"):
        solve_together(pieces)
    round_ = replace(surfaces[0], weights=np.ones(surfaces[0].counts))
    with pytest.raises(FitError, match="rational"):
        solve_together([pieces[0], replace(pieces[0], surface=round_)])
