"""Surfaces remade: slimmer than they were, or drawn back to measured points in part."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.fit.adaptive import spread_knots
from usual_clay.core.fit.system import FitError
from usual_clay.core.spline.basis import basis_functions, collocation, even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, sample_parameters, surface_grid

PER_SPAN = 6
PULLS = 4


@dataclass(frozen=True)
class SlimSurfaceSettings:
    """A surface remade with fewer control points.

    Attributes
    ----------
    nu, nv : int
        Control points; 0 for as few as `within` allows along that direction.
    within : float
        How near it stays to the old surface, mm.
    knots : {"even", "adaptive"}
    """

    nu: int = 0
    nv: int = 0
    within: float = 0.02
    knots: Literal["even", "adaptive"] = "adaptive"


@dataclass(frozen=True, eq=False)
class RemadeSurface:
    """A surface remade, and the farthest that the two lie apart, mm."""

    surface: BSplineSurface
    moved: float


def slim_surface(surface: BSplineSurface, settings: SlimSurfaceSettings) -> RemadeSurface:
    """Remake a surface with fewer control points in one or both directions.

    Least squares on a fine grid of the old surface, one direction after the other, with its
    borders' corners held by their weight. Where a count is left open, the least that stays within
    the tolerance at equal parameters is found by halving; what is told in the end is the true
    distance, which is no larger.

    Raises
    ------
    FitError
    """
    degrees = surface.degrees
    for name, count, degree in zip("uv", (settings.nu, settings.nv), degrees, strict=True):
        if count and count <= degree:
            raise FitError(f"degree {degree} needs {degree + 1} control points along {name}")
    u = sample_parameters(surface.knots_u, PER_SPAN)
    v = sample_parameters(surface.knots_v, PER_SPAN)
    grid = surface_grid(surface, u, v)

    def made(nu: int, nv: int) -> RemadeSurface:
        counts = (min(nu, surface.counts[0]), min(nv, surface.counts[1]))
        knots_u = _knots(surface.knots_u, surface.points, counts[0], degrees[0], settings.knots)
        turned = surface.points.transpose(1, 0, 2)
        knots_v = _knots(surface.knots_v, turned, counts[1], degrees[1], settings.knots)
        half = _solved(collocation(knots_u, degrees[0], u), grid)
        net = _solved(collocation(knots_v, degrees[1], v), half.transpose(1, 0, 2))
        lean = BSplineSurface(knots_u, knots_v, net.transpose(1, 0, 2))
        moved = float(np.linalg.norm(surface_grid(lean, u, v) - grid, axis=2).max())
        return RemadeSurface(lean, moved)

    nu, nv = settings.nu or surface.counts[0], settings.nv or surface.counts[1]
    if not settings.nu:
        nu = _least(degrees[0] + 1, nu, lambda n: made(n, nv).moved <= settings.within)
    if not settings.nv:
        nv = _least(degrees[1] + 1, nv, lambda n: made(nu, n).moved <= settings.within)
    if (nu, nv) == surface.counts:
        return RemadeSurface(surface, 0.0)
    lean = made(nu, nv).surface
    seed = tuple(part.ravel() for part in np.meshgrid(u, v, indexing="ij"))
    apart = foot_points(lean, grid.reshape(-1, 3), (seed[0], seed[1])).signed
    return RemadeSurface(lean, float(np.abs(apart).max()))


def _knots(knots: Floats, points: Floats, count: int, degree: int, rule: str) -> Floats:
    if count == len(points):
        return knots
    return spread_knots(knots, points, count) if rule == "adaptive" else even_knots(count, degree)


def _solved(matrix: Floats, values: Floats) -> Floats:
    """Solve least squares along axis 0, the ends counting for much."""
    weight = np.ones(len(matrix))
    weight[[0, -1]] = 1e3
    flat = values.reshape(len(values), -1)
    solved = np.linalg.lstsq(matrix * weight[:, None], flat * weight[:, None], rcond=None)[0]
    return np.reshape(solved, (-1, *values.shape[1:]))


def _least(low: int, high: int, holds: Callable[[int], bool]) -> int:
    while low < high:
        middle = (low + high) // 2
        if holds(middle):
            high = middle
        else:
            low = middle + 1
    return high


def pull_to_points(
    surface: BSplineSurface, points: Floats, weights: Floats, which: Ints
) -> BSplineSurface:
    """Solve the chosen control points again against measured points; the others stay.

    Least squares at the points' feet, which are then found anew, a few times over.

    Parameters
    ----------
    points : (n, 3) array
    weights : (n,) array
    which : (k,) integers
        Control points, counted row by row.

    Raises
    ------
    FitError
        When no points lie on the spans that these control points bend.
    """
    if surface.weights is not None:
        raise FitError("a rational surface is not pulled: its weights would have to follow")
    p, q = surface.degrees
    nv = surface.counts[1]
    place = np.full(surface.counts[0] * nv, -1)
    place[which] = np.arange(len(which))
    feet = foot_points(surface, points)
    u, v = feet.u, feet.v
    for _ in range(PULLS):
        span_u, (in_u,) = basis_functions(surface.knots_u, p, u)
        span_v, (in_v,) = basis_functions(surface.knots_v, q, v)
        rows = span_u[:, None] + np.arange(-p, 1)
        columns = span_v[:, None] + np.arange(-q, 1)
        index = (rows[:, :, None] * nv + columns[:, None, :]).reshape(len(u), -1)
        value = (in_u.T[:, :, None] * in_v.T[:, None, :]).reshape(len(u), -1)
        mine = place[index]
        touched = (mine >= 0).any(axis=1)
        if touched.sum() < 4 * len(which):
            raise FitError("too few measured points lie where these control points bend it")
        matrix = np.zeros((int(touched.sum()), len(which)))
        own = mine[touched]
        at, slot = np.nonzero(own >= 0)
        matrix[at, own[at, slot]] = value[touched][at, slot]
        gap = points[touched] - np.einsum(
            "nk,nkd->nd", value[touched], surface.points.reshape(-1, 3)[index[touched]]
        )
        root = np.sqrt(weights[touched])[:, None]
        step = np.linalg.lstsq(matrix * root, gap * root, rcond=1e-8)[0]
        net = surface.points.reshape(-1, 3).copy()
        net[which] += step
        surface = replace(surface, points=net.reshape(surface.points.shape))
        feet = foot_points(surface, points, (u, v))
        u, v = feet.u, feet.v
    return surface
