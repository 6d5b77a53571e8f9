"""Curvature along plane cuts and isocurves of surfaces: combs that run on across joints."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import CombLine, bends, sign_changes
from usual_clay.core.check.curvature import bend_along, dot, rates_along
from usual_clay.core.check.cuts import cut_mesh
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives

# A place is brought onto the plane within the surface so often.
STEPS = 3
# A cut's plane is to meet the surface at this sine at least, or the cut bends without end there.
FLATTEST = 0.05
# Places along an isocurve.
PLACES = 120


def comb_of_cut(
    surface: BSplineSurface, mesh: TriangleMesh, axis: int, at: float
) -> list[CombLine]:
    """Return the lines in which a plane square to an axis cuts a surface, with their curvature.

    Triangles say about where; each place is brought onto surface and plane. The curvature is that
    of the exact cut: the normal curvature along it, over the sine at which the plane meets the
    surface (Meusnier's theorem).

    Parameters
    ----------
    mesh : TriangleMesh
        Near the surface, and ending where that is trimmed.
    """
    found = []
    (lines,) = cut_mesh(mesh, axis, [at])
    for line in lines:
        feet = foot_points(surface, line)
        u, v = _onto_plane(surface, feet.u, feet.v, axis, at)
        place, su, sv, suu, suv, svv = surface_derivatives(surface, u, v, 2).transpose(0, 2, 1)
        normal = unit(np.cross(su, sv))
        ahead = np.cross(normal, np.eye(3)[axis])
        sine = np.linalg.norm(ahead, axis=1)
        ahead /= np.maximum(sine, 1e-12)[:, None]
        bend = bend_along(rates_along(su, sv, ahead), suu, suv, svv, normal)
        # In the plane, square to the cut.
        inward = unit(normal - normal[:, [axis]] * np.eye(3)[axis])
        held = sine > FLATTEST
        curvature = np.where(held, bend / np.maximum(sine, FLATTEST), 0.0)[:, None] * inward
        if len(place) > 1:
            found.append(_line(place, curvature))
    return found


def _onto_plane(
    surface: BSplineSurface, u: Floats, v: Floats, axis: int, at: float
) -> tuple[Floats, Floats]:
    """Bring places of a surface onto a plane, within the surface, by the shortest way."""
    (u0, u1), (v0, v1) = surface.domain
    for _ in range(STEPS):
        place, su, sv = surface_derivatives(surface, u, v, 1).transpose(0, 2, 1)
        normal = unit(np.cross(su, sv))
        climb = np.eye(3)[axis] - normal[:, [axis]] * normal
        square = np.maximum(dot(climb, climb), FLATTEST**2)
        a, b = rates_along(su, sv, climb * ((at - place[:, axis]) / square)[:, None])
        u, v = np.clip(u + a, u0, u1), np.clip(v + b, v0, v1)
    return u, v


def comb_of_isocurves(surface: BSplineSurface, direction: str, count: int) -> list[CombLine]:
    """Return so many isocurves of a surface along a direction, with their curvature."""
    (u0, u1), (v0, v1) = surface.domain
    run, across = ((u0, u1), (v0, v1)) if direction == "u" else ((v0, v1), (u0, u1))
    t = np.linspace(*run, PLACES)
    found = []
    for other in np.linspace(*across, count):
        still = np.full(PLACES, other)
        u, v = (t, still) if direction == "u" else (still, t)
        place, su, sv, suu, _, svv = surface_derivatives(surface, u, v, 2).transpose(0, 2, 1)
        first, second = (su, suu) if direction == "u" else (sv, svv)
        if np.ptp(place, axis=0).max() > 0:
            found.append(_line(place, bends(first, second)[0]))
    return found


def _line(points: Floats, curvature: Floats) -> CombLine:
    """Return a line with where its bend changes its side."""
    size = np.linalg.norm(curvature, axis=1)
    turn = np.cross(np.gradient(points, axis=0), curvature)
    side = np.sign(turn @ turn[int(np.argmax(size))])
    return CombLine(points, curvature, points[sign_changes(side * size, size)])


def words_of(lines: Sequence[CombLine]) -> str:
    """Return what combs say in figures: smallest radius, and where the bend changes its side."""
    if not lines:
        return "Nothing lies there."
    changes = sum(len(line.inflections) for line in lines)
    sharpest = max(float(np.linalg.norm(line.curvature, axis=1).max()) for line in lines)
    radius = 1 / max(sharpest, 1e-12)
    lines_ = f"{len(lines)} lines" if len(lines) > 1 else "1 line"
    told = "no inflection" if not changes else f"{changes} inflection{'s' * (changes > 1)}"
    radius_ = f"smallest radius {radius:.3g} mm" if radius < 1e5 else "straight"
    return f"{lines_}, {told}, {radius_}."
