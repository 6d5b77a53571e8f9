"""True corners of a run, told from tight bends."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats, Ints

# A corner keeps its turn when it is looked at from half as far; an arc turns half as much.
KEPT = 0.72
WINDOW = 8


def find_corners(points: Floats, closed: bool, angle: float, window: int = WINDOW) -> Ints:
    """Return the indices of the points at which a run turns sharply.

    The directions before and after a point are those of straight lines fitted to `window` points
    on either side. Where they differ by more than `angle`, and by nearly as much for half as many
    points, there is a corner and no arc.

    Parameters
    ----------
    points : (n, 3) array
        In order.
    angle : float
        The least turn of a corner, radians.

    Returns
    -------
    (k,) integers, rising. The ends of an open run are none.
    """
    count = len(points)
    window = min(window, (count - 1) // 3)
    if window < 3 or angle <= 0:
        return np.zeros(0, dtype=np.int64)
    wide = _turns(points, closed, window)
    narrow = _turns(points, closed, max(window // 2, 2))
    sharp = np.minimum(wide, narrow / KEPT)
    sharp[(wide < angle) | (narrow < KEPT * wide)] = 0.0
    found = []
    left = sharp.copy()
    # The sharpest first; its neighbours see the same corner.
    while left.max(initial=0.0) >= KEPT * angle:
        at = int(np.argmax(left))
        found.append(at)
        near = np.arange(at - window, at + window + 1)
        near = near % count if closed else near[(near >= 0) & (near < count)]
        left[near] = 0.0
    return np.array(sorted(found), dtype=np.int64)


def _turns(points: Floats, closed: bool, window: int) -> Floats:
    """Return how far a run turns at each point, radians; 0 where its ends are too near."""
    count = len(points)
    middle = np.arange(count) if closed else np.arange(window, count - window)
    before = points[(middle[:, None] + np.arange(-window, 1)) % count]
    after = points[(middle[:, None] + np.arange(window + 1)) % count]
    turn = np.zeros(count)
    one, other = _direction(before), _direction(after)
    turn[middle] = np.arccos(np.clip(np.einsum("nk,nk->n", one, other), -1, 1))
    return turn


def _direction(windows: Floats) -> Floats:
    """Return the directions of lines fitted to rows of points, (n, k, 3), along their order."""
    step = np.arange(windows.shape[1]) - (windows.shape[1] - 1) / 2
    slope = np.einsum("k,nkd->nd", step, windows)
    return slope / np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-300)
