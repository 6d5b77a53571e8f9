"""Surfaces remade: slimmer than they were, or drawn back to measured points in part."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import FitError
from usual_clay.core.fit.solve.adaptive import spread_knots
from usual_clay.core.fit.solve.slide import LEAST_WITHIN, Start, fit_from, pulls_of
from usual_clay.core.fit.solve.system import FixedControlPoints, Space
from usual_clay.core.spline.basis import collocation, even_knots, span_of
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, sample_parameters, surface_grid

PER_SPAN = 6
PULLS = 4
# So many points it takes for each control point that is pulled.
POINTS_FOR_EACH = 4
# As little stiffness as settles what points leave open.
CALM = 1e-13


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

    Points slide along the surface as in a cast, and are brought to their feet a few times over.

    Parameters
    ----------
    points : (n, 3) array
    weights : (n,) array
    which : (k,) integers
        Control points, counted row by row.

    Raises
    ------
    FitError
        When too few points lie on the spans that these control points bend.
    """
    if surface.weights is not None:
        raise FitError("a rational surface is not pulled: its weights would have to follow")
    p, q = surface.degrees
    nu, nv = surface.counts
    stays = np.ones((nu, nv), dtype=bool)
    stays.flat[which] = False
    space = Space(surface.knots_u, surface.knots_v, p, q)
    feet = foot_points(surface, points)
    bends = ~stays[_nearby(space, feet.u, feet.v)].all(axis=1)
    if bends.sum() < POINTS_FOR_EACH * len(which):
        raise FitError("too few measured points lie where these control points bend it")
    points, weights = points[bends], weights[bends]
    size = np.ptp(surface.points.reshape(-1, 3), axis=0)
    scale = float(np.linalg.norm(size))
    stiffness = CALM * scale**2
    start = Start(feet.u[bends], feet.v[bends], weights, surface)
    for _ in range(PULLS):
        pulls = pulls_of(start, points, LEAST_WITHIN)
        held = FixedControlPoints(stays, surface.points)
        net = fit_from(space, points, start, pulls, stiffness, (scale, scale), held)
        surface = replace(surface, points=net)
        feet = foot_points(surface, points, (start.u, start.v))
        start = Start(feet.u, feet.v, weights, surface)
    return surface


def _nearby(space: Space, u: Floats, v: Floats) -> tuple[Ints, Ints]:
    """Return rows and columns of the control points that count at parameters, (n, k) each."""
    p, q = space.degree_u, space.degree_v
    rows = span_of(space.knots_u, p, u)[:, None] + np.arange(-p, 1)
    columns = span_of(space.knots_v, q, v)[:, None] + np.arange(-q, 1)
    both = np.broadcast_arrays(rows[:, :, None], columns[:, None, :])
    return both[0].reshape(len(u), -1), both[1].reshape(len(u), -1)
