"""Splines through ordered runs of points: least squares with corrected parameters and knots."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.fit.corners import find_corners
from usual_clay.core.fit.system import FitError
from usual_clay.core.points.course import suggest_slips
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.basis import (
    HIGHEST_DEGREE,
    basis_functions,
    collocation,
    even_knots,
    gram,
)
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives

ROUNDS, WORTHWHILE = 8, 0.005
# The least stiffness that settles control points between which no point of the run lies.
LEAST_STIFFNESS = 1e-9
# Points that stray so many times the noise from a smooth course do not draw the spline.
STRAYS = 10.0
# Two adaptive knots are no nearer than this share of an even step.
LEAST_STEP = 0.15


@dataclass(frozen=True)
class RunSettings:
    """What the user sets of a spline that follows a run.

    Attributes
    ----------
    controls, degree : int
        Control points, more than the degree, and the degree.
    knots : {"even", "adaptive"}
        Spread evenly along the run, or closer where its shape needs them.
    corners : float
        The run is parted where it turns by more than this, radians; 0 parts it nowhere.
    part : int
        Which of the parts is followed.
    """

    controls: int = 12
    degree: int = 3
    knots: Literal["even", "adaptive"] = "even"
    corners: float = 0.0
    part: int = 0

    def __post_init__(self) -> None:
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not self.degree < self.controls <= 400:
            raise FitError(
                f"degree {self.degree} needs {self.degree + 1} to 400 control points,"
                f" not {self.controls}"
            )
        if self.knots not in ("even", "adaptive"):
            raise FitError(f"knots must be even or adaptive, not {self.knots!r}")

    def sized(self, controls: int) -> RunSettings:
        return replace(self, controls=controls)


@dataclass(frozen=True, eq=False)
class Run:
    """An ordered run.

    Attributes
    ----------
    points : (n, 3) array
        mm.
    closed : bool
        Whether the last is followed by the first.
    held : (bool, bool)
        Whether a spline through an open run starts and ends just at its ends, as parts do that
        meet at a corner.
    """

    points: Floats
    closed: bool = False
    held: tuple[bool, bool] = (False, False)

    @property
    def noise(self) -> float:
        """The standard deviation of one coordinate's noise, mm, from third differences."""
        if len(self.points) < 12:
            return 0.0
        third = np.abs(np.diff(self.points, 3, axis=0))
        return float(1.4826 * np.median(third, axis=0).max() / np.sqrt(20.0))


@dataclass(frozen=True, eq=False)
class RunFit:
    """A fitted curve and the distance of each point from it, (n,) in mm."""

    curve: BSplineCurve
    signed: Floats


def parts_of(run: Run, corners: float) -> list[Run]:
    """Part a run at its corners; both parts hold the corner's point.

    A run without corners comes back whole, closed if it was.
    """
    at = find_corners(run.points, run.closed, corners) if corners > 0 else np.zeros(0, np.int64)
    if not len(at):
        return [run]
    if run.closed:
        points = np.roll(run.points, -at[0], axis=0)
        points, ends = np.concatenate([points, points[:1]]), at - at[0]
    else:
        points, ends = run.points, np.concatenate([[0], at])
    ends = np.append(ends, len(points) - 1)
    cuts = [(a, b) for a, b in pairwise(ends) if b > a]
    last = len(cuts) - 1
    return [
        Run(points[a : b + 1], held=(run.closed or k > 0, run.closed or k < last))
        for k, (a, b) in enumerate(cuts)
    ]


def fit_run(run: Run, settings: RunSettings, progress: Progress = silent) -> RunFit:
    """Fit a spline of given control points to a run, or to one of the parts between its corners.

    Parameters start as chord lengths and are set to the foot points until that no longer pays
    (Hoschek 1988). Adaptive knots are spread by the size of the next derivative as the last
    round shows it (de Boor 1978, ch. 12). The ends of a closed run meet, with one tangent and one
    curvature. Points that stray far from the run's course do not draw the curve.

    Raises
    ------
    FitError
        For fewer points than control points, or a part that is not there.
    """
    parts = parts_of(run, settings.corners)
    if settings.part >= len(parts):
        raise FitError(f"the run has only {len(parts)} parts between corners now")
    part = parts[settings.part]
    curve = RunFitter(part, settings.degree).fit(settings.controls, settings.knots, progress)[0]
    return RunFit(curve, curve_foot_points(curve, part.points)[2])


class RunFitter:
    """A run being fitted: parameters, knots and curve, each round a little better."""

    def __init__(self, run: Run, degree: int) -> None:
        self.run, self.degree = run, degree
        self.points = np.concatenate([run.points, run.points[:1]]) if run.closed else run.points
        length = np.linalg.norm(np.diff(self.points, axis=0), axis=1)
        along = np.concatenate([[0], np.cumsum(length)])
        if not along[-1] > 0:
            raise FitError("all points of the run are on one spot")
        self.chord = along / along[-1]
        self.t = self.chord
        self.weights = np.where(self._strays(), 0.0, 1.0)
        self.curve: BSplineCurve | None = None
        self.distance: Floats = np.zeros(len(run.points))

    def _strays(self) -> Bools:
        noise = self.run.noise
        out = np.zeros(len(self.points), dtype=bool)
        if noise > 0 and len(self.run.points) > 40:
            out[: len(self.run.points)] = suggest_slips(
                self.run.points, STRAYS * noise, self.run.closed
            )
        # Where much strays, it is the shape: then nothing is left out.
        return out if out.mean() < 0.1 else np.zeros(len(out), dtype=bool)

    def fit(
        self, controls: int, rule: str, progress: Progress = silent
    ) -> tuple[BSplineCurve, Floats]:
        """Return the best curve of so many control points, and the points' distances.

        Each fit begins anew with chord lengths, as a curve that was too lean may have led
        parameters astray; adaptive knots begin with what a richer curve shows of the shape.
        """
        self.t = self.chord
        if rule == "adaptive":
            self.refine(min(2 * controls, max(controls, len(self.points) // 3)), "even")
        best: tuple[float, BSplineCurve, Floats] | None = None
        for number in range(ROUNDS):
            progress(number / ROUNDS, f"round {number + 1}")
            self.refine(controls, rule)
            assert self.curve is not None
            believed = self.distance[self.weights[: len(self.distance)] > 0]
            deviation = float(np.quantile(believed, 0.95))
            if best is None or deviation < best[0]:
                gain = 1.0 if best is None else 1 - deviation / best[0]
                best = (deviation, self.curve, self.distance)
                if gain < WORTHWHILE and number > 3:
                    break
        assert best is not None
        return best[1], best[2]

    def refine(self, controls: int, rule: str) -> None:
        """Do one round: knots, control points, parameters."""
        if len(self.points) < controls:
            raise FitError(
                f"{len(self.run.points)} points are too few for {controls} control points"
            )
        knots = even_knots(controls, self.degree)
        if rule == "adaptive" and self.curve is not None:
            knots = redistributed(self.curve, controls)
        self.curve = BSplineCurve(knots, self._solved(knots))
        self.t, distance = _corrected(self.curve, self.points, self.t)
        self.distance = distance[: len(self.run.points)]

    def _solved(self, knots: Floats) -> Floats:
        """Return the control points of least squares, summed span by span."""
        degree, count = self.degree, len(knots) - self.degree - 1
        span, values = basis_functions(knots, degree, self.t)
        rows = values[0]
        first = span - degree
        normal = np.zeros((count, count))
        right = np.zeros((count, self.points.shape[1]))
        for a in range(degree + 1):
            weighted = rows[a] * self.weights
            for k in range(self.points.shape[1]):
                right[:, k] += np.bincount(first + a, weighted * self.points[:, k], count)
            for b in range(a, degree + 1):
                sums = np.bincount(first + a, weighted * rows[b], count)[: count - (b - a)]
                place = np.arange(len(sums))
                normal[place, place + b - a] += sums
        normal = normal + np.triu(normal, 1).T
        stiff = gram(knots, degree, min(2, degree))
        normal += LEAST_STIFFNESS * np.trace(normal) / max(np.trace(stiff), 1e-300) * stiff
        if self.run.closed:
            return _solved_closed(knots, degree, normal, right)
        made = np.zeros((count, self.points.shape[1]))
        free = np.ones(count, dtype=bool)
        for end, held in zip((0, -1), self.run.held, strict=True):
            if held:
                made[end], free[end] = self.points[end], False
        rest = right - normal @ made
        made[free] = np.linalg.solve(normal[np.ix_(free, free)], rest[free])
        return made


def _solved_closed(knots: Floats, degree: int, normal: Floats, right: Floats) -> Floats:
    """Solve with ends that meet in place and derivatives, by Lagrange multipliers."""
    order = min(2, degree - 1)
    ends = np.array([0.0, 1.0])
    rows = [collocation(knots, degree, ends, k) for k in range(order + 1)]
    joins = np.array([row[0] - row[1] for row in rows])
    joins /= np.linalg.norm(joins, axis=1, keepdims=True)
    count, more = len(normal), len(joins)
    system = np.zeros((count + more, count + more))
    scale = float(np.trace(normal)) / count
    system[:count, :count] = normal / scale
    system[count:, :count], system[:count, count:] = joins, joins.T
    whole = np.concatenate([right / scale, np.zeros((more, right.shape[1]))])
    return np.asarray(np.linalg.solve(system, whole))[:count]


def _corrected(curve: BSplineCurve, points: Floats, t: Floats) -> tuple[Floats, Floats]:
    """Move parameters by one Newton step towards the foot points; return the distances there."""
    place, first, second = curve_derivatives(curve, t, 2)
    gap = place - points
    slope = np.einsum("nk,nk->n", gap, first)
    speed = np.einsum("nk,nk->n", first, first)
    bend = speed + np.einsum("nk,nk->n", gap, second)
    step = slope / np.where(bend > 0.2 * speed, bend, np.maximum(speed, 1e-300))
    moved = np.clip(t - np.clip(step, -0.05, 0.05), 0.0, 1.0)
    # To first order what is left is the part of the gap across the curve.
    along = slope**2 / np.maximum(speed, 1e-300)
    across = np.einsum("nk,nk->n", gap, gap) - np.where((moved > 0) & (moved < 1), along, 0.0)
    return moved, np.sqrt(np.maximum(across, 0.0))


def redistributed(curve: BSplineCurve, controls: int) -> Floats:
    """Spread knots so that each span holds the same of the next derivative (de Boor's newnot).

    The derivative one past the degree is taken from the jumps of the degree's own derivative
    between spans; knots are spread by its root, which is what an optimal spline's error follows.
    """
    degree = curve.degree
    breaks = np.unique(curve.knots)
    inner = controls - degree
    if len(breaks) < 3 or inner < 2:
        return even_knots(controls, degree)
    middles = (breaks[:-1] + breaks[1:]) / 2
    highest = curve_derivatives(curve, middles, degree)[degree]
    jump = np.linalg.norm(np.diff(highest, axis=0), axis=1)
    width = np.diff(breaks)
    at_break = jump / ((width[:-1] + width[1:]) / 2)
    size = np.concatenate([at_break[:1], (at_break[:-1] + at_break[1:]) / 2, at_break[-1:]])
    density = size ** (1.0 / (degree + 1))
    # A floor keeps quiet stretches from losing all their knots.
    density += 0.05 * float(np.average(density, weights=width)) + 1e-300
    held = np.concatenate([[0], np.cumsum(density * width)])
    even = np.linspace(0, held[-1], inner + 1)
    spread = np.interp(even, held, breaks)
    # No two knots so near that points cannot tell them apart.
    least = LEAST_STEP / inner
    steps = np.maximum(np.diff(spread), least)
    inside = np.cumsum(steps)[:-1] / steps.sum()
    return np.concatenate([np.zeros(degree + 1), inside, np.ones(degree + 1)])
