"""Sections through a scan and a surface at the same planes, and how far they lie apart there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.section import Section, sections
from usual_clay.core.spline.basis import basis_functions
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.core.spline.tessellate import grid_triangles, tessellate

# Steps of a knot span in which a surface is cut: fine enough to look smooth on a sheet.
STEPS = 10
RIM = 1e-7


@dataclass(frozen=True, eq=False)
class Cut:
    """What one plane cuts.

    Attributes
    ----------
    at : float
        Where it lies along its axis, mm.
    scan, surface : tuple of (n, 3) arrays
        Polylines; a closed one comes back to its first point.
    points, feet : (n, 3) arrays
        The scan's points on the plane over the surface, and the nearest points of that.
    signed : (n,) array
        Their distances, mm, positive on the side of the surface's normal.
    """

    at: float
    scan: tuple[Floats, ...]
    surface: tuple[Floats, ...]
    points: Floats
    feet: Floats
    signed: Floats


def cut_mesh(mesh: TriangleMesh, axis: int, places: Sequence[float]) -> list[tuple[Floats, ...]]:
    """Return for each place along an axis the polylines that its plane cuts from a mesh."""
    normal = np.eye(3)[axis]
    return [tuple(_line(part) for part in sections(mesh, at * normal, normal)) for at in places]


def _line(section: Section) -> Floats:
    points = section.points
    return np.concatenate([points, points[:1]]) if section.closed else points


def cut_surface(
    surface: BSplineSurface,
    axis: int,
    places: Sequence[float],
    scan: Sequence[tuple[Floats, ...]],
) -> list[Cut]:
    """Cut a surface at the places at which a scan was cut, and measure between the two.

    Distances are those of foot points in space, as everywhere; on a slanted surface a foot lies a
    little beside its plane.
    """
    grid = tessellate(surface, (STEPS, STEPS))[0]
    mesh = TriangleMesh(grid.reshape(-1, 3), grid_triangles(*grid.shape[:2]))
    lines = cut_mesh(mesh, axis, places)
    runs = [np.concatenate(part) if part else np.zeros((0, 3)) for part in scan]
    count = [len(run) for run in runs]
    every = np.concatenate(runs) if runs else np.zeros((0, 3))
    feet = foot_points(surface, every) if len(every) else None
    made, start = [], 0
    for at, own, theirs, many in zip(places, lines, scan, count, strict=True):
        part = slice(start, start + many)
        start += many
        none = np.zeros((0, 3))
        if feet is None or not own:
            made.append(Cut(at, theirs, own, none, none, np.zeros(0)))
            continue
        off = np.maximum(np.abs(feet.u[part] - 0.5), np.abs(feet.v[part] - 0.5))
        near = np.abs(feet.signed[part]) < 0.1 * float(np.ptp(grid.reshape(-1, 3), axis=0).max())
        over = (off < 0.5 - RIM) & near
        made.append(
            Cut(at, theirs, own, every[part][over], feet.feet[part][over], feet.signed[part][over])
        )
    return made


def pulled(surface: BSplineSurface, u: float, v: float, by: Floats) -> BSplineSurface:
    """Move a surface so that its point at (u, v) goes by a vector, its net as little as possible.

    The least change of the control points in the sum of squares; of a rational surface the
    weights stay.
    """
    p, q = surface.degrees
    span_u, (in_u,) = basis_functions(surface.knots_u, p, np.array([u]))
    span_v, (in_v,) = basis_functions(surface.knots_v, q, np.array([v]))
    share = np.outer(in_u[:, 0], in_v[:, 0])
    rows = slice(int(span_u[0]) - p, int(span_u[0]) + 1)
    columns = slice(int(span_v[0]) - q, int(span_v[0]) + 1)
    if surface.weights is not None:
        share = share * surface.weights[rows, columns]
        share = share / share.sum()
    points = surface.points.copy()
    points[rows, columns] += (share / (share**2).sum())[..., None] * by
    return BSplineSurface(surface.knots_u, surface.knots_v, points, surface.weights)
