"""Joints of surfaces: gap, angle, step of curvature and of its flow along a border they share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.check.curvature import bend_along, dot, rates_along
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.closest import FootPoints, foot_points
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


class Side(NamedTuple):
    """What one of two surfaces has along a line.

    Attributes
    ----------
    places, normals : (n, 3) arrays
        Its feet, and its normals there.
    bend, flow : (n,) arrays
        Its curvature across the line, and how fast that changes on the way.
    """

    places: Floats
    normals: Floats
    bend: Floats
    flow: Floats

    def part(self, which: slice) -> Side:
        return Side(*(each[which] for each in self))


def edge_joint(first: BSplineSurface, second: BSplineSurface, border: BSplineCurve) -> EdgeJoint:
    """Measure the joint of two surfaces along a border, corners included."""
    points, along, _, into = places_along(border)
    return joint_of(points, *(side_along(each, points, along, into) for each in (first, second)))


def places_along(border: BSplineCurve) -> tuple[Floats, Floats, float, Floats]:
    """Return places along a border, its directions there, its length, and how far into a surface
    is looked."""
    t = np.linspace(*border.domain, PLACES)
    points, along = curve_derivatives(border, t, 1)
    length = float(scipy.integrate.simpson(np.linalg.norm(along, axis=1), x=t))
    return points, unit(along), length, np.full(PLACES, INTO * length)


def joint_of(points: Floats, first: Side, second: Side) -> EdgeJoint:
    """Return the joint of two sides along a line."""
    gap = np.linalg.norm(first.places - second.places, axis=1)
    across = np.linalg.norm(np.cross(first.normals, second.normals), axis=1)
    facing = dot(first.normals, second.normals)
    # Surfaces may face opposite ways and still have one tangent plane.
    turn = np.where(facing < 0, -1.0, 1.0)
    # Of one that faces the other way both the curvature and the way across are turned.
    return EdgeJoint(
        points,
        gap,
        np.arctan2(across, np.abs(facing)),
        np.abs(first.bend - turn * second.bend),
        np.abs(first.flow - second.flow),
    )


def side_along(
    surface: BSplineSurface,
    points: Floats,
    along: Floats,
    step: Floats,
    feet: FootPoints | None = None,
) -> Side:
    """Return what a surface has along lines: how fast its curvature changes is told from three
    places a step apart, into the surface; the feet of the points may be known already."""
    feet = feet or foot_points(surface, points)
    place, normal, bend, way = _across(surface, feet.u, feet.v, along)
    (u0, u1), (v0, v1) = surface.domain
    u, v = (
        np.stack([t + k * step * rate for k in (-2, -1, 1, 2)])
        for t, rate in zip((feet.u, feet.v), way, strict=True)
    )
    inside = (u >= u0) & (u <= u1) & (v >= v0) & (v <= v1)
    ahead = inside[2:].sum(axis=0) >= inside[:2].sum(axis=0)
    u, v = np.clip(u, u0, u1), np.clip(v, v0, v1)
    tried = (np.concatenate([np.where(ahead, t[2], t[1]), np.where(ahead, t[3], t[0])])
             for t in (u, v))  # fmt: skip
    far_u, far_v = tried
    bends = _across(surface, far_u, far_v, np.tile(along, (2, 1)), np.tile(normal, (2, 1)))[2]
    one, two = bends[: len(points)], bends[len(points) :]
    flow = np.where(ahead, 1.0, -1.0) * (4 * one - 3 * bend - two) / (2 * step)
    return Side(place, normal, bend, flow)


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
    across = unit(across - dot(across, normal)[:, None] * normal)
    rates = rates_along(su, sv, across)
    return place, normal, bend_along(rates, suu, suv, svv, normal), rates
