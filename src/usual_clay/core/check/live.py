"""Distances of many points from what is being dragged: only what changed is asked again."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.seeds import feet_within
from usual_clay.core.spline.surface import BSplineSurface, swap_directions

# What is shown while a hand drags need not be nearer than a part in a hundred thousand.
LIVE_STEP = 1e-5
# A foot on what is being dragged is followed so many steps from where it lay.
LIVE_STEPS = 3


@dataclass(frozen=True, eq=False)
class LiveDistance:
    """Foot points of points on a curve, kept up with its control points.

    While a hand drags, a point keeps to the stretch of the curve that it lay nearest to; when the
    hand lets go all is measured anew.

    Attributes
    ----------
    points : (n, 3) array
    t, distance : (n,) arrays
        Parameters of the feet, and distances in mm.
    """

    points: Floats
    curve: BSplineCurve
    t: Floats
    distance: Floats

    def follow(self, curve: BSplineCurve) -> LiveDistance:
        """Return the distances from a curve of the same knots with other control points."""
        old = self.curve
        same = curve.knots is old.knots or np.array_equal(curve.knots, old.knots)
        if not same or curve.weights is not None or old.weights is not None:
            return live_distance(curve, self.points)
        moved = np.flatnonzero((curve.points != old.points).any(axis=1))
        if not len(moved):
            return self
        # A control point bends the spans of its own knots and no others.
        low, high = curve.knots[moved[0]], curve.knots[moved[-1] + curve.degree + 1]
        near = np.flatnonzero((self.t >= low) & (self.t <= high))
        t, distance = self.t.copy(), self.distance.copy()
        if len(near):
            found = curve_foot_points(curve, self.points[near], self.t[near], LIVE_STEP, LIVE_STEPS)
            t[near], distance[near] = found[0], found[2]
        return LiveDistance(self.points, curve, t, distance)


def live_distance(curve: BSplineCurve, points: Floats) -> LiveDistance:
    """Measure all points."""
    t, _, distance = curve_foot_points(curve, points)
    return LiveDistance(points, curve, t, distance)


@dataclass(frozen=True, eq=False)
class LiveFeet:
    """Feet of measured points on a surface whose control points are dragged.

    Only points on spans that a moved control point bends are asked again while the hand drags.
    """

    points: Floats
    surface: BSplineSurface
    u: Floats
    v: Floats
    signed: Floats

    @property
    def turned(self) -> LiveFeet:
        """The same feet on the surface with its directions exchanged."""
        turned = swap_directions(self.surface)
        return LiveFeet(self.points, turned, self.v, self.u, -self.signed)

    def follow(self, surface: BSplineSurface) -> LiveFeet:
        """Return the feet on a surface that was reshaped: they go the shortest way from where they
        lay, and may end where it is only nearer than about them."""
        at = self._moved_with(surface)
        if not len(at):
            return replace(self, surface=surface)
        u, v, signed = self.u.copy(), self.v.copy(), self.signed.copy()
        size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
        seed = u[at], v[at]
        feet = foot_points(surface, self.points[at], seed, 1e-3 * size, LIVE_STEPS, order=1)
        u[at], v[at], signed[at] = feet.u, feet.v, feet.signed
        return LiveFeet(self.points, surface, u, v, signed)

    def _moved_with(self, surface: BSplineSurface) -> Ints:
        """Return which feet lie on spans that have become others."""
        old = self.surface
        same = surface.counts == old.counts and np.array_equal(surface.knots_u, old.knots_u)
        if not same or not np.array_equal(surface.knots_v, old.knots_v):
            return np.arange(len(self.points))
        moved = (surface.points != old.points).any(axis=2)
        if surface.weights is not old.weights:
            moved |= _weights_of(surface) != _weights_of(old)
        if not moved.any():
            return np.zeros(0, dtype=np.int64)
        (p, q), (rows, columns) = surface.degrees, np.nonzero(moved)
        near = (
            (self.u >= surface.knots_u[rows.min()])
            & (self.u <= surface.knots_u[rows.max() + p + 1])
            & (self.v >= surface.knots_v[columns.min()])
            & (self.v <= surface.knots_v[columns.max() + q + 1])
        )
        return np.flatnonzero(near)


def _weights_of(surface: BSplineSurface) -> Floats:
    return np.ones(surface.counts) if surface.weights is None else surface.weights


def live_feet(surface: BSplineSurface, points: Floats, known: Floats | None = None) -> LiveFeet:
    """Measure all points.

    Parameters
    ----------
    points : (n, 3) array
    known : (n,) array, optional
        How far they lie off, mm, where that is known already: their feet are found far sooner.
    """
    if known is None or len(known) != len(points):
        feet = foot_points(surface, points)
    else:
        feet = feet_within(surface, points, np.abs(known))
    return LiveFeet(points, surface, feet.u, feet.v, feet.signed)
