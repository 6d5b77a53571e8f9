"""Curves made calmer or leaner: fair within a band, slim to fewer control points."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.fitter import SequenceFitter
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.spline.basis import collocation, gram, greville
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.knots import removal_residuals, remove_knot
from usual_clay.core.spline.parts import evenly
from usual_clay.core.spline.surface import sample_parameters

SAMPLES, HALVINGS = 1200, 24
# A curve is compared at so many places of each span; this share of its size is no change.
SAMPLED, EXACT = 16, 1e-9


@dataclass(frozen=True)
class FairSettings:
    """How far a curve may be smoothed: the band that it may not leave, mm."""

    band: float = 0.05


@dataclass(frozen=True)
class SlimSettings:
    """A curve remade.

    Attributes
    ----------
    controls : int
        Control points; 0 for as few as `within` allows.
    degree : int
    within : float
        mm.
    knots : {"even", "adaptive"}
    """

    controls: int = 0
    degree: int = 3
    within: float = 0.05
    knots: Literal["even", "adaptive"] = "adaptive"


@dataclass(frozen=True, eq=False)
class Remade:
    """A curve remade, and the farthest it lies from the old one, mm."""

    curve: BSplineCurve
    moved: float


def fair(curve: BSplineCurve, settings: FairSettings) -> Remade:
    """Smooth a curve as far as a band allows; its ends and end tangents stay.

    The integral of the squared third derivative, whose even spread makes a comb calm, is weighed
    against the distance from the old curve; the weight is the largest that keeps within the band
    (bisection; compare Eck and Hadenfeld 1995).

    Raises
    ------
    FitError
    """
    if not settings.band > 0:
        raise FitError("the band must be wider than 0 mm")
    count, degree = len(curve.points), curve.degree
    order = min(3, degree)
    stiff, near = gram(curve.knots, degree, order), gram(curve.knots, degree, 0)
    near = near / np.trace(near)
    stiff = stiff / max(float(np.trace(stiff)), 1e-300)
    held = np.zeros(count, dtype=bool)
    held[[0, 1, -2, -1]] = True
    t = sample_parameters(curve.knots, 24)
    rows = collocation(curve.knots, degree, t)
    if held.all():
        return Remade(curve, 0.0)

    def smoothed(weight: float) -> tuple[BSplineCurve, float]:
        system = near + weight * stiff
        right = near @ curve.points - system @ np.where(held[:, None], curve.points, 0.0)
        points = curve.points.copy()
        free = ~held
        points[free] = np.linalg.solve(system[np.ix_(free, free)], right[free])
        moved = float(np.linalg.norm(rows @ (points - curve.points), axis=1).max())
        made = replace(curve, points=points)
        if moved <= settings.band and curve.weights is None:
            return made, moved
        return made, float(curve_foot_points(curve, curve_points(made, t), t)[2].max())

    low, high = -14.0, 8.0
    best = (curve, 0.0)
    if (whole := smoothed(10**high))[1] <= settings.band:
        return Remade(*whole)
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        made = smoothed(10**middle)
        if made[1] <= settings.band:
            best, low = made, middle
        else:
            high = middle
    return Remade(*best)


def slim(curve: BSplineCurve, settings: SlimSettings) -> Remade:
    """Remake a curve with fewer control points, by number or as few as a tolerance allows.

    Where fewer will not do, the curve stays as it is.

    Raises
    ------
    FitError
    """
    if settings.controls and settings.controls <= settings.degree:
        raise FitError(
            f"degree {settings.degree} needs at least {settings.degree + 1} control points"
        )
    line = evenly(curve, SAMPLES)
    closed = float(np.linalg.norm(line[0] - line[-1])) < 1e-9 * max(float(np.ptp(line)), 1e-9)
    run = PointSequence(line[:-1], True) if closed else PointSequence(line, held=(True, True))
    if settings.controls:
        fitter = SequenceFitter(run, settings.degree)
        made = fitter.fit(settings.controls, settings.knots)[0]
    else:
        wanted = TraceSettings(max(12, settings.degree + 1), settings.degree, settings.knots)
        most = max(len(curve.points) - 1, settings.degree + 1)
        found = trace(run, wanted, Tolerance(settings.within, 0.999), limit=most)
        if not found.report.met:
            return Remade(curve, 0.0)
        made = found.fit.curve
    return Remade(made, float(curve_foot_points(made, line)[2].max()))


@dataclass(frozen=True, eq=False)
class Spare:
    """Control points that a curve can do without.

    Attributes
    ----------
    exactly, nearly : tuples of int
        Which, counted from 0: those without which the shape stays as it is, and those without
        which it stays within a tolerance; in the order in which they go.
    curve : BSplineCurve
        The curve without all of them.
    moved : float
        The farthest that it lies from the old one, mm.
    """

    exactly: tuple[int, ...]
    nearly: tuple[int, ...]
    curve: BSplineCurve
    moved: float

    @property
    def count(self) -> int:
        return len(self.exactly) + len(self.nearly)


def can_go(curve: BSplineCurve, within: float) -> Spare:
    """Find which control points a curve can do without, within a tolerance in mm.

    Knots are taken out again, the one that changes it least first, as long as it stays within the
    tolerance of the curve that it was (compare Lyche and Morken 1988). With each goes the control
    point that is nearest to it.
    """
    line = curve_points(curve, sample_parameters(curve.knots, SAMPLED))
    exact = EXACT * float(np.ptp(curve.points, axis=0).max())
    left = list(range(len(curve.points)))
    lean, moved = curve, 0.0
    gone: dict[bool, list[int]] = {True: [], False: []}
    while len(lean.points) > lean.degree + 1:
        inner = lean.knots[lean.degree + 1 : -lean.degree - 1]
        at = float(inner[np.argmin(removal_residuals(lean.knots, lean.points))])
        tried = remove_knot(lean, at)[0]
        away = float(curve_foot_points(tried, line)[2].max())
        if away > within:
            break
        near = int(np.argmin(np.abs(greville(lean.knots, lean.degree)[1:-1] - at))) + 1
        gone[away <= exact].append(left.pop(near))
        lean, moved = tried, away
    return Spare(tuple(gone[True]), tuple(gone[False]), lean, moved)
