"""Edits of whole surfaces against closed forms."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from usual_clay.core.build.surface_edits import (
    BorderSettings,
    EvenSettings,
    LongerSettings,
    MatchSettings,
    MirrorSettings,
    evenly_spaced,
    longer,
    matched,
    mirrored_surface,
    moved_by,
    with_border,
)
from usual_clay.core.check.cuts import cut_mesh, cut_surface, pulled
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.fit.patch.meet import edge_of
from usual_clay.core.scan.follow import follow_surface
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import SplineError, even_knots, greville
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.knots import insert_knot
from usual_clay.core.spline.parts import length_of
from usual_clay.core.spline.surface import (
    BSplineSurface,
    isocurve,
    surface_grid,
    surface_normals,
    surface_points,
)
from usual_clay.core.spline.tessellate import grid_triangles

AT = np.linspace(0, 1, 25)


def sheet(nu: int = 7, nv: int = 6, seed: int = 0, size: float = 30.0) -> BSplineSurface:
    """A gently waved sheet over [0, size] x [0, 20]."""
    random = np.random.default_rng(seed)
    knots_u, knots_v = even_knots(nu, 3), even_knots(nv, 3)
    x, y = np.meshgrid(size * greville(knots_u, 3), 20 * greville(knots_v, 3), indexing="ij")
    z = 2 * np.sin(x / 8) + 0.03 * (y - 10) ** 2 + random.normal(0, 0.2, x.shape)
    return BSplineSurface(knots_u, knots_v, np.stack([x, y, z], axis=2))


def shifted(surface: BSplineSurface, *by: float) -> BSplineSurface:
    return replace(surface, points=surface.points + np.array(by))


@pytest.mark.parametrize("side", ["u0", "u1", "v0", "v1"])
def test_a_surface_runs_on_with_no_control_point_more(side: str) -> None:
    made = longer(sheet(), LongerSettings(side, 4.0))
    assert made.counts == sheet().counts
    # The old surface is a part of it, and it is longer by what was asked, in the mean.
    assert np.abs(foot_points(made, surface_grid(sheet(), AT, AT).reshape(-1, 3)).signed).max() < (
        1e-7
    )
    places = np.linspace(0, 1, 9)
    grown = [length_of(isocurve(s, side[0], float(t))) for s in (made, sheet()) for t in places]
    assert np.mean(grown[:9]) - np.mean(grown[9:]) == pytest.approx(4.0, abs=1e-3)
    with pytest.raises(SplineError, match="more than 0"):
        longer(sheet(), LongerSettings(side, 0.0))


def test_borders_become_poles_straight_or_flat() -> None:
    pole = with_border(sheet(), BorderSettings("v1", "pole"))
    assert np.ptp(pole.points[:, -1], axis=0).max() < 1e-12
    near = surface_normals(pole, AT[1:-1], np.full(23, 1 - 1e-6))
    assert np.abs(near @ near[0]).min() > 1 - 1e-6
    straight = with_border(sheet(), BorderSettings("u0", "straight"))
    line = isocurve(straight, "v", 0.0).points
    way = line[-1] - line[0]
    assert np.linalg.norm(np.cross(line - line[0], way / np.linalg.norm(way)), axis=1).max() < 1e-9
    assert line[0] == pytest.approx(sheet().points[0, 0])
    flat = with_border(sheet(), BorderSettings("u1", "flat")).points[-1]
    assert np.linalg.svd(flat - flat.mean(axis=0))[1][-1] < 1e-9
    for made in (pole, straight):
        assert made.points[2:-2, 2:-2] == pytest.approx(sheet().points[2:-2, 2:-2])


def test_a_surface_is_made_symmetric_with_knots_that_were_not() -> None:
    lying = replace(sheet(), points=sheet().points - [0, 10, 0])
    uneven = insert_knot(lying, 0.23, direction="v")
    made = mirrored_surface(uneven, MirrorSettings("y"))
    assert made.points == pytest.approx(made.points[:, ::-1] * [1, -1, 1])
    grid = surface_grid(made, AT, AT)
    assert grid == pytest.approx(grid[:, ::-1] * [1, -1, 1], abs=1e-9)
    assert moved_by(uneven, made) < 0.5
    with pytest.raises(SplineError, match="does not lie across z = 0"):
        mirrored_surface(shifted(sheet(), 0, 0, 50), MirrorSettings("z"))


def test_legs_are_evenly_spaced_and_the_shape_hardly_moves() -> None:
    calm = sheet()
    calm = replace(calm, points=calm.points * [1, 1, 0.2])
    pulled = calm.points.copy()
    pulled[3, 1:-1, 0] += 2.5
    made = evenly_spaced(replace(calm, points=pulled), EvenSettings())

    def unevenness(points: np.ndarray) -> float:
        legs = np.linalg.norm(np.diff(points[1:-1, 1:-1], axis=0), axis=2)
        return float(legs.max() / legs.min())

    assert unevenness(made.points) < 0.75 * unevenness(pulled)
    away = foot_points(replace(calm, points=pulled), surface_grid(made, AT, AT).reshape(-1, 3))
    assert np.abs(away.signed).max() < 0.15
    assert made.points[[0, 0, -1, -1], [0, -1, 0, -1]] == pytest.approx(
        calm.points[[0, 0, -1, -1], [0, -1, 0, -1]]
    )


@pytest.mark.parametrize("moves", ["this", "both"])
@pytest.mark.parametrize("grade", ["G0", "G1", "G2"])
def test_a_border_is_matched_to_another_surface(grade: str, moves: str) -> None:
    first = sheet()
    away = sheet(6, 8, seed=3, size=24.0)
    second = shifted(away, 30.2, 0.1, 0.4)
    one, two = matched(second, first, MatchSettings(grade, moves))
    border = edge_of(one, "u0").curve
    joint = edge_joint(one, two, border)
    assert joint.gap.max() < 1e-6
    if grade != "G0":
        assert np.degrees(joint.angle.max()) < 1e-4
    if grade == "G2":
        assert joint.step.max() < 1e-6
    held = 3 if grade == "G2" else 2 if grade == "G1" else 1
    assert one.points[held:] == pytest.approx(insert_like(second, one).points[held:], abs=1e-9)
    moved = [moved_by(old, new) for old, new in ((second, one), (first, two))]
    assert (moved[1] < 1e-9) == (moves == "this")
    if moves == "both":
        assert moved[1] == pytest.approx(moved[0], rel=0.6)


def insert_like(surface: BSplineSurface, other: BSplineSurface) -> BSplineSurface:
    """Return a surface with another's knots in v."""
    for t in other.knots_v:
        if np.abs(surface.knots_v - t).min() > 1e-9:
            surface = insert_knot(surface, float(t), direction="v")
    return surface


def test_what_cannot_meet_is_told() -> None:
    over = replace(sheet(), points=sheet().points * [-1, 1, 1] + [60, 0, 0])
    back = replace(over, points=over.points[::-1])
    folded = replace(back, points=back.points - [30, 0, 0.5])
    with pytest.raises(SplineError, match="folds back over"):
        matched(folded, sheet(), MatchSettings("G1"))


# ---- sections, and the scan that follows -----------------------------------------------------


def sheet_mesh(surface: BSplineSurface, off: float) -> TriangleMesh:
    """A mesh that lies `off` mm above a surface, square to it."""
    at = np.linspace(0.001, 0.999, 160)
    uu, vv = (g.ravel() for g in np.meshgrid(at, at, indexing="ij"))
    points = surface_grid(surface, at, at).reshape(-1, 3)
    points = points + off * surface_normals(surface, uu, vv)
    return TriangleMesh(points, grid_triangles(160, 160))


def test_sections_of_scan_and_surface_lie_side_by_side() -> None:
    surface = sheet()
    scan = cut_mesh(sheet_mesh(surface, 0.3), 0, [5.0, 15.0, 200.0])
    cuts = cut_surface(surface, 0, [5.0, 15.0, 200.0], scan)
    for cut, at in zip(cuts[:2], (5.0, 15.0), strict=True):
        line = np.concatenate(cut.surface)
        assert line[:, 0] == pytest.approx(at)
        assert np.abs(foot_points(surface, line).signed).max() < 0.02
        assert len(cut.signed) > 100
        assert np.median(cut.signed) == pytest.approx(0.3, abs=0.005)
    assert cuts[2].surface == ()
    assert len(cuts[2].signed) == 0


@pytest.mark.parametrize("rational", [False, True])
def test_a_surface_is_pulled_to_where_the_hand_goes(rational: bool) -> None:
    weights = np.random.default_rng(2).uniform(0.5, 2, (7, 6)) if rational else None
    surface = replace(sheet(), weights=weights)
    by = np.array([0.1, -0.2, 0.7])
    made = pulled(surface, 0.37, 0.62, by)
    before, after = (surface_points(s, [0.37], [0.62])[0] for s in (surface, made))
    assert after - before == pytest.approx(by)
    assert (made.points != surface.points).any(axis=2).sum() <= 16


def test_a_scan_follows_a_surface_and_keeps_its_small_features() -> None:
    before = sheet()
    lifted = before.points.copy()
    lifted[2:5, 2:4, 2] += 1.5
    after = replace(before, points=lifted)
    mesh = sheet_mesh(before, 0.3)
    inside = np.arange(len(mesh.vertices))
    made = follow_surface(mesh, inside, before, after, fade=2.0)
    feet = foot_points(after, made.vertices)
    middle = (np.abs(feet.u - 0.5) < 0.3) & (np.abs(feet.v - 0.5) < 0.3)
    assert feet.signed[middle] == pytest.approx(0.3, abs=0.01)
    assert np.abs(made.vertices - mesh.vertices).max() > 0.8
    rim = np.abs(mesh.vertices[:, 1] - mesh.vertices[:, 1].min()) < 0.12
    assert np.abs(made.vertices - mesh.vertices)[rim].max() < 0.02
    with pytest.raises(SplineError, match="not one before and after"):
        follow_surface(mesh, inside, before, insert_knot(after, 0.4), 1.0)
