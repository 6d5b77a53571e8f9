"""Numbers by which a drawn curve is told: read from its points, and set by moving them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.make import DrawnSettings, arc_centre

# What is shorter than this, mm, has no direction.
POINT = 1e-9


@dataclass(frozen=True)
class DrawnNumber:
    """A number of a kind of drawn curve.

    Attributes
    ----------
    word : str
    tip : str
    after : int
        How many points must be set before it can be.
    read : callable
        ``read(settings)`` gives it, mm or radians; all points are set.
    write : callable
        ``write(settings, value)`` gives the settings with it.
    is_angle : bool
    """

    word: str
    tip: str
    after: int
    read: Callable[[DrawnSettings], float]
    write: Callable[[DrawnSettings, float], DrawnSettings]
    is_angle: bool = False


def axes_of(settings: DrawnSettings) -> tuple[Floats, Floats]:
    """Return the directions across and up in the true plane in which a curve is drawn."""
    return across_and_up(int(np.argmax(np.abs(settings.normal))))


def across_and_up(axis: int) -> tuple[Floats, Floats]:
    """Return the directions across and up in the true plane square to an axis."""
    across, up = np.delete(np.eye(3), axis, axis=0)
    return across, up


def _heading(settings: DrawnSettings, way: Floats) -> float:
    """Return how far a way is turned from across, in the plane in which a curve is drawn."""
    across, up = axes_of(settings)
    return float(np.arctan2(way @ up, way @ across))


def _with_point(settings: DrawnSettings, index: int, place: Floats) -> DrawnSettings:
    points = settings.array
    rest = points[index + 1 :]
    return replace(settings, points=as_places(np.concatenate([points[:index], [place], rest])))


def _leg(settings: DrawnSettings, index: int) -> Floats:
    """Return the way from a point's centre or forerunner to it; across where there is none yet."""
    points = settings.array
    if index >= len(points):
        return axes_of(settings)[0]
    leg = points[index] - points[_foot(settings, index)]
    return leg if float(np.linalg.norm(leg)) > POINT else axes_of(settings)[0]


def _foot(settings: DrawnSettings, index: int) -> int:
    """Return the point from which another one is told."""
    return 0 if settings.kind == "arc about" else index - 1


def _last(settings: DrawnSettings) -> int:
    return 1 if settings.kind in ("line", "circle", "arc about") else len(settings.points) - 1


def _length(settings: DrawnSettings) -> float:
    return float(np.linalg.norm(_leg(settings, _last(settings))))


def _set_length(settings: DrawnSettings, value: float) -> DrawnSettings:
    if not value > 0:
        raise SplineError("a length must be more than 0 mm")
    index = _last(settings)
    leg = _leg(settings, index)
    start = settings.array[_foot(settings, index)]
    return _with_point(settings, index, start + value * leg / np.linalg.norm(leg))


def _angle(settings: DrawnSettings) -> float:
    return _heading(settings, _leg(settings, _last(settings)))


def _set_angle(settings: DrawnSettings, value: float) -> DrawnSettings:
    across, up = axes_of(settings)
    index = _last(settings)
    leg = _leg(settings, index)
    # What it rises out of the plane it rises still.
    flat = float(np.hypot(leg @ across, leg @ up))
    rise = leg - (leg @ across) * across - (leg @ up) * up
    turned = rise + flat * (np.cos(value) * across + np.sin(value) * up)
    return _with_point(settings, index, settings.array[_foot(settings, index)] + turned)


def _side(axis: int) -> tuple[Callable[[DrawnSettings], float],
                              Callable[[DrawnSettings, float], DrawnSettings]]:  # fmt: skip
    """Return how a side of a rectangle is read and set: 0 for the level ones, 1 for the others."""

    def read(settings: DrawnSettings) -> float:
        points = settings.array
        return float(abs((points[1] - points[0]) @ axes_of(settings)[axis]))

    def write(settings: DrawnSettings, value: float) -> DrawnSettings:
        if not value > 0:
            raise SplineError("a side must be longer than 0 mm")
        points, axes = settings.array, axes_of(settings)
        if len(points) < 2:
            # It is square until its other side is typed too.
            return _with_point(settings, 1, points[0] + value * (axes[0] + axes[1]))
        way = float((points[1] - points[0]) @ axes[axis])
        wanted = value if way >= 0 else -value
        return _with_point(settings, 1, points[1] + (wanted - way) * axes[axis])

    return read, write


def _turn(settings: DrawnSettings) -> float:
    """Return how far an arc about its centre turns, the shorter way round; signed."""
    centre, first, last = settings.array[:3]
    by = _heading(settings, last - centre) - _heading(settings, first - centre)
    return (by + np.pi) % (2 * np.pi) - np.pi


def _sweep(settings: DrawnSettings) -> float:
    return abs(_turn(settings))


def _set_sweep(settings: DrawnSettings, value: float) -> DrawnSettings:
    if not 0 < value <= np.pi:
        raise SplineError("an arc about its centre turns by more than 0 and up to 180 degrees")
    across, up = axes_of(settings)
    points = settings.array
    leg = points[1] - points[0]
    side = -1.0 if len(points) > 2 and _turn(settings) < 0 else 1.0
    # Half a turn goes the same way round as what is a little less.
    at = _heading(settings, leg) + side * min(value, np.pi - 1e-9)
    radius = float(np.linalg.norm(leg))
    return _with_point(settings, 2, points[0] + radius * (np.cos(at) * across + np.sin(at) * up))


def _bend(settings: DrawnSettings) -> float:
    points = settings.array
    return float(np.linalg.norm(points[0] - arc_centre(*points[:3])[0]))


def _set_bend(settings: DrawnSettings, value: float) -> DrawnSettings:
    """Keep the ends of an arc through three points, and let it bulge as far as the radius asks."""
    start, middle, end = settings.array[:3]
    half = float(np.linalg.norm(end - start)) / 2
    if value < half:
        raise SplineError(f"an arc between these ends has a radius of at least {half:.3f} mm")
    centre = (start + end) / 2
    way = (end - start) / (2 * half)
    out = (middle - centre) - ((middle - centre) @ way) * way
    away = float(np.linalg.norm(out))
    if away < POINT:
        raise SplineError("the three points lie on a line: an arc needs a bend")
    high = float(np.sqrt(value**2 - half**2))
    # More than half a circle stays more than half of one.
    rise = value + high if _is_large(settings) else value - high
    return _with_point(settings, 1, centre + rise * out / away)


def _is_large(settings: DrawnSettings) -> bool:
    """Tell whether an arc through three points is more than half a circle."""
    start, middle, end = settings.array[:3]
    centre = (start + end) / 2
    return float((arc_centre(start, middle, end)[0] - centre) @ (middle - centre)) > 0


_LENGTH = DrawnNumber("Length", "From one end to the other", 1, _length, _set_length)
_ANGLE = DrawnNumber("Angle", "Of the line, in the plane it is drawn on", 2, _angle, _set_angle,
                     is_angle=True)  # fmt: skip
_RADIUS = DrawnNumber("Radius", "From the centre", 1, _length, _set_length)
_LEG = (
    DrawnNumber("Last leg", "From the last point but one to the last", 2, _length, _set_length),
    DrawnNumber("Its angle", "In the plane it is drawn on", 2, _angle, _set_angle, is_angle=True),
)
# What can be typed of each kind; a curve of many points has only its last leg.
NUMBERS: dict[str, tuple[DrawnNumber, ...]] = {
    "through": _LEG,
    "controls": _LEG,
    "line": (_LENGTH, _ANGLE),
    "circle": (_RADIUS,),
    "arc about": (
        _RADIUS,
        DrawnNumber("Turn", "How far it runs round its centre", 2, _sweep, _set_sweep,
                    is_angle=True),
    ),
    "arc": (DrawnNumber("Radius", "Its ends stay where they are", 3, _bend, _set_bend),),
    "rectangle": (
        DrawnNumber("Width", "Of its level sides", 1, *_side(0)),
        DrawnNumber("Height", "Of its upright sides", 1, *_side(1)),
    ),
    "conic": (),
}  # fmt: skip
