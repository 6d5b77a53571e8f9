"""A surface as the stage shows it: triangles, normals, isocurves, and deviation at each vertex."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.spline.surface import (
    BSplineSurface,
    sample_parameters,
    surface_grid,
    surface_normals,
)
from usual_clay.core.spline.tessellate import grid_triangles

MOST_TRIANGLES = 40_000


@dataclass(frozen=True, eq=False)
class Portrait:
    """What is drawn of a surface.

    Attributes
    ----------
    geometry : BSplineSurface
        The surface it was made of.
    vertices, normals : (n, 3) arrays
    triangles : (m, 3) integers
    signed : (n,) array
        Deviation, mm; NaN past the region, or everywhere when there is nothing to judge by.
    lines : list of (k, 3) arrays
        The isocurves at the knots.
    """

    geometry: BSplineSurface
    vertices: Floats
    normals: Floats
    triangles: Ints
    signed: Floats
    lines: list[Floats]

    @cached_property
    def tree(self) -> MeshTree:
        return MeshTree(self.vertices, self.triangles)

    def deviation_at(self, triangle: int, point: Floats) -> float:
        """Read the deviation off the colours, at a point of a triangle."""
        corners = self.triangles[triangle]
        a, b, c = self.vertices[corners]
        system = np.stack([b - a, c - a], axis=1)
        s, t = np.linalg.lstsq(system, point - a, rcond=None)[0]
        return float(np.array([1 - s - t, s, t]) @ self.signed[corners])


@dataclass(frozen=True, eq=False)
class Judge:
    """A region's mesh, ready to be measured against."""

    tree: MeshTree
    edge_length: float


def make_portrait(geometry: BSplineSurface, judge: Judge | None) -> Portrait:
    """Tessellate a surface and measure the distance from each vertex to its region."""
    nu, nv = (len(np.unique(k)) - 1 for k in (geometry.knots_u, geometry.knots_v))
    steps = int(np.clip(np.sqrt(MOST_TRIANGLES / (2 * nu * nv)), 2, 12))
    u = sample_parameters(geometry.knots_u, steps)
    v = sample_parameters(geometry.knots_v, steps)
    uu, vv = (g.ravel() for g in np.meshgrid(u, v, indexing="ij"))
    grid = surface_grid(geometry, u, v)
    vertices = grid.reshape(-1, 3)
    normals = surface_normals(geometry, uu, vv)
    signed = np.full(len(vertices), np.nan)
    if judge is not None:
        signed = _measure(vertices, normals, judge)
    lines = [*grid[::steps], *grid.transpose(1, 0, 2)[::steps]]
    triangles = grid_triangles(len(u), len(v))
    return Portrait(geometry, vertices, normals, triangles, signed, lines)


def _measure(vertices: Floats, normals: Floats, judge: Judge) -> Floats:
    distance, _, nearest = judge.tree.nearest(vertices)
    gap = nearest - vertices
    along = np.einsum("nk,nk->n", gap, normals)
    aside = np.sqrt(np.maximum(distance**2 - along**2, 0.0))
    # Where the nearest point lies sideways, the region has ended or has a gap there.
    past = aside > np.maximum(0.3 * judge.edge_length, 0.7 * np.abs(along))
    return np.where(past, np.nan, np.copysign(distance, along))
