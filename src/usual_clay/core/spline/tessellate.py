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
