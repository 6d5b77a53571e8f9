"""Adaptive knots: closer where the shape needs them, for curves and both ways of a surface."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.solve.laid import Attempt, Laid, count_of, in_direction, knots_of
from usual_clay.core.fit.solve.system import Space
from usual_clay.core.spline.basis import collocation, even_knots
from usual_clay.core.spline.knots import among, removal_residuals

# Two knots are no nearer than this share of an even step.
LEAST_STEP = 0.15
# No span is halved into less than this share of the whole.
NARROWEST = 0.004
# Stretches along the other direction over which a span's error is told.
STRIPES = 10
# What quiet stretches keep, as a share of the mean need.
QUIET = 0.05
# A knot moves while that lowers the squared error by more than this part.
WORTH_MOVING = 0.01
# A knot that lowers the squared error by less than this part brings the points to rest first.
SMALL_GAIN = 0.15
# Where one more earns less than this share of an error that is spread over more than that part of
# the surface, many more are tried at once.
STALLED, SPREAD = 0.1, 0.4
# A feature lies alone that has so much of the squared error within so many times its width; it is
# sought so often. Knots come in about it at these places, in its widths.
ALONE, SEEN, SOUGHT = 0.7, 3.0, 4
ABOUT = ((-0.8, 0.8), (-1.3, 0.0, 1.3), (-1.8, -0.6, 0.6, 1.8))
# One knot in so many comes in at a time: rich surfaces grow by several.
AT_ONCE = 10


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
    filled = np.concatenate([[0], np.cumsum(density * width)])
    even = np.linspace(0, filled[-1], inner + 1)
    spread = np.interp(even, filled, breaks)
    # No two knots so near that points cannot tell them apart.
    least = LEAST_STEP / inner
    steps = np.maximum(np.diff(spread), least)
    inside = np.cumsum(steps)[:-1] / steps.sum()
    return np.concatenate([np.zeros(degree + 1), inside, np.ones(degree + 1)])


def best_inserts(
    laid: Laid, attempt: Attempt, direction: str, most: int = 1
) -> tuple[Floats, float]:
    """Return where knot lines earn most, and how much: the systematic error of their spans.

    In each half of each span the gaps are averaged over stretches along the other direction; what
    remains beyond the noise is shape that the surface misses.

    Returns
    -------
    (k,) array
        At most `most` parameters, the best first; none where every span is too narrow.
    float
        The squared error that the best span misses, summed over its points.
    """
    t, other = laid.start.u, laid.start.v
    if direction == "v":
        t, other = other, t
    weights = laid.weights
    breaks = np.unique(knots_of(attempt.space, direction))
    halves = np.sort(np.concatenate([breaks, (breaks[:-1] + breaks[1:]) / 2]))
    half = np.clip(np.searchsorted(halves, t, side="right") - 1, 0, len(halves) - 2)
    cell = half * STRIPES + np.minimum((other * STRIPES).astype(np.int64), STRIPES - 1)
    cells = (len(halves) - 1) * STRIPES
    count = np.bincount(cell, weights, cells)
    mean = np.stack([np.bincount(cell, weights * g, cells) for g in attempt.gap.T])
    square = (mean**2).sum(axis=0) / np.maximum(count, 1e-9)
    # What noise alone leaves in the mean of a cell.
    noise = (3 if laid.pulls is None else 1) * laid.noise**2
    missed = np.maximum(square - noise, 0.0).reshape(-1, 2, STRIPES).sum(axis=(1, 2))
    wide = np.diff(breaks) > 2 * NARROWEST * (breaks[-1] - breaks[0])
    order = np.argsort(-missed, kind="stable")
    order = order[wide[order]]
    # Of several only those come in that miss about as much as the worst.
    order = order[missed[order] >= 0.25 * missed[order[:1]].max(initial=0.0)][:most]
    return (breaks[order] + breaks[order + 1]) / 2, float(missed[order[:1]].max(initial=0.0))


def least_needed(
    attempt: Attempt, direction: str, kept: Floats | None = None, most: int = 1
) -> Floats:
    """Return the inner knots whose removal changes the surface least, the least needed first.

    Parameters
    ----------
    kept : array, optional
        Knots that stay.
    most : int
        So many are returned at the most.
    """
    knots = knots_of(attempt.space, direction)
    degree = len(knots) - count_of(attempt.space, direction) - 1
    inner = knots[degree + 1 : -degree - 1]
    points = attempt.surface.points
    rows = points if direction == "u" else points.transpose(1, 0, 2)
    moved = removal_residuals(knots, rows.reshape(len(rows), -1))
    moved[among(inner, kept)] = np.inf
    order = np.argsort(moved, kind="stable")
    return inner[order[np.isfinite(moved[order])][:most]]


def without_knot(space: Space, direction: str, t: float) -> Space:
    """Return a space without a knot."""
    knots = knots_of(space, direction)
    return in_direction(space, direction, np.delete(knots, int(np.argmin(np.abs(knots - t)))))


def _pays(old: Attempt, new: Attempt) -> float:
    """Return by how much the error falls for each control point that was added."""
    added = len(new.surface.points.reshape(-1, 3)) - len(old.surface.points.reshape(-1, 3))
    return (old.square - new.square) / added


def grown(
    laid: Laid,
    attempt: Attempt,
    counts: tuple[int, int],
    enough: Callable[[Attempt], bool] = lambda _attempt: False,
) -> tuple[Laid, Attempt]:
    """Put knots in where they earn most until the counts are reached, or it is enough.

    After each, the points are brought to their feet on the surface that it gave.
    """
    while not enough(attempt):
        tried = []
        # Each direction is tried, and judged by what a control point earns in it.
        for direction, most in zip("uv", counts, strict=True):
            now = count_of(attempt.space, direction)
            if now < most:
                at, _ = best_inserts(laid, attempt, direction, min(most - now, 1 + now // AT_ONCE))
                if len(at):
                    tried.append((laid, laid.fitted(attempt.with_knots(direction, at))))
        if not tried:
            break
        tried += [(laid, each) for each in _about_worst(laid, attempt, counts)]
        old = attempt
        stalled = min(each.square for _, each in tried) > (1 - STALLED) * old.square
        if stalled and _spread(laid, old) > SPREAD:
            # Feet on a surface that is far off have led the points astray.
            anew = laid.anew
            for direction, most in zip("uv", counts, strict=True):
                tried += [(anew, each) for each in _refined(anew, old, direction, most)]
        laid, attempt = max(tried, key=lambda pair: _pays(old, pair[1]))
        sideways = [pair for pair in tried if _richer(pair[1], old) != _richer(attempt, old)]
        laid, attempt = laid.on(attempt)
        if attempt.square > (1 - SMALL_GAIN) * old.square:
            # More knots do not help where it is the points that have not come to rest; and where
            # they are not at rest, what a knot the other way earns is not seen.
            came = [laid.rested(attempt)]
            for other, each in sorted(sideways, key=lambda pair: pair[1].square)[:1]:
                moved, made = other.on(each)
                came.append(moved.rested(made))
            laid, attempt = max(came, key=lambda pair: _pays(old, pair[1]))
    return laid, attempt


def _richer(new: Attempt, old: Attempt) -> str:
    """Return the direction in which an attempt has more knots."""
    return "u" if new.space.counts[0] > old.space.counts[0] else "v"


def _spread(laid: Laid, attempt: Attempt) -> float:
    """Return over which part of the surface the squared error is spread."""
    places = [np.minimum((t * STRIPES).astype(np.int64), STRIPES - 1) for t in laid.start[:2]]
    cell, cells = places[0] * STRIPES + places[1], STRIPES**2
    count = np.bincount(cell, laid.weights, cells)
    mean = np.bincount(cell, laid.weights * attempt.squares, cells) / np.maximum(count, 1e-9)
    mean = mean[count > 0]
    return float(mean.mean() ** 2 / max(float((mean**2).mean()), 1e-300))


def _refined(laid: Laid, attempt: Attempt, direction: str, most: int) -> list[Attempt]:
    """Return attempts with many more knots in a direction, up to the first that earns something.

    A wave takes several knots before the first of them earns anything.
    """
    tried: list[Attempt] = []
    breaks = np.unique(knots_of(attempt.space, direction))
    now, spans = count_of(attempt.space, direction), len(breaks) - 1
    parts = 2
    while now + (parts - 1) * spans <= most:
        inner = breaks[:-1, None] + np.diff(breaks)[:, None] * (np.arange(1, parts) / parts)
        tried.append(laid.fitted(attempt.with_knots(direction, inner.ravel())))
        if tried[-1].square < (1 - STALLED) * attempt.square:
            break
        parts *= 2
    return tried


def _about_worst(laid: Laid, attempt: Attempt, counts: tuple[int, int]) -> list[Attempt]:
    """Return attempts with knots of both directions about the place that is missed most.

    Where a surface misses but one small feature, knots of one direction alone earn little.
    """
    t = np.stack([laid.start.u, laid.start.v])
    missed = laid.weights * np.maximum(attempt.squares - laid.noise**2, 0.0)
    cell = np.minimum((t * STRIPES).astype(np.int64), STRIPES - 1)
    whole = np.bincount(cell[0] * STRIPES + cell[1], missed, STRIPES**2)
    middle = (np.array(np.unravel_index(int(np.argmax(whole)), (STRIPES, STRIPES))) + 0.5) / STRIPES
    wide = np.full(2, 1.0 / STRIPES)
    for _ in range(SOUGHT):
        near = (np.abs(t - middle[:, None]) < SEEN * wide[:, None]).all(axis=0)
        weight = missed[near]
        if weight.sum() <= ALONE * missed.sum():
            return []
        middle = np.average(t[:, near], axis=1, weights=weight)
        wide = np.sqrt(np.average((t[:, near] - middle[:, None]) ** 2, axis=1, weights=weight))
        # One point alone is as wide as two knots may be near.
        wide = np.maximum(wide, NARROWEST)
    tried = []
    for places in ABOUT:
        space = attempt.space
        for k, direction in enumerate("uv"):
            knots = knots_of(space, direction)
            at = middle[k] + np.array(places) * np.sqrt(2) * wide[k]
            least = max(0.5 * wide[k], NARROWEST)
            at = at[np.abs(at[:, None] - knots).min(axis=1) > least]
            at = at[(at > 0) & (at < 1)]
            if count_of(space, direction) + len(at) <= counts[k]:
                space = in_direction(space, direction, np.sort(np.concatenate([knots, at])))
        if space.counts != attempt.space.counts:
            tried.append(laid.fitted(space))
    return tried


def exchanged(
    laid: Laid, attempt: Attempt, directions: str, kept: Callable[[str], Floats | None]
) -> tuple[Laid, Attempt]:
    """Take out knots that earn least and put them in where they earn more, while that helps."""
    for direction in directions:
        for _ in range(count_of(attempt.space, direction)):
            out = least_needed(attempt, direction, kept(direction))
            if not len(out):
                break
            lean = laid.fitted(without_knot(attempt.space, direction, out[0]))
            at, _ = best_inserts(laid, lean, direction)
            if not len(at):
                break
            tried = laid.fitted(lean.with_knots(direction, at))
            if tried.square >= attempt.square:
                break
            now, again = laid.on(tried)
            if again.square >= attempt.square * (1 - WORTH_MOVING):
                break
            laid, attempt = now, again
    return laid, attempt
