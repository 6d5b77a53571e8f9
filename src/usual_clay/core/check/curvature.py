"""Curvature, slope and draft of surfaces, at places of their parameters."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives


@dataclass(frozen=True, eq=False)
class Bent:
    """How a surface bends at places.

    Attributes
    ----------
    points, normals : (n, 3) arrays
    gaussian, mean : (n,) arrays
        1/mm squared and 1/mm.
    least, greatest : (n,) arrays
        The principal curvatures, 1/mm, towards the normal where positive.
    area : (n,) array
        How much of the surface a step of the parameters is there, mm squared.
    """

    points: Floats
    normals: Floats
    gaussian: Floats
    mean: Floats
    least: Floats
    greatest: Floats
    area: Floats

    @property
    def smallest_radius(self) -> Floats:
        """The radius of the tightest bend to either side, mm; infinite where it is flat."""
        most = np.maximum(np.abs(self.least), np.abs(self.greatest))
        with np.errstate(divide="ignore"):
            return np.asarray(1.0 / most)


def bent(surface: BSplineSurface, u: Floats, v: Floats) -> Bent:
    """Return how a surface bends at parameters (do Carmo, Differential Geometry, ch. 3.3).

    Parameters
    ----------
    u, v : (n,) arrays
    """
    parts = surface_derivatives(surface, u, v, 2)
    place, su, sv, suu, suv, svv = (part.T for part in parts)
    normal = np.cross(su, sv)
    size = np.linalg.norm(normal, axis=1)
    # A pole has no normal of its own.
    normal = normal / np.maximum(size, 1e-300)[:, None]

    e, f, g = dot(su, su), dot(su, sv), dot(sv, sv)
    ll, mm, nn = dot(suu, normal), dot(suv, normal), dot(svv, normal)
    det = e * g - f * f
    flat = det < 1e-14 * np.maximum(e, g) ** 2
    det = np.where(flat, 1.0, det)
    gaussian = np.where(flat, 0.0, (ll * nn - mm * mm) / det)
    mean = np.where(flat, 0.0, (e * nn - 2 * f * mm + g * ll) / (2 * det))
    root = np.sqrt(np.maximum(mean * mean - gaussian, 0.0))
    return Bent(place, normal, gaussian, mean, mean - root, mean + root, size)


def dot(a: Floats, b: Floats) -> Floats:
    """Return the products of vectors, row by row, (n,)."""
    return np.asarray(np.einsum("nk,nk->n", a, b), dtype=np.float64)


def rates_along(su: Floats, sv: Floats, way: Floats) -> tuple[Floats, Floats]:
    """Return how fast u and v change for a way in the tangent plane."""
    e, f, g = dot(su, su), dot(su, sv), dot(sv, sv)
    det = np.maximum(e * g - f * f, 1e-300)
    one, two = dot(way, su), dot(way, sv)
    return (g * one - f * two) / det, (e * two - f * one) / det


def bend_along(
    rates: tuple[Floats, Floats], suu: Floats, suv: Floats, svv: Floats, normal: Floats
) -> Floats:
    """Return the normal curvature along a way of length 1, of which u and v have these rates."""
    a, b = rates
    return a * a * dot(suu, normal) + 2 * a * b * dot(suv, normal) + b * b * dot(svv, normal)


def bent_over(surface: BSplineSurface, shares: Floats) -> Bent:
    """Return how a surface bends at shares, (k,), of both directions, (k * k,), rows of u."""
    u, v = (k[0] + shares * (k[-1] - k[0]) for k in (surface.knots_u, surface.knots_v))
    u, v = np.meshgrid(u, v, indexing="ij")
    return bent(surface, u.ravel(), v.ravel())


def draft_angle(normals: Floats, pull: Floats) -> Floats:
    """Return the angle of walls against a pull, radians: less than 0 where they hold it back."""
    way = pull / np.linalg.norm(pull)
    return np.arcsin(np.clip(normals @ way, -1.0, 1.0))
