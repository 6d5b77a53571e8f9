"""Straight surfaces: extruded curves, and straight lines between two edges."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.sections import BuildError, check_curves, matched
from usual_clay.core.errors import FitError
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.four_borders import make_compatible
from usual_clay.core.spline.surface import BSplineSurface

STRAIGHT = even_knots(2, 1)


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
    """

    way: Literal["x", "y", "z", "plane"] = "z"
    length: float = 10.0
    both: bool = False

    def __post_init__(self) -> None:
        if not (np.isfinite(self.length) and self.length != 0):
            raise FitError("the length must not be 0 mm")


@dataclass(frozen=True)
class RuledSettings:
    """Straight lines between two edges; `turn` lets the second run the other way."""

    turn: bool = False


def extrude(
    curve: BSplineCurve, direction: BSplineCurve | None, settings: ExtrudeSettings
) -> BSplineSurface:
    """Push a curve along a direction: as many control points as it has, twice.

    Raises
    ------
    BuildError
    """
    check_curves((curve,), "curve")
    step = settings.length * _direction(curve, direction, settings.way)
    start = curve.points - step if settings.both else curve.points
    points = np.stack([start, curve.points + step], axis=1)
    weights = None if curve.weights is None else np.stack([curve.weights] * 2, axis=1)
    return BSplineSurface(curve.knots, STRAIGHT, points, weights)


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
