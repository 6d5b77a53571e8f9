"""B-spline curves: the value, and points and derivatives on it."""

from __future__ import annotations

from dataclasses import dataclass
from math import comb

import numpy as np

from usual_clay.core.arrays import ArrayLike, Floats, frozen
from usual_clay.core.spline.basis import SplineError, basis_functions, check_knots


@dataclass(frozen=True, eq=False)
class BSplineCurve:
    """A clamped, non-uniform, optionally rational B-spline curve.

    Attributes
    ----------
    knots : (n + degree + 1,) array
    points : (n, 3) array
        Control points, mm.
    weights : (n,) array or None
        Positive; None where the curve is not rational.
    """

    knots: Floats
    points: Floats
    weights: Floats | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "knots", frozen(self.knots))
        object.__setattr__(self, "points", frozen(self.points))
        if self.points.ndim != 2 or self.points.shape[1] != 3:
            raise SplineError(f"control points must be (n, 3), not {self.points.shape}")
        check_knots(self.knots, len(self.points))
        if self.weights is not None:
            object.__setattr__(self, "weights", frozen(self.weights))
            check_weights(self.weights, self.points.shape[:1])

    @property
    def degree(self) -> int:
        return len(self.knots) - len(self.points) - 1

    @property
    def domain(self) -> tuple[float, float]:
        return float(self.knots[0]), float(self.knots[-1])


def check_weights(weights: Floats, shape: tuple[int, ...]) -> None:
    """Raise SplineError unless the weights are positive, finite and of the given shape."""
    if weights.shape != shape or not np.isfinite(weights).all() or (weights <= 0).any():
        raise SplineError("weights must be positive, finite and one for each control point")


def homogeneous(points: Floats, weights: Floats | None) -> Floats:
    """Return control points as (..., 3), or (..., 4) with the weight last if there is one."""
    if weights is None:
        return points
    return np.concatenate([points * weights[..., None], weights[..., None]], axis=-1)


def from_homogeneous(coefficients: Floats) -> tuple[Floats, Floats | None]:
    """Undo `homogeneous`."""
    if coefficients.shape[-1] == 3:
        return coefficients, None
    weights = coefficients[..., 3]
    return coefficients[..., :3] / weights[..., None], weights


def curve_derivatives(curve: BSplineCurve, t: ArrayLike, order: int = 0) -> Floats:
    """Evaluate a curve and its derivatives (The NURBS Book, A3.2 and A4.2).

    Parameters
    ----------
    t : (n,) array
    order : int
        Highest derivative.

    Returns
    -------
    (order + 1, n, 3) array
    """
    t = np.atleast_1d(np.asarray(t, dtype=np.float64))
    degree = curve.degree
    span, values = basis_functions(curve.knots, degree, t, order)
    coefficients = homogeneous(curve.points, curve.weights)
    local = coefficients[span[:, None] + np.arange(-degree, 1)]
    derived = np.stack([np.einsum("nad,an->nd", local, row) for row in values])
    if curve.weights is None:
        return derived
    numerator, weight = derived[..., :3], derived[..., 3:]
    result = np.empty_like(numerator)
    for k in range(order + 1):
        rest = sum(comb(k, i) * weight[i] * result[k - i] for i in range(1, k + 1))
        result[k] = (numerator[k] - rest) / weight[0]
    return result


def curve_points(curve: BSplineCurve, t: ArrayLike) -> Floats:
    """Evaluate points on a curve, (n, 3)."""
    return curve_derivatives(curve, t)[0]


def curve_box(curve: BSplineCurve) -> Floats:
    """Return the box of the control points, (2, 3); it holds the curve (convex hull property)."""
    return np.stack([curve.points.min(axis=0), curve.points.max(axis=0)])
