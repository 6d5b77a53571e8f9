"""Curves made ready for a surface: sampled alike, their directions and seams matched."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats, as_place, told_at
from usual_clay.core.errors import GeometryError
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.measured import Measured

SAMPLES = 120
SEAM_TRIES = 120
# Places at which a curve is looked at for crossing itself.
SEEN = 240


class BuildError(GeometryError):
    """Curves that make no such surface: which, where, and what to do.

    Attributes
    ----------
    at : (x, y, z) or None
        Where, if it is at one place.
    """

    def __init__(self, words: str, at: Floats | None = None) -> None:
        super().__init__(words)
        self.at = None if at is None else as_place(at)


def check_curves(curves: tuple[BSplineCurve, ...], what: str) -> None:
    """Refuse curves that are mere points or not finite.

    Raises
    ------
    BuildError
    """
    for number, curve in enumerate(curves, 1):
        if not np.isfinite(curve.points).all():
            raise BuildError(f"{what} {number} holds numbers that are not finite")
        if not Measured(curve).length > 0:
            raise BuildError(f"{what} {number} is a mere point: take it out")


def check_crossing(curves: tuple[BSplineCurve, ...], what: str) -> None:
    """Refuse curves that cross themselves, seen square to the plane that they lie in most.

    Raises
    ------
    BuildError
    """
    for number, curve in enumerate(curves, 1):
        # Unevenly, so that no crossing falls on a place by symmetry.
        places = curve_points(curve, np.linspace(0, 1, SEEN) ** 1.02)
        own = places - places.mean(axis=0)
        flat = own @ np.linalg.svd(own, full_matrices=False)[2][:2].T
        at = _crossing_of(flat)
        if at is not None:
            where = told_at(places[at])
            raise BuildError(
                f"{what} {number} crosses itself near {where}: split it there, or draw it anew",
                places[at],
            )


def _crossing_of(flat: Floats) -> int | None:
    """Return where a polyline, (n, 2), crosses itself: the first leg that does."""
    start, legs = flat[:-1], np.diff(flat, axis=0)

    def side(of: Floats, along: Floats, place: Floats) -> Floats:
        gap = place[None] - of[:, None]
        return np.asarray(along[:, None, 0] * gap[..., 1] - along[:, None, 1] * gap[..., 0])

    # Each leg's ends lie on either side of the other.
    apart = side(start, legs, start) * side(start, legs, start + legs) < 0
    crossed = apart & apart.T
    count = len(legs)
    far = np.abs(np.subtract.outer(np.arange(count), np.arange(count)))
    crossed &= (far > 1) & (far < count - 1)
    first = np.flatnonzero(crossed.any(axis=1))
    return int(first[0]) if len(first) else None


def matched(curves: tuple[BSplineCurve, ...], what: str = "section") -> list[Measured]:
    """Return curves with their directions and seams matched to the first.

    Of a closed one each of many places is tried as its seam, both ways round; the one that makes
    the way from the curve before shortest is taken.

    Raises
    ------
    BuildError
        For open and closed ones among each other.
    """
    check_curves(curves, what)
    made = [Measured(curves[0])]
    for number, curve in enumerate(curves[1:], 2):
        before, own = made[-1], Measured(curve)
        if own.closed != before.closed:
            raise BuildError(
                f"{what} {number} is {'closed' if own.closed else 'open'} and the one before it is"
                " not: all are to be closed, or all open"
            )
        made.append(_matched(own, before))
    return made


def _matched(curve: Measured, before: Measured) -> Measured:
    both = (curve, curve.turned())
    share = np.arange(SEAM_TRIES) / (SEAM_TRIES if before.closed else SEAM_TRIES - 1)
    there = _about_its_middle(before.at(share))
    if not before.closed:
        return min(both, key=lambda s: float(((_about_its_middle(s.at(share)) - there) ** 2).sum()))
    places = (np.arange(SEAM_TRIES)[:, None] + np.arange(SEAM_TRIES)) % SEAM_TRIES
    # How far apart they are for each shift, by the products of all pairs.
    fits = [
        (_about_its_middle(way.at(share)) @ there.T)[places, np.arange(SEAM_TRIES)].sum(axis=1)
        for way in both
    ]
    way = int(np.argmax([fit.max() for fit in fits]))
    return both[way].beginning_at(int(np.argmax(fits[way])) / SEAM_TRIES)


def _about_its_middle(points: Floats) -> Floats:
    return points - points.mean(axis=0)


def spaced(rows: Floats) -> Floats:
    """Return parameters of rows of places by how far they lie apart, (k,), from 0 to 1.

    Parameters
    ----------
    rows : (k, n, 3) array

    Raises
    ------
    BuildError
        For two rows in one place.
    """
    legs = np.linalg.norm(np.diff(rows, axis=0), axis=2).mean(axis=1)
    size = float(np.ptp(rows.reshape(-1, 3), axis=0).max())
    for number, leg in enumerate(legs, 1):
        if leg <= 1e-9 * max(size, 1e-12):
            raise BuildError(f"curves {number} and {number + 1} lie on each other: take one out")
    along = np.concatenate([[0.0], np.cumsum(legs)])
    return along / along[-1]
