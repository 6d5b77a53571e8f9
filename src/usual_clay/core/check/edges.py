"""Joints of surfaces: gap, angle and curvature step along a border that two of them share."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives

PLACES = 41


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
    """

    points: Floats
    gap: Floats
    angle: Floats
    step: Floats

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
    sides = [_side(surface, points, unit(along)) for surface in (first, second)]
    (place_a, normal_a, bend_a), (place_b, normal_b, bend_b) = sides
    gap = np.linalg.norm(place_a - place_b, axis=1)
    across = np.linalg.norm(np.cross(normal_a, normal_b), axis=1)
    facing = np.einsum("nk,nk->n", normal_a, normal_b)
    # Surfaces may face opposite ways and still have one tangent plane.
    turn = np.where(facing < 0, -1.0, 1.0)
    return EdgeJoint(
        points, gap, np.arctan2(across, np.abs(facing)), np.abs(bend_a - turn * bend_b)
    )


def _side(surface: BSplineSurface, points: Floats, along: Floats) -> tuple[Floats, Floats, Floats]:
    """Return feet, normals, and the normal curvature square to the line, (n,)."""
    feet = foot_points(surface, points)
    place, su, sv, suu, suv, svv = surface_derivatives(surface, feet.u, feet.v, 2).transpose(
        0, 2, 1
    )
    normal = unit(np.cross(su, sv))
    across = np.cross(normal, along)

    def dot(a: Floats, b: Floats) -> Floats:
        return np.asarray(np.einsum("nk,nk->n", a, b), dtype=np.float64)

    # The direction across the line in the surface's own parameters.
    e, f, g = dot(su, su), dot(su, sv), dot(sv, sv)
    det = np.maximum(e * g - f * f, 1e-300)
    right_u, right_v = dot(across, su), dot(across, sv)
    a, b = (g * right_u - f * right_v) / det, (e * right_v - f * right_u) / det
    bend = a * a * dot(suu, normal) + 2 * a * b * dot(suv, normal) + b * b * dot(svv, normal)
    return place, normal, bend
