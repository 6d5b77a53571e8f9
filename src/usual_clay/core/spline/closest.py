"""Foot points: the nearest point of a curve or surface to each of many points.

Newton's method on the squared distance from a good seed (The NURBS Book, section 6.1), kept
inside the domain, with the Gauss-Newton matrix where the full one is not positive definite.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints, dots
from usual_clay.core.blocks import BLOCK, in_blocks
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    in_pieces,
    runs_round,
    sample_parameters,
    surface_derivatives,
    surface_grid,
    surface_normals,
    surface_points,
)
from usual_clay.core.spline.valleys import valleys

STEPS = 25
# After so many steps, what has not come to rest is gathered anew.
FIRST = 5
# Points that lie so many times as far off as the median are looked at twice.
FAR = 8.0
# Without seeds a surface is looked at on so many places along each direction, and in each span.
LEAST_SAMPLES, LEAST_PER_SPAN = 48, 6
# Its cells are no more than so many times as long as wide, within reason.
OBLONG, MOST_FINER = 3.0, 12
# From a side that shrinks to a point it is looked in so many directions, these parts of the way.
DIRECTIONS, PARTS_OF_WAY = 97, np.array([0.03, 0.1, 0.3, 0.6, 1.0])
# A foot so near to such a side, as a share of the surface, may have stuck there.
NEAR_POLE = 0.01
# Of a surface of more control points the pieces that a block has to do with are to be few.
MANY_POINTS = 256


@dataclass(frozen=True, eq=False)
class FootPoints:
    """Where points meet a surface at right angles, or its border.

    Attributes
    ----------
    u, v : (n,) arrays
    feet : (n, 3) array
        Points on the surface, mm.
    signed : (n,) array
        Distance in mm, positive on the side that the surface's normal points to.
    """

    u: Floats
    v: Floats
    feet: Floats
    signed: Floats

    def part(self, which: Bools | Ints) -> FootPoints:
        """Return those of some of the points."""
        return FootPoints(self.u[which], self.v[which], self.feet[which], self.signed[which])

    def put(self, which: Ints, others: FootPoints) -> None:
        """Write others in the place of some of the points, in place."""
        self.u[which], self.v[which] = others.u, others.v
        self.feet[which], self.signed[which] = others.feet, others.signed


def foot_points(
    surface: BSplineSurface,
    points: Floats,
    seed: tuple[Floats, Floats] | None = None,
    step: float | None = None,
    most: int = STEPS,
    order: int = 2,
) -> FootPoints:
    """Find the foot point of every point on a surface.

    Parameters
    ----------
    points : (n, 3) array
    seed : two (n,) arrays, optional
        Parameters to start from, such as those of a fit; found on a grid where not given.
    step : float, optional
        A point is done when its next move on the surface is shorter than this, in mm; by
        default a hundred-thousandth of the surface's size; the distance is then right to a
        small fraction of that, as its error is of second order.
    most : int
        Steps after which a point stays where it has come to.
    order : {1, 2}
        2 for Newton's method, 1 for that of Gauss and Newton, which does without second
        derivatives: as fast where points lie far nearer than the surface's radii, and cheaper.
    """
    points = np.asarray(points, dtype=np.float64)
    if step is None:
        step = 1e-5 * float(np.linalg.norm(np.ptp(surface.points.reshape(-1, 3), axis=0)))
    if seed is None:
        return _nearest_of_all(surface, points, step, most, order)
    feet = _settled_feet(surface, points, seed, step, most, order)
    _over_seams(surface, points, step, feet)
    _off_poles(surface, points, step, feet)
    return feet


def _nearest_of_all(
    surface: BSplineSurface, points: Floats, step: float, most: int, order: int
) -> FootPoints:
    """Find feet without seeds: of every place that may be the nearest, the nearest."""
    u, v = _samples(surface, _per_span(surface.knots_u), _per_span(surface.knots_v))
    which, at = valleys(surface_grid(surface, u, v), points)
    seed = u[at // len(v)], v[at % len(v)]
    feet = _settled_feet(surface, points[which], seed, step, most, order)
    _over_seams(surface, points[which], step, feet)
    _off_poles(surface, points[which], step, feet)
    return feet.part(_first_of_each(which, np.abs(feet.signed)))


def grid_seed(surface: BSplineSurface, points: Floats) -> tuple[Floats, Floats]:
    """Return parameters near the feet of points, from the nearest place of a grid.

    Soon found for very many points; a foot that is reached from there may be nearest only to what
    is about it.
    """
    u, v = _samples(surface, LEAST_PER_SPAN, LEAST_PER_SPAN)
    _, nearest = cKDTree(surface_grid(surface, u, v).reshape(-1, 3)).query(points, workers=2)
    return u[nearest // len(v)], v[nearest % len(v)]


def _samples(surface: BSplineSurface, per_u: int, per_v: int) -> tuple[Floats, Floats]:
    """Return parameters of a grid over a surface, with at least so many in each span.

    On a long and narrow one there are more along it: places far apart that way would hide a turn
    of it behind the many beside each other.
    """
    knots, each = (surface.knots_u, surface.knots_v), [per_u, per_v]
    step = [
        float(np.median(np.linalg.norm(np.diff(surface.points, axis=k), axis=2).sum(axis=k)))
        / (each[k] * (len(np.unique(knots[k])) - 1))
        for k in range(2)
    ]
    for k in range(2):
        longer = step[k] / max(step[1 - k], 1e-300)
        each[k] *= int(np.clip(longer / OBLONG, 1, MOST_FINER))
    u, v = (sample_parameters(knots[k], each[k]) for k in range(2))
    return u, v


def _per_span(knots: Floats) -> int:
    return max(LEAST_PER_SPAN, -(-LEAST_SAMPLES // (len(np.unique(knots)) - 1)))


def _first_of_each(which: Ints, distance: Floats) -> Ints:
    """Return, for each of the things that entries belong to, its nearest entry."""
    order = np.lexsort((distance, which))
    _, first = np.unique(which[order], return_index=True)
    return np.asarray(order[first])


def heights(surface: BSplineSurface, points: Floats, feet: FootPoints) -> Floats:
    """Return how high points lie over a surface, (n,), signed: square to it, also past an edge."""
    (u0, u1), (v0, v1) = surface.domain
    past = np.flatnonzero((feet.u <= u0) | (feet.u >= u1) | (feet.v <= v0) | (feet.v >= v1))
    if not len(past):
        return feet.signed
    normals = surface_normals(surface, feet.u[past], feet.v[past])
    height = feet.signed.copy()
    height[past] = np.einsum("nk,nk->n", points[past] - feet.feet[past], normals)
    return height


def sought_anew(surface: BSplineSurface, points: Floats, feet: FootPoints) -> FootPoints:
    """Return feet, those that lie far off looked for anew over the whole surface.

    A seed may have led to a place that is only nearer than those about it.
    """
    away = np.abs(feet.signed)
    far = np.flatnonzero(away > FAR * float(np.median(away)))
    if not len(far):
        return feet
    again = foot_points(surface, points[far])
    nearer = np.abs(again.signed) < away[far]
    made = FootPoints(*(each.copy() for each in (feet.u, feet.v, feet.feet, feet.signed)))
    made.put(far[nearer], again.part(nearer))
    return made


def _settled_feet(
    surface: BSplineSurface,
    points: Floats,
    seed: tuple[Floats, Floats],
    step: float,
    most: int = STEPS,
    order: int = 2,
) -> FootPoints:
    u, v = seed
    result = FootPoints(
        np.array(u, dtype=np.float64),
        np.array(v, dtype=np.float64),
        np.empty_like(points),
        np.empty(len(points)),
    )

    first = step, min(most, FIRST), order
    late = _some_steps(surface, points, first, result, np.arange(len(points)))
    if most > FIRST and len(late):
        # The few that take longer begin again, together.
        _some_steps(surface, points, (step, most, 2), result, late)
    return result


def _some_steps(
    surface: BSplineSurface,
    points: Floats,
    stop: tuple[float, int, int],
    result: FootPoints,
    going: Ints,
) -> Ints:
    """Move some of the points towards their feet; return which have not come to rest."""
    if len(going) > BLOCK and surface.counts[0] * surface.counts[1] > MANY_POINTS:
        # A block has to do with few pieces of the surface, and is the sooner evaluated.
        going = going[in_pieces(surface, result.u[going], result.v[going])]
    left: list[Ints] = []

    def stretch(part: slice) -> None:
        left.append(_settle(surface, points, stop, result, going[part]))

    in_blocks(len(going), stretch)
    return np.concatenate(left)


def _over_seams(surface: BSplineSurface, points: Floats, step: float, feet: FootPoints) -> None:
    """Look beyond the seam of a surface that runs round into itself, in place."""
    for direction, round_ in enumerate(runs_round(surface, step)):
        if not round_:
            continue
        t = (feet.u, feet.v)[direction]
        low, high = surface.domain[direction]
        at_seam = np.flatnonzero((t <= low) | (t >= high))
        if not len(at_seam):
            continue
        seed = [feet.u[at_seam].copy(), feet.v[at_seam].copy()]
        seed[direction] = low + high - t[at_seam]
        other = _settled_feet(surface, points[at_seam], (seed[0], seed[1]), step)
        better = np.abs(other.signed) < np.abs(feet.signed[at_seam])
        feet.put(at_seam[better], other.part(better))


def _off_poles(surface: BSplineSurface, points: Floats, step: float, feet: FootPoints) -> None:
    """Look in other directions from a side that shrinks to a point, in place.

    There, and as good as there, the parameter along the side moves nothing, and would stay what
    it is.
    """
    for direction, end in ((0, 0), (0, -1), (1, 0), (1, -1)):
        row = surface.points[end] if direction == 0 else surface.points[:, end]
        if float(np.ptp(row, axis=0).max()) > step:
            continue
        at, inward = surface.domain[direction][end], 1.0 if end == 0 else -1.0
        low, high = surface.domain[direction]
        there = np.flatnonzero(np.abs((feet.u, feet.v)[direction] - at) <= NEAR_POLE * (high - low))
        if not len(there):
            continue
        other = np.linspace(*surface.domain[1 - direction], DIRECTIONS)
        fixed = np.full(len(other), at)
        u, v = (fixed, other) if direction == 0 else (other, fixed)
        tangent = surface_derivatives(surface, u, v, 1)[1 + direction].T * inward
        speed = np.maximum(np.linalg.norm(tangent, axis=1), 1e-300)
        ahead = (points[there] - row[0]) @ (tangent / speed[:, None]).T
        best = np.argmax(ahead, axis=1)
        way = ahead[np.arange(len(there)), best] / speed[best]
        away = np.clip(np.maximum(way, 0.0)[:, None] * PARTS_OF_WAY, 0.0, (high - low) / 2)
        tried = at + inward * away, np.repeat(other[best][:, None], len(PARTS_OF_WAY), axis=1)
        seeds = [part.ravel() for part in (tried if direction == 0 else tried[::-1])]
        gap = surface_points(surface, *seeds).reshape(len(there), -1, 3) - points[there][:, None]
        nearest = np.argmin(np.linalg.norm(gap, axis=2), axis=1)
        seed = [part.reshape(len(there), -1)[np.arange(len(there)), nearest] for part in seeds]
        again = _settled_feet(surface, points[there], (seed[0], seed[1]), step)
        better = np.abs(again.signed) < np.abs(feet.signed[there])
        feet.put(there[better], again.part(better))


def _settle(
    surface: BSplineSurface,
    points: Floats,
    stop: tuple[float, int, int],
    result: FootPoints,
    going: Ints,
) -> Ints:
    """Move one block of points, of which the numbers are given, to its feet, in at most so many
    steps.

    Returns which of them would have gone on.
    """
    step, most, order = stop
    points = np.ascontiguousarray(points.take(going, axis=0).T)
    # The best place of each so far, how far it is from the point, and the next to be tried.
    u, v = trial_u, trial_v = result.u.take(going), result.v.take(going)
    best = np.full(len(going), np.inf)
    for _ in range(most):
        derived = surface_derivatives(surface, trial_u, trial_v, order)
        gap = derived[0] - points
        distance = dots(gap, gap)
        better = distance <= best * (1 + 1e-14)
        du, dv, move = _newton_step(surface, derived, gap, trial_u, trial_v)
        done = better & (move <= step)
        next_u, next_v = trial_u + du, trial_v + dv
        if done.any():
            # The last, tiny step needs no new evaluation: its error is of second order. Those that
            # go on are written again when they are done.
            _write_feet(derived, gap, (du, dv), result, going)
            result.u[going], result.v[going] = next_u, next_v
        if done.all():
            return going[:0]
        # A step that led away is halved back towards the best parameters so far.
        next_u = np.where(better, next_u, (trial_u + u) / 2)
        next_v = np.where(better, next_v, (trial_v + v) / 2)
        u, v = np.where(better, trial_u, u), np.where(better, trial_v, v)
        best = np.where(better, distance, best)
        left = np.flatnonzero(~done)
        u, v, best, trial_u, trial_v = (each.take(left) for each in (u, v, best, next_u, next_v))
        going = going.take(left)
        points = points.take(left, axis=1)
    derived = surface_derivatives(surface, u, v, 1)
    still = np.zeros(len(going))
    _write_feet(derived, derived[0] - points, (still, still), result, going)
    result.u[going], result.v[going] = u, v
    return going


def _write_feet(
    derived: Floats, gap: Floats, move: tuple[Floats, Floats], result: FootPoints, going: Ints
) -> None:
    """Store feet and signed distances, moved to first order by `move` in u and v."""
    place, su, sv = derived[:3]
    shift = su * move[0] + sv * move[1]
    gap = gap + shift
    result.feet[going] = (place + shift).T
    # Which side the point is on: the sign of the volume that the tangents and the gap span.
    (ax, ay, az), (bx, by, bz), (gx, gy, gz) = su, sv, gap
    side = gx * (az * by - ay * bz) + gy * (ax * bz - az * bx) + gz * (ay * bx - ax * by)
    result.signed[going] = np.copysign(np.sqrt(dots(gap, gap)), side)


def _newton_step(
    surface: BSplineSurface, derived: Floats, gap: Floats, u: Floats, v: Floats
) -> tuple[Floats, Floats, Floats]:
    """Return the step in u and v, held to the domain, and its length in mm."""
    su, sv = derived[1:3]
    a, b, c = dots(su, su), dots(su, sv), dots(sv, sv)
    gu, gv = dots(gap, su), dots(gap, sv)
    huu, huv, hvv = a, b, c
    if len(derived) > 3:
        huu, huv, hvv = (h + dots(gap, d) for h, d in zip((a, b, c), derived[3:], strict=True))
        full = (huu > 0.1 * a) & (hvv > 0.1 * c) & (huu * hvv - huv**2 > 0.05 * a * c)
        huu, huv, hvv = np.where(full, huu, a), np.where(full, huv, b), np.where(full, hvv, c)
    tiny = 1e-30 + 1e-14 * (a + c)
    det = np.maximum(huu * hvv - huv**2, tiny * tiny)
    du, dv = (huv * gv - hvv * gu) / det, (huv * gu - huu * gv) / det
    (u0, u1), (v0, v1) = surface.domain
    at_u = ((u <= u0) & (gu > 0)) | ((u >= u1) & (gu < 0))
    at_v = ((v <= v0) & (gv > 0)) | ((v >= v1) & (gv < 0))
    dv = np.where(at_u, -gv / np.maximum(hvv, tiny), dv)
    du = np.where(at_v, -gu / np.maximum(huu, tiny), du)
    far_u, far_v = (u1 - u0) / 4, (v1 - v0) / 4
    du = np.clip(u + np.clip(np.where(at_u, 0.0, du), -far_u, far_u), u0, u1) - u
    dv = np.clip(v + np.clip(np.where(at_v, 0.0, dv), -far_v, far_v), v0, v1) - v
    move = np.sqrt(np.maximum(a * du**2 + 2 * b * du * dv + c * dv**2, 0.0))
    return du, dv, move


def curve_foot_points(
    curve: BSplineCurve,
    points: Floats,
    seed: Floats | None = None,
    close: float = 1e-11,
    most: int = STEPS,
) -> tuple[Floats, Floats, Floats]:
    """Find the foot point of every point on a curve.

    Parameters
    ----------
    points : (n, 3) array
    seed : (n,) array, optional
        Parameters to start from.
    close : float
        A point is done when its next move is shorter than this share of the domain; the distance
        is then right to a small fraction of that, as its error is of second order.
    most : int
        Steps after which a point stays where it has come to.

    Returns
    -------
    t : (n,) array
    feet : (n, 3) array
    distance : (n,) array, mm, not signed
    """
    points = np.asarray(points, dtype=np.float64)
    if seed is None:
        samples = sample_parameters(curve.knots, 4 * _per_span(curve.knots))
        which, at = valleys(curve_points(curve, samples), points)
        found = curve_foot_points(curve, points[which], samples[at], close, most)
        nearest = _first_of_each(which, found[2])
        return found[0][nearest], found[1][nearest], found[2][nearest]
    low, high = curve.domain
    t = np.array(seed, dtype=np.float64)
    best_t, best = t.copy(), np.full(len(points), np.inf)
    feet = np.empty_like(points)
    active = np.arange(len(points))
    for _ in range(most):
        here = t[active]
        place, first, second = curve_derivatives(curve, here, 2)
        gap = place - points[active]
        distance = np.einsum("ni,ni->n", gap, gap)
        better = distance <= best[active]
        nearer = active[better]
        best_t[nearer], best[nearer] = here[better], distance[better]
        feet[nearer] = place[better]
        speed = np.einsum("ni,ni->n", first, first)
        curved = speed + np.einsum("ni,ni->n", gap, second)
        steep = np.where(curved > 0.1 * speed, curved, np.maximum(speed, 1e-30))
        step = -np.einsum("ni,ni->n", gap, first) / steep
        step = np.where(better, step, (best_t[active] - here) / 2)
        moved = np.clip(here + np.clip(step, (low - high) / 4, (high - low) / 4), low, high)
        t[active] = moved
        # Only those that still move are asked again.
        active = active[np.abs(moved - here) > close * (high - low)]
        if not len(active):
            break
    return best_t, feet, np.sqrt(best)
