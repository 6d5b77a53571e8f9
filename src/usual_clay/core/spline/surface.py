"""B-spline surfaces: the value, and points, derivatives and normals on it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from math import comb

import numpy as np

from usual_clay.core.arrays import ArrayLike, Floats, Ints, frozen
from usual_clay.core.blocks import BLOCK, in_blocks
from usual_clay.core.spline.basis import SplineError, basis_functions, check_knots, span_of
from usual_clay.core.spline.curve import (
    BSplineCurve,
    check_weights,
    from_homogeneous,
    homogeneous,
)
from usual_clay.core.spline.pieces import ORDERS, Direction, by_piece, evaluate_pieces, pieces

# With fewer points than one for so many pieces, only those pieces are worked out that have some.
MOST_EMPTY = 8
# Fewer than such a part of all pieces are worked out for themselves.
FEW_OF_ALL = 4


@dataclass(frozen=True, eq=False)
class BSplineSurface:
    """A clamped, non-uniform, optionally rational tensor-product B-spline surface.

    Attributes
    ----------
    knots_u, knots_v : arrays
    points : (nu, nv, 3) array
        Control points, mm.
    weights : (nu, nv) array or None
    """

    knots_u: Floats
    knots_v: Floats
    points: Floats
    weights: Floats | None = None

    def __post_init__(self) -> None:
        for name in ("knots_u", "knots_v", "points"):
            object.__setattr__(self, name, frozen(getattr(self, name)))
        if self.points.ndim != 3 or self.points.shape[2] != 3:
            raise SplineError(f"control points must be (nu, nv, 3), not {self.points.shape}")
        check_knots(self.knots_u, self.points.shape[0])
        check_knots(self.knots_v, self.points.shape[1])
        if self.weights is not None:
            object.__setattr__(self, "weights", frozen(self.weights))
            check_weights(self.weights, self.points.shape[:2])

    @property
    def counts(self) -> tuple[int, int]:
        return self.points.shape[0], self.points.shape[1]

    @property
    def degrees(self) -> tuple[int, int]:
        nu, nv = self.counts
        return len(self.knots_u) - nu - 1, len(self.knots_v) - nv - 1

    @property
    def domain(self) -> tuple[tuple[float, float], tuple[float, float]]:
        u, v = self.knots_u, self.knots_v
        return (float(u[0]), float(u[-1])), (float(v[0]), float(v[-1]))


def runs_round(surface: BSplineSurface, within: float) -> tuple[bool, bool]:
    """Tell for u and v whether the first and last control points lie within mm of each other."""
    net = surface.points
    ends = ((net[0], net[-1]), (net[:, 0], net[:, -1]))
    in_u, in_v = (bool(np.abs(first - last).max() <= within) for first, last in ends)
    return in_u, in_v


def surface_derivatives(
    surface: BSplineSurface, u: ArrayLike, v: ArrayLike, order: int = 0
) -> Floats:
    """Evaluate a surface and its partial derivatives (The NURBS Book, A3.6 and A4.4).

    Parameters
    ----------
    u, v : (n,) arrays
    order : {0, 1, 2}

    Returns
    -------
    (k, 3, n) array
        S | S, Su, Sv | S, Su, Sv, Suu, Suv, Svv for `order` 0 | 1 | 2. Coordinates come
        first, so that what is done with them runs along memory.
    """
    u = np.atleast_1d(np.asarray(u, dtype=np.float64))
    v = np.atleast_1d(np.asarray(v, dtype=np.float64))
    wanted = [pair for pair in ORDERS if sum(pair) <= order]
    result = np.empty((len(wanted), 3 if surface.weights is None else 4, len(u)))
    back = None
    if len(u) > BLOCK:
        # What lies on one piece comes together, so that a block has to do with few of them.
        together = in_pieces(surface, u, v)
        back = np.empty_like(together)
        back[together] = np.arange(len(u))
        u, v = u.take(together), v.take(together)

    def evaluate(block: slice) -> None:
        _evaluate_block(surface, u[block], v[block], order, result[:, :, block])

    in_blocks(len(u), evaluate)
    if back is not None:
        for row in result.reshape(-1, len(u)):
            row[:] = row.take(back, mode="clip")
    return result if surface.weights is None else _project(result, wanted)


def in_pieces(surface: BSplineSurface, u: Floats, v: Floats) -> Ints:
    """Return an order of points in which those of one piece come together."""
    p, q = surface.degrees
    nu, nv = surface.counts
    along, across = span_of(surface.knots_u, p, u) - p, span_of(surface.knots_v, q, v) - q
    return by_piece(along * (nv - q) + across, (nu - p) * (nv - q))


def _evaluate_block(surface: BSplineSurface, u: Floats, v: Floats, order: int, out: Floats) -> None:
    p, q = surface.degrees
    in_u, in_v = Direction(surface.knots_u, p, u), Direction(surface.knots_v, q, v)
    box = _spread(in_u.spans) * _spread(in_v.spans)
    whole = in_u.count * in_v.count
    # Near a place on a rich surface few pieces are needed: they are worked out alone.
    if MOST_EMPTY * len(u) >= whole and (FEW_OF_ALL * box >= whole or len(u) == BLOCK):
        polynomials = _all_pieces(surface, order)
    else:
        spans = in_u.narrowed(), in_v.narrowed()
        polynomials = pieces(surface.knots_u, surface.knots_v, _net(surface), order, spans)
    evaluate_pieces(polynomials, in_u, in_v, out)


def _spread(spans: Ints) -> int:
    return int(spans.max()) - int(spans.min()) + 1 if len(spans) else 0


# The last few are kept: points are brought to their feet block by block, a step at a time.
@lru_cache(maxsize=4)
def _all_pieces(surface: BSplineSurface, order: int) -> Floats:
    p, q = surface.degrees
    nu, nv = surface.counts
    spans = np.arange(nu - p), np.arange(nv - q)
    return pieces(surface.knots_u, surface.knots_v, _net(surface), order, spans)


def _net(surface: BSplineSurface) -> Floats:
    return homogeneous(surface.points, surface.weights)


def _project(derived: Floats, wanted: list[tuple[int, int]]) -> Floats:
    """Apply the quotient rule for two parameters to homogeneous derivatives."""
    at = {pair: index for index, pair in enumerate(wanted)}
    weight = derived[:, 3]
    result = derived[:, :3].copy()
    for (k, m), index in at.items():
        for i in range(k + 1):
            for j in range(m + 1):
                if i + j:
                    factor = comb(k, i) * comb(m, j)
                    result[index] -= factor * weight[at[i, j]] * result[at[k - i, m - j]]
        result[index] /= weight[0]
    return result


def surface_points(surface: BSplineSurface, u: ArrayLike, v: ArrayLike) -> Floats:
    """Evaluate points on a surface, (n, 3)."""
    return np.ascontiguousarray(surface_derivatives(surface, u, v)[0].T)


def surface_normals(surface: BSplineSurface, u: ArrayLike, v: ArrayLike) -> Floats:
    """Return unit normals Su x Sv, (n, 3); zero where the surface is degenerate."""
    _, su, sv = surface_derivatives(surface, u, v, 1)
    normal = np.cross(su.T, sv.T)
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    return np.divide(normal, length, out=np.zeros_like(normal), where=length > 0)


def sample_parameters(knots: Floats, per_span: int) -> Floats:
    """Return parameters that take in every knot and divide each span evenly."""
    breaks = np.unique(knots)
    steps = np.arange(per_span) / per_span
    inner = (breaks[:-1, None] + np.diff(breaks)[:, None] * steps).ravel()
    return np.append(inner, breaks[-1])


def surface_grid(surface: BSplineSurface, u: Floats, v: Floats) -> Floats:
    """Evaluate points on the grid of all u with all v, (len(u), len(v), 3)."""
    uu, vv = np.meshgrid(u, v, indexing="ij")
    return surface_points(surface, uu.ravel(), vv.ravel()).reshape(len(u), len(v), 3)


def grid_turns(surface: BSplineSurface, count: int) -> tuple[Floats, Floats]:
    """Return the angles between neighbouring normals of a grid over the domain, radians.

    Returns
    -------
    along u, (count - 1, count), and along v, (count, count - 1)
    """
    at = [np.linspace(*ends, count) for ends in surface.domain]
    u, v = (part.ravel() for part in np.meshgrid(*at, indexing="ij"))
    normals = surface_normals(surface, u, v).reshape(count, count, 3)
    pairs = (normals[1:], normals[:-1]), (normals[:, 1:], normals[:, :-1])
    along_u, along_v = (np.einsum("abk,abk->ab", *pair) for pair in pairs)
    return np.arccos(np.clip(along_u, -1, 1)), np.arccos(np.clip(along_v, -1, 1))


def surface_box(surface: BSplineSurface) -> Floats:
    """Return the box of the control points, (2, 3); it holds the surface."""
    flat = surface.points.reshape(-1, 3)
    return np.stack([flat.min(axis=0), flat.max(axis=0)])


def swap_directions(surface: BSplineSurface) -> BSplineSurface:
    """Exchange u and v; the normal turns to the other side."""
    weights = None if surface.weights is None else surface.weights.T
    return BSplineSurface(
        surface.knots_v, surface.knots_u, surface.points.transpose(1, 0, 2), weights
    )


def isocurve(surface: BSplineSurface, direction: str, at: float) -> BSplineCurve:
    """Return the curve that runs along `direction` ("u" or "v") at the other's parameter `at`."""
    turned = swap_directions(surface) if direction == "v" else surface
    q = turned.degrees[1]
    span, values = basis_functions(turned.knots_v, q, np.array([at]))
    columns = slice(int(span[0]) - q, int(span[0]) + 1)
    coefficients = homogeneous(turned.points, turned.weights)[:, columns]
    points, weights = from_homogeneous(np.einsum("ibd,b->id", coefficients, values[0][:, 0]))
    return BSplineCurve(turned.knots_u, points, weights)


def along(
    surface: BSplineSurface,
    direction: str,
    change: Callable[[Floats, Floats], tuple[Floats, Floats]],
) -> BSplineSurface:
    """Apply a change of (knots, coefficients along axis 0) to one direction of a surface."""
    if direction == "v":
        return swap_directions(along(swap_directions(surface), "u", change))
    knots, coefficients = change(surface.knots_u, homogeneous(surface.points, surface.weights))
    points, weights = from_homogeneous(coefficients)
    return BSplineSurface(knots, surface.knots_v, points, weights)
