"""Straight surfaces: extruded curves, and straight lines between two edges."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats, told_at
from usual_clay.core.build.placed import as_mesh
from usual_clay.core.build.sections import BuildError, check_curves, matched
from usual_clay.core.errors import FitError
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.basis import collocation, even_knots
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.four_borders import make_compatible
from usual_clay.core.spline.surface import BSplineSurface, sample_parameters

STRAIGHT = even_knots(2, 1)
STEEPEST = np.radians(80)
# Places of a curve at which it is moved, for each of its control points.
PLACES = 16


@dataclass(frozen=True)
class ExtrudeSettings:
    """How far a curve is pushed, and which way.

    Attributes
    ----------
    way : {"x", "y", "z", "plane"}
        Along an axis, or square to the curve's own plane; a picked line has the say instead.
    length : float
        mm; negative the other way.
    both : bool
        Whether it goes as far to the other side too.
    taper : float
        By how much its sides lean outward, radians; inward below 0.
    """

    way: Literal["x", "y", "z", "plane"] = "z"
    length: float = 10.0
    both: bool = False
    taper: float = 0.0

    def __post_init__(self) -> None:
        if not (np.isfinite(self.length) and self.length != 0):
            raise FitError("the length must not be 0 mm")
        if not abs(self.taper) <= STEEPEST:
            raise FitError("sides lean by at most 80 degrees")


@dataclass(frozen=True)
class RuledSettings:
    """Straight lines between two edges; `turn` lets the second run the other way."""

    turn: bool = False


def extrude(
    curve: BSplineCurve,
    direction: BSplineCurve | None,
    settings: ExtrudeSettings,
    until: BSplineSurface | TriangleMesh | SimpleShape | None = None,
) -> BSplineSurface:
    """Push a curve along a direction: as many control points as it has, twice.

    With a taper, or as far as something, the far edge keeps the curve's knots and passes its
    places by least squares.

    Raises
    ------
    BuildError
        Where the way does not lead to what it is to end at.
    """
    check_curves((curve,), "curve")
    way = _direction(curve, direction, settings.way)
    step = settings.length * way
    if until is not None:
        far = _moved(curve, lambda places: _hits(places, step, until))
    elif settings.taper:
        far = _moved(curve, lambda places: step + _lean(curve, places, way, settings))
    else:
        far = curve.points + step
    start = 2 * curve.points - far if settings.both else curve.points
    if settings.both and settings.taper:
        start = far - 2 * step
    points = np.stack([start, far], axis=1)
    weights = None if curve.weights is None else np.stack([curve.weights] * 2, axis=1)
    return BSplineSurface(curve.knots, STRAIGHT, points, weights)


def _moved(curve: BSplineCurve, by: Callable[[Floats], Floats]) -> Floats:
    """Return control points of a curve whose places are moved, on the same knots."""
    t = sample_parameters(curve.knots, PLACES)
    moves = by(curve_points(curve, t))
    rows = collocation(curve.knots, curve.degree, t)
    if curve.weights is not None:
        rows = rows * curve.weights / (rows @ curve.weights)[:, None]
    # Its ends are moved exactly.
    weight = np.ones(len(t))
    weight[[0, -1]] = 1e4
    moved = np.linalg.lstsq(weight[:, None] * rows, weight[:, None] * moves, rcond=None)[0]
    return np.asarray(curve.points + moved)


def _lean(curve: BSplineCurve, places: Floats, way: Floats, settings: ExtrudeSettings) -> Floats:
    """Return how far places of a curve move outward, square to it and to the way."""
    t = sample_parameters(curve.knots, PLACES)
    out = np.cross(curve_derivatives(curve, t, 1)[1], way)
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-300)
    # Outward of a curve that turns about its middle.
    if np.einsum("nk,nk->n", out, places - places.mean(axis=0)).sum() < 0:
        out = -out
    return np.asarray(abs(settings.length) * np.tan(settings.taper) * out)


def _hits(
    places: Floats, step: Floats, until: BSplineSurface | TriangleMesh | SimpleShape
) -> Floats:
    """Return the ways from places along a direction to where they meet something."""
    way = step / np.linalg.norm(step)
    if isinstance(until, SimpleShape):
        if until.kind != "plane":
            raise BuildError("as far as a simple shape it goes to a plane alone: pick one")
        slope = float(way @ until.axis)
        reach = (until.point - places) @ until.axis / (slope if abs(slope) > 1e-9 else np.nan)
    else:
        mesh = until if isinstance(until, TriangleMesh) else as_mesh(until)
        reach = tree_of(mesh).first_hits(places, way)[1]
    missed = ~(np.isfinite(reach) & (reach >= 0))
    if missed.any():
        where = told_at(places[int(np.argmax(missed))])
        raise BuildError(
            f"{int(missed.sum())} of {len(places)} places of the curve lead past it, the first"
            f" near {where}: turn the way round, or extend what it is to end at",
            places[int(np.argmax(missed))],
        )
    return np.asarray(reach[:, None] * way)


def _direction(curve: BSplineCurve, line: BSplineCurve | None, way: str) -> Floats:
    if line is not None:
        ends = curve_points(line, np.array(line.domain))
        gap = ends[1] - ends[0]
        size = float(np.linalg.norm(gap))
        if not size > 0:
            raise BuildError("the line that gives the direction ends where it begins")
        return np.asarray(gap / size)
    if way != "plane":
        return np.eye(3)["xyz".index(way)]
    own = curve.points - curve.points.mean(axis=0)
    _, spread, axes = np.linalg.svd(own, full_matrices=False)
    if spread[1] < 1e-9 * spread[0]:
        raise BuildError("a straight curve has no plane of its own: choose an axis")
    normal = axes[2]
    return normal * np.sign(normal[int(np.argmax(np.abs(normal)))])


def ruled(edges: tuple[BSplineCurve, ...], settings: RuledSettings) -> BSplineSurface:
    """Return straight lines between two edges, which it passes through exactly.

    Raises
    ------
    BuildError
    """
    if len(edges) != 2:
        raise BuildError(f"it takes two edges, not {len(edges)}")
    first, second = matched(edges, "edge")
    if settings.turn:
        second = second.turned()
    degree = max(first.curve.degree, second.curve.degree)
    one, other = make_compatible([first.curve, second.curve], degree, np.zeros(0))
    points = np.stack([one.points, other.points], axis=1)
    weights = None
    if one.weights is not None or other.weights is not None:
        each = [np.ones(len(c.points)) if c.weights is None else c.weights for c in (one, other)]
        weights = np.stack(each, axis=1)
    return BSplineSurface(one.knots, STRAIGHT, points, weights)
