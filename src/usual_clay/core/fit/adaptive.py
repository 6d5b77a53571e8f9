"""Adaptive knots: closer where the shape needs them, for curves and both ways of a surface."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.system import Held, Space, fit_control_points
from usual_clay.core.spline.basis import collocation, even_knots
from usual_clay.core.spline.knots import removal_residual
from usual_clay.core.spline.surface import BSplineSurface, surface_normals, surface_points

# Two knots are no nearer than this share of an even step.
LEAST_STEP = 0.15
# No span is halved into less than this share of the whole.
NARROWEST = 0.004
# Stretches along the other direction over which a span's error is told.
STRIPES = 10
# What quiet stretches keep, as a share of the mean need.
QUIET = 0.05


def spread_knots(knots: Floats, coefficients: Floats, controls: int) -> Floats:
    """Spread knots so that each span holds the same of the next derivative (de Boor's newnot).

    The derivative one past the degree is taken from the jumps of the degree's own derivative
    between spans; knots are spread by its root, which is what an optimal spline's error follows
    (de Boor 1978, ch. 12).

    Parameters
    ----------
    knots : array
        Of a spline that shows the shape.
    coefficients : (n, ...) array
        Its control points; further axes are taken together.
    controls : int
        Of the spline that the knots are for, of the same degree.

    Returns
    -------
    (controls + degree + 1,) array
    """
    flat = coefficients.reshape(len(coefficients), -1)
    degree = len(knots) - len(flat) - 1
    breaks = np.unique(knots)
    inner = controls - degree
    if len(breaks) < 3 or inner < 2:
        return even_knots(controls, degree)
    middles = (breaks[:-1] + breaks[1:]) / 2
    highest = collocation(knots, degree, middles, degree) @ flat
    jump = np.linalg.norm(np.diff(highest, axis=0), axis=1)
    width = np.diff(breaks)
    at_break = jump / ((width[:-1] + width[1:]) / 2)
    size = np.concatenate([at_break[:1], (at_break[:-1] + at_break[1:]) / 2, at_break[-1:]])
    density = size ** (1.0 / (degree + 1))
    # A floor keeps quiet stretches from losing all their knots.
    density += QUIET * float(np.average(density, weights=width)) + 1e-300
    held = np.concatenate([[0], np.cumsum(density * width)])
    even = np.linspace(0, held[-1], inner + 1)
    spread = np.interp(even, held, breaks)
    # No two knots so near that points cannot tell them apart.
    least = LEAST_STEP / inner
    steps = np.maximum(np.diff(spread), least)
    inside = np.cumsum(steps)[:-1] / steps.sum()
    return np.concatenate([np.zeros(degree + 1), inside, np.ones(degree + 1)])


@dataclass(frozen=True, eq=False)
class Laid:
    """Points with parameters, and what a fit of them needs.

    Attributes
    ----------
    points : (n, 3) array
    u, v, weights : (n,) arrays
    stiffness : float
    size : (float, float)
        Of the base, mm.
    noise : float
        Standard deviation of a coordinate's noise, mm.
    held : callable or None
        Gives the control points that are known in a space.
    """

    points: Floats
    u: Floats
    v: Floats
    weights: Floats
    stiffness: float
    size: tuple[float, float]
    noise: float
    held: Callable[[Space], Held] | None = None

    def fitted(self, space: Space) -> Attempt:
        """Fit a space to the points at their parameters."""
        held = None if self.held is None else self.held(space)
        control = fit_control_points(
            space, self.u, self.v, self.points, self.weights, self.stiffness, self.size, held
        )
        surface = BSplineSurface(space.knots_u, space.knots_v, control)
        gap = self.points - surface_points(surface, self.u, self.v)
        square = float(np.average(np.einsum("nk,nk->n", gap, gap), weights=self.weights + 1e-12))
        return Attempt(space, surface, gap, square)


@dataclass(frozen=True, eq=False)
class Attempt:
    """A fit on the way: the gaps of the points, (n, 3), and their mean square."""

    space: Space
    surface: BSplineSurface
    gap: Floats
    square: float

    def signed(self, laid: Laid) -> Floats:
        """Return about how far the points lie from the surface, (n,): across it, at (u, v)."""
        normal = surface_normals(self.surface, laid.u, laid.v)
        return np.asarray(np.einsum("nk,nk->n", self.gap, normal), dtype=np.float64)

    def with_knot(self, direction: str, t: float) -> Space:
        knots = self.space.knots_u if direction == "u" else self.space.knots_v
        return _in(self.space, direction, np.insert(knots, np.searchsorted(knots, t), t))


def _in(space: Space, direction: str, knots: Floats) -> Space:
    return replace(space, knots_u=knots) if direction == "u" else replace(space, knots_v=knots)


def _count(space: Space, direction: str) -> int:
    return space.counts[0 if direction == "u" else 1]


def best_insert(laid: Laid, attempt: Attempt, direction: str) -> tuple[float, float]:
    """Return where a knot line earns most, and how much: the systematic error of its span.

    In each half of each span the gaps are averaged over stretches along the other direction; what
    remains beyond the noise is shape that the surface misses.
    """
    knots, t, other = (
        (attempt.space.knots_u, laid.u, laid.v)
        if direction == "u"
        else (attempt.space.knots_v, laid.v, laid.u)
    )
    breaks = np.unique(knots)
    halves = np.sort(np.concatenate([breaks, (breaks[:-1] + breaks[1:]) / 2]))
    half = np.clip(np.searchsorted(halves, t, side="right") - 1, 0, len(halves) - 2)
    cell = half * STRIPES + np.minimum((other * STRIPES).astype(np.int64), STRIPES - 1)
    cells = (len(halves) - 1) * STRIPES
    count = np.bincount(cell, laid.weights, cells)
    mean = np.stack([np.bincount(cell, laid.weights * g, cells) for g in attempt.gap.T])
    square = (mean**2).sum(axis=0) / np.maximum(count, 1e-9)
    # What noise alone leaves in the mean of a cell.
    missed = np.maximum(square - 3 * laid.noise**2, 0.0).reshape(-1, 2, STRIPES).sum(axis=(1, 2))
    wide = np.diff(breaks) > 2 * NARROWEST * (breaks[-1] - breaks[0])
    missed = np.where(wide, missed, -1.0)
    at = int(np.argmax(missed))
    return float((breaks[at] + breaks[at + 1]) / 2), float(missed[at])


def least_needed(attempt: Attempt, direction: str) -> float | None:
    """Return the inner knot whose removal changes the surface least; None where there is none."""
    degree = attempt.space.degree_u if direction == "u" else attempt.space.degree_v
    knots = attempt.space.knots_u if direction == "u" else attempt.space.knots_v
    inner = knots[degree + 1 : -degree - 1]
    if not len(inner):
        return None
    points = attempt.surface.points
    flat = (points if direction == "u" else points.transpose(1, 0, 2)).reshape(
        len(knots) - degree - 1, -1
    )
    moved = [removal_residual(knots, flat, float(t)) for t in inner]
    return float(inner[int(np.argmin(moved))])


def _pays(old: Attempt, new: Attempt) -> float:
    """Return by how much the error falls for each control point that was added."""
    added = len(new.surface.points.reshape(-1, 3)) - len(old.surface.points.reshape(-1, 3))
    return (old.square - new.square) / added


def grown(
    laid: Laid,
    attempt: Attempt,
    counts: tuple[int, int],
    enough: Callable[[Attempt], bool] = lambda _attempt: False,
) -> Attempt:
    """Put knots in where they earn most until the counts are reached, or it is enough."""
    while not enough(attempt):
        open_ = [d for d, n in zip("uv", counts, strict=True) if _count(attempt.space, d) < n]
        if not open_:
            return attempt
        # Each direction is tried, and judged by what a control point earns in it.
        tried = {}
        for d in open_:
            t, missed = best_insert(laid, attempt, d)
            if missed >= 0:
                tried[d] = laid.fitted(attempt.with_knot(d, t))
        if not tried:
            return attempt
        old = attempt
        attempt = max(tried.values(), key=lambda new: _pays(old, new))
    return attempt


def stepped(laid: Laid, attempt: Attempt, counts: tuple[int, int]) -> Attempt:
    """Bring an attempt to other counts: what is needed least goes, what earns most comes in."""
    for direction, count in zip("uv", counts, strict=True):
        while _count(attempt.space, direction) != count:
            if _count(attempt.space, direction) < count:
                t, _ = best_insert(laid, attempt, direction)
                attempt = laid.fitted(attempt.with_knot(direction, t))
                continue
            spare = least_needed(attempt, direction)
            if spare is None:
                return attempt
            attempt = laid.fitted(_without(attempt.space, direction, spare))
    return attempt


def _without(space: Space, direction: str, t: float) -> Space:
    knots = space.knots_u if direction == "u" else space.knots_v
    return _in(space, direction, np.delete(knots, int(np.argmin(np.abs(knots - t)))))


def exchanged(laid: Laid, attempt: Attempt, directions: str) -> Attempt:
    """Take out knots that earn least and put them in where they earn more, while that helps."""
    for direction in directions:
        for _ in range(_count(attempt.space, direction)):
            t = least_needed(attempt, direction)
            if t is None:
                break
            lean = laid.fitted(_without(attempt.space, direction, t))
            again = laid.fitted(lean.with_knot(direction, best_insert(laid, lean, direction)[0]))
            if again.square >= attempt.square * (1 - 1e-4):
                break
            attempt = again
    return attempt
