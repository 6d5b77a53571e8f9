"""Judging a curve: its curvature comb, inflections, smallest radius, and a reading in words."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives

PER_SPAN = 40
# Curvature below this share of the greatest is flat: its sign means nothing.
FLAT = 0.02
# A span that turns so many times faster than its neighbour is worth a word.
UNEVEN = 4.0
STRAIGHT = 0.05


@dataclass(frozen=True, eq=False)
class CombLine:
    """A line with its curvature.

    Attributes
    ----------
    points, curvature : (n, 3) arrays
        Places in mm, and curvature vectors in 1/mm, which point to the centre of the bend.
    inflections : (k, 3) array
        Where the bend changes its side.
    """

    points: Floats
    curvature: Floats
    inflections: Floats


@dataclass(frozen=True, eq=False)
class Comb(CombLine):
    """A curve's curvature.

    Attributes
    ----------
    t : (n,) array
    signed : (n,) array
        Their lengths, with the side of the bend seen along `normal` as sign.
    normal : (3,) array
        Of the plane in which the curve bends most.
    smallest_radius : float
        mm; infinite for a line.
    peak_ratio : float
        How many times faster a span turns at the most than one of its neighbours.
    """

    t: Floats
    signed: Floats
    normal: Floats
    smallest_radius: float
    peak_ratio: float


@lru_cache(maxsize=16)
def comb_of(curve: BSplineCurve, per_span: int = PER_SPAN) -> Comb:
    """Return a curve's comb, sampled within each knot span."""
    breaks = np.unique(curve.knots)
    share = (np.arange(per_span) + 0.5) / per_span
    t = (breaks[:-1, None] + np.diff(breaks)[:, None] * share).ravel()
    points, first, second = curve_derivatives(curve, t, 2)
    curvature, normal, signed = bends(first, second)
    size = np.linalg.norm(curvature, axis=1)
    inflections = points[sign_changes(signed, size)]
    greatest = float(size.max(initial=0.0))
    return Comb(
        points,
        curvature,
        inflections,
        t,
        signed,
        normal,
        1 / greatest if greatest > 1e-12 else float("inf"),
        _peak_ratio(size, per_span),
    )


def bends(first: Floats, second: Floats) -> tuple[Floats, Floats, Floats]:
    """Return how curves bend, from their derivatives at places along each.

    Parameters
    ----------
    first, second : (..., n, 3) arrays

    Returns
    -------
    curvature : (..., n, 3) array
        The curvature vectors, 1/mm.
    normal : (..., 3) array
        Of the plane in which each curve bends most.
    signed : (..., n) array
        The curvature with the side of the bend, seen along the normal, as sign.
    """
    speed = np.maximum((first * first).sum(axis=-1, keepdims=True), 1e-300)
    along = (first * second).sum(axis=-1, keepdims=True) / speed
    curvature = (second - along * first) / speed
    turn = np.cross(first, curvature) / np.sqrt(speed)
    normal = np.linalg.svd(turn, full_matrices=False)[2][..., 0, :]
    signed = (turn @ normal[..., None])[..., 0]
    side = np.where(signed.sum(axis=-1, keepdims=True) < 0, -1.0, 1.0)
    return curvature, normal * side, signed * side


def sign_changes(signed: Floats, size: Floats) -> Ints:
    """Return where a bend changes its side, stretches that are flat for its sizes passed over."""
    flat = FLAT * float(size.max(initial=0.0))
    told = np.flatnonzero(np.abs(signed) > flat)
    change = np.flatnonzero(np.diff(np.sign(signed[told])) != 0)
    return (told[change] + told[change + 1]) // 2


def _peak_ratio(size: Floats, per_span: int) -> float:
    """Return how many times faster a span turns at the most than one of its neighbours."""
    turns = size.reshape(-1, per_span).mean(axis=1)
    if len(turns) < 2 or turns.max() < 1e-9:
        return 1.0
    # Nearly straight beside nearly straight is no matter.
    near = np.maximum(turns, STRAIGHT * turns.max())
    return float(np.maximum(near[1:] / near[:-1], near[:-1] / near[1:]).max())


def in_words(comb: Comb) -> str:
    """Return a plain reading of a comb."""
    count = len(comb.inflections)
    words = [f"{count} inflection{'' if count == 1 else 's'}" if count else "no inflection"]
    if np.isfinite(comb.smallest_radius):
        words.append(f"smallest radius {comb.smallest_radius:.3g} mm")
    if comb.peak_ratio > UNEVEN:
        words.append(f"one span turns {comb.peak_ratio:.0f} times faster than its neighbour")
    return "; ".join(words)
