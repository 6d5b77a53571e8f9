"""Holds: what a curve must keep while its control points are moved.

Each hold is a few linear equations for the control points, or is made linear about the curve
as it stands and solved again until it holds. Of all curves that hold them the nearest to the one
that was asked for is taken: least squares with equality constraints, by Lagrange multipliers.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats, Place
from usual_clay.core.spline.basis import SplineError, collocation, gram
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points

HoldKind = Literal[
    "fixed",
    "on curve",
    "level",
    "upright",
    "along",
    "joined",
    "tangent",
    "curved",
    "size",
    "mirrored",
    "across",
]
SAID = {
    "fixed": "fixed in place",
    "on curve": "on another curve",
    "level": "tangent level",
    "upright": "tangent upright",
    "along": "tangent along a direction",
    "joined": "meets a neighbour, G0",
    "tangent": "meets a neighbour, G1",
    "curved": "meets a neighbour, G2",
    "size": "a distance between two places",
    "mirrored": "equal to its twin",
    "across": "square to its mirror plane",
}
NEEDS_OTHER = ("on curve", "joined", "tangent", "curved")
ROUNDS, HELD = 30, 1e-7
LEVEL, UPRIGHT = np.array([1.0, 0, 0]), np.array([0.0, 0, 1])
Equations = list[tuple[Floats, float]]


@dataclass(frozen=True)
class Hold:
    """One hold of a curve.

    Attributes
    ----------
    kind : str
        A name in `SAID`.
    at : float
        The parameter that it holds at, 0 to 1.
    to : float
        The other place of a distance.
    place : (x, y, z)
        Where it is fixed; the direction that it is along.
    axis : {"x", "y", "z", ""}
        Of a distance, and of a mirror plane; a distance without one is straight.
    value : float
        Of a distance, or where a mirror plane lies, mm.
    other : int
        Which of the curve's sources is the neighbour; -1 for none.
    """

    kind: HoldKind
    at: float = 0.0
    to: float = 1.0
    place: Place = (0.0, 0.0, 0.0)
    axis: str = ""
    value: float = 0.0
    other: int = -1

    @property
    def words(self) -> str:
        where = {0.0: "start", 1.0: "end"}.get(self.at, f"at {self.at:.2f}")
        if self.kind == "size":
            return f"{f'along {self.axis}' if self.axis else 'straight'} {self.value:g} mm"
        return SAID[self.kind] if self.kind == "mirrored" else f"{where} {SAID[self.kind]}"


class ClashError(SplineError):
    """Holds that cannot hold together."""


def apply_holds(
    curve: BSplineCurve, holds: Sequence[Hold], others: Sequence[BSplineCurve] = ()
) -> BSplineCurve:
    """Return the curve nearest to a given one that holds all holds.

    Nearest is meant over the whole length: the integral of the squared distance is least.

    Raises
    ------
    ClashError
        Naming the holds that cannot hold together.
    """
    made = _held(curve, holds, others)
    if made is not None:
        return made
    # The fewest that clash: each is left out in turn, and is part of the clash if that helps not.
    clash = list(holds)
    for hold in holds:
        rest = [each for each in clash if each is not hold]
        if rest and _held(curve, rest, others) is None:
            clash = rest
    names = "; ".join(f"“{each.words}”" for each in clash)
    if len(clash) == 1:
        raise ClashError(f"{names} cannot hold for this curve: it has too few control points")
    raise ClashError(f"these cannot hold together: {names}; take one of them away")


def _held(
    curve: BSplineCurve, holds: Sequence[Hold], others: Sequence[BSplineCurve]
) -> BSplineCurve | None:
    """Solve until all holds hold; None where they do not."""
    count = len(curve.points)
    weight = gram(curve.knots, curve.degree, 0)
    weight = weight / np.trace(weight) * count + 1e-6 * np.eye(count)
    quadratic = np.kron(weight, np.eye(3))
    wanted = curve.points.ravel()
    size = max(float(np.ptp(curve.points, axis=0).max()), 1e-9)
    now = curve
    for _ in range(ROUNDS):
        rows, right = _equations(now, holds, others)
        if not len(rows):
            return curve
        solved = _nearest(quadratic, wanted, rows, right)
        now = replace(curve, points=solved.reshape(-1, 3))
        rows, right = _equations(now, holds, others)
        if np.abs(rows @ now.points.ravel() - right).max() < HELD * max(size, 1.0):
            return now
    return None


def _nearest(quadratic: Floats, wanted: Floats, rows: Floats, right: Floats) -> Floats:
    """Return the x nearest to `wanted` with rows x = right; least squares where they clash."""
    size = np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-12)
    rows, right = rows / size, right / size[:, 0]
    back = np.linalg.solve(quadratic, rows.T)
    push = np.linalg.lstsq(rows @ back, right - rows @ wanted, rcond=1e-10)[0]
    return np.asarray(wanted + back @ push)


def _equations(
    curve: BSplineCurve, holds: Sequence[Hold], others: Sequence[BSplineCurve]
) -> tuple[Floats, Floats]:
    rows: list[Floats] = []
    right: list[float] = []
    for hold in holds:
        for row, value in _of_hold(curve, hold, others):
            rows.append(row)
            right.append(value)
    return np.array(rows).reshape(len(rows), -1), np.array(right)


def _of_hold(curve: BSplineCurve, hold: Hold, others: Sequence[BSplineCurve]) -> Equations:
    """Return a hold's equations about the curve as it stands: rows over x, y, z by turns."""
    at = np.array([hold.at])
    place = collocation(curve.knots, curve.degree, at)[0]
    if hold.kind == "fixed":
        return _at(place, np.array(hold.place))
    if hold.kind == "size":
        apart = collocation(curve.knots, curve.degree, np.array([hold.to]))[0] - place
        if hold.axis:
            return [(_over(apart, np.eye(3)["xyz".index(hold.axis)]), hold.value)]
        along = apart @ curve.points
        return [(_over(apart, along / max(np.linalg.norm(along), 1e-12)), hold.value)]
    if hold.kind == "mirrored":
        return _mirrored(curve, hold)
    if hold.kind == "on curve":
        here = curve_points(curve, at)
        t, feet, _ = curve_foot_points(others[hold.other], here)
        ahead = curve_derivatives(others[hold.other], t, 1)[1, 0]
        # Past an end of the other curve nothing but that end will do.
        inside = 1e-9 < t[0] < 1 - 1e-9
        sides = _square_to(ahead) if inside else np.eye(3)
        return [(_over(place, n), float(n @ feet[0])) for n in sides]
    slope = collocation(curve.knots, curve.degree, at, 1)[0]
    if hold.kind in ("level", "upright", "along", "across"):
        axis = np.eye(3)["xyz".index(hold.axis)] if hold.axis else LEVEL
        ahead = {"level": LEVEL, "upright": UPRIGHT, "across": axis}.get(
            hold.kind, np.array(hold.place)
        )
        equations = [(_over(slope, n), 0.0) for n in _square_to(ahead)]
        if hold.kind == "across":
            equations.append((_over(place, axis), hold.value))
        return equations
    return _met(curve, hold, others[hold.other], place, slope)


def _met(
    curve: BSplineCurve, hold: Hold, other: BSplineCurve, place: Floats, slope: Floats
) -> Equations:
    """Return the equations of an end that meets the nearest end of a neighbour."""
    here = curve.points[0 if hold.at == 0 else -1]
    end = int(np.argmin(np.linalg.norm(other.points[[0, -1]] - here, axis=1)))
    meets, ahead, second = curve_derivatives(other, [other.domain[end]], 2)[:, 0]
    equations = _at(place, meets)
    if hold.kind == "joined":
        return equations
    across = _square_to(ahead)
    equations += [(_over(slope, n), 0.0) for n in across]
    if hold.kind == "curved":
        speed = float(ahead @ ahead)
        bend = (second - (second @ ahead) / speed * ahead) / speed
        own = slope @ curve.points
        curved = collocation(curve.knots, curve.degree, np.array([hold.at]), 2)[0]
        equations += [(_over(curved, n), float(n @ bend) * float(own @ own)) for n in across]
    return equations


def _over(row: Floats, direction: Floats) -> Floats:
    """Return a row over x, y, z by turns, for one over control points and a direction."""
    return np.asarray(np.kron(row, direction), dtype=np.float64)


def _at(row: Floats, place: Floats) -> Equations:
    """Return the equations that put a place of the curve somewhere."""
    return [(_over(row, e), float(v)) for e, v in zip(np.eye(3), place, strict=True)]


def _mirrored(curve: BSplineCurve, hold: Hold) -> Equations:
    """Return the equations that make a curve its own mirror image, end for end."""
    axis = "xyz".index(hold.axis or "y")
    count = len(curve.points)
    equations = []
    for i in range((count + 1) // 2):
        j = count - 1 - i
        for k in range(3):
            row = np.zeros((count, 3))
            row[i, k] += 1
            row[j, k] += 1 if k == axis else -1
            if row.any():
                equations.append((row.ravel(), 2 * hold.value if k == axis else 0.0))
    return equations


def _square_to(ahead: Floats) -> Floats:
    """Return two unit directions square to one, (2, 3)."""
    return np.linalg.svd(np.reshape(ahead, (1, 3)))[2][1:]


@dataclass(frozen=True)
class HoldSettings:
    """A curve of control points that holds holds.

    Attributes
    ----------
    points : tuple of (x, y, z)
        Where the hand has put them.
    knots : tuple of float
    weights : tuple of float
        None where it is empty.
    holds : tuple of Hold
    """

    points: tuple[Place, ...] = ()
    knots: tuple[float, ...] = ()
    weights: tuple[float, ...] = ()
    holds: tuple[Hold, ...] = ()

    @property
    def asked(self) -> BSplineCurve:
        """The curve as the hand has put it."""
        weights = np.array(self.weights) if self.weights else None
        return BSplineCurve(np.array(self.knots), np.array(self.points), weights)
