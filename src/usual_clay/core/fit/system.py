"""The least-squares system of a surface: normal equations, thin-plate energy, banded solve."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.linalg import LinAlgError, cho_solve_banded, cholesky_banded
from scipy.sparse import csc_array, dia_array, diags_array, eye_array, kron
from scipy.sparse.linalg import splu

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.spline.basis import basis_functions, collocation, gram, greville


class FitError(ValueError):
    """Data that no surface of the asked kind can be fitted to."""


@dataclass(frozen=True, eq=False)
class Space:
    """The tensor-product spline space that a fit looks in.

    Attributes
    ----------
    knots_u, knots_v : arrays
    degree_u, degree_v : int
    closed : {"", "u", "v"}
        The direction in which its surfaces run round into themselves without a seam.
    """

    knots_u: Floats
    knots_v: Floats
    degree_u: int
    degree_v: int
    closed: str = ""

    @property
    def counts(self) -> tuple[int, int]:
        return (
            len(self.knots_u) - self.degree_u - 1,
            len(self.knots_v) - self.degree_v - 1,
        )


@dataclass(frozen=True, eq=False)
class Held:
    """Control points that a fit must leave where they are.

    Attributes
    ----------
    which : (nu, nv) mask
    points : (nu, nv, d) array
        Where they lie; the others are not looked at.
    """

    which: Bools
    points: Floats


def fit_control_points(
    space: Space,
    u: Floats,
    v: Floats,
    points: Floats,
    weights: Floats | None = None,
    stiffness: float = 0.0,
    size: tuple[float, float] = (1.0, 1.0),
    held: Held | None = None,
) -> Floats:
    """Fit control points to points with known parameters.

    Minimises ``sum w |S(u, v) - p|^2 / sum w + stiffness * E``, with E the thin-plate energy
    ``integral of |Sxx|^2 + 2 |Sxy|^2 + |Syy|^2`` over the rectangle `size` (Duchon 1977; as a
    penalty on B-splines Eilers and Marx 1996). The products of one knot span's points share
    their basis functions, so they are summed span by span.

    Parameters
    ----------
    u, v : (n,) arrays
    points : (n, d) array
    weights : (n,) array, optional
    stiffness : float
        mm squared.
    size : two floats
        mm along u and v.
    held : Held, optional
        Control points that are known.

    Returns
    -------
    (nu, nv, d) array

    Raises
    ------
    FitError
        When the data leave control points open that the energy does not settle either.
    """
    nu, nv = space.counts
    # The band is narrow where the shorter direction runs fastest; what closes is to be v.
    if (nv > nu and space.closed != "v") or space.closed == "u":
        closed = {"": "", "u": "v", "v": "u"}[space.closed]
        turned = Space(space.knots_v, space.knots_u, space.degree_v, space.degree_u, closed)
        if held is not None:
            held = Held(held.which.T, held.points.transpose(1, 0, 2))
        fitted = fit_control_points(turned, v, u, points, weights, stiffness, size[::-1], held)
        return np.ascontiguousarray(fitted.transpose(1, 0, 2))
    band, right = _normal_equations(space, u, v, points, weights)
    total = float(len(u) if weights is None else weights.sum())
    band /= total
    right /= total
    if stiffness > 0:
        band += stiffness * _energy_band(space, size)
    if held is not None:
        _hold(band, right, held)
    if space.closed:
        return _closed_solution(space, band, right)
    try:
        factor = cholesky_banded(band, lower=True, overwrite_ab=True, check_finite=False)
    except LinAlgError:
        raise FitError(
            "the points leave some control points open: use fewer, or more smoothness"
        ) from None
    solved = cho_solve_banded((factor, True), right, overwrite_b=True, check_finite=False)
    return solved.reshape(nu, nv, points.shape[1])


def seamless(knots: Floats, degree: int) -> Floats:
    """Return the matrix from the control points of a closed spline to its clamped ones.

    The knots are those of the clamped spline; its first and last control points, and the
    derivatives up to ``degree - 1`` there, then agree by themselves.
    """
    inner = knots[degree + 1 : -degree - 1]
    own = len(inner) + 1
    cycle = np.concatenate([[0.0], inner])
    turns = range(-degree - 1, degree + 2)
    endless = np.concatenate([cycle + turn for turn in turns])
    start = int(np.searchsorted(endless, 0.0))
    extended = endless[start - degree : start + own + degree + 1]
    sites = greville(knots, degree)
    # A site at the very end belongs to the last span.
    sites = np.clip(sites, 0.0, 1.0 - 1e-12)
    round_ = collocation(extended, degree, sites)
    folded = np.zeros((len(sites), own))
    for column in range(round_.shape[1]):
        folded[:, column % own] += round_[:, column]
    return np.asarray(np.linalg.solve(collocation(knots, degree, sites), folded))


def _closed_solution(space: Space, band: Floats, right: Floats) -> Floats:
    """Solve for surfaces that run round in v: the clamped net follows from fewer points."""
    nu, nv = space.counts
    count = nu * nv
    lower = dia_array((band, -np.arange(len(band))), shape=(count, count)).tocsc()
    whole = lower + lower.T - diags_array(band[0])
    spread = seamless(space.knots_v, space.degree_v)
    spread[np.abs(spread) < 1e-14] = 0.0
    net = kron(eye_array(nu), csc_array(spread), format="csc")
    try:
        solved = splu((net.T @ whole @ net).tocsc()).solve(net.T @ right)
    except RuntimeError:
        raise FitError(
            "the points leave some control points open: use fewer, or more smoothness"
        ) from None
    return np.asarray((net @ solved).reshape(nu, nv, right.shape[1]))


def _hold(band: Floats, right: Floats, held: Held) -> None:
    """Put known values into a lower band and its right-hand side, in place.

    What they contribute goes to the right; their own equations become ``x = value``.
    """
    known = held.which.ravel()
    values = np.where(known[:, None], held.points.reshape(len(known), -1), 0.0)
    count = len(known)
    right -= band[0][:, None] * values
    for row in range(1, min(len(band), count)):
        below = band[row, : count - row, None]
        right[row:] -= below * values[:-row]
        right[:-row] -= below * values[row:]
        band[row, : count - row][known[:-row] | known[row:]] = 0.0
    band[0, known] = 1.0
    right[known] = values[known]


def _normal_equations(
    space: Space, u: Floats, v: Floats, points: Floats, weights: Floats | None
) -> tuple[Floats, Floats]:
    p, q = space.degree_u, space.degree_v
    nu, nv = space.counts
    cells = (nu - p) * (nv - q)
    span_u, (in_u,) = basis_functions(space.knots_u, p, u)
    span_v, (in_v,) = basis_functions(space.knots_v, q, v)
    cell = (span_u - p) * (nv - q) + (span_v - q)
    # Small integers are sorted by radix, several times faster.
    order = np.argsort(cell.astype(np.uint16 if cells < 65536 else np.int64), kind="stable")
    cuts = np.concatenate([[0], np.cumsum(np.bincount(cell, minlength=cells))])
    in_u, in_v = in_u.take(order, axis=1), in_v.take(order, axis=1)
    weighted = in_v if weights is None else in_v * weights.take(order)
    iu, ju = np.triu_indices(p + 1)
    iv, jv = np.triu_indices(q + 1)
    pairs_u = in_u[iu] * in_u[ju]
    pairs_v = in_v[iv] * weighted[jv]
    loads = points.T.take(order, axis=1)
    loads = (in_u[:, None] * loads).reshape(-1, len(u))
    depth = points.shape[1]
    squares = np.zeros((cells, len(iu), len(iv)))
    sides = np.zeros((cells, (p + 1) * depth, q + 1))
    for k in np.flatnonzero(np.diff(cuts)):
        part = slice(cuts[k], cuts[k + 1])
        np.dot(pairs_u[:, part], pairs_v[:, part].T, out=squares[k])
        np.dot(loads[:, part], weighted[:, part].T, out=sides[k])
    return _assemble(space, squares, sides.reshape(cells, p + 1, depth, q + 1))


def _assemble(space: Space, squares: Floats, sides: Floats) -> tuple[Floats, Floats]:
    """Add each span's products into the lower band and the right-hand side."""
    p, q = space.degree_u, space.degree_v
    nu, nv = space.counts
    pair_u, pair_v = _pair_index(p), _pair_index(q)
    full = squares[:, pair_u][:, :, :, pair_v]  # cell, a, a', b, b'
    a, a2, b, b2 = np.meshgrid(*map(np.arange, (p + 1, p + 1, q + 1, q + 1)), indexing="ij")
    below = (a2 - a) * nv + (b2 - b)
    kept = below >= 0
    first = _cell_corners(space)
    column = first[:, None] + (a * nv + b)[kept]
    index = below[kept] * (nu * nv) + column
    width = p * nv + q + 1
    band: Floats = np.asarray(
        np.bincount(index.ravel(), full[:, kept].ravel(), width * nu * nv), dtype=np.float64
    )
    a, b = np.meshgrid(np.arange(p + 1), np.arange(q + 1), indexing="ij")
    rows = (first[:, None, None] + a * nv + b).ravel()
    columns = [np.bincount(rows, side.ravel(), nu * nv) for side in np.moveaxis(sides, 2, 0)]
    right: Floats = np.asarray(np.stack(columns, axis=1), dtype=np.float64)
    return band.reshape(width, nu * nv), right


def _pair_index(degree: int) -> Ints:
    """Return the matrix that leads from a pair of functions to its place among the pairs."""
    index = np.zeros((degree + 1, degree + 1), dtype=np.int64)
    i, j = np.triu_indices(degree + 1)
    index[i, j] = index[j, i] = np.arange(len(i))
    return index


def _cell_corners(space: Space) -> Ints:
    nu, nv = space.counts
    i, j = np.meshgrid(
        np.arange(nu - space.degree_u), np.arange(nv - space.degree_v), indexing="ij"
    )
    return (i * nv + j).ravel()


def _energy_band(space: Space, size: tuple[float, float]) -> Floats:
    """Return the thin-plate energy of a surface over `size` as a lower band."""
    p, q = space.degree_u, space.degree_v
    nu, nv = space.counts
    length_u, length_v = size
    in_u = [gram(space.knots_u, p, k) * length_u ** (1 - 2 * k) for k in range(3)]
    in_v = [gram(space.knots_v, q, k) * length_v ** (1 - 2 * k) for k in range(3)]
    band = np.zeros((p * nv + q + 1, nu * nv))
    for du in range(p + 1):
        for dv in range(-q, q + 1):
            row = du * nv + dv
            if row < 0:
                continue
            # The entry that couples (i, j) with (i + du, j + dv), for all i and j at once.
            parts = (
                factor * np.outer(_diagonal(in_u[k], du), _diagonal(in_v[2 - k], dv))
                for k, factor in ((2, 1.0), (1, 2.0), (0, 1.0))
            )
            band[row] += sum(parts).ravel()  # type: ignore[union-attr]
    return band


def _diagonal(matrix: Floats, offset: int) -> Floats:
    """Return ``matrix[i + offset, i]`` for every i, zero where that lies outside."""
    count = len(matrix)
    result = np.zeros(count)
    values = np.diagonal(matrix, -offset)
    start = max(0, -offset)
    result[start : start + len(values)] = values
    return result
