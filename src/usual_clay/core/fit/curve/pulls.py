"""Least squares of a spline through points that slide along it, with its conditions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_array

from usual_clay.core.arrays import Bools, Floats, Ints, dots
from usual_clay.core.fit.solve.slide import LEAST_ALONG, PLACES, TOO_FAR, pulled
from usual_clay.core.spline.basis import basis_functions, gram, span_of
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.surface import sample_parameters

# The least stiffness that settles control points between which no point of the run lies.
LEAST_STIFFNESS = 1e-9
# A curve whose speed changes by its own length over the domain costs as much as this share of what
# points are off, squared; they are taken to be off by these shares of its length at the least and
# the most.
CALM, LEAST_OFF, MOST_OFF = 0.005, 1e-6, 0.02
# A span is looked at on so many places.
PLACES_EACH = 4
# A curve's length is told from the places of each so many points.
LENGTH_EACH = 8


def pulls_of(places: Floats, inside: Bools, points: Floats, weights: Floats) -> Floats:
    """Return how much each direction counts for each point, (6, n): places `PLACES` of 3 x 3.

    The squared distance to a curve is, near a foot, that across it and a part ``d / (d + r)`` of
    that along it, for the distance d and the radius r of the bend (Wang, Pottmann and Liu 2006).
    Points that lie far off slide less, in proportion to the squared distance; those at an end not
    at all.

    Parameters
    ----------
    places : (3, n, 3) array
        Each point's place on the curve, and the first and second derivative there.
    inside : (n,) mask
        Which places are no ends.
    """
    place, first, second = places.transpose(0, 2, 1)
    speed = np.maximum(np.sqrt(dots(first, first)), 1e-100)
    ahead = first / speed
    gap = points.T - place
    gap = gap - ahead * dots(gap, ahead)
    away = np.sqrt(dots(gap, gap))
    off = float(np.sqrt(np.average(away**2, weights=weights + 1e-12)))
    size = float(np.linalg.norm(np.diff(place[:, ::LENGTH_EACH], axis=1), axis=0).sum())
    least = max(LEAST_ALONG, min(off / (TOO_FAR * max(size, 1e-300)), 1.0) ** 2)
    across = second - ahead * dots(second, ahead)
    bent = away * np.sqrt(dots(across, across)) / speed**2
    along = np.where(inside, np.maximum(bent / (1 + bent), least), 1.0)
    matrix = np.empty((6, len(points)))
    for row, (i, j) in zip(matrix, PLACES, strict=True):
        row[:] = (along - 1) * ahead[i] * ahead[j]
    matrix[:3] += 1.0
    return matrix


@dataclass(frozen=True, eq=False)
class Conditions:
    """What must hold of control points: rows, (k, n), and the places that they give, (k, 3)."""

    rows: Floats
    values: Floats


@dataclass(frozen=True, eq=False)
class Along:
    """A curve along which speed is to change calmly, and how far points are from it, squared.

    Where points slide, what a curve does along itself moves them no farther off: it could as well
    run to and fro.
    """

    near: BSplineCurve
    square: float

    def energy(self, knots: Floats, degree: int, total: float) -> Floats:
        """Return what changes of speed cost for points of a total weight, (6, k, k)."""
        share = np.repeat(np.diff(np.unique(knots)) / PLACES_EACH, PLACES_EACH)
        t = sample_parameters(knots, PLACES_EACH)[:-1] + share / 2
        ahead = curve_derivatives(self.near, t, 1)[1].T
        speed = np.sqrt(dots(ahead, ahead))
        length = max(float(share @ speed), 1e-300)
        ahead = ahead / np.maximum(speed, 1e-300)
        off = np.clip(np.sqrt(self.square) / length, LEAST_OFF, MOST_OFF)
        counted = total * CALM * off**2 * share
        pulls = np.stack([counted * ahead[i] * ahead[j] for i, j in PLACES])
        span, values = basis_functions(knots, degree, t, 2)
        return _summed_pairs(len(knots) - degree - 1, span - degree, values[2], pulls)


def _summed_pairs(count: int, first: Ints, rows: Floats, pulls: Floats) -> Floats:
    """Sum the products of each point's rows, times its pulls, (6, k, k)."""
    # For each pair of a point's rows, where in the matrix their product is summed.
    one, other = np.triu_indices(len(rows))
    products = rows[one] * rows[other]
    where = ((first + one[:, None]) * count + first + other[:, None]).ravel()
    blocks = np.empty((6, count, count))
    for block, pull in zip(blocks, pulls, strict=True):
        sums = np.bincount(where, (products * pull).ravel(), count * count)
        block[:] = sums.reshape(count, count)
        block += np.triu(block, 1).T
    return blocks


@dataclass(frozen=True, eq=False)
class System:
    """The normal equations of a spline of given knots through points.

    Attributes
    ----------
    first : (n,) integers
        The first control point that each point depends on.
    rows : (degree + 1, n) array
        How much it depends on that and the following ones.
    pulls : (6, n) array
        How much each direction counts, weights included.
    matrix : (3 k, 3 k) array
        For k control points: all x, all y, all z.
    conditions : Conditions or None
    """

    first: Ints
    rows: Floats
    pulls: Floats
    matrix: Floats
    conditions: Conditions | None

    @classmethod
    def of(
        cls,
        knots: Floats,
        degree: int,
        t: Floats,
        pulls: Floats,
        conditions: Conditions | None,
        along: Along | None = None,
    ) -> System:
        """Sum the equations span by span."""
        count = len(knots) - degree - 1
        span, values = basis_functions(knots, degree, t)
        rows, first = values[0], span - degree
        blocks = _summed_pairs(count, first, rows, pulls)
        if along is not None and degree > 1:
            blocks += along.energy(knots, degree, float(pulls[:3].sum()) / 3)
        stiff = gram(knots, degree, min(2, degree))
        stiff = LEAST_STIFFNESS * np.trace(blocks[0]) / max(np.trace(stiff), 1e-300) * stiff
        matrix = np.empty((3, count, 3, count))
        for (i, j), block in zip(PLACES, blocks, strict=True):
            matrix[i, :, j] = matrix[j, :, i] = block + (stiff if i == j else 0.0)
        return cls(first, rows, pulls, matrix.reshape(3 * count, 3 * count), conditions)

    @property
    def count(self) -> int:
        return len(self.matrix) // 3

    def summed(self, vectors: Floats) -> Floats:
        """Sum vectors of the points, (n, 3) or (n, 3, m), for each control point: (3 k, ...)."""
        ends = np.arange(len(vectors) + 1) * len(self.rows)
        columns = (self.first[:, None] + np.arange(len(self.rows))).ravel()
        basis = csr_array((self.rows.T.ravel(), columns, ends), shape=(len(vectors), self.count))
        sums = (basis.T @ vectors.reshape(len(vectors), -1)).reshape(-1, *vectors.shape[1:])
        return np.moveaxis(sums, 1, 0).reshape(3 * self.count, *vectors.shape[2:])

    def control_points(self, points: Floats) -> Floats:
        """Return those of least squares, (k, 3)."""
        right = self.summed(pulled(self.pulls, points))[:, None]
        values = None if self.conditions is None else self.conditions.values.T.reshape(-1, 1)
        return self._solved(right, values)[:, 0].reshape(3, -1).T

    def answers(self, right: Floats) -> Floats:
        """Return how control points answer to changes, (3 k, m), while the conditions hold."""
        return self._solved(right, None)

    def _solved(self, right: Floats, values: Floats | None) -> Floats:
        """Solve least squares with conditions, by Lagrange multipliers."""
        if self.conditions is None:
            return np.asarray(np.linalg.solve(self.matrix, right))
        size = np.linalg.norm(self.conditions.rows, axis=1, keepdims=True)
        rows = np.kron(np.eye(3), self.conditions.rows / size)
        count, more = len(self.matrix), len(rows)
        scale = float(np.trace(self.matrix)) / count
        system = np.zeros((count + more, count + more))
        system[:count, :count] = self.matrix / scale
        system[count:, :count], system[:count, count:] = rows, rows.T
        below = np.zeros((more, right.shape[1]))
        if values is not None:
            below = values / np.tile(size, (3, 1))
        whole = np.concatenate([right / scale, below])
        return np.asarray(np.linalg.solve(system, whole))[:count]


def knot_slopes(curve: BSplineCurve, t: Floats) -> Floats:
    """Return how the places at parameters change with each inner knot, (n, 3, knots).

    The control points stay. De Boor's algorithm is differentiated for the knots that a span
    depends on (de Boor 1978, ch. 10, for the algorithm).
    """
    degree, knots = curve.degree, curve.knots
    span = span_of(knots, degree, t)
    near = span[:, None] + np.arange(1 - degree, degree + 1)
    local = knots[near].T
    points = curve.points[span[:, None] + np.arange(-degree, 1)].transpose(1, 2, 0)
    slopes = np.zeros((degree + 1, 2 * degree, 3, len(t)))
    for level in range(1, degree + 1):
        for row in range(degree, level - 1, -1):
            low, high = row - 1, row + degree - level
            width = local[high] - local[low]
            share = (t - local[low]) / width
            leg = points[row] - points[row - 1]
            slopes[row] = (1 - share) * slopes[row - 1] + share * slopes[row]
            slopes[row, low] += leg * ((share - 1) / width)
            slopes[row, high] -= leg * (share / width)
            points[row] = points[row - 1] + share * leg
    inner = len(knots) - 2 * degree - 2
    # Knots at the ends do not move.
    made = np.zeros((inner + 2, 3, len(t)))
    place = np.clip(near - degree, 0, inner + 1).T
    for k in range(2 * degree):
        made[place[k], :, np.arange(len(t))] += slopes[degree, k].T
    return made[1:-1].transpose(2, 1, 0)
