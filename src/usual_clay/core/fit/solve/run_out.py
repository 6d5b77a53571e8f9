"""A fitted surface that runs out past its points, with the same control points."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.check.deviation import percent
from usual_clay.core.spline.basis import gram
from usual_clay.core.spline.boundary import BORDERS
from usual_clay.core.spline.knots import run_on
from usual_clay.core.spline.surface import (
    BSplineSurface,
    grid_turns,
    surface_grid,
    surface_points,
    swap_directions,
)

# What a surface runs out by may move it among its points by this share of what they are off.
MOVED = 0.1
# How strongly an end may be kept from bending on, with the domain's length as the unit.
FADING = tuple(10.0**k for k in range(-9, 2))
# A surface is looked at on so many places each way; so many points tell where it moves.
GRID, LOOKED_AT = 60, 2_000
# Over a step of that grid its normals may turn by so much more than among the points.
TURN = float(np.radians(35))
# Where they turn by so much more anywhere, the surface is pinched.
PINCHED = float(np.radians(50))
# A step on the way out is no longer or shorter than the last one within by this factor.
UNEVEN = 3.0
# What it runs out by comes back where it is so much nearer to a part so far in than to its edge.
# A corner alone may.
COMES_BACK, FAR_IN, CORNER = 0.25, 0.25, 0.1
# Each time it would fold, a side is shortened by this; at last it is left where it was.
SHORTER, TRIES = 0.6, 6


@dataclass(frozen=True, eq=False)
class RunOut:
    """A surface that runs past its points.

    Attributes
    ----------
    surface : BSplineSurface
    past : four floats
        By how much of the old domain at u0, u1, v0 and v1.
    """

    surface: BSplineSurface
    past: Floats

    def parameters(self, t: Floats, direction: str) -> Floats:
        """Return where old parameters of a direction have come to."""
        low, high = self.past[:2] if direction == "u" else self.past[2:]
        return np.asarray((t + low) / (1 + low + high))


def run_out(
    surface: BSplineSurface,
    past: Floats,
    feet: tuple[Floats, Floats],
    off: float,
    symmetric: str = "",
) -> RunOut:
    """Let a surface run out past its sides, calmly, with no control point more.

    The end knots move outward. Of the splines that differ among the points by no more than a
    small part of what those are off, it is the one whose second derivative past the old ends is
    least: it bends on less and less, and its parameter lines keep their speed. Where it would
    fold over, turn sharply, crowd, or run into itself, that side is shortened.

    Parameters
    ----------
    past : (4,) array
        How far it is to run past u0, u1, v0 and v1, as shares of the domain, [0, 1] each way.
    feet : two (n,) arrays
        Where it was fitted to points.
    off : float
        How far off those are in the mean, mm.
    symmetric : {"", "u", "v"}
        The direction in which both sides are to be alike.

    Returns
    -------
    RunOut
    """
    some = _some(feet)
    allowed = _turn_among(surface, some) + TURN
    now = np.asarray(past, dtype=np.float64).copy()
    for _ in range(TRIES):
        made = RunOut(_longer(surface, now, some, off), now)
        bad = _restless(made, allowed)
        if symmetric:
            pair = slice(0, 2) if symmetric == "u" else slice(2, 4)
            bad[pair] = bad[pair].any()
        bad &= now > 0
        if not bad.any():
            return made
        now = np.where(bad, now * SHORTER, now)
    now = np.where(bad, 0.0, now)
    return RunOut(_longer(surface, now, some, off), now)


def is_pinched(surface: BSplineSurface, feet: tuple[Floats, Floats]) -> bool:
    """Tell whether normals turn far more somewhere in the domain than where there are points."""
    turn = max(float(part.max()) for part in grid_turns(surface, GRID))
    return turn > _turn_among(surface, _some(feet)) + PINCHED


def _some(feet: tuple[Floats, Floats]) -> tuple[Floats, Floats]:
    step = max(1, len(feet[0]) // LOOKED_AT)
    return feet[0][::step], feet[1][::step]


def _longer(
    surface: BSplineSurface, past: Floats, feet: tuple[Floats, Floats], off: float
) -> BSplineSurface:
    u, v = feet
    if past[:2].any():
        surface = _longer_in_u(surface, past[:2], (u, v), off)
        u = (u + past[0]) / (1 + past[:2].sum())
    if past[2:].any():
        surface = swap_directions(_longer_in_u(swap_directions(surface), past[2:], (v, u), off))
    return surface


def _longer_in_u(
    surface: BSplineSurface, past: Floats, feet: tuple[Floats, Floats], off: float
) -> BSplineSurface:
    """Move the end knots of u outward; past the old ends it bends on the less, as far as it may."""
    low, high = past
    knots, net = run_on(surface.knots_u, surface.points, low, high)
    degree = surface.degrees[0]
    within = gram(knots, degree, 0, (0.0, 1.0))
    outside = [gram(knots, degree, 2, ends) for ends in ((-low, 0.0), (1.0, 1 + high))]
    knots = (knots + low) / (1 + low + high)
    at = (feet[0] + low) / (1 + low + high), feet[1]

    def faded(fading: Floats) -> BSplineSurface:
        if not fading.any():
            return BSplineSurface(knots, surface.knots_v, net)
        bent = within + fading[0] * outside[0] + fading[1] * outside[1]
        flat = np.linalg.solve(bent, within @ net.reshape(len(net), -1))
        return BSplineSurface(knots, surface.knots_v, flat.reshape(net.shape))

    plain, fading, ends = surface_points(surface, *feet), np.zeros(2), np.flatnonzero(past)

    def moves(tried: Floats) -> float:
        gap = surface_points(faded(tried), *at) - plain
        return float(np.sqrt(np.mean(np.einsum("nk,nk->n", gap, gap))))

    for count, end in enumerate(ends, 1):
        # What either end moves adds up.
        limit = MOVED * off * count / len(ends)
        tried = [fading + strength * np.eye(2)[end] for strength in FADING]
        found = bisect_right(tried, limit, key=moves)
        fading = tried[found - 1] if found else fading
    return faded(fading)


def _turn_among(surface: BSplineSurface, feet: tuple[Floats, Floats]) -> float:
    """Return how far normals turn over a step of the grid where points are, radians."""
    row, column = (np.rint(t * (GRID - 1)).astype(np.int64) for t in feet)
    filled = np.zeros((GRID, GRID), dtype=bool)
    filled[row, column] = True
    turns = grid_turns(surface, GRID)
    known = [
        turn[filled[1:] & filled[:-1] if k == 0 else filled[:, 1:] & filled[:, :-1]]
        for k, turn in enumerate(turns)
    ]
    return float(np.concatenate([*known, [0.0]]).max())


def _restless(made: RunOut, allowed: float) -> Bools:
    """Tell past which of its four sides a surface turns too sharply, or crowds."""
    surface, past = made.surface, made.past
    at = np.linspace(0, 1, GRID)
    grid = surface_grid(surface, at, at)
    turns = grid_turns(surface, GRID)
    bad = np.zeros(4, dtype=bool)
    for k, (low, high) in enumerate((past[:2], past[2:])):
        whole = 1 + low + high
        old = at * whole - low
        outside = old < 0, old > 1
        inside = np.flatnonzero((old >= 0) & (old <= 1))
        steps = np.linalg.norm(np.diff(grid, axis=k), axis=2)
        ahead, aside = turns
        if k == 1:
            ahead, aside, steps = aside.T, ahead.T, steps.T
        for end in range(2):
            sharp = max(
                float(ahead[outside[end][1:] | outside[end][:-1]].max(initial=0.0)),
                float(aside[outside[end]].max(initial=0.0)),
            )
            last = steps[inside[0] if end == 0 else inside[-1] - 1]
            out = steps[outside[end][1:] if end == 1 else outside[end][:-1]] / last
            uneven = max(float(out.max(initial=1.0)), 1 / float(out.min(initial=1.0)))
            bad[2 * k + end] = sharp > allowed or uneven > UNEVEN
    return bad | _runs_into_itself(grid, past)


def _runs_into_itself(grid: Floats, past: Floats) -> Bools:
    """Tell past which of its four sides a surface comes back to where it was fitted."""
    at, bad = np.linspace(0, 1, GRID), np.zeros(4, dtype=bool)
    old = [at * (1 + low + high) - low for low, high in (past[:2], past[2:])]
    within = [np.flatnonzero((t >= 0) & (t <= 1)) for t in old]
    fitted = cKDTree(grid[np.ix_(*within)].reshape(-1, 3))
    for k in range(2):
        beside = grid.take(within[1 - k], axis=1 - k).swapaxes(0, k)
        for end, out in enumerate((old[k] < 0, old[k] > 1)):
            away = np.linalg.norm(beside[out] - beside[within[k][-end]], axis=2)
            near, which = fitted.query(beside[out])
            row = np.unravel_index(which, (len(within[0]), len(within[1])))[k]
            # Lines that run aslant to their edge lie near it.
            far = np.abs(row - (len(within[k]) - 1) * end) > FAR_IN * len(within[k])
            back = (far & (near < COMES_BACK * away)).any(axis=0)
            bad[2 * k + end] = back.mean() > CORNER
    return bad


def words_of(wanted: Floats, got: Floats) -> str:
    """Say which sides run out by less than they were to."""
    short = {
        border: percent(float(has))
        for border, has, want in zip(BORDERS, got, wanted, strict=True)
        if has < want - 1e-9
    }
    if not short:
        return ""
    asked = percent(float(wanted.max()))
    got_words = ", ".join(f"{border} {by}" for border, by in short.items())
    return (
        f"the reach is shortened where it would turn sharply, fold or run into itself: {got_words}"
        f" of the length there, not {asked}"
    )
