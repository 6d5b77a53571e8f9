"""A surface as the stage shows it: triangles, normals, isocurves, and deviation at each vertex."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.surface import (
    BSplineSurface,
    sample_parameters,
    surface_derivatives,
    surface_grid,
    surface_normals,
)
from usual_clay.core.spline.tessellate import grid_triangles

MOST_TRIANGLES = 40_000
# So many vertices are measured anew within a frame.
MOST_AT_ONCE = 2_500


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
    u, v : (k,) and (l,) arrays
        The parameters of the grid that the vertices are.
    steps : int
        How many of them a span has.
    """

    geometry: BSplineSurface
    vertices: Floats
    normals: Floats
    triangles: Ints
    signed: Floats
    u: Floats
    v: Floats
    steps: int

    @property
    def lines(self) -> list[Floats]:
        """The isocurves at the knots."""
        grid = self.vertices.reshape(len(self.u), len(self.v), 3)
        return [*grid[:: self.steps], *grid.transpose(1, 0, 2)[:: self.steps]]

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
    triangles = grid_triangles(len(u), len(v))
    return Portrait(geometry, vertices, normals, triangles, signed, u, v, steps)


def followed(old: Portrait, geometry: BSplineSurface, judge: Judge | None) -> Portrait | None:
    """Return the portrait of a surface with a few control points elsewhere, at once.

    Only vertices on the spans that these bend are worked out again; None where that is too many
    to be quick, or the knots are others.
    """
    was = old.geometry
    if not (
        geometry.counts == was.counts
        and geometry.weights is None
        and was.weights is None
        and np.array_equal(geometry.knots_u, was.knots_u)
        and np.array_equal(geometry.knots_v, was.knots_v)
    ):
        return None
    rows, columns = np.nonzero((geometry.points != was.points).any(axis=2))
    if not len(rows):
        return replace(old, geometry=geometry)
    p, q = geometry.degrees
    low_u, high_u = np.searchsorted(
        old.u, [geometry.knots_u[rows.min()], geometry.knots_u[rows.max() + p + 1]]
    )
    low_v, high_v = np.searchsorted(
        old.v, [geometry.knots_v[columns.min()], geometry.knots_v[columns.max() + q + 1]]
    )
    i = np.arange(low_u, min(high_u + 1, len(old.u)))
    j = np.arange(low_v, min(high_v + 1, len(old.v)))
    if len(i) * len(j) > MOST_AT_ONCE:
        return None
    uu, vv = (g.ravel() for g in np.meshgrid(old.u[i], old.v[j], indexing="ij"))
    at = (i[:, None] * len(old.v) + j).ravel()
    place, along_u, along_v = surface_derivatives(geometry, uu, vv, 1).transpose(0, 2, 1)
    normal = unit(np.cross(along_u, along_v))
    vertices, normals, signed = old.vertices.copy(), old.normals.copy(), old.signed.copy()
    vertices[at], normals[at] = place, normal
    if judge is not None:
        signed[at] = _measure(place, normal, judge)
    return replace(old, geometry=geometry, vertices=vertices, normals=normals, signed=signed)


def _measure(vertices: Floats, normals: Floats, judge: Judge) -> Floats:
    distance, _, nearest = judge.tree.nearest(vertices)
    gap = nearest - vertices
    along = np.einsum("nk,nk->n", gap, normals)
    aside = np.sqrt(np.maximum(distance**2 - along**2, 0.0))
    # Where the nearest point lies sideways, the region has ended or has a gap there.
    past = aside > np.maximum(0.3 * judge.edge_length, 0.7 * np.abs(along))
    return np.where(past, np.nan, np.copysign(distance, along))
