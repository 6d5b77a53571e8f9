"""Where two families of curves cross: found, told, and which of two gives way."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, as_place, told_at
from usual_clay.core.build.guide import Gap
from usual_clay.core.build.sections import BuildError
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.measured import Measured

SEEN, STEPS = 400, 12


@dataclass(frozen=True, eq=False)
class Crossings:
    """Where two families cross.

    Attributes
    ----------
    along, across : (n, m) arrays
        For each curve along and each across the shares of their lengths at which they pass.
    gap : (n, m) array
        How far apart, mm.
    place : (n, m, 3) array
        Where they are to meet.
    """

    along: Floats
    across: Floats
    gap: Floats
    place: Floats


def crossings(
    along: tuple[BSplineCurve, ...], across: tuple[BSplineCurve, ...], share: float = 0.5
) -> Crossings:
    """Find where each pair passes nearest: from samples, then by Newton's steps on both.

    Parameters
    ----------
    share : float
        How far from the first curve to the second the place is taken at which they meet.
    """
    fine = np.linspace(0, 1, SEEN)
    seen = [[curve_points(curve, fine) for curve in curves] for curves in (along, across)]
    trees = [cKDTree(places) for places in seen[0]]
    begun = np.zeros((2, len(along), len(across)))
    for i, tree in enumerate(trees):
        for j, places in enumerate(seen[1]):
            away, near = tree.query(places)
            at = int(np.argmin(away))
            begun[:, i, j] = fine[near[at]], fine[at]
    s, t, a, b = _settled(along, across, *begun)
    ways = [[Measured(curve) for curve in curves] for curves in (along, across)]
    return Crossings(
        np.array([way.shares(row) for way, row in zip(ways[0], s, strict=True)]),
        np.array([way.shares(row) for way, row in zip(ways[1], t.T, strict=True)]).T,
        np.linalg.norm(a - b, axis=2),
        a + share * (b - a),
    )


def _settled(
    along: tuple[BSplineCurve, ...], across: tuple[BSplineCurve, ...], s: Floats, t: Floats
) -> tuple[Floats, Floats, Floats, Floats]:
    """Return where each pair of curves is nearest to each other, from near there.

    Steps of Gauss and Newton, all pairs at once: curves cross at an angle.

    Returns
    -------
    s, t : (n, m) arrays
        Parameters.
    a, b : (n, m, 3) arrays
        The places.
    """
    for _ in range(STEPS):
        a, da = _rows(along, s)
        b, db = (part.swapaxes(0, 1) for part in _rows(across, t.T))
        gap = a - b
        aa, ab, bb = (np.einsum("nmk,nmk->nm", x, y) for x, y in ((da, da), (da, db), (db, db)))
        p, q = np.einsum("nmk,nmk->nm", gap, da), -np.einsum("nmk,nmk->nm", gap, db)
        whole = aa * bb - ab**2
        # Where they run side by side any place is as good.
        whole = np.where(whole > 1e-12 * aa * bb, whole, np.inf)
        steps = (bb * p + ab * q) / whole, (aa * q + ab * p) / whole
        s, t = np.clip(s - steps[0], 0, 1), np.clip(t - steps[1], 0, 1)
        if max(np.abs(steps[0]).max(), np.abs(steps[1]).max()) < 1e-13:
            break
    return s, t, _rows(along, s)[0], _rows(across, t.T)[0].swapaxes(0, 1)


def _rows(curves: tuple[BSplineCurve, ...], t: Floats) -> tuple[Floats, Floats]:
    """Return places and slopes of each curve at its row of parameters, (n, m, 3)."""
    made = np.stack([curve_derivatives(c, row, 1) for c, row in zip(curves, t, strict=True)])
    return made[:, 0], made[:, 1]


def check_gaps(met: Crossings, names: tuple[list[str], list[str]], most: float) -> None:
    worst = np.unravel_index(int(np.argmax(met.gap)), met.gap.shape)
    if met.gap[worst] > most:
        i, j = int(worst[0]), int(worst[1])
        more = int((met.gap > most).sum()) - 1
        where = told_at(met.place[i, j])
        others = f", and {more} more pairs do not meet" if more else ""
        raise BuildError(
            f"{names[0][i]} and {names[1][j]} do not cross: they pass at {met.gap[i, j]:.3f} mm"
            f" near {where}{others}; up to {most:g} mm is mended",
            met.place[i, j],
        )


def families(curves: tuple[BSplineCurve, ...], most: float) -> tuple[list[int], list[int]]:
    """Part curves into two families of which each crosses only the other.

    Parameters
    ----------
    most : float
        Curves that pass at no more than this cross, mm.

    Returns
    -------
    Two lists of places in `curves`; the second is empty where they do not part so.
    """
    met = crossings(curves, curves).gap <= most
    np.fill_diagonal(met, False)
    side: dict[int, int] = {0: 0}
    left = [0]
    while left:
        here = left.pop()
        for there in np.flatnonzero(met[here]).tolist():
            if there not in side:
                side[there] = 1 - side[here]
                left.append(there)
            elif side[there] == side[here]:
                return list(range(len(curves))), []
    if len(side) < len(curves):
        return list(range(len(curves))), []
    return tuple([k for k in range(len(curves)) if side[k] == s] for s in (0, 1))  # type: ignore[return-value]


def with_kept(
    along: tuple[BSplineCurve, ...],
    across: tuple[BSplineCurve, ...],
    met: Crossings,
    outer: tuple[Border, ...],
) -> Crossings:
    """Let the outermost curves stay where they are: the others are brought to them."""
    place = met.place.copy()
    for border in outer:
        end = -int(border[1])
        if border[0] == "v":
            place[end] = Measured(along[end]).at(met.along[end])
        else:
            place[:, end] = Measured(across[end]).at(met.across[:, end])
    return replace(met, place=place)


def corners(
    met: Crossings,
    names: tuple[list[str], list[str]],
    poles: dict[Border, Floats],
    closed: str,
    curves: tuple[tuple[BSplineCurve, ...], tuple[BSplineCurve, ...]],
) -> tuple[Gap, ...]:
    """Return how far the outermost curves pass each other at corners, and end from a pole."""
    found = []
    for i in (0, -1):
        for j in (0, -1):
            borders: tuple[str, str] = f"v{-i}", f"u{-j}"
            if closed or all(border in poles for border in borders):
                continue
            between = f"{names[0][i]} and {names[1][j]}"
            gap, place = float(met.gap[i, j]), met.place[i, j]
            for one, name, family in zip(borders, names, curves, strict=True):
                other = borders[1 - borders.index(one)]
                if other in poles:
                    # Any share is as good at a pole: it is the curve's end that counts.
                    end = i if family is curves[0] else j
                    ends = curve_points(family[end], np.array([0.0, 1.0]))
                    place = poles[other]
                    gap = float(np.linalg.norm(ends - place, axis=1).min())
                    between = f"{name[end]} and the place where all of them end"
            found.append(Gap(between, gap, as_place(place)))
    return tuple(found)
