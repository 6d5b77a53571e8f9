"""Curves made from few numbers: through points, lines, arcs, circles, rectangles, conics."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Floats, Place
from usual_clay.core.spline.basis import (
    HIGHEST_DEGREE,
    SplineError,
    collocation,
    even_knots,
    greville,
)
from usual_clay.core.spline.curve import BSplineCurve

Spacing = Literal["uniform", "chord", "centripetal"]
CurveKind = Literal[
    "through", "controls", "line", "arc", "arc about", "circle", "rectangle", "conic"
]
POWERS = {"uniform": 0.0, "centripetal": 0.5, "chord": 1.0}
FEWEST = {
    "through": 2,
    "controls": 2,
    "line": 2,
    "arc": 3,
    "arc about": 3,
    "circle": 2,
    "rectangle": 2,
    "conic": 3,
}
# The conic that is a quarter of a circle.
ROUND = float(np.sqrt(2) - 1)


@dataclass(frozen=True)
class Handle:
    """A tangent handle at a through-point.

    Attributes
    ----------
    index : int
        Which point.
    ahead : (x, y, z)
        The derivative there: its direction is the tangent's, its length, in mm over the whole
        curve, says how far the curve follows it.
    radius : float
        Of curvature, mm, to the left of the tangent where above 0, seen against `up`; 0 leaves it
        free.
    up : (x, y, z)
        The normal of the plane in which it bends.
    """

    index: int
    ahead: Place
    radius: float = 0.0
    up: Place = (0.0, 0.0, 1.0)


@dataclass(frozen=True)
class DrawnSettings:
    """A drawn curve by its points.

    Attributes
    ----------
    kind : str
        Through the points, or with them as control points; a line from one to the other; an arc
        through three, or about the first from the second towards the third; a circle round the
        first through the second; a rectangle from corner to corner; a conic from the first to
        the third, tangent to the legs over the second.
    points : tuple of (x, y, z)
        mm.
    degree : int
    spacing : {"uniform", "chord", "centripetal"}
        Parameters of through-points (Lee 1989 for the last).
    tension : float
        0 to 1; draws a curve through points towards the straight lines between them.
    rho : float
        Of a conic, 0 to 1: 0.5 is a parabola. Of a rectangle's corners too.
    normal : (x, y, z)
        Of the plane of a circle, an arc about its centre, or a rectangle.
    corner : float
        How far from its corners a rectangle is rounded, mm.
    handles : tuple of Handle
        At through-points.
    closed : bool
        Whether a curve through points comes back to the first, smoothly.
    within : float
        How near a lean curve that lies on a scan stays to it, mm.
    """

    kind: CurveKind = "through"
    points: tuple[Place, ...] = ()
    degree: int = 3
    spacing: Spacing = "centripetal"
    tension: float = 0.0
    rho: float = 0.5
    normal: Place = (0.0, 0.0, 1.0)
    corner: float = 0.0
    handles: tuple[Handle, ...] = ()
    closed: bool = False
    within: float = 0.05

    @property
    def array(self) -> Floats:
        return np.array(self.points, dtype=np.float64).reshape(-1, 3)


def make_curve(settings: DrawnSettings) -> BSplineCurve:
    """Make a drawn curve.

    Raises
    ------
    SplineError
        For too few points, points that coincide, or three on a line where that makes nothing.
    """
    points = settings.array
    if settings.kind not in FEWEST:
        raise SplineError(f"no curve is called {settings.kind!r}")
    if len(points) < FEWEST[settings.kind] or not np.isfinite(points).all():
        raise SplineError(f"a {settings.kind} needs {FEWEST[settings.kind]} points")
    if settings.kind == "through" and settings.closed:
        return closed_through(points, settings.spacing, settings.tension)
    if settings.kind == "through":
        return through_points(
            points, settings.degree, settings.spacing, settings.tension, settings.handles
        )
    if settings.kind == "controls":
        degree = min(settings.degree, len(points) - 1)
        return BSplineCurve(even_knots(len(points), degree), points)
    if settings.kind == "line":
        _apart(points[:2])
        return BSplineCurve(even_knots(2, 1), points[:2])
    if settings.kind == "arc":
        return arc_through(*points[:3])
    if settings.kind == "arc about":
        return arc_about(points[0], points[1], points[2], np.array(settings.normal))
    if settings.kind == "rectangle":
        normal = np.array(settings.normal)
        return rectangle(points[0], points[1], normal, settings.corner, settings.rho)
    if settings.kind == "circle":
        return circle(
            points[0],
            float(np.linalg.norm(points[1] - points[0])),
            np.array(settings.normal),
            points[1] - points[0],
        )
    return conic(points[0], points[1], points[2], settings.rho)


def _apart(points: Floats) -> None:
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    size = max(float(np.ptp(points, axis=0).max()), 1e-12)
    if (len(steps) and steps.min() < 1e-9 * size) or size <= 1e-12:
        first = int(np.argmin(steps)) + 1
        raise SplineError(f"points {first} and {first + 1} are on one spot: move one of them")


def through_points(
    points: Floats,
    degree: int = 3,
    spacing: Spacing = "centripetal",
    tension: float = 0.0,
    handles: Sequence[Handle] = (),
) -> BSplineCurve:
    """Interpolate points by a spline with not-a-knot ends, or with the tangents of handles.

    Tension blends the control points with those of the straight lines between the points, which
    the same knots hold; at 1 the curve is those lines, evened out.

    Raises
    ------
    SplineError
    """
    _apart(points)
    degree = min(degree, len(points) - 1, HIGHEST_DEGREE)
    t = spaced(points, spacing)
    if degree % 2 == 0 and len(points) > degree + 1:
        # With inner knots an even degree would swing between the points.
        degree -= 1
    if handles:
        knots, control = _with_handles(points, t, max(degree, 3), handles)
        degree = len(knots) - len(control) - 1
    else:
        spline = scipy.interpolate.make_interp_spline(t, points, degree)
        knots = np.array(spline.t)
        knots[: degree + 1], knots[-degree - 1 :] = 0.0, 1.0
        control = np.asarray(spline.c)
    if tension > 0:
        sites = greville(knots, degree)
        straight = np.stack([np.interp(sites, t, column) for column in points.T], axis=1)
        control = (1 - tension) * control + tension * straight
    return BSplineCurve(knots, control)


def closed_through(
    points: Floats, spacing: Spacing = "centripetal", tension: float = 0.0
) -> BSplineCurve:
    """Interpolate points by a periodic cubic, and on to the first again; its knots are clamped.

    Raises
    ------
    SplineError
    """
    if len(points) < 3:
        raise SplineError("a closed curve goes through three points or more")
    ring = np.concatenate([points, points[:1]])
    _apart(ring)
    t = spaced(ring, spacing)
    spline = scipy.interpolate.make_interp_spline(t, ring, 3, bc_type="periodic")
    knots = np.concatenate([np.zeros(4), t[1:-1], np.ones(4)])
    sites = greville(knots, 3)
    # It lies in the space of the clamped knots, so that interpolating it gives it again.
    control = np.linalg.solve(collocation(knots, 3, sites), spline(sites))
    if tension > 0:
        straight = np.stack([np.interp(sites, t, column) for column in ring.T], axis=1)
        control = (1 - tension) * control + tension * straight
    return BSplineCurve(knots, control)


def spaced(points: Floats, spacing: Spacing = "centripetal") -> Floats:
    """Return the parameters of through-points on [0, 1]."""
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1) ** POWERS[spacing]
    t = np.concatenate([[0], np.cumsum(steps)])
    return t / t[-1]


def _with_handles(
    points: Floats, t: Floats, degree: int, handles: Sequence[Handle]
) -> tuple[Floats, Floats]:
    """Interpolate places, and derivatives at handles (The NURBS Book, 9.2.4, by averaged sites)."""
    sites, orders, values = [*t], [0] * len(t), [*points]
    for handle in handles:
        if not 0 <= handle.index < len(t):
            raise SplineError(f"there is no point {handle.index + 1} for a tangent handle")
        ahead = np.array(handle.ahead)
        speed = float(np.linalg.norm(ahead))
        if speed < 1e-9:
            raise SplineError("a tangent handle needs a length")
        sites.append(t[handle.index])
        orders.append(1)
        values.append(ahead)
        if handle.radius:
            side = np.cross(np.array(handle.up), ahead / speed)
            side /= max(float(np.linalg.norm(side)), 1e-12)
            sites.append(t[handle.index])
            orders.append(2)
            values.append(side * speed**2 / handle.radius)
    order = np.lexsort((orders, sites))
    ranked, asked = np.array(sites)[order], np.array(orders)[order]
    count = len(ranked)
    degree = min(degree, count - 1)
    inner = np.lib.stride_tricks.sliding_window_view(ranked[1:-1], degree).mean(axis=1)
    inner = inner[: count - degree - 1]
    knots = np.concatenate([np.zeros(degree + 1), inner, np.ones(degree + 1)])
    matrix = np.zeros((count, count))
    for k in range(3):
        if (rows := asked == k).any():
            matrix[rows] = collocation(knots, degree, ranked[rows], k)
    return knots, np.linalg.solve(matrix, np.array(values)[order])


def arc_about(centre: Floats, start: Floats, towards: Floats, normal: Floats) -> BSplineCurve:
    """Return the arc about a centre from a place, the shorter way round, towards another.

    Raises
    ------
    SplineError
    """
    normal = normal / np.linalg.norm(normal)

    def flat(place: Floats) -> Floats:
        return place - centre - ((place - centre) @ normal) * normal

    first, last = flat(start), flat(towards)
    radius, reach = float(np.linalg.norm(first)), float(np.linalg.norm(last))
    if min(radius, reach) < 1e-9:
        raise SplineError("an arc needs a radius: set its start away from its centre")
    first, last = first / radius, last / reach
    turn = float(np.arctan2(np.cross(first, last) @ normal, first @ last))
    if abs(turn) < 1e-6:
        raise SplineError("the arc has no length: set its end away from its start")
    return _arc(centre, first, np.cross(normal * np.sign(turn), first), radius, abs(turn))


def rectangle(
    one: Floats, other: Floats, normal: Floats, corner: float = 0.0, rho: float = ROUND
) -> BSplineCurve:
    """Return the rectangle between two opposite corners, its sides level and upright in a plane.

    Corners are cut back by `corner` mm on both sides and joined by a conic; with the rho of a
    circle it is a quarter of one.

    Raises
    ------
    SplineError
    """
    axis = int(np.argmax(np.abs(normal)))
    a, b = [k for k in range(3) if k != axis]
    low, high = np.minimum(one, other), np.maximum(one, other)
    if min(high[a] - low[a], high[b] - low[b]) < 1e-9:
        raise SplineError("a rectangle needs two corners that are apart in both directions")
    if not 0 < rho < 1:
        raise SplineError(f"rho must lie between 0 and 1, not {rho:g}")
    corners = np.tile((low + high) / 2, (4, 1))
    corners[:, a] = low[a], high[a], high[a], low[a]
    corners[:, b] = low[b], low[b], high[b], high[b]
    if corner <= 0:
        return BSplineCurve(even_knots(5, 1), corners[[0, 1, 2, 3, 0]])
    least = float(min(high[a] - low[a], high[b] - low[b]))
    if 2 * corner > least:
        raise SplineError(f"corners of {corner:g} mm do not fit into sides of {least:.2f} mm")
    to, back = np.roll(corners, -1, axis=0) - corners, np.roll(corners, 1, axis=0) - corners
    ahead = corners + corner * to / np.linalg.norm(to, axis=1, keepdims=True)
    behind = corners + corner * back / np.linalg.norm(back, axis=1, keepdims=True)
    following = np.roll(behind, -1, axis=0)
    # Each side from a corner's end to the next one's start, then that corner.
    rows = np.stack([ahead, (ahead + following) / 2, following, np.roll(corners, -1, axis=0)], 1)
    points = np.concatenate([rows.reshape(-1, 3), ahead[:1]])
    weights = np.concatenate([np.tile([1, 1, 1, rho / (1 - rho)], 4), [1.0]])
    knots = np.repeat(np.linspace(0, 1, 9), 2)
    return BSplineCurve(np.concatenate([[0], knots, [1]]), points, weights)


def arc_centre(start: Floats, middle: Floats, end: Floats) -> tuple[Floats, Floats]:
    """Return the centre of the circle through three points, and its normal.

    Raises
    ------
    SplineError
        For points on a line.
    """
    a, b = middle - start, end - start
    cross = np.cross(a, b)
    area = float(cross @ cross)
    if area < 1e-16 * float((a @ a) * (b @ b)) or area == 0:
        raise SplineError("the three points lie on a line: an arc needs a bend")
    centre = start + (np.cross(cross, a) * (b @ b) + np.cross(b, cross) * (a @ a)) / (2 * area)
    return centre, cross / np.sqrt(area)


def arc_through(start: Floats, middle: Floats, end: Floats) -> BSplineCurve:
    """Return the arc through three points, as a rational quadratic.

    Raises
    ------
    SplineError
        For points on a line.
    """
    centre, normal = arc_centre(start, middle, end)
    radial = start - centre
    radius = float(np.linalg.norm(radial))
    across = np.cross(normal, radial / radius)
    away = end - centre
    angle = float(np.arctan2(away @ across, away @ radial / radius)) % (2 * np.pi)
    return _arc(centre, radial / radius, across, radius, angle)


def circle(centre: Floats, radius: float, normal: Floats, towards: Floats) -> BSplineCurve:
    """Return a full circle that starts towards a direction, as a rational quadratic.

    Raises
    ------
    SplineError
    """
    normal = normal / np.linalg.norm(normal)
    first = towards - (towards @ normal) * normal
    length = float(np.linalg.norm(first))
    if not radius > 0 or length < 1e-12:
        raise SplineError("a circle needs a radius of more than 0 mm")
    return _arc(centre, first / length, np.cross(normal, first / length), radius, 2 * np.pi)


def _arc(
    centre: Floats, first: Floats, second: Floats, radius: float, angle: float
) -> BSplineCurve:
    """Return an arc of up to a full turn in pieces of at most 90 degrees (NURBS Book, A7.1)."""
    pieces = max(1, int(np.ceil(angle / (np.pi / 2) - 1e-9)))
    step = angle / pieces
    turn = np.arange(2 * pieces + 1) * step / 2
    weights = np.where(np.arange(len(turn)) % 2, np.cos(step / 2), 1.0)
    reach = radius / np.where(np.arange(len(turn)) % 2, np.cos(step / 2), 1.0)
    ring = np.cos(turn)[:, None] * first + np.sin(turn)[:, None] * second
    knots = np.repeat(np.linspace(0, 1, pieces + 1), 2)
    return BSplineCurve(np.concatenate([[0], knots, [1]]), centre + reach[:, None] * ring, weights)


def conic(start: Floats, shoulder: Floats, end: Floats, rho: float) -> BSplineCurve:
    """Return a conic by its end points, the crossing of its end tangents, and rho.

    Raises
    ------
    SplineError
    """
    if not 0 < rho < 1:
        raise SplineError(f"rho must lie between 0 and 1, not {rho:g}")
    points = np.stack([start, shoulder, end])
    _apart(points)
    weights = np.array([1.0, rho / (1 - rho), 1.0])
    return BSplineCurve(even_knots(3, 2), points, weights)
