"""Nearest points of a triangle mesh, and what rays hit first, exactly, through libigl."""

from __future__ import annotations

from dataclasses import dataclass

import igl
import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh


@dataclass(frozen=True)
class Hit:
    """Where a ray meets a mesh first: the point in mm, the triangle, the distance along it."""

    point: Floats
    triangle: int
    distance: float


# libigl holds the interpreter while it builds a tree: one tree holds no more triangles than this,
# so that a window goes on answering in between.
MOST_IN_ONE = 250_000


class MeshTree:
    """Search trees over triangles, built once and asked many times."""

    def __init__(self, vertices: Floats, triangles: Ints) -> None:
        self._vertices = np.ascontiguousarray(vertices, dtype=np.float64)
        count = -(-len(triangles) // MOST_IN_ONE)
        self._parts = [
            _Part(self._vertices, triangles, chosen)
            for chosen in _neighbourhoods(vertices, triangles, count)
        ]

    def nearest(self, points: Floats) -> tuple[Floats, Ints, Floats]:
        """Return for points (n, 3): distances in mm, triangles, and nearest points (n, 3)."""
        points = np.ascontiguousarray(points, dtype=np.float64)
        squared = np.full(len(points), np.inf)
        triangles, nearest = np.zeros(len(points), dtype=np.int64), np.empty_like(points)
        bounds = np.stack([part.squared_to_box(points) for part in self._parts])
        # The part whose box is nearest first: it leaves little for the others.
        for turn in np.argsort(bounds, axis=0):
            for number, part in enumerate(self._parts):
                asked = np.flatnonzero((turn == number) & (bounds[number] < squared))
                if len(asked):
                    part.ask_nearest(points, asked, squared, triangles, nearest)
        return np.sqrt(squared), triangles, nearest

    def first_hit(self, origin: Floats, direction: Floats) -> Hit | None:
        """Return what a ray from `origin` along the unit vector `direction` meets first."""
        triangle, distance = self.first_hits(np.reshape(origin, (1, 3)), direction)
        if triangle[0] < 0:
            return None
        return Hit(origin + distance[0] * direction, int(triangle[0]), float(distance[0]))

    def first_hits(self, origins: Floats, directions: Floats) -> tuple[Ints, Floats]:
        """Return the triangle that each ray meets, -1 for none, and the distances.

        One origin or one direction, (3,), may serve all rays.
        """
        starts, along = (
            np.ascontiguousarray(part, dtype=np.float64)
            for part in np.broadcast_arrays(np.atleast_2d(origins), np.atleast_2d(directions))
        )
        triangles, distances = np.full(len(starts), -1), np.full(len(starts), np.inf)
        for part in self._parts:
            hit, distance = part.first_hits(starts, along)
            nearer = (hit >= 0) & (distance < distances)
            triangles[nearer], distances[nearer] = hit[nearer], distance[nearer]
        return triangles, distances


def tree_of(mesh: TriangleMesh) -> MeshTree:
    """Return a mesh's search tree, built when it is first asked for and kept with the mesh."""
    # Beside what the mesh works out of itself, so that it goes when the mesh goes.
    kept = mesh.__dict__
    if "tree" not in kept:
        kept["tree"] = MeshTree(mesh.vertices, mesh.triangles)
    tree: MeshTree = kept["tree"]
    return tree


def vertices_of(mesh: TriangleMesh) -> cKDTree:
    """Return a mesh's tree of vertices, kept with the mesh."""
    kept = mesh.__dict__
    if "vertex_tree" not in kept:
        kept["vertex_tree"] = cKDTree(mesh.vertices)
    return kept["vertex_tree"]


class _Part:
    """One search tree over some of the triangles."""

    def __init__(self, vertices: Floats, triangles: Ints, chosen: Ints) -> None:
        self._vertices, self._chosen = vertices, chosen
        self._triangles = np.ascontiguousarray(triangles[chosen], dtype=np.int64)
        corners = vertices[self._triangles.ravel()]
        self._low, self._high = corners.min(axis=0), corners.max(axis=0)
        self._tree = igl.AABB()
        self._tree.init(self._vertices, self._triangles)

    def squared_to_box(self, points: Floats) -> Floats:
        away = np.maximum(np.maximum(self._low - points, points - self._high), 0.0)
        return np.asarray(np.einsum("nk,nk->n", away, away))

    def ask_nearest(
        self, points: Floats, asked: Ints, squared: Floats, triangles: Ints, nearest: Floats
    ) -> None:
        """Write what is nearer here into the results of the points asked for."""
        found, triangle, place = self._tree.squared_distance(
            self._vertices, self._triangles, np.ascontiguousarray(points[asked])
        )
        better = found < squared[asked]
        at = asked[better]
        squared[at], nearest[at] = found[better], place[better]
        triangles[at] = self._chosen[triangle[better]]

    def first_hits(self, starts: Floats, along: Floats) -> tuple[Ints, Floats]:
        triangle, distance, _ = self._tree.intersect_ray_first(
            self._vertices, self._triangles, starts, along
        )
        met = (triangle >= 0) & np.isfinite(distance)
        hit = np.where(met, self._chosen[np.maximum(triangle, 0)], -1)
        return hit, np.where(met, distance, np.inf)


def _neighbourhoods(vertices: Floats, triangles: Ints, count: int) -> list[Ints]:
    """Part triangles into so many groups that lie side by side along the longest extent."""
    if count <= 1:
        return [np.arange(len(triangles))]
    longest = int(np.argmax(np.ptp(vertices, axis=0)))
    order = np.argsort(vertices[triangles[:, 0], longest], kind="stable")
    return np.array_split(order, count)
