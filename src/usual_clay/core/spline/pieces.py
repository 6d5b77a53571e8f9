"""A spline surface piece by piece: the polynomial of each pair of spans, by powers.

Many points of one piece are evaluated in one product of matrices, several times faster than each
from its own basis functions. The powers are those of the place within a span, from 0 to 1, where
they lose no digits that matter (degree 7 at the most).
"""

from __future__ import annotations

from functools import lru_cache
from math import factorial

import numpy as np

from usual_clay.core.arrays import Floats, Ints, frozen
from usual_clay.core.spline.basis import basis_functions, span_of

# The derivatives of a surface, by number of u and v derivatives.
ORDERS = ((0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2))
# So many points of a piece are evaluated at a time.
LEAST_ROW, LONGEST_ROW = 4, 128


class Direction:
    """The knots of one direction, and where parameters lie among its spans.

    Attributes
    ----------
    spans : (n,) integers
        For each parameter its span, the first being 0.
    count : int
        Spans there are.
    powers : (degree + 1, n) array
        Of the place within the span.
    """

    def __init__(self, knots: Floats, degree: int, t: Floats) -> None:
        span = span_of(knots, degree, t)
        self.knots, self.degree = knots, degree
        self.spans: Ints = span - degree
        self.count = len(knots) - 2 * degree - 1
        start = knots.take(span, mode="clip")
        place = (t - start) / (knots.take(span + 1, mode="clip") - start)
        self.powers = np.empty((degree + 1, len(t)))
        self.powers[0] = 1.0
        for k in range(degree):
            np.multiply(self.powers[k], place, out=self.powers[k + 1])

    def narrowed(self) -> Ints:
        """Return the spans that have parameters; number them anew, in place."""
        spans, self.spans = np.unique(self.spans, return_inverse=True)
        self.count = len(spans)
        return spans


@lru_cache(maxsize=64)
def _expansions(key: bytes, degree: int) -> Floats:
    """Return the powers of each span's functions, (3, spans, power, function).

    One array for each derivative with respect to the parameter: whoever asks for one mostly asks
    for the next of the same knots soon.
    """
    knots = np.frombuffer(key)
    spans = np.arange(degree, len(knots) - degree - 1)
    width = np.diff(knots)[spans]
    _, derived = basis_functions(knots, degree, knots[spans], degree)
    made = np.zeros((3, len(spans), degree + 1, degree + 1))
    for m in range(3):
        for k in range(degree + 1 - m):
            made[m, :, k] = (derived[k + m] * (width**k / factorial(k))).T
    return frozen(made)


def pieces(
    knots_u: Floats, knots_v: Floats, net: Floats, order: int, spans: tuple[Ints, Ints]
) -> Floats:
    """Return the polynomials of the pieces where some spans of u and of v cross.

    Parameters
    ----------
    net : (nu, nv, d) array
    order : {0, 1, 2}
        The highest derivative wanted.
    spans : two arrays of integers
        Of u and v, the first being 0.

    Returns
    -------
    (u spans, v spans, k, d, powers of u, powers of v) array
        For the first k of `ORDERS`.
    """
    nu, nv, depth = net.shape
    p, q = len(knots_u) - nu - 1, len(knots_v) - nv - 1
    in_u = _expansions(np.asarray(knots_u, dtype=np.float64).tobytes(), p)
    in_v = _expansions(np.asarray(knots_v, dtype=np.float64).tobytes(), q)
    at_u, at_v = spans
    wanted = [pair for pair in ORDERS if sum(pair) <= order]
    made = np.empty((len(at_u), len(at_v), len(wanted), depth, p + 1, q + 1))
    # Of each v span the control points that it needs: (v span, function, nu * d).
    local = net.transpose(1, 0, 2)[at_v[:, None] + np.arange(q + 1)]
    local = local.reshape(len(at_v), q + 1, -1)
    for dv in range(order + 1):
        rows = (in_v[dv, at_v] @ local).reshape(len(at_v), q + 1, nu, depth)
        rows = rows.transpose(2, 0, 3, 1)[at_u[:, None] + np.arange(p + 1)]
        rows = rows.reshape(len(at_u), p + 1, -1)
        for index, pair in enumerate(wanted):
            if pair[1] == dv:
                part = (in_u[pair[0], at_u] @ rows).reshape(
                    len(at_u), p + 1, len(at_v), depth, q + 1
                )
                made[:, :, index] = part.transpose(0, 2, 3, 1, 4)
    return made


def evaluate_pieces(polynomials: Floats, u: Direction, v: Direction, out: Floats) -> None:
    """Evaluate a surface at points, piece by piece.

    Parameters
    ----------
    polynomials : array
        Of `pieces`, of all spans.
    u, v : Direction
        Of the points' parameters.
    out : (k, d, n) array
        Where the values go.
    """
    cell = u.spans * v.count + v.spans
    cells = u.count * v.count
    order = by_piece(cell, cells)
    count = np.bincount(cell, minlength=cells)
    # Each piece's points in rows of a few: the last one of a piece is filled up with any.
    row = int(np.clip(len(cell) // (2 * np.count_nonzero(count)), LEAST_ROW, LONGEST_ROW))
    rows = -(-count // row)
    place = np.arange(len(cell)) + np.repeat(
        row * (np.cumsum(rows) - rows) - (np.cumsum(count) - count), count
    )
    source = np.zeros(row * int(rows.sum()), dtype=np.intp)
    source[place] = order
    in_u, in_v = (way.powers.take(source, axis=1, mode="clip") for way in (u, v))
    powers = (in_u[:, None] * in_v).reshape(len(in_u) * len(in_v), -1, row)
    table = polynomials.reshape(cells, -1, len(powers))
    made = np.empty((table.shape[1], *powers.shape[1:]))
    which = np.repeat(np.arange(cells), rows)
    np.matmul(table[which], powers.transpose(1, 0, 2), out=made.transpose(1, 0, 2))
    back = np.empty_like(order)
    back[order] = place
    flat = made.reshape(len(made), -1)
    out[...] = flat.take(back, axis=1, mode="clip").reshape(out.shape)


def by_piece(cell: Ints, cells: int) -> Ints:
    """Return the order of points by the piece that they lie on."""
    # Small integers are sorted by radix, several times faster.
    return np.argsort(cell.astype(np.uint16 if cells < 65536 else np.int64), kind="stable")
