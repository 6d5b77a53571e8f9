"""What it costs when the parameter lines of a surface crowd, fan out or cross within it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from usual_clay.core.arrays import Floats, dots
from usual_clay.core.fit.solve.system import Space, assemble
from usual_clay.core.spline.basis import basis_functions, gauss_nodes
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives

# Gauss nodes in each span, each way.
NODES = 3
# Where lines crowd it costs more, as this power of how densely they lie; at last so many times.
CROWDING, MOST_CROWDED = 2, 1e4


def energy_along(
    space: Space,
    size: tuple[float, float],
    near: BSplineSurface,
    places: tuple[tuple[int, int], ...],
) -> Floats:
    """Return the part of the thin-plate energy that lies along a surface, as lower bands.

    Second derivatives along the surface are no shape: they tell how parameter lines run in it.
    Points that slide settle hardly anything of them, and would let them tangle.

    Parameters
    ----------
    size : (float, float)
        Of the base, mm.
    near : BSplineSurface
        What tells the directions along the surface.
    places : pairs of coordinates
        One band is returned for each.

    Returns
    -------
    (len(places), width, count) array
    """
    (u, rows_u), (v, rows_v) = (
        _nodes(knots.tobytes(), degree, length)
        for knots, degree, length in (
            (space.knots_u, space.degree_u, size[0]),
            (space.knots_v, space.degree_v, size[1]),
        )
    )
    every_u, every_v = (part.ravel() for part in np.meshgrid(u, v, indexing="ij"))
    _, su, sv = surface_derivatives(near, every_u, every_v, 1)
    normals = np.cross(su, sv, axis=0)
    area = np.maximum(np.sqrt(dots(normals, normals)), 1e-300)
    normals /= area
    crowded = np.clip((area.mean() / area) ** CROWDING, 1.0, MOST_CROWDED)
    along = np.stack([crowded * ((i == j) - normals[i] * normals[j]) for i, j in places])
    spans = len(u) // NODES, len(v) // NODES
    # Summed over the nodes of v, span by span, for all three orders at once; then over those of u.
    along = along.reshape(len(places), spans[0], NODES, spans[1], NODES).transpose(3, 0, 1, 2, 4)
    orders_v = np.concatenate(rows_v, axis=1).transpose(0, 2, 1)
    over_v = along.reshape(spans[1], -1, NODES) @ orders_v
    over_v = over_v.reshape(spans[1], len(places), spans[0], NODES, 3, -1)
    orders_u = np.concatenate([rows_u[2], 2.0 * rows_u[1], rows_u[0]], axis=2)
    over_v = over_v.transpose(2, 4, 3, 0, 1, 5).reshape(spans[0], 3 * NODES, -1)
    squares = (orders_u @ over_v).reshape(spans[0], -1, spans[1], len(places), rows_v[0].shape[1])
    squares = squares.transpose(0, 2, 1, 3, 4)
    return assemble(space, squares.reshape(spans[0] * spans[1], *squares.shape[2:]))


# A search changes the knots of one direction at a time: the last few are kept.
@lru_cache(maxsize=16)
def _nodes(knots: bytes, degree: int, length: float) -> tuple[Floats, list[Floats]]:
    """Return Gauss nodes span by span, and there the products of pairs of functions.

    The products are those of derivatives of order 0, 1 and 2 by length, (spans, pairs, nodes)
    each, with the nodes' weights.
    """
    own = np.frombuffer(knots)
    # Spans between knots that coincide are empty, and have their place none the less.
    t, weights = gauss_nodes(own[degree : len(own) - degree], NODES)
    _, values = basis_functions(own, degree, t, 2)
    i, j = np.triu_indices(degree + 1)
    by = weights * length
    rows = []
    for order, value in enumerate(values):
        pairs = value[i] * value[j] * (by * length ** (-2 * order))
        rows.append(pairs.reshape(len(i), -1, NODES).transpose(1, 0, 2))
    return t, rows
