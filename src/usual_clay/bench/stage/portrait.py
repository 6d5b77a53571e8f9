"""A surface as the stage shows it: triangles, normals, isocurves, and where it was measured."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints, thinned
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    sample_parameters,
    surface_derivatives,
    surface_grid,
    surface_normals,
)
from usual_clay.core.spline.tessellate import grid_triangles, steps_for_chord

MOST_TRIANGLES = 60_000
# A span has so many steps at least, a direction so many in all: borders and silhouettes are smooth.
LEAST_STEPS, LEAST_IN_ALL = 3, 24
# What stands for a surface while the view moves has no more of them than that.
STAND_IN_TRIANGLES = 8_000
# So many vertices are made anew within a frame.
MOST_AT_ONCE = 4_000
# The deviation is shown on so many spots, on no fewer each way than that.
SPOTS, FEWEST_SPOTS = 65_000, 48
# A spot is measured where a point lies as near as the points about it are to each other, times so
# much; so many of them tell.
REACH, ABOUT = 1.3, 5
# At a region's border so much of that is taken back.
DRAWN_IN = 0.7
# Specks of no more than so many spots are closed up.
MOST_CLOSED = 12
# Farther off than this share of that, a point's foot is looked for.
FOOT_APART = 0.1
# Stripes of what was not measured, in the whole.
STRIPES = 60


@dataclass(frozen=True, eq=False)
class Spots:
    """Spots of even parameters on a surface, each coloured by the measured point nearest to it.

    Attributes
    ----------
    nearest : (a, b) integers
        Which point; -1 where nothing was measured.
    points : int
        How many measured points there are.
    striped : (a, b) mask
        Every other stripe, to hatch by.
    area : (a, b) array
        mm squared.
    """

    nearest: Ints
    points: int
    striped: Bools
    area: Floats

    def at(self, u: float, v: float) -> int:
        """Return the measured point at parameters in [0, 1]; -1 for none."""
        rows, columns = self.nearest.shape
        row, column = min(int(u * rows), rows - 1), min(int(v * columns), columns - 1)
        return int(self.nearest[row, column])


@dataclass(frozen=True, eq=False)
class Grid:
    """The parameters at which a surface is drawn: the same ones while its control points move.

    Attributes
    ----------
    u, v : (k,) and (l,) arrays
    steps : (int, int)
        How many of them a span has each way.
    """

    u: Floats
    v: Floats
    steps: tuple[int, int]

    @cached_property
    def triangles(self) -> Ints:
        """Those between the vertices, (m, 3)."""
        return grid_triangles(len(self.u), len(self.v))

    @cached_property
    def places(self) -> Floats:
        """Texture coordinates of the vertices, (n, 2): v to the right, u upwards."""
        u, v = np.meshgrid(self.u, self.v, indexing="ij")
        return np.stack([v.ravel(), u.ravel()], axis=1)

    @cached_property
    def stand_in(self) -> tuple[Ints, Ints] | None:
        """Every so manieth row and column of the vertices, (k,), and the triangles between them,
        (l, 3), for while the view moves; None where all of them are few enough."""
        every = int(np.ceil(np.sqrt(len(self.triangles) / STAND_IN_TRIANGLES)))
        if every < 2:
            return None
        rows, columns = thinned(len(self.u), every), thinned(len(self.v), every)
        vertices = (rows[:, None] * len(self.v) + columns).ravel()
        return vertices, grid_triangles(len(rows), len(columns))


@dataclass(frozen=True, eq=False)
class Portrait:
    """What is drawn of a surface.

    Attributes
    ----------
    geometry : BSplineSurface
        The surface it was made of.
    grid : Grid
    vertices, normals : (n, 3) arrays
    spots : Spots or None
        Where it was measured; None where there is nothing to judge it by.
    """

    geometry: BSplineSurface
    grid: Grid
    vertices: Floats
    normals: Floats
    spots: Spots | None

    @property
    def triangles(self) -> Ints:
        return self.grid.triangles

    @property
    def lines(self) -> list[Floats]:
        """The isocurves at the knots."""
        grid = self.vertices.reshape(len(self.grid.u), len(self.grid.v), 3)
        steps = self.grid.steps
        return [*grid[:: steps[0]], *grid.transpose(1, 0, 2)[:: steps[1]]]

    @cached_property
    def tree(self) -> MeshTree:
        return MeshTree(self.vertices, self.triangles)

    def measured_at(self, triangle: int, point: Floats) -> int:
        """Return which measured point lies nearest to a point of a triangle; -1 for none."""
        if self.spots is None:
            return -1
        corners = self.triangles[triangle]
        a, b, c = self.vertices[corners]
        s, t = np.linalg.lstsq(np.stack([b - a, c - a], axis=1), point - a, rcond=None)[0]
        shares = np.array([1 - s - t, s, t])
        columns = len(self.grid.v)
        u = float(shares @ self.grid.u[corners // columns])
        v = float(shares @ self.grid.v[corners % columns])
        return self.spots.at(u, v)


def make_portrait(
    geometry: BSplineSurface,
    chord: float,
    points: Floats | None = None,
    signed: Floats | None = None,
) -> Portrait:
    """Tessellate a surface within a chord height, and find where it was measured.

    Parameters
    ----------
    chord : float
        mm.
    points : (n, 3) array, optional
        The measured points that judge it.
    signed : (n,) array, optional
        How far they lie from it, mm.
    """
    spans = [len(np.unique(k)) - 1 for k in (geometry.knots_u, geometry.knots_v)]
    wanted = np.array(steps_for_chord(geometry, chord), dtype=np.float64)
    wanted = np.maximum(wanted, [max(LEAST_STEPS, LEAST_IN_ALL / n) for n in spans])
    total = 2 * np.prod(wanted * spans)
    wanted *= min(1.0, np.sqrt(MOST_TRIANGLES / total))
    steps = max(int(wanted[0]), 2), max(int(wanted[1]), 2)
    u = sample_parameters(geometry.knots_u, steps[0])
    v = sample_parameters(geometry.knots_v, steps[1])
    uu, vv = (g.ravel() for g in np.meshgrid(u, v, indexing="ij"))
    vertices = surface_grid(geometry, u, v).reshape(-1, 3)
    normals = surface_normals(geometry, uu, vv)
    spots = None
    if points is not None and signed is not None and len(points) == len(signed) > ABOUT:
        spots = spots_of(geometry, points, signed)
    return Portrait(geometry, Grid(u, v, steps), vertices, normals, spots)


def spots_of(geometry: BSplineSurface, points: Floats, signed: Floats) -> Spots:
    """Find the measured point that is nearest to each spot of a surface, by their feet."""
    edges = surface_grid(geometry, np.linspace(0, 1, 33), np.linspace(0, 1, 33))
    long, wide = (
        float(np.linalg.norm(np.diff(edges, axis=k), axis=2).sum(axis=k).mean()) for k in range(2)
    )
    wanted = np.sqrt(SPOTS * long / max(wide, 1e-12))
    rows = int(np.clip(wanted, FEWEST_SPOTS, SPOTS / FEWEST_SPOTS))
    columns = SPOTS // rows
    at = [(np.arange(n) + 0.5) / n for n in (rows, columns)]
    grid = surface_grid(geometry, *at)
    tree = cKDTree(points)
    apart = tree.query(points, ABOUT, workers=2)[0][:, -1]
    far = np.abs(signed) > FOOT_APART * np.median(apart)
    if far.any():
        feet = points.copy()
        feet[far] = foot_points(geometry, points[far]).feet
        tree = cKDTree(feet)
    away, nearest = tree.query(grid.reshape(-1, 3), workers=2)
    # What lies far off is alone there: how near points are is told by the others.
    reach = np.where(far, np.median(apart), apart)
    steps = np.gradient(grid, axis=(0, 1))
    area = np.linalg.norm(np.cross(*steps), axis=2)
    about = (REACH * reach[nearest]).reshape(rows, columns)
    near = away.reshape(rows, columns) <= about
    # A point has no area past the region's border: what reaches out there is drawn in again.
    side = np.sqrt(np.maximum(area, 1e-300))
    wide_open = int(np.clip(np.ceil(np.median(apart) / np.median(side)), 1, MOST_CLOSED))
    near |= _closed_up(near, wide_open)
    nearest[(_from_outside(near) * side < DRAWN_IN * about).ravel()] = -1
    i, j = np.meshgrid(at[0] * long, at[1] * wide, indexing="ij")
    striped = ((i + j) / ((long + wide) / STRIPES)).astype(np.int64) % 2 == 0
    return Spots(nearest.reshape(rows, columns), len(points), striped, area)


def _closed_up(mask: Bools, steps: int) -> Bools:
    """Fill gaps of a mask that are no wider than so many steps each way."""
    padded = np.pad(mask, steps, mode="edge")
    return np.asarray(
        scipy.ndimage.binary_closing(padded, iterations=steps)[steps:-steps, steps:-steps]
    )


def _from_outside(mask: Bools) -> Floats:
    """Return how many spots it is from each to the nearest that is not in the mask."""
    # The surface's own borders are no ends of a region.
    padded = np.pad(mask, 1, mode="edge")
    return np.asarray(scipy.ndimage.distance_transform_edt(padded)[1:-1, 1:-1])


def followed(old: Portrait, geometry: BSplineSurface) -> Portrait | None:
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
    u, v = old.grid.u, old.grid.v
    low_u, high_u = np.searchsorted(
        u, [geometry.knots_u[rows.min()], geometry.knots_u[rows.max() + p + 1]]
    )
    low_v, high_v = np.searchsorted(
        v, [geometry.knots_v[columns.min()], geometry.knots_v[columns.max() + q + 1]]
    )
    i = np.arange(low_u, min(high_u + 1, len(u)))
    j = np.arange(low_v, min(high_v + 1, len(v)))
    if len(i) * len(j) > MOST_AT_ONCE:
        return None
    uu, vv = (g.ravel() for g in np.meshgrid(u[i], v[j], indexing="ij"))
    at = (i[:, None] * len(v) + j).ravel()
    place, along_u, along_v = surface_derivatives(geometry, uu, vv, 1).transpose(0, 2, 1)
    vertices, normals = old.vertices.copy(), old.normals.copy()
    vertices[at], normals[at] = place, unit(np.cross(along_u, along_v))
    return replace(old, geometry=geometry, vertices=vertices, normals=normals)
