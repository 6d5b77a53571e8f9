"""A curve set beside another in a plane, without the loops that a tight bend would give."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace_parts
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.chain import chain
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.parts import evenly
from usual_clay.core.spline.surface import sample_parameters

SAMPLES = 3000
# The arcs about a corner are drawn with so many segments a quarter turn.
QUARTER = 64
# Where a fine polyline turns by more than this it has a true corner, radians.
CORNER = np.radians(20)


@dataclass(frozen=True)
class OffsetSettings:
    """A curve beside another.

    Attributes
    ----------
    distance : float
        mm; above 0 to the left of the curve as it runs, seen against the normal.
    normal : {"x", "y", "z"}
        The axis that the plane is square to.
    within : float
        How near the lean spline stays to the true offset, mm.
    """

    distance: float = 1.0
    normal: Literal["x", "y", "z"] = "z"
    within: float = 0.005


@dataclass(frozen=True, eq=False)
class OffsetMade:
    """The offset curve, and what the user should know of it."""

    curve: BSplineCurve
    words: str


def offset(curve: BSplineCurve, settings: OffsetSettings) -> OffsetMade:
    """Set a curve beside another in a plane.

    A library sets a fine polyline beside the curve and takes out what would come nearer to it
    than the distance; lean splines follow that, with the corners it leaves kept. The height over
    the plane is that of the nearest place on the curve.

    Raises
    ------
    SplineError
        When nothing is left, or the distance is 0.
    """
    if abs(settings.distance) < 1e-9:
        raise SplineError("the distance must be more than 0 mm, on one side or the other")
    up = "xyz".index(settings.normal)
    # Across and up of a right-handed frame about the normal.
    axes = [(up + 1) % 3, (up + 2) % 3]
    line = evenly(curve, SAMPLES)
    closed = bool(np.linalg.norm(line[0] - line[-1]) < 1e-9 * max(float(np.ptp(line)), 1e-9))
    pieces = _beside(line[:, axes], settings.distance, closed)
    if not pieces:
        raise SplineError(
            f"an offset of {settings.distance:g} mm leaves nothing of the curve: its bends are"
            " tighter than that"
        )
    sharp = _sharp(pieces[0], closed)
    run = _in_space(pieces[0], sharp, line, axes)
    cuts = tuple(map(tuple, run[_nearest(run[:, axes], pieces[0][sharp])]))
    words = ""
    if len(pieces) > 1:
        words = f"the longest of {len(pieces)} parts is kept, the others are removed"
    elif len(sharp) > len(_sharp(line[:, axes], closed)) or _folds(curve, axes, settings.distance):
        words = "loops are removed: the curve bends more tightly there than the distance"
    whole = PointSequence(run[:-1], True) if closed else PointSequence(run, held=(True, True))
    adaptive = TraceSettings(knots="adaptive", cuts=cuts)
    parts = [p.fit.curve for p in trace_parts(whole, adaptive, Tolerance(settings.within, 0.999))]
    return OffsetMade(chain(parts).curve if len(parts) > 1 else parts[0], words)


def _beside(flat: Floats, distance: float, closed: bool) -> list[Floats]:
    """Return the polylines at a distance from one, the longest first."""
    # Slow to import, and seldom needed.
    from shapely import LineString, Polygon

    made: Any
    if closed:
        x, y = flat[:-1].T
        turns_left = float(x @ np.roll(y, -1) - y @ np.roll(x, -1)) > 0
        # To the left of a curve that runs counter-clockwise is inside.
        inward = distance if turns_left else -distance
        made = Polygon(flat).buffer(-inward, quad_segs=QUARTER).boundary
    else:
        made = LineString(flat).offset_curve(distance, quad_segs=QUARTER)
    parts = [part for part in getattr(made, "geoms", [made]) if not part.is_empty]
    return [np.array(part.coords) for part in sorted(parts, key=lambda part: -part.length)]


def _sharp(flat: Floats, closed: bool) -> Ints:
    """Return the vertices at which a fine polyline turns sharply."""
    step = np.diff(np.concatenate([flat, flat[1:2]]) if closed else flat, axis=0)
    size = np.linalg.norm(step, axis=1, keepdims=True)
    step = step / np.maximum(size, 1e-12)
    turned = np.einsum("nk,nk->n", step[:-1], step[1:]) < np.cos(CORNER)
    # A piece of no length has no direction.
    whole = np.minimum(size[:-1, 0], size[1:, 0]) > 1e-6 * size.max()
    return (np.flatnonzero(turned & whole) + 1).astype(np.int64)


def _in_space(beside: Floats, sharp: Ints, line: Floats, axes: list[int]) -> Floats:
    """Lift a flat polyline to the height of the curve's nearest place, and spread it evenly."""
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(beside, axis=0), axis=1))])
    at = np.union1d(np.linspace(0, length[-1], SAMPLES // 2), length[sharp])
    spread = np.stack([np.interp(at, length, column) for column in beside.T], axis=1)
    space = line[_nearest(line[:, axes], spread)]
    space[:, axes] = spread
    return space


def _nearest(places: Floats, asked: Floats) -> Ints:
    from scipy.spatial import cKDTree

    return np.asarray(cKDTree(places).query(asked)[1], dtype=np.int64)


def _folds(curve: BSplineCurve, axes: list[int], distance: float) -> bool:
    """Tell whether the curve bends towards that side more tightly than the distance."""
    t = sample_parameters(curve.knots, 64)
    _, first, second = curve_derivatives(curve, t, 2)[..., axes]
    turn = first[:, 0] * second[:, 1] - first[:, 1] * second[:, 0]
    speed = np.linalg.norm(first, axis=1)
    return bool((distance * turn > speed**3).any())
