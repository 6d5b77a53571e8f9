"""Splines through ordered runs of points: least squares with corrected parameters and knots."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Place
from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.corners import find_corners
from usual_clay.core.fit.solve.adaptive import spread_knots
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
# Longer runs are thinned to so many points until knots and parameters are settled.
SETTLING_POINTS, FULL_ROUNDS = 1600, 2
# Three rounds that leave so many times the wanted deviation will not come down to it.
HOPELESS = 1.6
# The least stiffness that settles control points between which no point of the run lies.
LEAST_STIFFNESS = 1e-9
# Points that stray so many times the noise from a smooth course do not draw the spline.
STRAYS = 10.0
LEAST_NOISE = 2e-5


@dataclass(frozen=True)
class TraceSettings:
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
    cuts : tuple of (x, y, z)
        The run is parted as well at the points nearest to these places, whatever its turn there.
    """

    controls: int = 12
    degree: int = 3
    knots: Literal["even", "adaptive"] = "even"
    corners: float = 0.0
    part: int = 0
    cuts: tuple[Place, ...] = ()

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

    def sized(self, controls: int) -> TraceSettings:
        return replace(self, controls=controls)


@dataclass(frozen=True, eq=False)
class Leave:
    """How a spline leaves an end of a run.

    Attributes
    ----------
    ahead : (3,) array
        Its direction there, as the run runs; of length 1.
    bend : (3,) array or None
        Its curvature vector, 1/mm, where that is held too.
    """

    ahead: Floats
    bend: Floats | None = None


@dataclass(frozen=True, eq=False)
class PointSequence:
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
    leaves : (Leave or None, Leave or None)
        Directions that are held at held ends.
    """

    points: Floats
    closed: bool = False
    held: tuple[bool, bool] = (False, False)
    leaves: tuple[Leave | None, Leave | None] = (None, None)

    @property
    def noise(self) -> float:
        """The standard deviation of one coordinate's noise, mm, from third differences."""
        if len(self.points) < 12:
            return 0.0
        third = np.abs(np.diff(self.points, 3, axis=0))
        return float(1.4826 * np.median(third, axis=0).max() / np.sqrt(20.0))


@dataclass(frozen=True, eq=False)
class CurveFit:
    """A fitted curve and the distance of each point from it, (n,) in mm."""

    curve: BSplineCurve
    signed: Floats


def parts_of(
    run: PointSequence, corners: float, cuts: tuple[Place, ...] = ()
) -> list[PointSequence]:
    """Part a run at its corners and cuts; both parts hold the point there.

    A run without corners comes back whole, closed if it was.
    """
    at = (
        find_corners(run.points, run.closed, corners, run.noise)
        if corners > 0
        else np.zeros(0, np.int64)
    )
    if cuts:
        away = np.linalg.norm(run.points[:, None] - np.array(cuts), axis=2)
        at = np.union1d(at, away.argmin(axis=0))
    if not len(at):
        return [run]
    if run.closed:
        points = np.roll(run.points, -at[0], axis=0)
        points, ends = np.concatenate([points, points[:1]]), at - at[0]
    else:
        points, ends = run.points, np.concatenate([[0], at])
    ends = np.append(ends, len(points) - 1)
    stretches = [(a, b) for a, b in pairwise(ends.tolist()) if b > a]
    last = len(stretches) - 1
    return [
        PointSequence(points[a : b + 1], held=(run.closed or k > 0, run.closed or k < last))
        for k, (a, b) in enumerate(stretches)
    ]


def fit_sequence(
    run: PointSequence, settings: TraceSettings, progress: Progress = silent
) -> CurveFit:
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
    parts = parts_of(run, settings.corners, settings.cuts)
    if settings.part >= len(parts):
        raise FitError(f"the run has only {len(parts)} parts between corners now")
    return _fit_part(parts[settings.part], settings, progress)


def thinned(run: PointSequence) -> PointSequence:
    """Return a run of enough points to settle parameters and knots by, both ends kept."""
    step = max(1, len(run.points) // SETTLING_POINTS)
    points = run.points[::step]
    if not run.closed and (len(run.points) - 1) % step:
        points = np.concatenate([points, run.points[-1:]])
    return replace(run, points=points)


def _fit_part(part: PointSequence, settings: TraceSettings, progress: Progress) -> CurveFit:
    light = thinned(part)
    fitter = SequenceFitter(light, settings.degree)
    curve, _ = fitter.fit(settings.controls, settings.knots, progress)
    seed = fitter.best_t
    if len(light.points) < len(part.points):
        # All points draw the curve that the thinned run has settled.
        whole = SequenceFitter(part, settings.degree, (curve, fitter.chord, seed))
        for _ in range(FULL_ROUNDS):
            whole.refine(settings.controls, "kept")
        assert whole.curve is not None
        curve, seed = whole.curve, whole.t
    seed = seed[: len(part.points)]
    return CurveFit(curve, curve_foot_points(curve, part.points, seed)[2])


class SequenceFitter:
    """A run being fitted: parameters, knots and curve, each round a little better."""

    def __init__(
        self,
        run: PointSequence,
        degree: int,
        settled: tuple[BSplineCurve, Floats, Floats] | None = None,
    ) -> None:
        """Begin with chord lengths, or with a curve and parameters at chord lengths."""
        self.run, self.degree = run, degree
        self.points = np.concatenate([run.points, run.points[:1]]) if run.closed else run.points
        length = np.linalg.norm(np.diff(self.points, axis=0), axis=1)
        along = np.concatenate([[0], np.cumsum(length)])
        if not along[-1] > 0:
            raise FitError("all points of the run are on one spot")
        self.length = float(along[-1])
        self.chord = along / self.length
        self.t = self.best_t = self.chord
        self.curve: BSplineCurve | None = None
        self.distance: Floats = np.zeros(len(run.points))
        if settled is None:
            self.weights = np.where(self._strays(), 0.0, 1.0)
        else:
            self.curve, chord, t = settled
            self.t, away = _corrected(self.curve, self.points, np.interp(self.chord, chord, t))
            limit = max(STRAYS * run.noise, STRAYS * float(np.median(away)), 1e-12)
            self.weights = np.where((away > limit) & (np.mean(away > limit) < 0.1), 0.0, 1.0)

    def _strays(self) -> Bools:
        noise = self.run.noise
        # A run without noise has no strays: what leaves its course is shape.
        if noise < LEAST_NOISE * float(np.ptp(self.points, axis=0).max()):
            noise = 0.0
        out = np.zeros(len(self.points), dtype=bool)
        if noise > 0 and len(self.run.points) > 40:
            out[: len(self.run.points)] = suggest_slips(
                self.run.points, STRAYS * noise, self.run.closed
            )
        # Where much strays, it is the shape: then nothing is left out.
        return out if out.mean() < 0.1 else np.zeros(len(out), dtype=bool)

    def fit(
        self,
        controls: int,
        rule: str,
        progress: Progress = silent,
        enough: float = 0.0,
        share: float = 0.95,
    ) -> tuple[BSplineCurve, Floats]:
        """Return the best curve of so many control points, and the points' distances.

        It is done as soon as a share of the points lies within `enough` mm, or is far from it.

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
                self.best_t = self.t
                if gain < WORTHWHILE and number > 3:
                    break
            if enough > 0 and (
                float(np.quantile(self.distance, share)) <= enough
                or (number > 1 and deviation > HOPELESS * enough)
            ):
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
            knots = spread_knots(self.curve.knots, self.curve.points, controls)
        elif rule == "kept" and self.curve is not None:
            knots = self.curve.knots
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
        if not self.run.closed and not any(self.run.held):
            return np.asarray(np.linalg.solve(normal, right))
        return _with_conditions(normal, right, *self._conditions(knots))

    def _conditions(self, knots: Floats) -> tuple[Floats, Floats]:
        """Return what must hold of the control points: rows, and the values they give, (k, 3)."""
        degree, ends = self.degree, np.array([0.0, 1.0])
        rows: list[Floats] = []
        values: list[Floats] = []
        if self.run.closed:
            for order in range(min(2, degree - 1) + 1):
                row = collocation(knots, degree, ends, order)
                rows.append(row[0] - row[1])
                values.append(np.zeros(3))
            return np.array(rows), np.array(values)
        slopes = collocation(knots, degree, ends, 1)
        bends = collocation(knots, degree, ends, 2)
        for end, held, leave in zip((0, -1), self.run.held, self.run.leaves, strict=True):
            if not held:
                continue
            row = np.zeros(len(knots) - degree - 1)
            row[end] = 1.0
            rows.append(row)
            values.append(self.points[end])
            if leave is None:
                continue
            # How fast the curve of the last round runs there; chord lengths to begin with.
            speed = (
                self.length
                if self.curve is None
                else float(np.linalg.norm(curve_derivatives(self.curve, ends[[end]], 1)[1, 0]))
            )
            rows.append(slopes[end])
            values.append(leave.ahead * speed)
            if leave.bend is not None and degree > 1:
                rows.append(bends[end])
                values.append(leave.bend * speed**2)
        return np.array(rows), np.array(values)


def _with_conditions(normal: Floats, right: Floats, rows: Floats, values: Floats) -> Floats:
    """Solve least squares with conditions, by Lagrange multipliers."""
    size = np.linalg.norm(rows, axis=1, keepdims=True)
    rows, values = rows / size, values / size
    count, more = len(normal), len(rows)
    system = np.zeros((count + more, count + more))
    scale = float(np.trace(normal)) / count
    system[:count, :count] = normal / scale
    system[count:, :count], system[:count, count:] = rows, rows.T
    whole = np.concatenate([right / scale, values])
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
