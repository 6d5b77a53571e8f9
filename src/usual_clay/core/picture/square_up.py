"""Undoing a picture's perspective from the four corners of a rectangle of known size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import PlacementError


@dataclass(frozen=True, eq=False)
class Squared:
    """A picture without perspective.

    Attributes
    ----------
    pixels : (h, w, channels) bytes
    width, height : float
        Of the whole new picture, mm.
    """

    pixels: np.ndarray
    width: float
    height: float


def checked_corners(corners: Floats) -> Floats:
    """Return four corners, (4, 2) in pixels, going round from the upper left one.

    Raises
    ------
    PlacementError
        When they cross, bend inward, or lie on a line.
    """
    if corners.shape != (4, 2):
        raise PlacementError(f"squaring up needs four corners, not {len(corners)}")
    after = np.roll(corners, -1, axis=0) - corners
    following = np.roll(after, -1, axis=0)
    bends = after[:, 0] * following[:, 1] - after[:, 1] * following[:, 0]
    size = float(np.ptp(corners, axis=0).prod())
    if np.abs(bends).min() < 1e-3 * max(size, 1e-9):
        raise PlacementError("three of the four corners are on a line: mark a rectangle's corners")
    if not (np.all(bends > 0) or np.all(bends < 0)):
        raise PlacementError("the four corners cross: mark them one after the other around")
    # Rows of pixels go down, so a way round with positive bends goes clockwise on the screen.
    ring = corners if bends[0] > 0 else corners[::-1]
    first = int(np.argmin(ring.sum(axis=1)))
    return np.roll(ring, -first, axis=0)


def square_up(pixels: np.ndarray, corners: Floats, width: float, height: float) -> Squared:
    """Resample a picture, once, so that four corners become a rectangle of known size.

    The homography is found from the four pairs (Hartley and Zisserman 2004, 4.1). What of the
    picture lies around the rectangle is kept as far as a picture of the same size holds it.

    Parameters
    ----------
    pixels : (h, w, channels) bytes
    corners : (4, 2) array
        In pixels, in any order that goes round.
    width, height : float
        Of the rectangle, mm.

    Raises
    ------
    PlacementError
    """
    from skimage.transform import ProjectiveTransform, warp

    if not (np.isfinite([width, height]).all() and width > 0 and height > 0):
        raise PlacementError("the rectangle's width and height must be more than 0 mm")
    ring = checked_corners(corners)
    sides = np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1)
    # As fine as the finer pair of sides was photographed.
    density = max(sides[[0, 2]].max() / width, sides[[1, 3]].max() / height)
    full = np.array([width, height]) * density
    target = np.array([[0.0, 0], [full[0], 0], full, [0, full[1]]])
    there = ProjectiveTransform.from_estimate(ring - 0.5, target)
    if not there:
        raise PlacementError("no perspective fits these corners")
    low, high = _kept_around(there, pixels.shape, full)
    shape = tuple(np.ceil(high - low)[::-1].astype(int))
    shift = ProjectiveTransform(np.array([[1, 0, low[0]], [0, 1, low[1]], [0, 0, 1]]))
    back = shift + there.inverse
    made = warp(pixels, back, output_shape=shape, order=3, mode="constant", cval=1.0)
    squared = np.clip(np.rint(made * 255), 0, 255).astype(np.uint8)
    return Squared(squared, float(shape[1] / density), float(shape[0] / density))


def _kept_around(there: object, shape: tuple[int, ...], full: Floats) -> tuple[Floats, Floats]:
    """Return the corners of what is kept: the rectangle, and a margin where the picture has one."""
    h, w = shape[:2]
    edge = np.array(
        [[0.0, 0], [w / 2, 0], [w, 0], [w, h / 2], [w, h], [w / 2, h], [0, h], [0, h / 2]]
    )
    matrix = there.params  # type: ignore[attr-defined]
    homogeneous = np.column_stack([edge, np.ones(len(edge))]) @ matrix.T
    before = homogeneous[:, 2] * (matrix[2, 2] or 1.0) > 1e-6
    seen = homogeneous[before, :2] / homogeneous[before, 2:]
    margin = 0.25 * full
    low = np.maximum(seen.min(axis=0) if len(seen) else -margin, -margin)
    high = np.minimum(seen.max(axis=0) if len(seen) else full + margin, full + margin)
    return np.floor(np.minimum(low, 0)), np.ceil(np.maximum(high, full))
