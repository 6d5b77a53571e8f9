"""Whether a surface crosses itself."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.core.spline.tessellate import grid_triangles

# Steps of the grid for each span, and at most.
STEPS, MOST = 8, 41


def crosses_itself(surface: BSplineSurface) -> Floats | None:
    """Return a place where a surface crosses itself, (3,); None where it does not.

    Triangles of a grid are looked at: what touches at a corner or along a seam does not cross.
    """
    spans = (len(np.unique(knots)) - 1 for knots in (surface.knots_u, surface.knots_v))
    many = [min(STEPS * count + 1, MOST) for count in spans]
    u, v = (np.linspace(0, 1, count) for count in many)
    grid = surface_grid(surface, u, v).reshape(-1, 3)
    triangles = grid_triangles(*many)
    corners = grid[triangles]
    middles = corners.mean(axis=1)
    reach = np.linalg.norm(corners - middles[:, None], axis=2).max(axis=1)
    pairs = cKDTree(middles).query_pairs(2 * float(np.quantile(reach, 0.98)), output_type="ndarray")
    if not len(pairs):
        return None
    first, second = pairs.T
    near = np.linalg.norm(middles[first] - middles[second], axis=1) < reach[first] + reach[second]
    first, second = first[near], second[near]
    size = float(np.ptp(grid, axis=0).max())
    apart = (
        np.linalg.norm(corners[first][:, :, None] - corners[second][:, None], axis=3).min(
            axis=(1, 2)
        )
        > 1e-6 * size
    )
    first, second = first[apart], second[apart]
    crossing = _cross(corners[first], corners[second]) | _cross(corners[second], corners[first])
    # One that crosses is there many times over; a few are where triangles are coarse.
    if crossing.sum() < 4:
        return None
    place: Floats = middles[first[crossing]][0]
    return place


def _cross(some: Floats, others: Floats) -> Bools:
    """Tell of which pairs an edge of the first goes through the second (Moller 1997), (n,)."""
    a, b, c = (others[:, k] for k in range(3))
    normal = np.cross(b - a, c - a)
    through = np.zeros(len(some), dtype=bool)
    for k in range(3):
        start, end = some[:, k], some[:, (k + 1) % 3]
        from_, to = (((p - a) * normal).sum(axis=1) for p in (start, end))
        meets = from_ * to < 0
        t = from_ / np.where(meets, from_ - to, 1.0)
        place = start + t[:, None] * (end - start)
        inside = meets.copy()
        for p, q in ((a, b), (b, c), (c, a)):
            inside &= (np.cross(q - p, place - p) * normal).sum(axis=1) > 0
        through |= inside
    return through
