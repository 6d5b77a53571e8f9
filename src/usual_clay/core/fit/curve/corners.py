"""True corners of a run, told from tight bends."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats, Ints

# A corner keeps its turn when it is looked at from half as far; an arc turns half as much.
KEPT = 0.72
WINDOW = 8
# Directions are told to this part of a corner's turn.
TOLD = 12.0
# Two lines leave less than a smooth bend: by this share of what that leaves, and by so many times
# the noise's square.
CLEARLY, SURELY = 0.1, 4.0


def find_corners(points: Floats, closed: bool, angle: float, noise: float = 0.0) -> Ints:
    """Return the indices of the points at which a run turns sharply.

    The directions before and after a point are those of straight lines fitted to some points on
    either side: to so many that noise turns them little. Where they differ by more than `angle`,
    and by nearly as much for half as many points, there is a corner and no arc.

    Parameters
    ----------
    points : (n, 3) array
        In order.
    angle : float
        The least turn of a corner, radians.
    noise : float
        The standard deviation of a coordinate, mm.

    Returns
    -------
    (k,) integers, rising. The ends of an open run are none.
    """
    count = len(points)
    if angle <= 0:
        return np.zeros(0, dtype=np.int64)
    window = min(_window(points, angle, noise), (count - 1) // 3)
    if window < 3:
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
        if _breaks_there(points, closed, at, window, noise):
            found.append(at)
        near = np.arange(at - window, at + window + 1)
        near = near % count if closed else near[(near >= 0) & (near < count)]
        left[near] = 0.0
    return np.array(sorted(found), dtype=np.int64)


def _breaks_there(points: Floats, closed: bool, at: int, window: int, noise: float) -> bool:
    """Tell whether two lines that meet at a point fit what is about it better than a parabola."""
    step = np.arange(-window, window + 1, dtype=np.float64) / window
    index = at + np.arange(-window, window + 1)
    if closed:
        index %= len(points)
    else:
        inside = (index >= 0) & (index < len(points))
        index, step = index[inside], step[inside]
    near = points[index]
    left = []
    for bend in (np.abs(step), step**2):
        terms = np.stack([np.ones_like(step), step, bend], axis=1)
        rest = near - terms @ np.linalg.lstsq(terms, near, rcond=None)[0]
        left.append(float((rest**2).sum()))
    lines, bent = left
    # What noise leaves of either tells nothing.
    told = max(bent - near.size * noise**2, 0.0)
    return bent - lines > max(SURELY * noise**2, CLEARLY * told)


def _window(points: Floats, angle: float, noise: float) -> int:
    """Return how many points tell a direction well enough for a corner of an angle.

    The slope of a line through w points a step apart has the standard deviation
    ``noise / step * sqrt(12 / w^3)``; noise lengthens the way from point to point, but not that
    over many of them.
    """
    if noise <= 0 or len(points) <= 4 * WINDOW:
        return WINDOW
    far = points[2 * WINDOW :] - points[: -2 * WINDOW]
    square = np.einsum("nk,nk->n", far, far) - 2 * far.shape[1] * noise**2
    step = float(np.sqrt(max(np.median(square), 0.0))) / (2 * WINDOW)
    if step <= 0:
        return len(points)
    wanted = (24 * (TOLD * noise / (step * angle)) ** 2) ** (1 / 3)
    return max(WINDOW, int(np.ceil(wanted)))


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
