"""What lies between the points of a sparse run: places on a smooth curve through them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.make import closed_through, spaced, through_points

# A run of no more points is guided, at so many places between two of them.
SPARSE, EACH = 150, 4
# How much one place counts; a point counts 1.
WEIGHT = 0.005
# Points nearer to each other than this share of the run's size are on one spot.
ONE_SPOT = 1e-9
# Between two points a curve turns by no more than this, in all, radians; so many places tell.
MOST_TURN, PLACES = 1.5 * np.pi, 8


@dataclass(frozen=True, eq=False)
class Guided:
    """A run's points, and guides between them where they are few.

    Attributes
    ----------
    points : (m, 3) array
        A closed run's first point comes once more at its end.
    before, after : (m,) integers
        Of each the run's points that it lies between; of one of them that itself.
    own : (n,) integers
        Which are the run's own.
    """

    points: Floats
    before: Ints
    after: Ints
    own: Ints

    def weights(self, out: Bools) -> Floats:
        """Return how much each counts where some of the run's points, (n,), are left out."""
        left = out[self.before] | out[self.after]
        return np.where(left, 0.0, np.where(self.before == self.after, 1.0, WEIGHT))


def guided(points: Floats, closed: bool) -> Guided:
    """Return a run's points with guides between them.

    Between sparse points least squares alone may lead a curve anywhere, to and fro even. The
    guides count so little that they tell no more than what is not told by the points.
    """
    count = len(points)
    ring = np.concatenate([points, points[:1]]) if closed else points
    which = np.arange(len(ring)) % count
    legs = np.linalg.norm(np.diff(ring, axis=0), axis=1)
    apart = legs > ONE_SPOT * max(float(np.ptp(points, axis=0).max()), 1e-300)
    corners = np.flatnonzero(np.append(True, apart))
    if count > SPARSE or len(corners) < 4 or (closed and not apart[-1]):
        return Guided(ring, which, which, np.arange(count))
    through = ring[corners]
    curve = closed_through(through[:-1]) if closed else through_points(through)
    t, steps = spaced(through), np.arange(1, EACH + 1) / (EACH + 1)
    between = (t[:-1, None] + np.diff(t)[:, None] * steps).ravel()
    before = np.repeat(corners[1:] - 1, EACH)
    # In order along the run: each point, then the guides behind it.
    place = np.concatenate([np.arange(len(ring)), before + np.tile(steps, len(corners) - 1)])
    order = np.argsort(place, kind="stable")
    return Guided(
        np.concatenate([ring, curve_points(curve, between)])[order],
        np.concatenate([which, which[before]])[order],
        np.concatenate([which, which[before + 1]])[order],
        np.flatnonzero(order < count),
    )


def runs_to_and_fro(curve: BSplineCurve, t: Floats) -> bool:
    """Tell whether a curve turns back and on again, or loops, between two points of a run.

    Parameters
    ----------
    t : (n,) array
        Where the points have come to on it, in their order.
    """
    at = t[:-1, None] + np.diff(t)[:, None] * np.linspace(0, 1, PLACES + 1)
    ahead = curve_derivatives(curve, at.ravel(), 1)[1].reshape(*at.shape, 3)
    ahead /= np.maximum(np.linalg.norm(ahead, axis=2, keepdims=True), 1e-300)
    cosine = np.einsum("nkc,nkc->nk", ahead[:, 1:], ahead[:, :-1])
    return bool((np.arccos(np.clip(cosine, -1, 1)).sum(axis=1) > MOST_TURN).any())
