"""The nearest points of a triangle mesh, exactly, through libigl."""

from __future__ import annotations

import igl
import numpy as np

from usual_clay.core.arrays import Floats, Ints


class NearestOnMesh:
    """A search tree over triangles, built once and asked many times."""

    def __init__(self, vertices: Floats, triangles: Ints) -> None:
        self._vertices = np.ascontiguousarray(vertices, dtype=np.float64)
        self._triangles = np.ascontiguousarray(triangles, dtype=np.int64)
        self._tree = igl.AABB()
        self._tree.init(self._vertices, self._triangles)

    def __call__(self, points: Floats) -> tuple[Floats, Ints, Floats]:
        """Return for points (n, 3): distances in mm, triangles, and nearest points (n, 3)."""
        squared, triangles, nearest = self._tree.squared_distance(
            self._vertices, self._triangles, np.ascontiguousarray(points, dtype=np.float64)
        )
        return np.sqrt(squared), triangles, nearest
