"""Feet of very many points, soon found: by seeds, and by how far off they can lie."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.spline.closest import FootPoints, foot_points, grid_seed
from usual_clay.core.spline.surface import BSplineSurface

# Seeds are brought nearer by so many points, on a grid of so many cells each way.
SCOUTS, CELLS = 8_000, 80
# Distances that differ by no more than this share of a surface's size are the same.
SAME = 1e-6


def nearer_seed(
    surface: BSplineSurface, points: Floats, seed: tuple[Floats, Floats]
) -> tuple[Floats, Floats]:
    """Return seeds brought nearer to the feet, where they are off by something that varies slowly.

    A choice of the points is brought to its feet; the rest moves as those near it among the
    parameters did in the mean.
    """
    u, v = seed
    step = max(1, len(u) // SCOUTS)
    size = float(np.linalg.norm(np.ptp(surface.points.reshape(-1, 3), axis=0)))
    some = foot_points(surface, points[::step], (u[::step], v[::step]), 1e-3 * size)
    cell = (u * CELLS).astype(np.int64).clip(0, CELLS - 1) * CELLS
    cell += (v * CELLS).astype(np.int64).clip(0, CELLS - 1)
    by = np.stack([some.u - u[::step], some.v - v[::step]])
    # Over a seam is no long way.
    by[np.abs(by) > 0.5] = 0.0
    count, *sums = (_about(cell[::step], values) for values in (np.ones(by.shape[1]), *by))
    moved_u, moved_v = (
        np.clip(old + (total / np.maximum(count, 1.0)).take(cell), 0.0, 1.0)
        for old, total in zip(seed, sums, strict=True)
    )
    return moved_u, moved_v


def feet_within(surface: BSplineSurface, points: Floats, within: Floats) -> FootPoints:
    """Find the feet of points of which it is known within how many mm, (n,), they lie.

    Most are reached from the nearest place of a grid; the whole surface is looked at for those
    alone that would lie farther off.
    """
    feet = foot_points(surface, points, grid_seed(surface, points))
    size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
    lost = np.flatnonzero(np.abs(feet.signed) > within + SAME * size)
    if len(lost):
        feet.put(lost, foot_points(surface, points[lost]))
    return feet


def _about(cell: Ints, values: Floats) -> Floats:
    """Return for each cell of a grid the sum of what is in it and in the eight about it."""
    total = np.pad(np.bincount(cell, values, CELLS**2).reshape(CELLS, CELLS), 1)
    rows = total[:-2] + total[1:-1] + total[2:]
    return (rows[:, :-2] + rows[:, 1:-1] + rows[:, 2:]).ravel()
