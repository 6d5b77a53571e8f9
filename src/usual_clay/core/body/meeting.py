"""Borders of surfaces that nearly meet, brought to each other by the least move."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.spline.basis import collocation
from usual_clay.core.spline.boundary import BORDERS, Border, border_curve, border_rows
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import BSplineSurface

# Places along a border: so many for each control point, and never fewer.
EACH, FEWEST = 4, 33
# What is left is brought together again so often, while that halves it; below this, mm, it touches.
ROUNDS, TOUCHES = 4, 1e-6
# A border shorter than this share of its surface is a point.
POINT = 1e-6
# Nearest places are sought as closely as this share of a border.
CLOSE = 1e-8


@dataclass(frozen=True, eq=False)
class _Row:
    """A border of a surface: its curve, and places along it."""

    owner: int
    border: Border
    curve: BSplineCurve
    t: Floats
    points: Floats

    @cached_property
    def tree(self) -> cKDTree:
        return cKDTree(self.points)


def brought_together(
    surfaces: Sequence[BSplineSurface], limit: float
) -> tuple[list[BSplineSurface], float]:
    """Move borders that run no farther apart than a limit onto the line midway between them.

    Of each surface only the outermost control points move, and corners that belong together come
    to their middle: the least change that closes a gap as far as the borders' own knots can follow
    each other. Rational surfaces stay as they are.

    Parameters
    ----------
    limit : float
        mm.

    Returns
    -------
    surfaces : list of BSplineSurface
    moved : float
        How far any place on a border moved at the most, mm.
    """
    made = list(surfaces)
    moved, last = np.zeros(len(made)), np.inf
    for _ in range(ROUNDS):
        rows = [row for k, surface in enumerate(made) for row in _rows(k, surface)]
        if not rows:
            break
        shifts = _shifts(rows, limit)
        far = np.zeros(len(made))
        for row, shift in zip(rows, shifts, strict=True):
            far[row.owner] = max(far[row.owner], float(np.linalg.norm(shift, axis=1).max()))
        if far.max() <= TOUCHES or far.max() > last / 2:
            break
        last = float(far.max())
        for owner in np.flatnonzero(far > TOUCHES):
            own = [(row, s) for row, s in zip(rows, shifts, strict=True) if row.owner == owner]
            made[owner] = _moved(made[owner], own)
        moved += far
    return made, float(moved.max(initial=0.0))


def _rows(owner: int, surface: BSplineSurface) -> list[_Row]:
    if surface.weights is not None:
        return []
    size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
    found = []
    for border in BORDERS:
        curve = border_curve(surface, border)
        if np.ptp(curve.points, axis=0).max() <= POINT * size:
            continue
        t = np.linspace(0.0, 1.0, max(FEWEST, EACH * len(curve.points)))
        found.append(_Row(owner, border, curve, t, curve_points(curve, t)))
    return found


def _shifts(rows: Sequence[_Row], limit: float) -> list[Floats]:
    """Return for each place of each row how far it is to the middle of all that lies beside it."""
    owners = np.array([row.owner for row in rows])
    points = np.concatenate([row.points for row in rows])
    which = np.repeat(np.arange(len(rows)), [len(row.points) for row in rows])
    step = max(float(np.linalg.norm(np.diff(row.points, axis=0), axis=1).max()) for row in rows)
    tree = cKDTree(points)
    corners = np.concatenate([row.points[[0, -1]] for row in rows])
    shifts = []
    for row in rows:
        near = tree.query_ball_point(row.points, limit + step)
        others = np.unique(which[np.unique(np.concatenate(near).astype(int))])
        others = others[owners[others] != row.owner]
        total, count = row.points.copy(), np.ones(len(row.points))
        for owner in np.unique(owners[others]):
            of = [rows[each] for each in others if owners[each] == owner]
            feet, away = _feet(of, row.points, limit + step)
            here = away <= limit
            total[here] += feet[here]
            count[here] += 1
        shift = total / count[:, None] - row.points
        for end in (0, -1):
            shift[end] = _to_corner(row, end, corners, np.repeat(owners, 2), limit, shift[end])
        shifts.append(shift)
    return shifts


def _feet(rows: Sequence[_Row], points: Floats, reach: float) -> tuple[Floats, Floats]:
    """Return the nearest places on any of some borders, and how far off they are; infinitely
    where they are farther than a reach."""
    feet, away = np.zeros_like(points), np.full(len(points), np.inf)
    for row in rows:
        apart, first = row.tree.query(points)
        near = np.flatnonzero(apart <= reach)
        if not len(near):
            continue
        _, there, off = curve_foot_points(row.curve, points[near], row.t[first[near]], CLOSE)
        nearer = off < away[near]
        feet[near[nearer]], away[near[nearer]] = there[nearer], off[nearer]
    return feet, away


def _to_corner(
    row: _Row, end: int, corners: Floats, owners: Ints, limit: float, otherwise: Floats
) -> Floats:
    """Return the way of a border's end to the middle of the corners that belong together there."""
    own = row.points[end]
    away = np.linalg.norm(corners - own, axis=1)
    near = (away <= limit) & (owners != row.owner)
    if not near.any():
        return otherwise
    # Both borders that meet in a corner end there: each surface counts once.
    first = [np.flatnonzero(near & (owners == each))[0] for each in np.unique(owners[near])]
    return np.asarray((own + corners[first].sum(axis=0)) / (len(first) + 1) - own)


def _moved(surface: BSplineSurface, rows: Sequence[tuple[_Row, Floats]]) -> BSplineSurface:
    """Return a surface with its borders moved, ends exactly and between them by least squares."""
    points = surface.points.copy()
    for row, shift in rows:
        basis = collocation(row.curve.knots, row.curve.degree, row.t)
        net = np.zeros((basis.shape[1], 3))
        net[0], net[-1] = shift[0], shift[-1]
        left = shift - basis[:, [0, -1]] @ net[[0, -1]]
        net[1:-1] = np.linalg.lstsq(basis[:, 1:-1], left, rcond=None)[0]
        target = border_rows(points, row.border)
        target[0] = border_rows(surface.points, row.border)[0] + net
    return replace(surface, points=points)
