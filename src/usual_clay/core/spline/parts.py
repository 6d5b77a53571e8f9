"""Places along a curve, and its parts: lengths, extremes, crossings, cutting."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.knots import remove_knot, split
from usual_clay.core.spline.surface import sample_parameters

PER_SPAN = 64
# Two places on a curve nearer than this in its parameter are one.
SAME = 1e-9
# A knot goes whose going changes the shape by less than this, mm.
SAME_SHAPE = 1e-9


def part_of(curve: BSplineCurve, start: float, end: float) -> BSplineCurve:
    """Return the part between two parameters of a curve on [0, 1]; it is on [0, 1] again.

    Raises
    ------
    SplineError
        When nothing lies between them.
    """
    if end - start < SAME:
        raise SplineError("nothing of the curve lies between the two places")
    if start > SAME:
        curve = split(curve, start)[1]
        end = (end - start) / (1 - start)
    return split(curve, end)[0] if end < 1 - SAME else curve


def beginning_at(curve: BSplineCurve, t: float) -> BSplineCurve:
    """Return the same closed curve, on [0, 1], beginning at another of its parameters.

    Where it was smooth at its old ends it has no more knots there than that takes.
    """
    p = curve.degree
    if min(t, 1 - t) < SAME:
        return curve
    before, after = split(curve, t)
    here = 1 - t
    # Both parts are on [0, 1]: each gets its length of it back.
    knots = np.concatenate([after.knots[:-1] * here, here + before.knots[p + 1 :] * (1 - here)])
    made = BSplineCurve(knots, np.concatenate([after.points, before.points[1:]]))
    for _ in range(p):
        try:
            fewer, moved = remove_knot(made, here)
        except SplineError:
            break
        if moved > SAME_SHAPE:
            break
        made = fewer
    return made


def parts_at(curve: BSplineCurve, places: Floats) -> list[BSplineCurve]:
    """Cut a curve at parameters; places at its ends cut nothing."""
    inner = np.unique(places[(places > 1e-7) & (places < 1 - 1e-7)])
    ends = [0.0, *inner.tolist(), 1.0]
    return [part_of(curve, a, b) for a, b in pairwise(ends)]


def lengths(curve: BSplineCurve) -> tuple[Floats, Floats]:
    """Return parameters and the lengths of the curve up to each, mm, by Gauss-Legendre."""
    # Asked for again and again: kept with the curve, and gone with it.
    kept = curve.__dict__
    if "lengths" not in kept:
        kept["lengths"] = _lengths(curve)
    found: tuple[Floats, Floats] = kept["lengths"]
    return found


def _lengths(curve: BSplineCurve) -> tuple[Floats, Floats]:
    t = sample_parameters(curve.knots, PER_SPAN)
    nodes, weights = np.polynomial.legendre.leggauss(4)
    half = np.diff(t) / 2
    at = (t[:-1, None] + half[:, None] * (1 + nodes)).ravel()
    speed = np.linalg.norm(curve_derivatives(curve, at, 1)[1], axis=1).reshape(-1, 4)
    return t, np.concatenate([[0], np.cumsum(half * (speed @ weights))])


def length_of(curve: BSplineCurve) -> float:
    """Return a curve's length, mm."""
    return float(lengths(curve)[1][-1])


def at_length(curve: BSplineCurve, along: Floats) -> Floats:
    """Return the parameters at lengths along a curve, (n,) in mm."""
    t, total = lengths(curve)
    return np.interp(along, total, t)


def evenly(curve: BSplineCurve, count: int) -> Floats:
    """Return points spread evenly along a curve, (count, 3)."""
    t, total = lengths(curve)
    return curve_points(curve, np.interp(np.linspace(0, total[-1], count), total, t))


def extremes(curve: BSplineCurve, axis: int) -> Floats:
    """Return the parameters inside a curve at which a coordinate is at a most or a least."""
    t = sample_parameters(curve.knots, PER_SPAN)
    slope = curve_derivatives(curve, t, 1)[1, :, axis]
    change = np.flatnonzero(slope[:-1] * slope[1:] < 0)
    low, high, sign = t[change], t[change + 1], np.sign(slope[change])
    for _ in range(50):
        middle = (low + high) / 2
        same = np.sign(curve_derivatives(curve, middle, 1)[1, :, axis]) == sign
        low, high = np.where(same, middle, low), np.where(same, high, middle)
    exact = t[1:-1][(slope[1:-1] == 0) & (slope[:-2] * slope[2:] < 0)]
    return np.sort(np.concatenate([(low + high) / 2, exact]))


@dataclass(frozen=True, eq=False)
class Crossings:
    """Where two curves cross as they are seen.

    Attributes
    ----------
    first, second : (n,) arrays
        Parameters on each.
    gap : (n,) array
        How far they are apart there in space, mm: a crossing that does not touch is a near miss.
    """

    first: Floats
    second: Floats
    gap: Floats


def crossings(first: BSplineCurve, second: BSplineCurve, sight: Floats) -> Crossings:
    """Find where two curves cross when they are looked at along a direction.

    Segments of fine polylines are crossed pair by pair; Newton's method settles each.

    Parameters
    ----------
    sight : (3,) array
        The direction of view.
    """
    flat = np.linalg.svd(sight.reshape(1, 3))[2][1:].T
    ta, tb = (sample_parameters(c.knots, 24) for c in (first, second))
    a, b = curve_points(first, ta) @ flat, curve_points(second, tb) @ flat
    da, db = np.diff(a, axis=0), np.diff(b, axis=0)
    gap = b[None, :-1] - a[:-1, None]
    cross = da[:, None, 0] * db[None, :, 1] - da[:, None, 1] * db[None, :, 0]
    safe = np.where(np.abs(cross) < 1e-300, np.inf, cross)
    u = (gap[..., 0] * db[None, :, 1] - gap[..., 1] * db[None, :, 0]) / safe
    v = (gap[..., 0] * da[:, None, 1] - gap[..., 1] * da[:, None, 0]) / safe
    hit = (u >= 0) & (u <= 1) & (v >= 0) & (v <= 1) & np.isfinite(safe)
    i, j = np.nonzero(hit)
    s = ta[i] + u[i, j] * np.diff(ta)[i]
    t = tb[j] + v[i, j] * np.diff(tb)[j]
    for _ in range(12):
        pa, pb = curve_derivatives(first, s, 1) @ flat, curve_derivatives(second, t, 1) @ flat
        away, da, db = pb[0] - pa[0], pa[1], pb[1]
        det = da[:, 0] * db[:, 1] - da[:, 1] * db[:, 0]
        det = np.where(np.abs(det) < 1e-14, np.inf, det)
        s = np.clip(s + (away[:, 0] * db[:, 1] - away[:, 1] * db[:, 0]) / det, 0, 1)
        t = np.clip(t + (away[:, 0] * da[:, 1] - away[:, 1] * da[:, 0]) / det, 0, 1)
    keep = np.concatenate([[True], np.diff(s) > 1e-7]) if len(s) else np.zeros(0, dtype=bool)
    s, t = s[keep], t[keep]
    gaps = np.linalg.norm(curve_points(first, s) - curve_points(second, t), axis=1)
    return Crossings(s, t, gaps)


@dataclass(frozen=True, eq=False)
class Distance:
    """The least and the most that one curve, or its points, lie from something.

    Attributes
    ----------
    least, most : float
        mm.
    at_least : (2, 3) array
        Where the least is: on the curve, and on the other.
    """

    least: float
    most: float
    at_least: Floats


def distance_between(curve: BSplineCurve, other: BSplineCurve) -> Distance:
    """Return the least and the most distance from the points of a curve to another curve."""
    t = sample_parameters(curve.knots, 24)
    places = curve_points(curve, t)
    _, feet, away = curve_foot_points(other, places)
    nearest = int(np.argmin(away))
    # The nearest pair, settled from both sides by turns.
    here, there = places[[nearest]], feet[[nearest]]
    for _ in range(20):
        here = curve_foot_points(curve, there)[1]
        there = curve_foot_points(other, here)[1]
    least = float(np.linalg.norm(here - there))
    return Distance(min(least, float(away.min())), float(away.max()), np.concatenate([here, there]))
