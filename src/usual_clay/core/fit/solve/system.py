"""The least-squares system of a surface: normal equations, thin-plate energy, banded solve."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.linalg import LinAlgError, solveh_banded
from scipy.sparse import csc_array, csr_array, dia_array, diags_array, eye_array, kron
from scipy.sparse.linalg import splu

from usual_clay.core.arrays import Bools, Floats, Ints, frozen
from usual_clay.core.blocks import in_blocks
from usual_clay.core.errors import FitError
from usual_clay.core.spline.basis import (
    basis_functions,
    collocation,
    gauss_nodes,
    greville,
    span_of,
)
from usual_clay.core.spline.pieces import by_piece

OPEN = "the points leave some control points open: use fewer, or more smoothness"


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

    def turned(self) -> Space:
        """Return the space with its directions exchanged."""
        closed = {"": "", "u": "v", "v": "u"}[self.closed]
        return Space(self.knots_v, self.knots_u, self.degree_v, self.degree_u, closed)


@dataclass(frozen=True, eq=False)
class FixedControlPoints:
    """Control points that a fit must leave where they are.

    Attributes
    ----------
    which : (nu, nv) mask
    points : (nu, nv, d) array
        Where they lie; the others are not looked at.
    """

    which: Bools
    points: Floats

    def turned(self) -> FixedControlPoints:
        """Return the same with the directions exchanged."""
        return FixedControlPoints(self.which.T, self.points.swapaxes(0, 1))


def stiffness_of(smoothness: float, size: tuple[float, float]) -> float:
    """Return the thin plate's factor in mm squared for a smoothness of 0 to 1 on a base."""
    return float(10 ** (8 * smoothness - 12) * size[0] * size[1])


def fit_control_points(
    space: Space,
    u: Floats,
    v: Floats,
    points: Floats,
    weights: Floats | None = None,
    stiffness: float = 0.0,
    size: tuple[float, float] = (1.0, 1.0),
    held: FixedControlPoints | None = None,
    loads: Floats | None = None,
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
    held : FixedControlPoints, optional
        Control points that are known.
    loads : (nu, nv, ...) array, optional
        Sums over the points for each control point, in the place of those that `points` give.

    Returns
    -------
    (nu, nv, d) array, or as `loads`

    Raises
    ------
    FitError
        When the data leave control points open that the energy does not settle either.
    """
    if lies_across(space):
        held = None if held is None else held.turned()
        loads = None if loads is None else loads.swapaxes(0, 1)
        fitted = fit_control_points(
            space.turned(), v, u, points, weights, stiffness, size[::-1], held, loads
        )
        return np.ascontiguousarray(fitted.swapaxes(0, 1))
    band, right = normal_equations(space, u, v, points, weights)
    shape = *space.counts, points.shape[1]
    if loads is not None:
        right, shape = loads.reshape(len(right), -1).copy(), loads.shape
    total = float(len(u) if weights is None else weights.sum())
    band /= total
    right /= total
    if stiffness > 0:
        band += stiffness * energy_band(space, size)
    if held is not None:
        hold(band, right, held)
    return solved(space, band, right).reshape(shape)


def lies_across(space: Space) -> bool:
    """Tell whether the band is narrower with the directions exchanged.

    It is narrow where the shorter direction runs fastest; what closes is to be v.
    """
    nu, nv = space.counts
    return (nv > nu and space.closed != "v") or space.closed == "u"


def solved(space: Space, band: Floats, right: Floats, depth: int = 1) -> Floats:
    """Solve a banded system of `depth` unknowns for each control point, in place.

    Raises
    ------
    FitError
        When something is left open.
    """
    if space.closed:
        return _closed_solution(space, band, right, depth)
    try:
        made = solveh_banded(
            band, right, overwrite_ab=True, overwrite_b=True, lower=True, check_finite=False
        )
    except LinAlgError:
        raise FitError(OPEN) from None
    if not np.isfinite(made).all():
        raise FitError(OPEN)
    return np.asarray(made)


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


def _closed_solution(space: Space, band: Floats, right: Floats, depth: int) -> Floats:
    """Solve for surfaces that run round in v: the clamped net follows from fewer points."""
    count = len(right)
    lower = dia_array((band, -np.arange(len(band))), shape=(count, count)).tocsc()
    whole = lower + lower.T - diags_array(band[0])
    spread = seamless(space.knots_v, space.degree_v)
    spread[np.abs(spread) < 1e-14] = 0.0
    net = kron(eye_array(space.counts[0]), csc_array(spread), format="csc")
    if depth > 1:
        net = kron(net, eye_array(depth), format="csc")
    try:
        made = splu((net.T @ whole @ net).tocsc()).solve(net.T @ right)
    except RuntimeError:
        raise FitError(OPEN) from None
    return np.asarray(net @ made)


def hold(band: Floats, right: Floats, held: FixedControlPoints) -> None:
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


def normal_equations(
    space: Space,
    u: Floats,
    v: Floats,
    points: Floats,
    weights: Floats | None,
    pulls: Floats | None = None,
) -> tuple[Floats, Floats]:
    """Return the matrix of the sums over all points as lower bands, and the right-hand side.

    Parameters
    ----------
    pulls : (m, n) array, optional
        Further weights of the points, for each of which a matrix is made; the right-hand side
        has the weights alone.

    Returns
    -------
    (m, width, nu * nv) array; (width, nu * nv) without pulls
    (nu * nv, d) array
    """
    p, q = space.degree_u, space.degree_v
    nu, nv = space.counts
    cells = (nu - p) * (nv - q)
    cell = (span_of(space.knots_u, p, u) - p) * (nv - q) + (span_of(space.knots_v, q, v) - q)
    order = by_piece(cell, cells)
    cuts = np.concatenate([[0], np.cumsum(np.bincount(cell, minlength=cells))])
    many, depth = 1 if pulls is None else len(pulls), points.shape[1]
    iu, ju = np.triu_indices(p + 1)
    iv, jv = np.triu_indices(q + 1)
    squares = np.zeros((cells, len(iu), many * len(iv)))
    sides = np.zeros((cells, (p + 1) * depth, q + 1))

    # What a block adds to the span that it begins within, added up in the end in one order.
    begun: dict[int, tuple[int, Floats, Floats]] = {}

    def add(block: slice) -> None:
        some = order[block]
        (along,) = basis_functions(space.knots_u, p, u.take(some))[1]
        (weighted,) = basis_functions(space.knots_v, q, v.take(some))[1]
        pairs_u, pairs_v = along[iu] * along[ju], weighted[iv] * weighted[jv]
        if weights is not None:
            own = weights.take(some)
            weighted = weighted * own
            pairs_v *= own
        if pulls is not None:
            pairs_v = (pulls.take(some, axis=1)[:, None] * pairs_v).reshape(-1, len(some))
        loads = (along[:, None] * points.take(some, axis=0).T).reshape(-1, len(some))
        bounds = np.clip(cuts, block.start, block.stop) - block.start
        for k in np.flatnonzero(np.diff(bounds)).tolist():
            part = slice(bounds[k], bounds[k + 1])
            square, side = squares[k], sides[k]
            if cuts[k] < block.start:
                square, side = np.empty_like(square), np.empty_like(side)
                begun[block.start] = k, square, side
            np.dot(pairs_u[:, part], pairs_v[:, part].T, out=square)
            np.dot(loads[:, part], weighted[:, part].T, out=side)

    in_blocks(len(u), add)
    for _, (k, square, side) in sorted(begun.items()):
        squares[k] += square
        sides[k] += side
    bands = assemble(space, squares.reshape(cells, len(iu), many, len(iv)))
    right = _assemble_right(space, sides.reshape(cells, p + 1, depth, q + 1))
    return (bands[0] if pulls is None else bands), right


def design(space: Space, u: Floats, v: Floats) -> csr_array:
    """Return the matrix from control points, (nu * nv), to points at parameters, (n,)."""
    p, q = space.degree_u, space.degree_v
    in_u, (along,) = basis_functions(space.knots_u, p, u)
    in_v, (across,) = basis_functions(space.knots_v, q, v)
    values = (along[:, None] * across).reshape(-1, len(u)).T
    rows, columns = np.arange(-p, 1), np.arange(-q, 1)
    first = (in_u * space.counts[1] + in_v)[:, None]
    places = first + (rows[:, None] * space.counts[1] + columns).ravel()
    ends = np.arange(len(u) + 1) * places.shape[1]
    size = len(u), space.counts[0] * space.counts[1]
    return csr_array((values.ravel(), places.ravel(), ends), shape=size)


def assemble(space: Space, squares: Floats) -> Floats:
    """Add each span's products into lower bands, one for each along the third axis."""
    nu, nv = space.counts
    width = space.degree_u * nv + space.degree_v + 1
    places, in_u, in_v = _band_places(space.degree_u, space.degree_v, nu, nv)
    bands = [
        np.bincount(places, part[:, in_u, in_v].ravel(), width * nu * nv)
        for part in np.moveaxis(squares, 2, 0)
    ]
    return np.asarray(bands, dtype=np.float64).reshape(-1, width, nu * nv)


# A search asks for the same sizes many times over: the last few are kept.
@lru_cache(maxsize=8)
def _band_places(p: int, q: int, nu: int, nv: int) -> tuple[Ints, Ints, Ints]:
    """Return where the spans' products go in a lower band, and which pairs of functions go there.

    The places are span by span, the pairs the same for each span.
    """
    a, a2, b, b2 = np.meshgrid(*map(np.arange, (p + 1, p + 1, q + 1, q + 1)), indexing="ij")
    below = (a2 - a) * nv + (b2 - b)
    kept = below >= 0
    column = _cell_corners(p, q, nu, nv)[:, None] + (a * nv + b)[kept]
    places = (below[kept] * (nu * nv) + column).ravel()
    return places, _pair_index(p)[a, a2][kept], _pair_index(q)[b, b2][kept]


def _assemble_right(space: Space, sides: Floats) -> Floats:
    """Add each span's loads into the right-hand side."""
    nu, nv = space.counts
    rows = _right_places(space.degree_u, space.degree_v, nu, nv)
    columns = [np.bincount(rows, side.ravel(), nu * nv) for side in np.moveaxis(sides, 2, 0)]
    return np.asarray(np.stack(columns, axis=1), dtype=np.float64)


@lru_cache(maxsize=8)
def _right_places(p: int, q: int, nu: int, nv: int) -> Ints:
    a, b = np.meshgrid(np.arange(p + 1), np.arange(q + 1), indexing="ij")
    return np.asarray((_cell_corners(p, q, nu, nv)[:, None, None] + a * nv + b).ravel())


def _pair_index(degree: int) -> Ints:
    """Return the matrix that leads from a pair of functions to its place among the pairs."""
    index = np.zeros((degree + 1, degree + 1), dtype=np.int64)
    i, j = np.triu_indices(degree + 1)
    index[i, j] = index[j, i] = np.arange(len(i))
    return index


def _cell_corners(p: int, q: int, nu: int, nv: int) -> Ints:
    i, j = np.meshgrid(np.arange(nu - p), np.arange(nv - q), indexing="ij")
    return (i * nv + j).ravel()


def energy_band(space: Space, size: tuple[float, float]) -> Floats:
    """Return the thin-plate energy of a surface over `size` as a lower band.

    A search asks for the same one many times over: the last few are kept.
    """
    knots = space.knots_u.tobytes(), space.knots_v.tobytes()
    return _energy_band(*knots, space.degree_u, space.degree_v, size)


@lru_cache(maxsize=16)
def _energy_band(
    knots_u: bytes, knots_v: bytes, degree_u: int, degree_v: int, size: tuple[float, float]
) -> Floats:
    space = Space(np.frombuffer(knots_u), np.frombuffer(knots_v), degree_u, degree_v)
    in_u, in_v = _span_products(knots_u, degree_u), _span_products(knots_v, degree_v)
    powers = 1.0 - 2.0 * np.arange(3)
    # |Sxx|^2, 2 |Sxy|^2 and |Syy|^2.
    by = np.array([1.0, 2.0, 1.0]) * size[0] ** powers * size[1] ** powers[::-1]
    squares = (by[:, None] * in_u.reshape(3, -1)).T @ in_v[::-1].reshape(3, -1)
    squares = squares.reshape(*in_u.shape[1:], *in_v.shape[1:]).transpose(0, 2, 1, 3)
    return frozen(assemble(space, squares.reshape(-1, in_u.shape[2], 1, in_v.shape[2]))[0])


# A search changes the knots of one direction at a time: the last few are kept.
@lru_cache(maxsize=64)
def _span_products(knots: bytes, degree: int) -> Floats:
    """Return the integrals of products of pairs of functions, span by span, exactly.

    Returns
    -------
    (3, spans, pairs) array
        Of the functions, and of their first and second derivatives.
    """
    own = np.frombuffer(knots)
    # Spans between knots that coincide are empty, and have their place none the less.
    t, weights = gauss_nodes(own[degree : len(own) - degree], degree + 1)
    _, values = basis_functions(own, degree, t, 2)
    i, j = np.triu_indices(degree + 1)
    nodes = np.stack([value[i] * value[j] * weights for value in values])
    return frozen(nodes.reshape(3, len(i), -1, degree + 1).sum(axis=3).transpose(0, 2, 1))
