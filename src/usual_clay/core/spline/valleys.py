"""Places of a grid from which the feet of points may be reached."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints, thinned
from usual_clay.core.blocks import in_blocks

# So many of the places that are nearest to a point are looked at.
NEAREST = 24
# Points far off are compared with one place in so many along each direction.
EVERY = 3


def valleys(grid: Floats, points: Floats) -> tuple[Ints, Ints]:
    """Return, for each point, all places of a grid from which its foot may be reached.

    These are the places that no neighbour on the grid is nearer than, and that lie no farther off
    than the nearest by more than half across a cell.

    Parameters
    ----------
    grid : (a, 3) or (a, b, 3) array
    points : (n, 3) array

    Returns
    -------
    which, at : (k,) arrays
        Of each pair the point and the place, counted row by row; each point occurs.
    """
    flat, shape = grid.reshape(-1, 3), grid.shape[:-1]
    # A foot is no farther from the nearest place about it than half across a cell.
    margin = np.sqrt(0.5) * max(
        float(np.linalg.norm(np.diff(grid, axis=k), axis=-1).max(initial=0.0))
        for k in range(len(shape))
    )
    count = min(NEAREST, len(flat))
    away, near = cKDTree(flat).query(points, count, workers=2)
    away, near = away.reshape(len(points), count), near.reshape(len(points), count)
    lowest = away <= away[:, :1] + margin

    def look(block: slice) -> None:
        _keep_lowest(lowest[block], np.stack(np.unravel_index(near[block], shape)))

    in_blocks(len(points), look)
    # A point so far away that the list does not reach as far is compared with all places.
    told = away[:, -1] > away[:, 0] + margin
    if count == len(flat):
        told[:] = True
    row, column = np.nonzero(lowest & told[:, None])
    parts = [(row, near[row, column])]
    if not told.all():
        parts.append(_valleys_of_all(grid, points, margin, np.flatnonzero(~told)))
    which, at = (np.concatenate(part) for part in zip(*parts, strict=True))
    return which, at


def _keep_lowest(lowest: Bools, places: Ints) -> None:
    """Keep those of the nearest places of points that have no nearer neighbour, in place.

    Parameters
    ----------
    lowest : (n, k) mask
        Those that may be, the nearest first.
    places : (1 or 2, n, k) integers
        Where they stand on the grid.
    """
    places = places.astype(np.int32)
    for k in range(1, lowest.shape[1]):
        some = np.flatnonzero(lowest[:, k])
        if not len(some):
            break
        own = places[:, some]
        # What is nearer than one of the list stands before it.
        apart = np.abs(own[:, :, k, None] - own[:, :, :k]) > 1
        lowest[some, k] = apart.any(axis=0).all(axis=1)


def _valleys_of_all(grid: Floats, points: Floats, margin: float, which: Ints) -> tuple[Ints, Ints]:
    """Return the same for points far off, which every so many places of a surface tell."""
    # Slow to import, and not needed to show a finished job.
    from scipy.spatial.distance import cdist

    shape = grid.shape[:-1]
    lines = [thinned(n, EVERY if len(shape) > 1 else 1) for n in shape]
    places = np.ravel_multi_index(np.ix_(*lines), shape)
    some, count = grid.reshape(-1, 3)[places.ravel()], places.size
    margin *= EVERY if len(shape) > 1 else 1
    rows, found = [], []
    for part in np.array_split(which, max(1, len(which) * count // 2_000_000)):
        away = cdist(points[part], some).reshape(-1, *places.shape)
        lowest = (
            away <= away.reshape(len(part), -1).min(axis=1).reshape(-1, *(1,) * len(shape)) + margin
        )
        for axis in range(1, away.ndim):
            step = np.diff(away, axis=axis)
            ahead, behind = ([slice(None)] * away.ndim for _ in range(2))
            ahead[axis], behind[axis] = slice(0, -1), slice(1, None)
            # No neighbour along either direction is nearer.
            lowest[tuple(ahead)] &= step >= 0
            lowest[tuple(behind)] &= step <= 0
        row, at = np.nonzero(lowest.reshape(len(part), -1))
        rows.append(part[row])
        found.append(places.ravel()[at])
    return np.concatenate(rows), np.concatenate(found)
