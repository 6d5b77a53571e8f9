"""Cast: a B-spline surface laid over a region of measured points."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.deviation import percent
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.between import with_guides
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.mirror import mirrored
from usual_clay.core.fit.parameterize.region import (
    FREE_EDGES,
    CastSettings,
    Parameterization,
    Sizes,
    adaptive_directions,
    has_net,
)
from usual_clay.core.fit.solve.adaptive import exchanged, grown
from usual_clay.core.fit.solve.edges import constrained_edges
from usual_clay.core.fit.solve.laid import NEAR, Attempt, Laid
from usual_clay.core.fit.solve.run_out import run_out, words_of
from usual_clay.core.fit.solve.slide import (
    LEAST_AT_REST,
    LEAST_WITHIN,
    Start,
    fit_from,
    pulls_of,
    stepped,
)
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.sample import Sample, beside
from usual_clay.core.spline.closest import (
    FootPoints,
    foot_points,
    heights,
    sought_anew,
)
from usual_clay.core.spline.seeds import nearer_seed
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

ROUNDS = 8
# From a surface that lies near already, fewer are worth their time.
ROUNDS_FROM_NEAR = 3
# Of more points than twice as many, a choice is fitted first: so many for each control point, from
# so many on, and no more than those.
SETTLING_POINTS = 25_000
SETTLING_EACH, SETTLING_LEAST = 200, 8_000
# Feet are good enough to go on from whose next move is shorter than this share of the surface.
NEAR_ENOUGH = 1e-4
# Another round pays while it lowers the rms deviation by more than this part.
WORTHWHILE = 0.005
# The same from a net that was found before.
WORTHWHILE_FOUND = 0.01
# The same where a choice of the points has come to rest before.
WORTHWHILE_AFTER = 0.02
# Where all points lie no farther off than so many times what a choice of them does, they are not
# fitted once more.
AGREES = 1.02
# Adaptive knots are chosen by so many of the points.
ADAPTING_POINTS = 6_000
# So often the coarsest surface is fitted before knots come in.
COARSE_ROUNDS = 3
# Less than this share of points that the surface faces away from is noise.
MOST_FOLDED = 0.005
# A point of less weight is a spike.
BELIEVED = 0.5


@dataclass(frozen=True, eq=False)
class Cast:
    """A cast surface and how the points lie to it.

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
        What the user should know of it.
    areas : (n,) array or None
        How much of the area each point stands for; alike where None.
    """

    surface: BSplineSurface
    feet: FootPoints
    weights: Floats
    rounds: int
    words: str = ""
    areas: Floats | None = None

    @property
    def start(self) -> Start:
        return Start(self.feet.u, self.feet.v, self.weights, self.surface)

    @property
    def counted(self) -> Floats:
        """How much each point counts: as far as it is believed, for the area it stands for."""
        return self.weights if self.areas is None else self.weights * self.areas


def with_images(sample: Sample, settings: CastSettings) -> Sample:
    """Return what is fitted: the points, and behind them their mirror images where wanted, or
    guides between rows of loose points."""
    if not settings.symmetric:
        return with_guides(sample)
    return mirrored(sample, "xyz".index(settings.symmetric))


def adapted(
    sample: Sample, settings: Sizes, base: Parameterization, stiffness: float, start: Start
) -> BSplineSurface:
    """Return a surface with adaptive knots, fitted to an even choice of the points.

    From the coarsest surface on, each new knot line is put where the systematic error is greatest
    for the control points that it adds; then those that earn least are moved.
    """
    laid = laid_for_knots(sample, base, stiffness, start)
    first = base.first(settings.degree)
    begin = settings.sized(
        min(first[0], settings.nu) if settings.is_adaptive("u") else settings.nu,
        min(first[1], settings.nv) if settings.is_adaptive("v") else settings.nv,
    )
    laid, attempt = laid.settled(base.start_space(begin), COARSE_ROUNDS)
    laid, attempt = grown(laid, attempt, (settings.nu, settings.nv))
    laid, attempt = exchanged(laid, attempt, adaptive_directions(settings), base.kept)
    return surface_of(laid, attempt, base)


def surface_of(laid: Laid, attempt: Attempt, base: Parameterization) -> BSplineSurface:
    """Return an attempt's surface; on knots that are their own mirror image where there is one."""
    if base.mirror is None:
        return attempt.surface
    both = base.mirror.spread if base.least is None else base.mirror.doubled
    return laid.fitted(both(attempt.space)).surface


def laid_for_knots(
    sample: Sample,
    base: Parameterization,
    stiffness: float,
    start: Start,
    most: int = ADAPTING_POINTS,
) -> Laid:
    """Return an even choice of the points, with their parameters, to choose knots by."""
    step = max(1, len(sample.points) // most)
    points = sample.points[::step]
    few = sample if step == 1 else Sample(points, sample.normals[::step])
    return Laid(
        points,
        start.every(step),
        stiffness,
        base.size,
        sample.noise,
        beside(points, few.neighbours, start.every(step).places(base.size)),
        sample.areas[::step],
        base.fixed,
        base.held,
    )


def fit_once(
    sample: Sample,
    base: Parameterization,
    space: Space,
    stiffness: float,
    start: Start,
) -> tuple[BSplineSurface, FootPoints]:
    """Fit a surface to points with known parameters and find every point's foot.

    Where the parameters are feet on a surface, points may slide along it: what counts is how far
    they lie across it. That comes to rest far sooner than holding them to their feet. The new
    feet are good enough to go on from: a distance is right to a part in a million of the
    surface's size.
    """
    held = None if base.held is None else base.held(space)
    least = LEAST_AT_REST if held is None else LEAST_WITHIN
    pulls = pulls_of(start, sample.points, least)
    counted = start._replace(weights=start.weights * sample.areas)
    points = fit_from(space, sample.points, counted, pulls, stiffness, base.size, held)
    surface = BSplineSurface(space.knots_u, space.knots_v, points)
    if base.mirror is not None:
        surface = base.mirror.halved(surface)
    step = NEAR_ENOUGH * max(base.size)
    return surface, foot_points(surface, sample.points, (start.u, start.v), step, order=1)


def _many(sample: Sample) -> bool:
    """Tell whether there are so many points that a choice of them is fitted first."""
    return len(sample.points) >= 2 * SETTLING_POINTS


def _settling_step(sample: Sample, settings: Sizes) -> int:
    """Return of how many points one is fitted first."""
    if not _many(sample):
        return 1
    enough = max(SETTLING_LEAST, SETTLING_EACH * settings.nu * settings.nv)
    return len(sample.points) // min(SETTLING_POINTS, enough)


def cast(
    sample: Sample,
    settings: CastSettings,
    progress: Progress = silent,
    found: Callable[[Cast], None] | None = None,
) -> Cast:
    """Fit a surface to a region: the same one for the same sample and settings, whatever was
    fitted before.

    Alternates a robust least-squares fit with the correction of the parameters by foot points
    (Hoschek 1988), along which the points may slide in the next fit (`fit_sliding`), until
    another round no longer pays.

    Parameters
    ----------
    found : callable, optional
        Told of each round's result, to show while it gets better.

    Raises
    ------
    FitError, FoldsOverError
    """
    own, sample = sample, with_images(sample, settings)
    base = parameterize(sample, settings)
    for name, count, least in zip(
        "uv", (settings.nu, settings.nv), base.fewest(settings.degree), strict=True
    ):
        if count < least:
            raise FitError(
                f"a surface of degree {settings.degree} that closes in {name} needs at least"
                f" {least} control points that way, not {count}"
            )
    best = begin = first = None
    if settings.edges == FREE_EDGES:
        first = _of_choice(sample, settings, base, base.begun(sample), progress, found)
    if first is not None:
        best, begin = _of_all(own, first, base), first.surface
    if best is None:
        best = settled(sample, settings, base, None, progress, found, begin)
        if settings.edges != FREE_EDGES:
            best = with_constrained_edges(sample, settings, base, best)
        best = _ran_out(own, best, base, (best.feet.u, best.feet.v))
    folds = folds_in(best.surface, best.feet, own.telling, best.weights)
    words = [base.words, best.words, folds]
    if base.closed and not settings.closed:
        words.append(f"the region runs once round: the surface is closed in {base.closed}")
    return replace(best, words="; ".join(filter(None, words)))


def _of_all(own: Sample, first: Cast, base: Parameterization) -> Cast | None:
    """Return a fit to a choice of the points with the feet of all, where those lie as near."""
    at = base.u[: len(own.points)], base.v[: len(own.points)]
    made = _ran_out(own, first, base, at, nearer=True)
    about = beside(own.points, own.neighbours, Start(*at, made.weights).places(base.size))
    made = replace(made, weights=own.believed(made.feet.signed, about))
    expected = _weighted_rms(first.feet.signed, first.counted)
    return made if _weighted_rms(made.feet.signed, made.counted) <= AGREES * expected else None


def _ran_out(
    own: Sample, tight: Cast, base: Parameterization, at: Sequence[Floats], nearer: bool = False
) -> Cast:
    """Let a cast run out past its region, with the exact feet of all points, and say of it what
    should be said.

    Parameters
    ----------
    at : two arrays
        Parameters near the points' feet on the tight surface; images may lie behind them.
    nearer : bool
        Whether they are to be brought nearer.
    """
    count, wanted, surface, told = len(own.points), np.array(base.past), tight.surface, ""
    u, v = (t[:count] for t in at)
    if wanted.any():
        feet, mirror = tight.feet, "" if base.mirror is None else base.mirror.direction
        off = _weighted_rms(feet.signed, tight.weights)
        made = run_out(surface, wanted, (feet.u, feet.v), off, mirror)
        surface = made.surface if base.mirror is None else base.mirror.halved(made.surface)
        u, v = made.parameters(u, "u"), made.parameters(v, "v")
        told = words_of(wanted, made.past)
    if nearer:
        u, v = nearer_seed(surface, own.points, (u, v))
    exact = foot_points(surface, own.points, (u, v), order=1)
    exact = sought_anew(surface, own.points, exact)
    weights = tight.weights[:count]
    return replace(tight, surface=surface, feet=exact, weights=weights, words=told, areas=own.areas)


def with_constrained_edges(
    sample: Sample, settings: CastSettings, base: Parameterization, free: Cast
) -> Cast:
    """Fit a cast again with edges brought onto a line or a plane, the nearest to where they lay.

    Of an edge and its mirror image both are held where one is.
    """
    rules = list(settings.edges)
    if base.mirror is not None:
        pair = (0, 1) if base.mirror.direction == "u" else (2, 3)
        stricter = max((rules[k] for k in pair), key=("free", "flat", "straight").index)
        rules[pair[0]] = rules[pair[1]] = stricter
    held = constrained_edges(free.surface.points, rules)
    begin = replace(free.surface, points=held.points)
    return settled(sample, settings, replace(base, held=lambda _space: held), begin=begin)


def folds_in(
    surface: BSplineSurface, feet: FootPoints, telling: tuple[Ints, Floats], weights: Floats
) -> str:
    """Say where a surface folds over: it faces away there from what it was fitted to.

    Spikes face anywhere: they are left out. What faces away as a whole does not fold. Feet and
    weights may be those of the first points alone.

    Parameters
    ----------
    telling : (k,) integers and (k, 3) array
        Which of the points tell, and their normals.
    """
    some, normals = telling
    believed = some < len(weights)
    believed[believed] = weights[some[believed]] > BELIEVED
    some, normals = some[believed], normals[believed]
    if not len(some):
        return ""
    out = surface_normals(surface, feet.u[some], feet.v[some])
    away = float(np.mean(np.einsum("nk,nk->n", out, normals) < 0))
    share = min(away, 1 - away)
    if share < MOST_FOLDED:
        return ""
    return (
        f"the surface folds over at {percent(share)} of the points: fewer control points, more"
        " smoothness or other borders may help"
    )


def settled(
    sample: Sample,
    settings: Sizes,
    base: Parameterization,
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Cast], None] | None = None,
    begin: BSplineSurface | None = None,
) -> Cast:
    """Alternate fits and corrections of the parameters until another round no longer pays."""
    stiffness = stiffness_of(settings.smoothness, base.size)
    now = base.begun(sample)
    if start is not None and len(start.u) == len(sample.points):
        now = start._replace(home=base.home)
    about = beside(sample.points, sample.neighbours, now.places(base.size))
    many, expected = _settling_step(sample, settings) > 1, 0.0
    if begin is None:
        first = _of_choice(sample, settings, base, now, progress, found)
        if first is None:
            begin = _set_out(sample, settings, base, now)
        else:
            begin, expected = first.surface, _weighted_rms(first.feet.signed, first.counted)
    rounds, worth, last = ROUNDS, WORTHWHILE, np.inf
    best: Cast | None = None
    if begin is None:
        space = base.start_space(settings)
    else:
        space = Space(begin.knots_u, begin.knots_v, *begin.degrees, base.closed)
        at = _brought(sample, begin, now, about, base, many)
        last = _weighted_rms(at.feet.signed, at.weights * sample.areas)
        if last <= AGREES * expected:
            return at
        if many:
            # With knots just chosen, the points have not come to rest.
            rounds, worth = ROUNDS_FROM_NEAR, WORTHWHILE_AFTER
        elif has_net(settings) and base.mirror is None and base.held is None:
            # What was found stays unless it gets better still.
            best, worth = at, WORTHWHILE_FOUND
        # Where points have come to rest, to hold them there is the same, and sooner done.
        now = Start(at.feet.u, at.feet.v, at.weights, None if many else begin, base.home)
        if base.fixed:
            now = Start(base.u, base.v, at.weights)
    for round_number in range(1, rounds + 1):
        progress((round_number - 1) / rounds, f"round {round_number}")
        surface, feet = fit_once(sample, base, space, stiffness, now)
        rms = _weighted_rms(feet.signed, now.weights * sample.areas)
        if best is None or rms < last:
            best = Cast(surface, feet, now.weights, round_number)
            if found is not None:
                found(best)
        # The weights of the very first round are not settled yet: always go on to a second.
        if rms > last * (1 - worth):
            break
        last = rms
        weights = sample.believed(heights(surface, sample.points, feet), about)
        if base.fixed:
            now = Start(base.u, base.v, weights, home=base.home)
        else:
            now = stepped(now, feet, surface, weights)
    assert best is not None
    return best


def _set_out(
    sample: Sample, settings: Sizes, base: Parameterization, now: Start
) -> BSplineSurface | None:
    """Return what a fit sets out from: the net that its settings give, or chosen knots; None where
    from the points' parameters alone."""
    if has_net(settings):
        return base.set_out_from(settings)
    if settings.knots != "even":
        return adapted(sample, settings, base, stiffness_of(settings.smoothness, base.size), now)
    return None


def _of_choice(
    sample: Sample,
    settings: Sizes,
    base: Parameterization,
    now: Start,
    progress: Progress,
    found: Callable[[Cast], None] | None,
) -> Cast | None:
    """Return a fit to an even choice of very many points; None where there are not so many."""
    step = _settling_step(sample, settings)
    if step == 1:
        return None
    few = Sample(sample.points[::step], sample.normals[::step], area=sample.areas[::step])
    part = replace(base, u=base.u[::step], v=base.v[::step])
    made = settled(few, settings, part, now.every(step), progress, found)
    return replace(made, areas=few.areas)


def _brought(
    sample: Sample,
    surface: BSplineSurface,
    now: Start,
    about: Ints,
    base: Parameterization,
    many: bool,
) -> Cast:
    """Return the points brought to their feet on a surface that lies near, where many roughly."""
    seed = now.u, now.v
    if many:
        seed = nearer_seed(surface, sample.points, seed)
    near = (NEAR if many else NEAR_ENOUGH) * max(base.size)
    feet = foot_points(surface, sample.points, seed, near, order=1)
    weights = sample.believed(heights(surface, sample.points, feet), about)
    return Cast(surface, feet, weights, 0)


def _weighted_rms(signed: Floats, weights: Floats) -> float:
    return float(np.sqrt(np.average(signed**2, weights=np.maximum(weights, 1e-12))))
