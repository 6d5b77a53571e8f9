"""Drape: a B-spline surface laid over a region of measured points."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.adaptive import Attempt, Laid, exchanged, grown, stepped
from usual_clay.core.fit.base import Base, DrapeSettings, Sizes, lay_flat
from usual_clay.core.fit.mirror import mirrored
from usual_clay.core.fit.sample import Sample, spike_weights
from usual_clay.core.fit.system import FitError, Space, fit_control_points
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

# The points' parameters u and v, and how far each point is believed.
Start = tuple[Floats, Floats, Floats]
ROUNDS = 8
# Another round pays while it lowers the rms deviation by more than this part.
WORTHWHILE = 0.005
# Parameters are moved a little past their foot points: the surface follows them only in part.
RELAXATION = 0.6
# Adaptive knots are chosen by so many of the points.
ADAPTING_POINTS = 8_000
# Knots stay where they are after so many corrections of the parameters.
ADAPTED_ROUNDS = 2
# Less than this share of points that the surface faces away from is noise.
MOST_FOLDED = 0.005


@dataclass(frozen=True, eq=False)
class Drape:
    """A draped surface and how the points lie to it.

    Attributes
    ----------
    surface : BSplineSurface
    feet : FootPoints
        Of every point of the sample.
    weights : (n,) array
        1 for a point that is believed, towards 0 for a spike.
    rounds : int
        How often parameters were corrected and the surface fitted.
    words : str
        What the user should know of it: what its conditions cost.
    """

    surface: BSplineSurface
    feet: FootPoints
    weights: Floats
    rounds: int
    words: str = ""

    @property
    def start(self) -> Start:
        return self.feet.u, self.feet.v, self.weights


def with_images(sample: Sample, settings: DrapeSettings) -> Sample:
    """Return what is fitted: the points, and behind them their mirror images where wanted."""
    if not settings.symmetric:
        return sample
    return mirrored(sample, "xyz".index(settings.symmetric))


def adapted_space(
    sample: Sample,
    settings: Sizes,
    base: Base,
    stiffness: float,
    start: Start,
    near: Space | None = None,
) -> Space:
    """Return the spline space for points with given parameters; even where that is asked for.

    From the coarsest surface on, or from a space with nearly as many, each new knot line is put
    where the systematic error is greatest for the control points that it adds; then those that
    earn least are moved. All of it on an even choice of the points, at fixed parameters.
    """
    if settings.knots == "even":
        return base.start_space(settings)
    laid = laid_for_knots(sample, base, stiffness, start)
    if near is not None and base.least is None:
        attempt = stepped(laid, laid.fitted(near), (settings.nu, settings.nv))
        return _moved_about(laid, attempt, settings, base)
    fewest = base.fewest(settings.degree)
    begin = settings.sized(
        fewest[0] if settings.is_adaptive("u") else settings.nu,
        fewest[1] if settings.is_adaptive("v") else settings.nv,
    )
    attempt = grown(laid, laid.fitted(base.start_space(begin)), (settings.nu, settings.nv))
    if base.least is not None:
        # Knots that borders need stay.
        return attempt.space if base.mirror is None else base.mirror.doubled(attempt.space)
    return _moved_about(laid, attempt, settings, base)


def _moved_about(laid: Laid, attempt: Attempt, settings: Sizes, base: Base) -> Space:
    """Move the knots of an attempt that earn least to where they earn more."""
    directions = "".join(d for d in "uv" if settings.is_adaptive(d))
    space = exchanged(laid, attempt, directions).space
    return space if base.mirror is None else base.mirror.spread(space)


def laid_for_knots(sample: Sample, base: Base, stiffness: float, start: Start) -> Laid:
    """Return an even choice of the points, with their parameters, to choose knots by."""
    step = max(1, len(sample.points) // ADAPTING_POINTS)
    u, v, weights = (part[::step] for part in start)
    return Laid(sample.points[::step], u, v, weights, stiffness, base.size, sample.noise, base.held)


def stiffness_of(smoothness: float, base: Base) -> float:
    """Return the thin plate's factor in mm squared."""
    return float(10 ** (8 * smoothness - 12) * base.size[0] * base.size[1])


def fit_once(
    sample: Sample,
    base: Base,
    space: Space,
    stiffness: float,
    start: Start,
) -> tuple[BSplineSurface, FootPoints]:
    """Fit a surface at the parameters `start` (u, v, weights) and find every point's foot.

    The feet are good enough to go on from: a distance is right to a part in a million of the
    surface's size.
    """
    u, v, weights = start
    held = None if base.held is None else base.held(space)
    points = fit_control_points(space, u, v, sample.points, weights, stiffness, base.size, held)
    surface = BSplineSurface(space.knots_u, space.knots_v, points)
    if base.mirror is not None:
        surface = base.mirror.halved(surface)
    step = 1e-4 * max(base.size)
    return surface, foot_points(surface, sample.points, (u, v), step)


def drape(
    sample: Sample,
    settings: DrapeSettings,
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Drape], None] | None = None,
    begin: BSplineSurface | None = None,
) -> Drape:
    """Fit a surface to a region.

    Alternates a robust least-squares fit at fixed parameters with the correction of the
    parameters by foot points (Hoschek 1988) until another round no longer pays.

    Parameters
    ----------
    start : Start, optional
        Parameters and weights of an earlier drape of the same sample, frame and reach.
    found : callable, optional
        Told of each round's result, to show while it gets better.
    begin : BSplineSurface, optional
        One that lies near already, with the knots that are wanted, such as one that a search has
        fitted to a choice of the points.

    Raises
    ------
    FitError, FoldsOverError
    """
    own, sample = sample, with_images(sample, settings)
    base = lay_flat(sample, settings)
    for name, count, least in zip("uv", (settings.nu, settings.nv), base.fewest(settings.degree),
                                  strict=True):  # fmt: skip
        if count < least:
            raise FitError(
                f"a surface of degree {settings.degree} that closes in {name} needs at least"
                f" {least} control points that way, not {count}"
            )
    best = settled(sample, settings, base, start, progress, found, begin)
    count = len(own.points)
    seed = best.feet.u[:count], best.feet.v[:count]
    exact = foot_points(best.surface, own.points, seed)
    words = [folds_in(best.surface, exact, own.normals)]
    if base.closed and not settings.closed:
        words.append(f"the region runs once round: the surface is closed in {base.closed}")
    if settings.symmetric:
        plain = replace(settings, symmetric="")
        free = settled(own, plain, lay_flat(own, plain), progress=progress)
        words.append(cost_of("symmetry", exact.signed, free.feet.signed))
    told = "; ".join(filter(None, words))
    return replace(best, feet=exact, weights=best.weights[:count], words=told)


def folds_in(surface: BSplineSurface, feet: FootPoints, normals: Floats) -> str:
    """Say where a surface folds over: it faces away there from what it was fitted to."""
    facing = np.einsum("nk,nk->n", surface_normals(surface, feet.u, feet.v), normals)
    share = float(np.mean(facing < 0))
    if share < MOST_FOLDED:
        return ""
    return (
        f"the surface folds over at {percent(share)} of the points: fewer control points, more"
        " smoothness or other borders may help"
    )


def cost_of(condition: str, held: Floats, free: Floats) -> str:
    """Say what a condition costs in deviation: with it, and with as many points free of it."""
    with_it, without = (float(np.quantile(np.abs(signed), 0.95)) for signed in (held, free))
    return (
        f"{condition} costs {max(with_it - without, 0.0):.4f} mm: 95 % of the points lie within"
        f" {with_it:.4f} mm, within {without:.4f} mm without it"
    )


def settled(
    sample: Sample,
    settings: Sizes,
    base: Base,
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Drape], None] | None = None,
    begin: BSplineSurface | None = None,
) -> Drape:
    """Alternate fits and corrections of the parameters until another round no longer pays."""
    stiffness = stiffness_of(settings.smoothness, base)
    floor = 1e-6 * max(base.size)
    u, v, weights = base.u, base.v, np.ones(len(sample.points))
    if start is not None and len(start[0]) == len(sample.points):
        u, v, weights = start
    elif begin is not None:
        near = foot_points(begin, sample.points, (u, v), step=1e-4 * max(base.size))
        u, v = near.u, near.v
        weights = spike_weights(near.signed, sample.neighbours, floor)
    if begin is not None:
        space = Space(begin.knots_u, begin.knots_v, *begin.degrees, base.closed)
    last, best = np.inf, None
    for round_number in range(1, ROUNDS + 1):
        progress((round_number - 1) / ROUNDS, f"round {round_number}")
        if begin is None and round_number <= ADAPTED_ROUNDS:
            space = adapted_space(sample, settings, base, stiffness, (u, v, weights))
        surface, feet = fit_once(sample, base, space, stiffness, (u, v, weights))
        rms = _weighted_rms(feet.signed, weights)
        if best is None or rms < last:
            best = Drape(surface, feet, weights, round_number)
            if found is not None:
                found(best)
        # The weights of the first round are not settled yet: always go on to a second.
        if round_number > 1 and rms > last * (1 - WORTHWHILE):
            break
        last = rms
        u = _past(u, feet.u, base.closed == "u")
        v = _past(v, feet.v, base.closed == "v")
        weights = spike_weights(feet.signed, sample.neighbours, floor)
    assert best is not None
    return best


def _past(old: Floats, foot: Floats, closed: bool) -> Floats:
    """Return parameters a little past their foot points."""
    by = foot - old
    if closed:
        return np.asarray((foot + RELAXATION * (by - np.round(by))) % 1.0, dtype=np.float64)
    return np.clip(foot + RELAXATION * by, 0.0, 1.0)


def _weighted_rms(signed: Floats, weights: Floats) -> float:
    return float(np.sqrt(np.average(signed**2, weights=np.maximum(weights, 1e-12))))
