"""The base frame of a region: the rectangle that a draped surface starts from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from usual_clay.core.arrays import Floats

FrameChoice = Literal["best", "axes", "locked"]
Sides = Literal["straight", "follow"]
AXES = "xyz"


class FrameError(ValueError):
    """A region that has no base rectangle."""


@dataclass(frozen=True, eq=False)
class Frame:
    """A rectangle in space.

    Attributes
    ----------
    origin : (3,) array
        The corner at u = v = 0, mm.
    axes : (3, 3) array
        Rows: direction of u, of v, and the normal u x v.
    size : (2,) array
        Lengths along u and v, mm.
    """

    origin: Floats
    axes: Floats
    size: Floats

    def local(self, points: Floats) -> Floats:
        """Return coordinates in the frame, mm, (n, 3)."""
        return (points - self.origin) @ self.axes.T

    def grown(self, reach: float) -> Frame:
        """Return the frame with each length greater by the fraction `reach`, half at each end."""
        margin = self.size * (reach / 2)
        origin = self.origin - margin @ self.axes[:2]
        return Frame(origin, self.axes, self.size + 2 * margin)


def base_frame(
    points: Floats, normals: Floats, choice: FrameChoice = "best", plane: str = "xy"
) -> Frame:
    """Find the base rectangle of a region.

    Parameters
    ----------
    points, normals : (n, 3) arrays
    choice : {"best", "axes", "locked"}
        "best": square to the mean normal, the least-size oriented rectangle (Freeman and
        Shapira 1975). "axes": the world axes nearest to that. "locked": u and v along the
        two world axes named in `plane`.
    plane : str
        Two of x, y, z, such as "xy"; for "locked" only.

    Raises
    ------
    FrameError
        When the points span no area seen along the normal.
    """
    mean = normals.mean(axis=0)
    length = float(np.linalg.norm(mean))
    normal = mean / length if length > 1e-6 else _flattest(points)
    if choice == "locked":
        first, second = (np.eye(3)[AXES.index(name)] for name in plane)
        axes = _right_handed(first, second, normal)
    elif choice == "axes":
        up = int(np.argmax(np.abs(normal)))
        sides = [axis for axis in range(3) if axis != up]
        sides.sort(key=lambda axis: -float(np.ptp(points[:, axis])))
        axes = _right_handed(np.eye(3)[sides[0]], np.eye(3)[sides[1]], normal)
    else:
        axes = _least_rectangle(points, normal)
    flat = points @ axes[:2].T
    low, size = flat.min(axis=0), np.ptp(flat, axis=0)
    if size.min() <= 1e-9 * max(float(size.max()), 1e-30):
        raise FrameError("the region is a line seen along its normal: it spans no area")
    height = float((points @ axes[2]).mean())
    return Frame(low @ axes[:2] + height * axes[2], axes, size)


def _flattest(points: Floats) -> Floats:
    centred = points - points.mean(axis=0)
    return np.linalg.eigh(centred.T @ centred)[1][:, 0]


def _right_handed(first: Floats, second: Floats, normal: Floats) -> Floats:
    """Return the axes, the second turned round where needed to agree with the normal."""
    third = np.cross(first, second)
    sign = -1.0 if third @ normal < 0 else 1.0
    return np.stack([first, sign * second, sign * third])


def _least_rectangle(points: Floats, normal: Floats) -> Floats:
    helper = np.eye(3)[np.argmin(np.abs(normal))]
    first = np.cross(helper, normal)
    first /= np.linalg.norm(first)
    second = np.cross(normal, first)
    flat = points @ np.stack([first, second]).T
    try:
        hull = flat[ConvexHull(flat).vertices]
    except (QhullError, ValueError):
        raise FrameError("the region is a line seen along its normal: it spans no area") from None
    edges = np.roll(hull, -1, axis=0) - hull
    angles = np.arctan2(edges[:, 1], edges[:, 0])
    along = np.stack([np.cos(angles), np.sin(angles)])
    across = np.stack([-np.sin(angles), np.cos(angles)])
    width, height = np.ptp(hull @ along, axis=0), np.ptp(hull @ across, axis=0)
    best = int(np.argmin(width * height))
    direction = along[:, best] if width[best] >= height[best] else across[:, best]
    u = direction @ np.stack([first, second])
    # Of the two ways along the rectangle, take the one nearest to a rising world axis.
    u = u if u[np.argmax(np.abs(u))] > 0 else -u
    return np.stack([u, np.cross(normal, u), normal])


# A side follows the region's outline at so many places, no closer than it runs smoothly.
PLACES = 32
CALM = 1e-4
NARROWEST = 0.3
WIDEST = 1.25


def follow_sides(u: Floats, v: Floats, reach: float) -> Floats:
    """Return v measured between the region's own sides instead of the rectangle's.

    A region that tapers would leave corners of a rectangle far from any point. Its lower and
    upper side, as smooth functions of u, become v = const instead, `reach` included; where the
    region is very narrow they stay a part of the greatest width apart.

    Parameters
    ----------
    u, v : (n,) arrays
        Parameters on the rectangle.
    """
    # Slow to import, and not needed to show a finished job.
    from scipy.interpolate import make_smoothing_spline

    low, high = float(u.min()), float(u.max())
    place = np.clip(((u - low) / (high - low) * PLACES).astype(int), 0, PLACES - 1)
    order = np.argsort(place, kind="stable")
    groups = np.split(v[order], np.cumsum(np.bincount(place, minlength=PLACES))[:-1])
    known = np.array([len(group) >= 4 for group in groups])
    if known.sum() < 6:
        return v
    sides = np.array([np.quantile(g, [0.01, 0.99]) for g in groups if len(g) >= 4])
    middles = ((np.arange(PLACES) + 0.5) / PLACES)[known]
    at = np.clip((u - low) / (high - low), middles[0], middles[-1])
    centre = make_smoothing_spline(middles, sides.mean(axis=1), lam=CALM)(at)
    half = make_smoothing_spline(middles, np.ptp(sides, axis=1) / 2, lam=CALM)(at)
    half = np.maximum(half, NARROWEST * float(half.max()))
    across = (v - centre) / half
    # A ragged border stands out from its smooth side: widen until it is inside, within reason.
    across /= np.clip(np.abs(across).max(), 1.0, WIDEST)
    return 0.5 + across / (2 * (1 + reach))
