"""Edges of a net brought onto a line or into a plane."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.solve.system import FixedControlPoints
from usual_clay.core.spline.boundary import BORDERS, border_rows

# Edges share corners: each is brought to its line or plane so many times in turn.
TURNS = 12


def constrained_edges(net: Floats, rules: Sequence[str]) -> FixedControlPoints:
    """Hold edges of a net on the line or plane that lies nearest to them.

    Parameters
    ----------
    net : (nu, nv, 3) array
    rules : four of {"free", "straight", "flat"}
        Of the borders u0, u1, v0 and v1.

    Returns
    -------
    FixedControlPoints
        With the whole net as its points.
    """
    net = net.copy()
    which = np.zeros(net.shape[:2], dtype=bool)
    rows, chosen = ([border_rows(n, border)[0] for border in BORDERS] for n in (net, which))
    for turn in range(TURNS):
        for rule, row in zip(rules, rows, strict=True):
            if rule == "free":
                continue
            middle = row.mean(axis=0)
            axes = np.linalg.svd(row - middle, full_matrices=False)[2]
            along = axes[: 1 if rule == "straight" else 2]
            row[:] = middle + (row - middle) @ along.T @ along
        if turn == TURNS - 1:
            _draw_straight(rows, rules)
    for rule, mask in zip(rules, chosen, strict=True):
        mask[:] |= rule != "free"
    return FixedControlPoints(which, net)


def _draw_straight(rows: Sequence[Floats], rules: Sequence[str]) -> None:
    """Bring straight edges exactly between their corners, which other edges share."""
    for rule, row in zip(rules, rows, strict=True):
        if rule == "straight":
            way = row[-1] - row[0]
            share = (row - row[0]) @ way / max(float(way @ way), 1e-300)
            row[:] = row[0] + share[:, None] * way
