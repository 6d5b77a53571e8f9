"""Changes of knots and degree that keep the shape, or say how far they change it.

The inner functions work on coefficients along axis 0, so that one of each serves curves and
both directions of a surface; rational splines are changed in homogeneous coordinates.
"""

from __future__ import annotations

from typing import TypeVar

import numpy as np

from usual_clay.core.arrays import ArrayLike, Bools, Floats
from usual_clay.core.spline.basis import (
    HIGHEST_DEGREE,
    SplineError,
    collocation,
    greville,
    span_of,
)
from usual_clay.core.spline.curve import (
    BSplineCurve,
    curve_points,
    from_homogeneous,
    homogeneous,
)
from usual_clay.core.spline.surface import (
    BSplineSurface,
    along,
    sample_parameters,
    surface_grid,
)

Spline = TypeVar("Spline", BSplineCurve, BSplineSurface)
Change = tuple[Floats, Floats]


def insert_knot(spline: Spline, t: float, times: int = 1, direction: str = "u") -> Spline:
    """Insert a knot `times` times without changing the shape (Boehm 1980; NURBS Book, A5.1).

    Raises
    ------
    SplineError
        When `t` is not inside the domain or the knot would be repeated more than the degree.
    """

    def change(knots: Floats, coefficients: Floats) -> Change:
        for _ in range(times):
            knots, coefficients = _insert_once(knots, coefficients, t)
        return knots, coefficients

    return _apply(spline, direction, change)


def remove_knot(spline: Spline, t: float, direction: str = "u") -> tuple[Spline, float]:
    """Take one copy of an inner knot out again, changing the shape as little as possible.

    The new control points are the least-squares solution of the insertion equations with the
    ends held.

    Returns
    -------
    spline, error : the slimmer spline, and the largest distance in mm that it moved, sampled at
        equal parameters.

    Raises
    ------
    SplineError
        When there is no such inner knot.
    """

    def change(knots: Floats, coefficients: Floats) -> Change:
        degree = len(knots) - len(coefficients) - 1
        inner = np.flatnonzero(np.isclose(knots[degree + 1 : -degree - 1], t, atol=1e-12))
        if not len(inner):
            raise SplineError(f"there is no inner knot at {t:g}")
        fewer = np.delete(knots, degree + 1 + inner[0])
        matrix = _insert_once(fewer, np.eye(len(coefficients) - 1), t)[1]
        flat = coefficients.reshape(len(coefficients), -1)
        slim = np.zeros((len(flat) - 1, flat.shape[1]))
        slim[0], slim[-1] = flat[0], flat[-1]
        rest = flat - matrix[:, [0, -1]] @ slim[[0, -1]]
        slim[1:-1] = np.linalg.lstsq(matrix[:, 1:-1], rest, rcond=None)[0]
        return fewer, slim.reshape(-1, *coefficients.shape[1:])

    slimmer = _apply(spline, direction, change)
    return slimmer, _largest_distance(spline, slimmer)


def removal_residuals(knots: Floats, coefficients: Floats) -> Floats:
    """Return how far coefficients, (n, d), are from being without each inner knot in turn.

    A quick measure: the largest residual of the insertion equations in the coefficients, solved by
    least squares, not a distance of shapes. Each insertion mixes two neighbours (Boehm 1980), so
    what its equations cannot reach is one vector, known in closed form.
    """
    degree = len(knots) - len(coefficients) - 1
    at = knots[degree + 1 : -degree - 1]
    last = np.searchsorted(knots, at, side="right") - 1
    rows = last[:, None] + np.arange(-degree - 1, 1)
    mixed = rows[:, 1:-1]
    share = (at[:, None] - knots[mixed]) / (knots[mixed + degree + 1] - knots[mixed])
    before = np.pad(share, ((0, 0), (1, 0)), constant_values=1.0)
    after = np.pad(share, ((0, 0), (0, 1)), constant_values=0.0)
    missed = np.cumprod(
        np.pad(-before / (1 - after), ((0, 0), (1, 0)), constant_values=1.0), axis=1
    )
    gap = np.linalg.norm(np.einsum("kj,kjd->kd", missed, coefficients[rows]), axis=1)
    return np.asarray(gap * np.abs(missed).max(axis=1) / (missed**2).sum(axis=1))


def raise_degree(spline: Spline, direction: str = "u") -> Spline:
    """Raise the degree by one without changing the shape.

    The raised spline interpolates the old one at its Greville parameters; as the old one lies
    in the new space, it is reproduced exactly.
    """

    def change(knots: Floats, coefficients: Floats) -> Change:
        degree = len(knots) - len(coefficients) - 1
        if degree == HIGHEST_DEGREE:
            raise SplineError(f"the degree is already {HIGHEST_DEGREE}")
        distinct, copies = np.unique(knots, return_counts=True)
        raised = np.repeat(distinct, copies + 1)
        sites = greville(raised, degree + 1)
        values: Floats = np.tensordot(collocation(knots, degree, sites), coefficients, axes=1)
        system = collocation(raised, degree + 1, sites)
        flat = np.linalg.solve(system, values.reshape(len(sites), -1))
        return raised, np.reshape(flat, values.shape)

    return _apply(spline, direction, change)


def split(spline: Spline, t: float, direction: str = "u") -> tuple[Spline, Spline]:
    """Cut a spline in two at a parameter; each part gets its own domain [0, 1]."""

    def part(which: int) -> Spline:
        def change(knots: Floats, coefficients: Floats) -> Change:
            degree = len(knots) - len(coefficients) - 1
            at = _snapped(knots, t)
            for _ in range(degree - int(np.sum(knots == at))):
                knots, coefficients = _insert_once(knots, coefficients, at)
            first = int(np.searchsorted(knots, at))
            if which == 0:
                kept = np.append(knots[: first + degree], at)
                coefficients = coefficients[:first]
            else:
                kept = np.insert(knots[first:], 0, at)
                coefficients = coefficients[first - 1 :]
            return (kept - kept[0]) / (kept[-1] - kept[0]), coefficients

        return _apply(spline, direction, change)

    _check_inside(
        t, spline.knots if isinstance(spline, BSplineCurve) else _knots(spline, direction)
    )
    return part(0), part(1)


def run_on(knots: Floats, coefficients: Floats, low: float, high: float) -> Change:
    """Move end knots outward; the end polynomials go on, which is exact.

    Parameters
    ----------
    knots : array
        Clamped on [0, 1].
    coefficients : (n, ...) array
    low, high : float
        How far past either end, as shares of the domain.

    Returns
    -------
    knots, coefficients
        The knots are on [-low, 1 + high].
    """
    degree = len(knots) - len(coefficients) - 1
    wider = knots.copy()
    wider[: degree + 1], wider[-degree - 1 :] = -low, 1 + high
    sites = np.clip(greville(wider, degree), -low, 1 + high)
    values = np.tensordot(collocation(knots, degree, sites), coefficients, axes=1)
    flat = np.linalg.solve(collocation(wider, degree, sites), values.reshape(len(sites), -1))
    return wider, np.asarray(np.reshape(flat, values.shape), dtype=np.float64)


def reverse(spline: Spline, direction: str = "u") -> Spline:
    """Run the other way."""
    return _apply(spline, direction, lambda knots, c: (knots[0] + knots[-1] - knots[::-1], c[::-1]))


def _knots(surface: BSplineSurface, direction: str) -> Floats:
    return surface.knots_v if direction == "v" else surface.knots_u


def _apply(spline: Spline, direction: str, change: object) -> Spline:
    if isinstance(spline, BSplineSurface):
        return along(spline, direction, change)  # type: ignore[arg-type]
    knots, coefficients = change(  # type: ignore[operator]
        spline.knots, homogeneous(spline.points, spline.weights)
    )
    points, weights = from_homogeneous(coefficients)
    return BSplineCurve(knots, points, weights)


def _check_inside(t: float, knots: Floats) -> None:
    if not knots[0] < t < knots[-1]:
        raise SplineError(f"{t:g} is not inside the domain {knots[0]:g} to {knots[-1]:g}")


def _snapped(knots: Floats, t: float) -> float:
    """Return the knot that `t` means, or `t` where it lies between knots."""
    nearest = float(knots[np.argmin(np.abs(knots - t))])
    return nearest if abs(nearest - t) < 1e-12 else t


def _insert_once(knots: Floats, coefficients: Floats, t: float) -> Change:
    degree = len(knots) - len(coefficients) - 1
    _check_inside(t, knots)
    t = _snapped(knots, t)
    if np.sum(knots == t) >= degree:
        raise SplineError(f"the knot {t:g} is already repeated {degree} times")
    span = int(span_of(knots, degree, t))
    moved = np.arange(span - degree + 1, span + 1)
    share = (t - knots[moved]) / (knots[moved + degree] - knots[moved])
    share = share.reshape(-1, *[1] * (coefficients.ndim - 1))
    between = share * coefficients[moved] + (1 - share) * coefficients[moved - 1]
    parts = [coefficients[: span - degree + 1], between, coefficients[span:]]
    return np.insert(knots, span + 1, t), np.concatenate(parts)


def _largest_distance(old: Spline, new: Spline) -> float:
    if isinstance(old, BSplineCurve) and isinstance(new, BSplineCurve):
        t = sample_parameters(old.knots, 16)
        gaps = curve_points(old, t) - curve_points(new, t)
    elif isinstance(old, BSplineSurface) and isinstance(new, BSplineSurface):
        u, v = sample_parameters(old.knots_u, 8), sample_parameters(old.knots_v, 8)
        gaps = surface_grid(old, u, v) - surface_grid(new, u, v)
    return float(np.linalg.norm(gaps, axis=-1).max())


def among(knots: ArrayLike, kept: Floats | None) -> Bools:
    """Tell of knots whether they are among those that are kept, if any are."""
    own = np.asarray(knots)
    if kept is None:
        return np.zeros(own.shape, dtype=bool)
    return np.asarray(np.abs(own[..., None] - kept).min(axis=-1, initial=1.0) <= 1e-9)
