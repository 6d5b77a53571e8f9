"""Knots of both directions moved at once to where the squared error is least."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.fit.solve.laid import Attempt, Laid, count_of, in_direction, knots_of
from usual_clay.core.fit.solve.slide import pulled
from usual_clay.core.fit.solve.system import Space, design, seamless
from usual_clay.core.spline.knots import among

# Knots move on while that lowers the squared error by more than this part, so often at most.
WORTHWHILE, ROUNDS = 0.01, 10
# What a knot does is told by moving it this part of the way to its nearer neighbour.
TOLD_BY = 0.01
# It moves no farther than this part of the way to each; two stay apart by a share of an even step.
BOLDEST, APART = 0.45, 0.02
# Damping begins with so much, and is raised so often where a step does not help.
DAMPING, TRIES = 1e-2, 4


class Mobile(NamedTuple):
    """A knot that may move: its direction and number, and how far down and up."""

    direction: str
    number: int
    down: float
    up: float

    @property
    def room(self) -> float:
        return min(self.down, self.up)


def eased(
    laid: Laid, attempt: Attempt, directions: str, kept: Callable[[str], Floats | None]
) -> tuple[Laid, Attempt]:
    """Move inner knots to where the squared error is least.

    Gauss and Newton's method with Levenberg and Marquardt's damping: each fit has the best control
    points for its knots, and slopes tell how gaps change as those follow (variable projection:
    Golub and Pereyra 1973). Knots stay in their order and apart (Jupp 1978 tells why they must).
    The points keep their parameters in a round, and are brought to their feet after it.
    """
    damping = DAMPING
    for _ in range(ROUNDS):
        before = laid.fitted(attempt.space)
        mobile = _mobile(before.space, directions, kept)
        moved, damping = _moved(laid, before, mobile, damping) if mobile else (before, damping)
        laid, attempt = laid.on(moved)
        if moved is before:
            return laid, attempt
        if moved.square >= before.square * (1 - WORTHWHILE):
            break
    return laid.on(laid.fitted(attempt.space))


def _mobile(space: Space, directions: str, kept: Callable[[str], Floats | None]) -> list[Mobile]:
    """Return the knots that may move: not those that are kept, nor those close to others."""
    found = []
    for direction in directions:
        knots, fixed = knots_of(space, direction), kept(direction)
        degree = len(knots) - count_of(space, direction) - 1
        inner = knots[degree : len(knots) - degree]
        apart = APART * (inner[-1] - inner[0]) / (len(inner) - 1)
        gaps = np.diff(inner)
        most = np.minimum(BOLDEST * gaps, (gaps - apart) / 2)
        for k, t in enumerate(inner[1:-1]):
            one = Mobile(direction, degree + 1 + k, float(most[k]), float(most[k + 1]))
            if one.room > TOLD_BY * apart and not among(t, fixed):
                found.append(one)
    return found


def _moved(
    laid: Laid, attempt: Attempt, mobile: list[Mobile], damping: float
) -> tuple[Attempt, float]:
    """Return a fit with knots moved a step, if one is better, and the damping that it took."""
    steps = np.array([TOLD_BY * one.room / BOLDEST for one in mobile])
    slopes = _slopes(laid, attempt, mobile, steps)
    weighted = slopes * np.repeat(laid.weights / laid.weights.sum(), 3)
    squares, right = weighted @ slopes.T, weighted @ attempt.gap.ravel()
    scale = np.diag(squares)
    if not scale.max() > 0:
        return attempt, damping
    scale = np.maximum(scale, 1e-9 * scale.max())
    down, up = np.array([(-one.down, one.up) for one in mobile]).T
    for _ in range(TRIES):
        step = np.linalg.solve(squares + damping * np.diag(scale), right)
        better = laid.fitted(_with_moves(attempt.space, mobile, np.clip(step, down, up)))
        if better.square < attempt.square:
            return better, damping / 4
        damping *= 6
    return attempt, damping


def _slopes(laid: Laid, attempt: Attempt, mobile: list[Mobile], steps: Floats) -> Floats:
    """Return how gaps shrink as each knot moves and control points follow, (k, 3 n).

    What a knot moves at the points is told by moving it. How control points follow is linear in
    what their equations miss then.
    """
    space, surface, (u, v) = attempt.space, attempt.surface, laid.start[:2]
    basis = design(space, u, v)
    places = basis @ surface.points.reshape(-1, 3)
    slopes = np.zeros((len(mobile), *places.shape))
    loads = np.zeros((*space.counts, 3, len(mobile)))
    for k, one in enumerate(mobile):
        which = _reached(laid, space, one)
        moved = _with_moves(space, [one], steps[k : k + 1])
        there = design(moved, u[which], v[which])
        now = there @ _kept_net(attempt, moved).reshape(-1, 3)
        slopes[k, which] = (now - places[which]) / steps[k]
        # Where the surface runs round, the moved functions are no others of its clamped space.
        after = basis[which] if space.closed else there
        load = after.T @ laid.pull(space, now, which)
        load = (load - basis[which].T @ laid.pull(space, places[which], which)) / steps[k]
        loads[..., k] = load.reshape(*space.counts, 3)
    follow = laid.answers(space, loads)
    slopes += (basis @ follow.reshape(basis.shape[1], -1)).reshape(len(u), 3, -1).transpose(2, 0, 1)
    if laid.pulls is not None:
        slopes = np.stack([pulled(laid.pulls.matrix, each) for each in slopes])
    return slopes.reshape(len(mobile), -1)


def _reached(laid: Laid, space: Space, one: Mobile) -> Ints:
    """Return the points about which a knot has a say."""
    t = laid.start.u if one.direction == "u" else laid.start.v
    if space.closed == one.direction:
        return np.arange(len(t))
    knots = knots_of(space, one.direction)
    reach = len(knots) - count_of(space, one.direction)
    low, high = max(one.number - reach, 0), min(one.number + reach, len(knots) - 1)
    return np.flatnonzero((t >= knots[low]) & (t <= knots[high]))


def _kept_net(attempt: Attempt, space: Space) -> Floats:
    """Return an attempt's control points in a space whose knots have moved.

    Of a surface that runs round those stay that it has without a seam; the clamped ones follow.
    """
    net = attempt.surface.points
    for axis, direction in enumerate("uv"):
        if space.closed != direction:
            continue
        old, new = (
            seamless(knots_of(each, direction), attempt.surface.degrees[axis])
            for each in (attempt.space, space)
        )
        rows = np.moveaxis(net, axis, 0)
        own = np.linalg.lstsq(old, rows.reshape(len(rows), -1), rcond=None)[0]
        net = np.moveaxis((new @ own).reshape(rows.shape), 0, axis)
    return net


def _with_moves(space: Space, mobile: list[Mobile], steps: Floats) -> Space:
    """Return a space whose knots have moved by so much each."""
    for direction in "uv":
        knots = knots_of(space, direction).copy()
        for one, step in zip(mobile, steps, strict=True):
            if one.direction == direction:
                knots[one.number] += step
        space = in_direction(space, direction, knots)
    return space
