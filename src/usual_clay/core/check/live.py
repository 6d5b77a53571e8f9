"""Distances of many points from a curve that is being dragged: only what changed is asked again."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve

# What is shown while a hand drags need not be nearer than a part in a hundred thousand.
LIVE_STEP = 1e-5


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
            found = curve_foot_points(curve, self.points[near], self.t[near], LIVE_STEP)
            t[near], distance[near] = found[0], found[2]
        return LiveDistance(self.points, curve, t, distance)


def live_distance(curve: BSplineCurve, points: Floats) -> LiveDistance:
    """Measure all points."""
    t, _, distance = curve_foot_points(curve, points)
    return LiveDistance(points, curve, t, distance)
