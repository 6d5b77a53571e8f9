"""Where a picture is pinned: a plane in space, and the picture's place, turn and size on it.

Pixels are counted from the picture's upper left corner, across and down, as continuous numbers:
the middle of the first pixel is at (0.5, 0.5).
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from math import cos, pi, sin

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import GeometryError

Triple = tuple[float, float, float]
Size = tuple[int, int]


class PlacementError(GeometryError):
    """Marks or lengths from which no placement follows."""


@dataclass(frozen=True)
class Plane:
    """A plane with its own directions.

    Attributes
    ----------
    name : str
    across, up : (3,) tuples
        Unit vectors to the right and up for someone who looks at the plane square-on.
    origin : (3,) tuple
        Where its own coordinates are 0, mm.
    """

    name: str
    across: Triple
    up: Triple
    origin: Triple = (0.0, 0.0, 0.0)

    @property
    def normal(self) -> Floats:
        """The unit vector towards the viewer."""
        return np.cross(self.across, self.up)


# The planes of the true views: x runs along the part, z is up.
TRUE_PLANES: dict[str, Plane] = {
    name: Plane(name, across, up)
    for name, across, up in (
        ("side", (1.0, 0.0, 0.0), (0.0, 0.0, 1.0)),
        ("other side", (-1.0, 0.0, 0.0), (0.0, 0.0, 1.0)),
        ("top", (1.0, 0.0, 0.0), (0.0, 1.0, 0.0)),
        ("bottom", (-1.0, 0.0, 0.0), (0.0, 1.0, 0.0)),
        ("front", (0.0, -1.0, 0.0), (0.0, 0.0, 1.0)),
        ("rear", (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)),
    )
}


@dataclass(frozen=True)
class Placement:
    """How a picture lies on a plane.

    Attributes
    ----------
    plane : Plane
    width, height : float
        Of the whole picture, mm.
    x, y : float
        Where its middle is on the plane, mm.
    turn : float
        Counter-clockwise, radians.
    offset : float
        How far the picture is before the plane, towards the viewer, mm.
    mirrored : bool
        Left and right changed over.
    """

    plane: Plane = field(default_factory=lambda: TRUE_PLANES["side"])
    width: float = 100.0
    height: float = 100.0
    x: float = 0.0
    y: float = 0.0
    turn: float = 0.0
    offset: float = 0.0
    mirrored: bool = False

    def __post_init__(self) -> None:
        numbers = (self.width, self.height, self.x, self.y, self.turn, self.offset)
        if not np.isfinite(numbers).all() or self.width <= 0 or self.height <= 0:
            raise PlacementError("a picture needs a width and height of more than 0 mm")


def to_flat(placement: Placement, size: Size, pixels: Floats) -> Floats:
    """Return where pixels, (n, 2), lie on the plane, (n, 2) in mm."""
    across = (pixels[:, 0] / size[0] - 0.5) * placement.width
    up = (0.5 - pixels[:, 1] / size[1]) * placement.height
    if placement.mirrored:
        across = -across
    c, s = cos(placement.turn), sin(placement.turn)
    return np.stack([placement.x + c * across - s * up, placement.y + s * across + c * up], axis=1)


def to_pixels(placement: Placement, size: Size, flat: Floats) -> Floats:
    """Return the pixels at places on the plane, (n, 2) in mm; the inverse of `to_flat`."""
    c, s = cos(placement.turn), sin(placement.turn)
    x, y = flat[:, 0] - placement.x, flat[:, 1] - placement.y
    across, up = c * x + s * y, c * y - s * x
    if placement.mirrored:
        across = -across
    return np.stack(
        [(across / placement.width + 0.5) * size[0], (0.5 - up / placement.height) * size[1]],
        axis=1,
    )


def to_space(placement: Placement, flat: Floats) -> Floats:
    """Return places on the picture's plane, (n, 2), in space, (n, 3)."""
    plane = placement.plane
    base = np.asarray(plane.origin) + placement.offset * plane.normal
    return base + flat[:, :1] * np.asarray(plane.across) + flat[:, 1:] * np.asarray(plane.up)


def from_space(placement: Placement, points: Floats) -> Floats:
    """Return points in space, (n, 3), square down onto the picture's plane, (n, 2)."""
    away = points - np.asarray(placement.plane.origin)
    return np.stack([away @ placement.plane.across, away @ placement.plane.up], axis=1)


def corners(placement: Placement) -> Floats:
    """Return the picture's corners in space: upper left, upper right, lower right, lower left."""
    pixels = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])
    return to_space(placement, to_flat(placement, (1, 1), pixels))


def scaled_by_marks(
    placement: Placement, size: Size, first: Floats, second: Floats, length: float
) -> Placement:
    """Scale a picture so that two marks, in pixels, are `length` mm apart; their middle stays.

    Raises
    ------
    PlacementError
        When the marks are on one spot or the length is not more than 0.
    """
    marks = np.stack([first, second])
    if float(np.linalg.norm(marks[1] - marks[0])) < 0.5:
        raise PlacementError("the two marks are on the same spot: set them farther apart")
    if not (np.isfinite(length) and length > 0):
        raise PlacementError(f"the length between the marks must be more than 0 mm, not {length:g}")
    before = to_flat(placement, size, marks)
    factor = length / float(np.linalg.norm(before[1] - before[0]))
    return scaled_about(placement, factor, before.mean(axis=0))


def scaled_about(placement: Placement, factor: float, about: Floats) -> Placement:
    """Scale a picture about a place on its plane, (2,) in mm."""
    x, y = about + factor * (np.array([placement.x, placement.y]) - about)
    return replace(
        placement,
        width=placement.width * factor,
        height=placement.height * factor,
        x=float(x),
        y=float(y),
    )


def turned_about(placement: Placement, angle: float, about: Floats) -> Placement:
    """Turn a picture by an angle, radians, about a place on its plane, (2,) in mm."""
    c, s = cos(angle), sin(angle)
    away = np.array([placement.x, placement.y]) - about
    x, y = about + np.array([c * away[0] - s * away[1], s * away[0] + c * away[1]])
    turn = (placement.turn + angle + pi) % (2 * pi) - pi
    return replace(placement, turn=turn, x=float(x), y=float(y))


def moved_by(placement: Placement, x: float, y: float) -> Placement:
    """Move a picture on its plane, mm."""
    return replace(placement, x=placement.x + x, y=placement.y + y)


def fitted_to(
    placement: Placement, size: Size, width: float = 0.0, height: float = 0.0
) -> Placement:
    """Give a picture a width or a height in mm and keep its pixels square."""
    shape = size[1] / size[0]
    if width > 0:
        return replace(placement, width=width, height=width * shape)
    return replace(placement, width=height / shape, height=height)


def meets(placement: Placement, origin: Floats, direction: Floats) -> tuple[Floats, float] | None:
    """Return where a ray meets a picture's plane, and how far along; None where it does not."""
    normal = placement.plane.normal
    slope = float(direction @ normal)
    if abs(slope) < 0.02:
        return None
    base = np.asarray(placement.plane.origin) + placement.offset * normal
    distance = float((base - origin) @ normal) / slope
    return origin + distance * direction, distance
