"""From the ball's centre to a scanned surface beside it, along that surface's normal."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.points.ball import BallError, BallOffset
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh


def offset_along_normals(points: Floats, radius: float, mesh: TriangleMesh) -> BallOffset:
    """Move ball centres, (n, 3), by the radius along the normals of the surface they touched.

    The scan tells the direction alone; how far it lies from a centre does not matter, but for
    centres that lie farther from it than three radii, which are left out.

    Raises
    ------
    BallError
    """
    if not (np.isfinite(radius) and radius > 0):
        raise BallError(f"the ball's diameter must be more than 0 mm, not {2 * radius:g}")
    distance, triangle, nearest = tree_of(mesh).nearest(points)
    kept = distance <= 3 * radius
    if not kept.any():
        raise BallError("no point lies near the scan: the run and the scan are not in one place")
    normals = mesh.normals_at(triangle[kept], nearest[kept])
    # Away from the side on which the ball is.
    side = np.sign(np.einsum("nk,nk->n", points[kept] - nearest[kept], normals))
    side[side == 0] = 1.0
    moved = points[kept] - radius * side[:, None] * normals
    return BallOffset(moved, kept, int(np.sum(~kept)))
