"""Joints of surfaces: gap, angle, step of curvature and of its flow along a border they share."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives

PLACES = 41
# How fast curvature changes is taken over so much of a line's length into the surface.
INTO = 2e-4


@dataclass(frozen=True, eq=False)
class EdgeJoint:
    """How well two surfaces meet along a line.

    Attributes
    ----------
    points : (n, 3) array
        Places along it.
    gap : (n,) array
        mm.
    angle : (n,) array
        Between the tangent planes, radians.
    step : (n,) array
        Between the curvatures across the line, 1/mm.
    flow : (n,) array
        Between how fast these change on the way across it, 1/mm squared.
    """

    points: Floats
    gap: Floats
    angle: Floats
    step: Floats
    flow: Floats

    @property
    def words(self) -> str:
        """The greatest of each."""
        angle = float(np.degrees(self.angle.max()))
        return (
            f"gap up to {self.gap.max():.4f} mm, angle up to {angle:.3f}°,"
            f" curvature step up to {self.step.max():.4f} /mm"
        )


def edge_joint(first: BSplineSurface, second: BSplineSurface, border: BSplineCurve) -> EdgeJoint:
    """Measure the joint of two surfaces along a border, corners included."""
    t = np.linspace(*border.domain, PLACES)
    points, along = curve_derivatives(border, t, 1)
    step = INTO * float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())
    sides = [_side(surface, points, unit(along), step) for surface in (first, second)]
    (place_a, normal_a, bend_a, flow_a), (place_b, normal_b, bend_b, flow_b) = sides
    gap = np.linalg.norm(place_a - place_b, axis=1)
    across = np.linalg.norm(np.cross(normal_a, normal_b), axis=1)
    facing = np.einsum("nk,nk->n", normal_a, normal_b)
    # Surfaces may face opposite ways and still have one tangent plane.
    turn = np.where(facing < 0, -1.0, 1.0)
    # Of one that faces the other way both the curvature and the way across are turned.
    return EdgeJoint(
        points,
        gap,
        np.arctan2(across, np.abs(facing)),
        np.abs(bend_a - turn * bend_b),
        np.abs(flow_a - flow_b),
    )


def _side(
    surface: BSplineSurface, points: Floats, along: Floats, step: float
) -> tuple[Floats, Floats, Floats, Floats]:
    """Return feet, normals, the normal curvature square to the line, and how fast it changes on
    the way, (n,): from three places a step apart, into the surface."""
    feet = foot_points(surface, points)
    place, normal, bend, way = _across(surface, feet.u, feet.v, along)
    (u0, u1), (v0, v1) = surface.domain
    u, v = (np.stack([t + k * step * rate for k in (-2, -1, 1, 2)])
            for t, rate in zip((feet.u, feet.v), way, strict=True))  # fmt: skip
    inside = ((u >= u0) & (u <= u1) & (v >= v0) & (v <= v1)).sum(axis=1)
    # All along it is one side of the line on which the surface lies.
    sign, near, far = (1, 2, 3) if inside[2:].sum() >= inside[:2].sum() else (-1, 1, 0)
    one, two = (
        _across(surface, np.clip(u[k], u0, u1), np.clip(v[k], v0, v1), along, normal)[2]
        for k in (near, far)
    )
    return place, normal, bend, sign * (4 * one - 3 * bend - two) / (2 * step)


def _across(
    surface: BSplineSurface, u: Floats, v: Floats, along: Floats, facing: Floats | None = None
) -> tuple[Floats, Floats, Floats, tuple[Floats, Floats]]:
    """Return places, normals, the normal curvature square to a line, and how fast u and v change
    in that direction.

    Parameters
    ----------
    facing : (n, 3) array, optional
        The normals from which the way across the line was taken; the places' own without.
    """
    place, su, sv, suu, suv, svv = surface_derivatives(surface, u, v, 2).transpose(0, 2, 1)
    normal = unit(np.cross(su, sv))
    across = np.cross(normal if facing is None else facing, along)
    across = unit(across - _dot(across, normal)[:, None] * normal)
    # The direction across the line in the surface's own parameters.
    e, f, g = _dot(su, su), _dot(su, sv), _dot(sv, sv)
    det = np.maximum(e * g - f * f, 1e-300)
    right_u, right_v = _dot(across, su), _dot(across, sv)
    a, b = (g * right_u - f * right_v) / det, (e * right_v - f * right_u) / det
    bend = a * a * _dot(suu, normal) + 2 * a * b * _dot(suv, normal) + b * b * _dot(svv, normal)
    return place, normal, bend, (a, b)


def _dot(a: Floats, b: Floats) -> Floats:
    return np.asarray(np.einsum("nk,nk->n", a, b), dtype=np.float64)
