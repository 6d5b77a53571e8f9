"""Nearest points of a triangle mesh, and what rays hit first, exactly, through libigl."""

from __future__ import annotations

from dataclasses import dataclass

import igl
import numpy as np

from usual_clay.core.arrays import Floats, Ints


@dataclass(frozen=True)
class Hit:
    """Where a ray meets a mesh first: the point in mm, the triangle, the distance along it."""

    point: Floats
    triangle: int
    distance: float


class MeshTree:
    """A search tree over triangles, built once and asked many times."""

    def __init__(self, vertices: Floats, triangles: Ints) -> None:
        self._vertices = np.ascontiguousarray(vertices, dtype=np.float64)
        self._triangles = np.ascontiguousarray(triangles, dtype=np.int64)
        self._tree = igl.AABB()
        self._tree.init(self._vertices, self._triangles)

    def nearest(self, points: Floats) -> tuple[Floats, Ints, Floats]:
        """Return for points (n, 3): distances in mm, triangles, and nearest points (n, 3)."""
        squared, triangles, nearest = self._tree.squared_distance(
            self._vertices, self._triangles, np.ascontiguousarray(points, dtype=np.float64)
        )
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
        triangle, distance, _ = self._tree.intersect_ray_first(
            self._vertices, self._triangles, starts, along
        )
        met = (triangle >= 0) & np.isfinite(distance)
        return np.where(met, triangle, -1).astype(np.int64), np.asarray(distance)
