"""Triangle meshes: the value, and what is derived from it once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy
from scipy.sparse.csgraph import connected_components

from usual_clay.core.arrays import Bools, Floats, Ints, frozen
from usual_clay.core.errors import GeometryError

# A vertex that stands out by so many times what others do is a spike.
STANDS_OUT = 8.0
# However fine the scan, less than this part of an edge's length is no spike.
LEAST_SPIKE = 0.2


class MeshError(GeometryError):
    """Arrays that are no usable triangle mesh."""


@dataclass(frozen=True, eq=False)
class TriangleMesh:
    """A triangle mesh.

    Attributes
    ----------
    vertices : (n, 3) array
        mm.
    triangles : (m, 3) integers
        Vertex indices, counter-clockwise seen from outside.
    """

    vertices: Floats
    triangles: Ints

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices))
        object.__setattr__(self, "triangles", frozen(self.triangles, np.int64))
        if self.vertices.ndim != 2 or self.vertices.shape[1] != 3 or not len(self.vertices):
            raise MeshError("it holds no vertices")
        if self.triangles.ndim != 2 or self.triangles.shape[1] != 3 or not len(self.triangles):
            raise MeshError("it holds no triangles")
        bad = ~np.isfinite(self.vertices).all(axis=1)
        if bad.any():
            raise MeshError(
                f"{bad.sum()} vertices have coordinates that are no finite numbers"
                f" (the first is vertex {int(np.argmax(bad)) + 1})"
            )
        outside = ((self.triangles < 0) | (self.triangles >= len(self.vertices))).any(axis=1)
        if outside.any():
            first = int(np.argmax(outside))
            raise MeshError(
                f"{outside.sum()} triangles point past the {len(self.vertices)} vertices"
                f" (the first is triangle {first + 1})"
            )

    @cached_property
    def face_vectors(self) -> Floats:
        """Normals of the triangles, as long as twice their area, (m, 3)."""
        a, b, c = (self.vertices.take(corner, axis=0) for corner in self.triangles.T)
        (ux, uy, uz), (vx, vy, vz) = (b - a).T, (c - a).T
        # Several times as fast as the library's product of rows of three.
        return np.stack([uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx], axis=1)

    @cached_property
    def vertex_areas(self) -> Floats:
        """The area that each vertex stands for, (n,), in mm squared.

        A third of the triangles about it, evened out over them, as slivers say little; a spike's
        is what it stands on, of a vertex without triangles the median.
        """
        vertices, moved = self.levelled
        if moved.any():
            return TriangleMesh(vertices, self.triangles)._areas
        return self._areas

    @property
    def _areas(self) -> Floats:
        # As seen along what is about it: what stands out a little has no more area for it.
        seen = self._of_corners(self.vertex_normals)
        long = np.sqrt(np.einsum("mk,mk->m", seen, seen))
        area = np.abs(np.einsum("mk,mk->m", self.face_vectors, seen)) / np.maximum(6 * long, 1e-300)
        about = np.bincount(self.triangles.ravel(), minlength=len(self.vertices))
        areas = self.gather(self._of_corners(self.gather(area))) / np.maximum(3 * about, 1)
        known = about > 0
        if known.any():
            areas[~known] = np.median(areas[known])
        return np.asarray(areas)

    def _of_corners(self, of_vertices: Floats) -> Floats:
        """Sum a quantity of the vertices at the triangles that they are corners of."""
        first, second, third = (of_vertices.take(corner, axis=0) for corner in self.triangles.T)
        return first + second + third

    @cached_property
    def vertex_normals(self) -> Floats:
        """Area-weighted unit normals, (n, 3); zero at vertices of no triangle."""
        return unit(self.gather(self.face_vectors))

    @cached_property
    def links(self) -> scipy.sparse.csr_array:
        """The vertex graph, (n, n), each entry 1."""
        count = len(self.vertices)
        # Smaller numbers are the sooner put in order.
        start = self.triangles.astype(np.int32)
        end = start[:, [1, 2, 0]]
        apart = start != end
        start, end = start[apart], end[apart]
        one_way = scipy.sparse.csr_array((np.ones(len(start)), (start, end)), shape=(count, count))
        links = one_way + one_way.T.tocsr()
        links.data[:] = 1.0
        links.sort_indices()
        return links

    @cached_property
    def neighbours(self) -> scipy.sparse.csr_array:
        """The vertex graph, (n, n), each entry the length of the edge in mm."""
        links = self.links
        gap = np.repeat(self.vertices, np.diff(links.indptr), axis=0)
        gap -= self.vertices.take(links.indices, axis=0)
        length = np.maximum(np.sqrt(np.einsum("nk,nk->n", gap, gap)), 1e-12)
        return scipy.sparse.csr_array((length, links.indices, links.indptr), shape=links.shape)

    @property
    def _ends(self) -> Ints:
        """Of each entry of the vertex graph the vertex that it is a row of."""
        return np.repeat(np.arange(len(self.vertices)), np.diff(self.links.indptr))

    @cached_property
    def spikes(self) -> Bools:
        """Which vertices stand out alone from their neighbours, (n,)."""
        links = self.links
        count = np.maximum(np.diff(links.indptr), 1)[:, None]
        middle = (links @ self.vertices) / count
        normals = unit(links @ self.vertex_normals)
        out = np.abs(np.einsum("nk,nk->n", self.vertices - middle, normals))
        usual = 1.4826 * float(np.median(out))
        # Along a crease neighbours stand out alike; those of a spike only by their share of it.
        around = np.zeros(len(out))
        linked = np.flatnonzero(np.diff(links.indptr))
        if len(linked):
            about = out[links.indices]
            around[linked] = np.maximum.reduceat(about, links.indptr[linked])
        limit = max(STANDS_OUT * usual, LEAST_SPIKE * self.edge_length)
        return np.asarray((out > limit) & (out > 2 * around) & (count[:, 0] > 2))

    @property
    def levelled(self) -> tuple[Floats, Bools]:
        """The vertices, (n, 3), spikes at the middle of those neighbours that are none.

        With them, which were moved, (n,).
        """
        if not self.spikes.any():
            return self.vertices, self.spikes
        links = self.links
        calm = (~self.spikes).astype(float)
        weight = links @ calm
        movable = self.spikes & (weight > 0)
        middle = (links @ (self.vertices * calm[:, None])) / np.maximum(weight, 1)[:, None]
        return np.where(movable[:, None], middle, self.vertices), movable

    @cached_property
    def edges(self) -> Ints:
        """Each edge once, lower vertex first, (k, 2)."""
        lower, upper = self._ends, self.links.indices
        once = lower < upper
        return np.stack([lower[once], upper[once]], axis=1)

    @cached_property
    def edge_length(self) -> float:
        """Median length of the edges, mm."""
        lengths = self.neighbours.data
        return float(np.median(lengths)) if len(lengths) else 0.0

    @cached_property
    def box(self) -> Floats:
        """Least and greatest coordinates, (2, 3)."""
        return np.stack([self.vertices.min(axis=0), self.vertices.max(axis=0)])

    def gather(self, of_triangles: Floats) -> Floats:
        """Sum a quantity of the triangles, (m, ...), at their vertices, (n, ...)."""
        ends = np.arange(0, self.triangles.size + 1, 3)
        corner_of = scipy.sparse.csc_array(
            (np.ones(self.triangles.size), self.triangles.ravel(), ends),
            shape=(len(self.vertices), len(self.triangles)),
        )
        return np.asarray(corner_of @ of_triangles)

    def nearest_corner(self, triangle: int, point: Floats) -> int:
        """Return the vertex of a triangle that is nearest to a point."""
        corners = self.triangles[triangle]
        return int(corners[np.argmin(np.linalg.norm(self.vertices[corners] - point, axis=1))])

    def normals_at(self, triangles: Ints, points: Floats) -> Floats:
        """Return unit normals at points on triangles, blended from the corners', (k, 3)."""
        corners = self.vertices[self.triangles[triangles]]
        whole = self.face_vectors[triangles]
        area = np.maximum(np.einsum("nk,nk->n", whole, whole), 1e-300)
        weights = [
            np.einsum(
                "nk,nk->n",
                np.cross(corners[:, k - 2] - points, corners[:, k - 1] - points),
                whole,
            )
            / area
            for k in range(3)
        ]
        normals = self.vertex_normals[self.triangles[triangles]]
        return unit(np.einsum("kn,nkd->nd", np.array(weights), normals))


def unit(vectors: Floats) -> Floats:
    """Scale vectors, (..., 3), to length 1; zero stays zero."""
    length = np.sqrt(np.einsum("...k,...k->...", vectors, vectors))[..., None]
    return np.divide(vectors, length, out=np.zeros_like(vectors), where=length > 0)


def weld(vertices: Floats, triangles: Ints) -> tuple[Floats, Ints]:
    """Merge vertices that coincide and drop triangles that collapse."""
    first, merged = welded(vertices, triangles)
    return vertices[first], merged


def welded(vertices: Floats, triangles: Ints) -> tuple[Ints, Ints]:
    """Return which vertices stay when those that coincide are merged, and the triangles then.

    Vertices closer than a millionth of the mesh's size fall on one grid point.
    """
    size = float(np.ptp(vertices, axis=0).max()) or 1.0
    grid = np.round((vertices - vertices.min(axis=0)) / (size * 1e-6)).astype(np.int64)
    key = (grid[:, 0] << 42) + (grid[:, 1] << 21) + grid[:, 2]
    _, first, place = np.unique(key, return_index=True, return_inverse=True)
    merged = place[triangles]
    a, b, c = merged.T
    return first, merged[(a != b) & (b != c) & (c != a)]


def largest_piece(triangles: Ints) -> tuple[Ints, Ints]:
    """Return the vertices of the largest connected piece, rising, and its triangles of them."""
    used, own = np.unique(triangles, return_inverse=True)
    own = own.reshape(-1, 3)
    pairs = np.concatenate([own[:, :2], own[:, 1:]])
    shape = (len(used), len(used))
    graph = scipy.sparse.csr_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=shape)
    _, label = connected_components(graph, directed=False)
    piece = label[own[:, 0]]
    kept = own[piece == np.argmax(np.bincount(piece))]
    chosen, faces = np.unique(kept, return_inverse=True)
    return used[chosen], faces.reshape(-1, 3)
