"""B-spline basis functions and the knot vectors they live on."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from usual_clay.core.arrays import ArrayLike, Floats, Ints, frozen
from usual_clay.core.errors import GeometryError

HIGHEST_DEGREE = 7
# Of no more inner knots than this each is compared with each parameter.
FEW_KNOTS = 64


class SplineError(GeometryError):
    """Knots, degree and control points that do not make a spline."""


def even_knots(count: int, degree: int) -> Floats:
    """Return the clamped knot vector on [0, 1] with evenly spread knots.

    Parameters
    ----------
    count : int
        Control points, at least ``degree + 1``.
    degree : int
        1 to 7.

    Raises
    ------
    SplineError
        When there are too few control points for the degree.
    """
    if not 1 <= degree <= HIGHEST_DEGREE:
        raise SplineError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {degree}")
    if count <= degree:
        raise SplineError(
            f"degree {degree} needs at least {degree + 1} control points, not {count}"
        )
    inner = np.linspace(0.0, 1.0, count - degree + 1)
    return np.concatenate([np.zeros(degree), inner, np.ones(degree)])


def clamped(inner: ArrayLike, degree: int) -> Floats:
    """Return the knot vector on [0, 1] that has given inner knots."""
    return np.concatenate([np.zeros(degree + 1), np.asarray(inner), np.ones(degree + 1)])


# Knots past this have no exact differences left.
FARTHEST = 1e9


def check_knots(knots: Floats, count: int) -> int:
    """Check a clamped knot vector against its control point count and return the degree.

    Raises
    ------
    SplineError
        When the vector is not finite, not rising, not clamped, or of the wrong length.
    """
    degree = len(knots) - count - 1
    if not 1 <= degree <= HIGHEST_DEGREE or count <= degree:
        raise SplineError(f"{len(knots)} knots do not fit {count} control points")
    if not np.isfinite(knots).all() or (np.diff(knots) < 0).any():
        raise SplineError("knots must be finite and must not fall")
    if np.abs(knots).max() > FARTHEST or knots[-1] - knots[0] < 1 / FARTHEST:
        raise SplineError("the knots lie too far out, or too close together")
    start, end = knots[: degree + 1], knots[-degree - 1 :]
    if start[-1] > start[0] or end[-1] > end[0] or start[0] >= end[0]:
        raise SplineError("the knot vector must be clamped at both ends")
    inner = knots[degree + 1 : -degree - 1]
    if len(inner) and (inner[0] <= start[0] or inner[-1] >= end[0]):
        raise SplineError("inner knots must lie inside the domain")
    if (inner[degree:] == inner[:-degree]).any():
        raise SplineError("an inner knot may be repeated at most as often as the degree")
    return degree


def span_of(knots: Floats, degree: int, t: ArrayLike) -> Ints:
    """Return for each parameter the index of the last knot at or below it (NURBS Book, A2.1)."""
    inner = knots[degree + 1 : -degree - 1]
    t = np.asarray(t, dtype=np.float64)
    if len(inner) > FEW_KNOTS or t.size < len(inner):
        return np.searchsorted(inner, t, side="right") + degree
    # To count the few knots that are passed is several times faster than to search for them.
    passed = (t >= inner.reshape(-1, *(1,) * t.ndim)).view(np.uint8)
    return np.add.reduce(passed, axis=0, dtype=np.uint8).astype(np.intp) + degree


def basis_functions(
    knots: Floats, degree: int, t: Floats, order: int = 0
) -> tuple[Ints, list[Floats]]:
    """Evaluate the basis functions that do not vanish, and their derivatives.

    Cox and de Boor's recurrence; Piegl and Tiller, *The NURBS Book*, A2.2 and eq. 2.7.

    Parameters
    ----------
    knots : (count + degree + 1,) array
    t : (n,) array
        Parameters; outside the domain the end polynomials are continued.
    order : int
        Highest derivative wanted.

    Returns
    -------
    spans : (n,) integers
        The functions ``span - degree ... span`` are the ones given.
    values : list of (degree + 1, n) arrays
        One array for each derivative 0 ... `order`.
    """
    span = span_of(knots, degree, t)
    left = [t - knots.take(span + (1 - j), mode="clip") for j in range(1, degree + 1)]
    right = [knots.take(span + j, mode="clip") - t for j in range(1, degree + 1)]
    table: list[Floats] = [np.ones((1, len(t)))]
    for d in range(1, degree + 1):
        lower, row = table[-1], np.empty((d + 1, len(t)))
        per_width = _reciprocal_widths(knots, d)
        row[0] = 0.0
        for r in range(d):
            part = lower[r] * per_width.take(span + (r + 1 - d), mode="clip")
            row[r] += right[r] * part
            np.multiply(left[d - r - 1], part, out=row[r + 1])
        table.append(row)
    values = [table[degree]]
    for k in range(1, order + 1):
        values.append(_raise_derivative(knots, degree, span, table, k))
    return span, values


def _reciprocal_widths(knots: Floats, degree: int) -> Floats:
    """Return 1 / (knots[i + degree] - knots[i]), and 0 where knots coincide."""
    return _reciprocals(np.asarray(knots, dtype=np.float64).tobytes(), degree)


# The same knots are asked for several times over, of few parameters each time.
@lru_cache(maxsize=64)
def _reciprocals(knots: bytes, degree: int) -> Floats:
    own = np.frombuffer(knots)
    width = own[degree:] - own[:-degree]
    return frozen(np.divide(1.0, width, out=np.zeros_like(width), where=width > 0))


def _raise_derivative(
    knots: Floats, degree: int, span: Ints, table: list[Floats], k: int
) -> Floats:
    if k > degree:
        return np.zeros((degree + 1, len(span)))
    row = table[degree - k]
    for d in range(degree - k + 1, degree + 1):
        higher = np.empty((d + 1, len(span)))
        higher[0] = 0.0
        slope = d * _reciprocal_widths(knots, d)
        for r in range(d):
            part = row[r] * slope.take(span + (r + 1 - d), mode="clip")
            higher[r] -= part
            higher[r + 1] = part
        row = higher
    return row


def greville(knots: Floats, degree: int) -> Floats:
    """Return the Greville parameters, the mean of each control point's inner knots."""
    windows = np.lib.stride_tricks.sliding_window_view(knots[1:-1], degree)
    return windows.mean(axis=1)


def collocation(knots: Floats, degree: int, t: Floats, order: int = 0) -> Floats:
    """Return the dense matrix of basis values, shape (len(t), count)."""
    span, values = basis_functions(knots, degree, t, order)
    matrix = np.zeros((len(t), len(knots) - degree - 1))
    columns = span[:, None] + np.arange(-degree, 1)
    np.put_along_axis(matrix, columns, values[order].T, axis=1)
    return matrix


@lru_cache(maxsize=16)
def _gauss(count: int) -> tuple[Floats, Floats]:
    nodes, weights = np.polynomial.legendre.leggauss(count)
    return nodes, weights


def gauss_nodes(breaks: Floats, count: int) -> tuple[Floats, Floats]:
    """Return Gauss-Legendre nodes between breaks, `count` in each span, and their weights."""
    nodes, weights = _gauss(count)
    half = np.diff(breaks) / 2
    at = (breaks[:-1, None] + half[:, None] * (1 + nodes)).ravel()
    return at, (half[:, None] * weights).ravel()


def gram(
    knots: Floats, degree: int, order: int, between: tuple[float, float] | None = None
) -> Floats:
    """Return the integrals of products of basis derivatives, exactly.

    Gauss-Legendre quadrature with ``degree + 1`` nodes in each knot span. A search asks for the
    same knots many times over: the last few are kept.

    Parameters
    ----------
    between : (low, high), optional
        Where to integrate; over the domain where not given.
    """
    return _gram(np.asarray(knots, dtype=np.float64).tobytes(), degree, order, between)


@lru_cache(maxsize=256)
def _gram(
    key: bytes, degree: int, order: int, between: tuple[float, float] | None = None
) -> Floats:
    knots = np.frombuffer(key)
    breaks = np.unique(knots)
    if between is not None:
        inside = (breaks > between[0]) & (breaks < between[1])
        breaks = np.concatenate([between[:1], breaks[inside], between[1:]])
    t, weights = gauss_nodes(breaks, degree + 1)
    rows = collocation(knots, degree, t, order)
    return frozen(rows.T @ (rows * weights.reshape(-1, 1)))
