"""Surfaces as triangles, no farther from the surface than a chord height."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    sample_parameters,
    surface_derivatives,
    surface_grid,
)

MOST_PER_SPAN = 64


def grid_triangles(rows: int, columns: int) -> Ints:
    """Return the triangles of a rows x columns grid of vertices, (2 (rows-1) (columns-1), 3)."""
    corner = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)).ravel()
    first = np.stack([corner, corner + columns, corner + columns + 1], axis=1)
    second = np.stack([corner, corner + columns + 1, corner + 1], axis=1)
    return np.stack([first, second], axis=1).reshape(-1, 3)


def steps_for_chord(surface: BSplineSurface, chord: float) -> tuple[int, int]:
    """Return how often each knot span must be divided to stay within a chord height.

    The error of a flat triangle is at most an eighth of ``a^2 |Suu| + 2 a b |Suv| + b^2 |Svv|``
    for steps a and b (Filip, Magedson and Markot 1986); second derivatives are sampled.
    """
    u = sample_parameters(surface.knots_u, 4)
    v = sample_parameters(surface.knots_v, 4)
    uu, vv = np.meshgrid(u, v, indexing="ij")
    derived = surface_derivatives(surface, uu.ravel(), vv.ravel(), 2)
    bent = [float(np.linalg.norm(derived[k], axis=0).max()) for k in (3, 4, 5)]
    spans = [np.diff(np.unique(k)).max() for k in (surface.knots_u, surface.knots_v)]
    along_u, across, along_v = (
        bent[0] * spans[0] ** 2,
        bent[1] * spans[0] * spans[1],
        bent[2] * spans[1] ** 2,
    )
    # Each direction gets half of the allowed error, with its half of the mixed term.
    steps = [np.sqrt((bend + across) / (4 * chord)) for bend in (along_u, along_v)]
    nu, nv = (int(np.clip(np.ceil(step), 1, MOST_PER_SPAN)) for step in steps)
    return nu, nv


def parameters_for_chord(surface: BSplineSurface, chord: float) -> tuple[Floats, Floats]:
    """Return parameters u and v of a grid of triangles that stays within a chord height.

    As `steps_for_chord`, span by span, and across the surface only: where it is flat, few do.
    """
    u = sample_parameters(surface.knots_u, 4)
    v = sample_parameters(surface.knots_v, 4)
    uu, vv = np.meshgrid(u, v, indexing="ij")
    _, su, sv, *second = surface_derivatives(surface, uu.ravel(), vv.ravel(), 2)
    normal = np.cross(su, sv, axis=0)
    normal /= np.maximum(np.linalg.norm(normal, axis=0), 1e-300)
    suu, suv, svv = (
        np.abs(np.einsum("kn,kn->n", bent, normal)).reshape(len(u), len(v)) for bent in second
    )
    wide_u, wide_v = (float(np.diff(np.unique(t)).max()) for t in (u, v))
    parts = []
    for knots, bent, mixed, other in (
        (surface.knots_u, suu.max(axis=1), suv.max(axis=1), 4 * wide_v),
        (surface.knots_v, svv.max(axis=0), suv.max(axis=0), 4 * wide_u),
    ):
        breaks = np.unique(knots)
        width = np.diff(breaks)
        within = 4 * np.arange(len(width))[:, None] + np.arange(5)
        need = bent[within].max(axis=1) * width**2 + mixed[within].max(axis=1) * width * other
        steps = np.clip(np.ceil(np.sqrt(need / (4 * chord))), 1, MOST_PER_SPAN).astype(int)
        inside = [
            a + (b - a) * np.arange(n) / n
            for a, b, n in zip(breaks[:-1], breaks[1:], steps, strict=True)
        ]
        parts.append(np.concatenate([*inside, breaks[-1:]]))
    return parts[0], parts[1]


def tessellate(surface: BSplineSurface, steps: tuple[int, int]) -> tuple[Floats, Floats, Floats]:
    """Return a grid of points (m, n, 3) and its parameters u (m,) and v (n,)."""
    u = sample_parameters(surface.knots_u, steps[0])
    v = sample_parameters(surface.knots_v, steps[1])
    return surface_grid(surface, u, v), u, v


# Points of a span that make a curve look smooth.
PER_SPAN = 12


@lru_cache(maxsize=128)
def curve_points_shown(curve: BSplineCurve) -> Floats:
    """Return points along a curve, close enough to look smooth."""
    return curve_points(curve, sample_parameters(curve.knots, PER_SPAN))
