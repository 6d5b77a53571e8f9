"""The base frame of a region: the rectangle that a cast surface starts from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull, QhullError

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import GeometryError
from usual_clay.core.spline.basis import collocation, gram

FrameChoice = Literal["best", "outline", "bend", "axes", "locked"]
FRAMES: tuple[FrameChoice, ...] = get_args(FrameChoice)
Sides = Literal["best", "follow", "straight", "along"]
SIDES: tuple[Sides, ...] = get_args(Sides)
AXES = "xyz"
# What cannot be a corner of a hull is told by about so many of the points.
MANY = 10_000


class FrameError(GeometryError):
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


def base_frame(
    points: Floats, normals: Floats, choice: FrameChoice = "best", plane: str = "xy"
) -> Frame:
    """Find the base rectangle of a region.

    Parameters
    ----------
    points : (n, 3) array
    normals : (m, 3) array
        Of some of the points at least.
    choice : {"best", "outline", "bend", "axes", "locked"}
        "outline", as "best" before anything is tried: square to the mean normal, the least-size
        oriented rectangle (Freeman and Shapira 1975). "bend": u along the way in which the
        normals turn most, or v where the region is longer across it. "axes": the world axes
        nearest to the rectangle. "locked": u and v along the two world axes named in `plane`.
    plane : str
        Two of x, y, z, such as "xy"; for "locked" only.

    Raises
    ------
    FrameError
        When the points span no area seen along the normal.
    """
    # Sums down three short columns are slow the plain way.
    mean = np.einsum("nk->k", normals) / len(normals)
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
    elif choice == "bend":
        axes = _along_bend(points, normals, normal)
    else:
        axes = _least_rectangle(points, normal)
    flat = axes[:2] @ points.T
    low, size = flat.min(axis=1), np.ptp(flat, axis=1)
    if size.min() <= 1e-9 * max(float(size.max()), 1e-30):
        raise FrameError("the region is a line seen along its normal: it spans no area")
    height = float((points @ axes[2]).mean())
    return Frame(low @ axes[:2] + height * axes[2], axes, size)


def on_rectangle(places: Floats) -> tuple[Floats, Floats, tuple[float, float]]:
    """Return where the places of a map lie on the least rectangle about them.

    Parameters
    ----------
    places : (n, 2) array

    Returns
    -------
    u, v : (n,) arrays
        In [0, 1].
    size : (float, float)
        Of the rectangle, mm.
    """
    flat = np.column_stack([places, np.zeros(len(places))])
    frame = base_frame(flat, np.array([[0.0, 0.0, 1.0]]))
    u, v = np.clip((frame.local(flat)[:, :2] / frame.size).T, 0.0, 1.0)
    return u, v, (float(frame.size[0]), float(frame.size[1]))


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
    flat = _outermost(points @ np.stack([first, second]).T)
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
    return _risen(u, normal)


def _risen(u: Floats, normal: Floats) -> Floats:
    """Return axes whose first is, of its two ways, the one nearest to a rising world axis."""
    u = u if u[np.argmax(np.abs(u))] > 0 else -u
    return np.stack([u, np.cross(normal, u), normal])


def bend_of(normals: Floats, normal: Floats) -> tuple[Floats, float]:
    """Return the way in which normals turn most, square to a mean one, and how many times as
    much as the other way."""
    inclined = normals - np.outer(normals @ normal, normal)
    inclined -= np.einsum("nk->k", inclined) / len(inclined)
    values, ways = np.linalg.eigh(inclined.T @ inclined)
    if values[2] <= 1e-12 * len(inclined):
        # A plane bends nowhere.
        across = np.cross(normal, np.eye(3)[np.argmin(np.abs(normal))])
        return across / np.linalg.norm(across), 1.0
    most = ways[:, 2] - (ways[:, 2] @ normal) * normal
    return most / np.linalg.norm(most), float(np.sqrt(values[2] / max(values[1], 1e-300)))


def _along_bend(points: Floats, normals: Floats, normal: Floats) -> Floats:
    """Return axes along and across the way in which the normals turn most."""
    most, _ = bend_of(normals, normal)
    across = np.cross(normal, most)
    u = most if np.ptp(points @ most) >= np.ptp(points @ across) else across
    return _risen(u, normal)


def _outermost(flat: Floats) -> Floats:
    """Return those of many points that may be corners of their hull.

    What lies within a polygon of some of the points cannot be (Akl and Toussaint 1978).
    """
    angles = np.arange(16) * (np.pi / 8)
    ways = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    some = flat[:: 1 + len(flat) // MANY]
    corners = some[np.argmax(ways @ some.T, axis=1)]
    edges = np.roll(corners, -1, axis=0) - corners
    out = np.stack([edges[:, 1], -edges[:, 0]], axis=1)
    # A corner that is the farthest two ways makes an edge without length, which tells nothing.
    out = out[np.any(edges != 0, axis=1)]
    reach = (out @ corners.T).max(axis=1)
    if len(out) < 3:
        return flat
    return flat[np.any(out @ flat.T >= reach[:, None] - 1e-9 * np.abs(reach[:, None]), axis=0)]


# Sides and stretch are read off at so many places along the region, and run calmly between.
PLACES = 32
CALM = 1e-4
FINE = 2049
NARROWEST = 0.3
WIDEST = 1.25
# A region with more than this slope to its base, 76 degrees, is spread no further.
STEEPEST = 4.0
# Nor where its map seems to be this many times shorter than usual, or longer.
MOST_STRETCHED = 4.0


def follow_sides(u: Floats, v: Floats) -> Floats:
    """Return v measured between the region's own sides instead of the rectangle's.

    A region that tapers would leave corners of a rectangle far from any point. Its lower and
    upper side, as smooth functions of u, become v = 0 and v = 1 instead; where the region is
    very narrow they stay a part of the greatest width apart.

    Parameters
    ----------
    u, v : (n,) arrays
        Parameters on the rectangle, in [0, 1].
    """
    place, middles = _places(u)
    order = np.argsort(place, kind="stable")
    groups = np.split(v[order], np.cumsum(np.bincount(place, minlength=PLACES))[:-1])
    known = np.array([len(group) >= 4 for group in groups])
    if known.sum() < 6:
        return v
    sides = np.array([np.quantile(g, [0.01, 0.99]) for g in groups if len(g) >= 4])
    at = np.clip(u, middles[known][0], middles[known][-1])
    spread = np.column_stack([sides.mean(axis=1), np.ptp(sides, axis=1) / 2])
    centre, half = _smooth(middles[known], spread.T, at)
    half = np.maximum(half, NARROWEST * float(half.max()))
    across = (v - centre) / half
    # A ragged border stands out from its smooth side: widen until it is inside, within reason.
    across /= np.clip(np.abs(across).max(), 1.0, WIDEST)
    return (1 + across) / 2


def _smooth(t: Floats, values: Floats, at: Floats) -> Floats:
    """Return rows of values, smoothed, at other parameters.

    The cubic smoothing spline (Reinsch 1967): of all functions it is the one with the least of
    squared misses and `CALM` times the squared second derivative.
    """
    knots = np.concatenate([np.full(4, t[0]), t[1:-1], np.full(4, t[-1])])
    rows = collocation(knots, 3, t)
    net = np.linalg.solve(rows.T @ rows + CALM * gram(knots, 3, 2), rows.T @ values.T)
    # So many places lie so close that straight between them is as good, and far sooner there.
    made = (collocation(knots, 3, np.linspace(t[0], t[-1], FINE)) @ net).T
    place = (at - t[0]) * ((FINE - 1) / (t[-1] - t[0]))
    before = np.clip(place.astype(np.intp), 0, FINE - 2)
    return made.take(before, 1) + (place - before) * np.diff(made).take(before, 1)


def slope_stretch(along: Floats, up: Floats) -> Floats:
    """Return how long a surface is for a unit of its base.

    Parameters
    ----------
    along, up : (n,) arrays
        The normals' parts along a direction of the base and square to it.
    """
    # The inverse of the slope's cosine.
    slope = np.minimum(np.abs(along) / np.maximum(up, 1e-9), STEEPEST)
    return np.sqrt(1 + slope**2)


def map_stretch(points: Floats, places: Floats, neighbours: Ints) -> Floats:
    """Return how long a surface is for a unit of its map, about each of its points.

    Parameters
    ----------
    points : (n, 3) array
    places : (n, 2) array
        Where they lie in the map.
    neighbours : (n, k) integers
    """
    true, mapped = (
        np.linalg.norm(each[neighbours] - each[:, None], axis=2) for each in (points, places)
    )
    stretch = np.median(true, axis=1) / np.maximum(np.median(mapped, axis=1), 1e-300)
    # Points of a loose piece come to lie at one place, which tells nothing.
    usual = float(np.median(stretch))
    return np.clip(stretch, usual / MOST_STRETCHED, usual * MOST_STRETCHED)


def even_out(t: Floats, at: Floats, stretch: Floats) -> tuple[Floats, float]:
    """Return parameters that advance with the length on the surface, not on its base.

    Where a region turns down towards its ends, a step on the base is a long way on the surface;
    knots spread evenly on the base would be too few there.

    Parameters
    ----------
    t : (n,) array
        Parameters on the base, in [0, 1].
    at : (m,) array
        Those where it is known how the surface stretches.
    stretch : (m,) array
        How long the surface is there for a unit of its base.

    Returns
    -------
    t : (n,) array
        In [0, 1], in the same order.
    stretch : float
        The mean length on the surface of a unit length on the base.
    """
    known, _ = _places(at)
    place, _ = _places(t)
    count = np.bincount(known, minlength=PLACES)
    mean = np.bincount(known, stretch, PLACES) / np.maximum(count, 1)
    mean[count == 0] = 1.0
    # Neighbouring places even each other out.
    mean = np.convolve(np.pad(mean, 1, mode="edge"), [0.25, 0.5, 0.25], mode="valid")
    length = np.cumsum(mean) - mean
    evened = length.take(place) + (t * PLACES - place) * mean.take(place)
    return evened / mean.sum(), float(mean.mean())


def _places(t: Floats) -> tuple[NDArray[np.uint8], Floats]:
    """Return for each parameter in [0, 1] its place, and the places' middles."""
    # Small integers are sorted by radix, several times faster.
    place = np.clip(t * PLACES, 0, PLACES - 1).astype(np.uint8)
    return place, (np.arange(PLACES) + 0.5) / PLACES
