"""Drape: a B-spline surface laid over a region of measured points."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal, Protocol, Self

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.adaptive import Attempt, Laid, exchanged, grown, stepped
from usual_clay.core.fit.frame import FrameChoice, Sides, base_frame, even_out, follow_sides
from usual_clay.core.fit.mirror import Mirror, mirrored, settle_mirror
from usual_clay.core.fit.sample import Sample, spike_weights
from usual_clay.core.fit.system import FitError, Held, Space, fit_control_points
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.lay_flat import FlatError
from usual_clay.core.spline.basis import HIGHEST_DEGREE, even_knots
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

KnotRule = Literal["even", "adaptive", "adaptive u", "adaptive v"]
KNOT_RULES = ("even", "adaptive", "adaptive u", "adaptive v")
# The points' parameters u and v, and how far each point is believed.
Start = tuple[Floats, Floats, Floats]
FEWEST, MOST = 4, 200
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
# The share of points that may face away from the base before the region counts as folded.
MOST_FACING_AWAY = 0.02


class FoldsOverError(FitError):
    """The region cannot be seen whole from the side of its base plane."""


class Sizes(Protocol):
    """What every fit of a surface to points is told."""

    @property
    def nu(self) -> int: ...
    @property
    def nv(self) -> int: ...
    @property
    def degree(self) -> int: ...
    @property
    def smoothness(self) -> float: ...
    @property
    def knots(self) -> KnotRule: ...
    def sized(self, nu: int, nv: int) -> Self: ...
    def is_adaptive(self, direction: str) -> bool: ...


@dataclass(frozen=True)
class DrapeSettings:
    """What the user sets of a drape.

    Attributes
    ----------
    nu, nv : int
        Control points along u and v, 4 to 200.
    degree : int
        1 to 7, in both directions; less than the counts.
    smoothness : float
        0 to 1. The stiffness of the thin plate, on a logarithmic scale and in proportion to the
        region's size, so that it means the same on a small part and on a large one.
    reach : float
        How far the surface runs past its region: the fraction, 0 to 1, that is added to its
        length and width, half of it at each end.
    frame : {"best", "axes", "locked"}
    plane : str
        The world axes of u and v, when the frame is locked to them.
    sides : {"follow", "straight"}
        Whether the surface's long sides follow the region's outline or the frame's rectangle.
    knots : {"even", "adaptive", "adaptive u", "adaptive v"}
        Spread evenly, or closer where the shape needs them, in both directions or in one.
    symmetric : {"", "x", "y", "z"}
        The axis of a mirror plane through the origin, about which the surface is symmetric.
    closed : {"", "u", "v"}
        The direction in which the surface runs once round, without a seam. A region of a scan
        that folds over and has two ends is closed by itself.
    """

    nu: int = 10
    nv: int = 10
    degree: int = 3
    smoothness: float = 0.2
    reach: float = 0.4
    frame: FrameChoice = "best"
    plane: str = "xy"
    sides: Sides = "follow"
    knots: KnotRule = "even"
    symmetric: Literal["", "x", "y", "z"] = ""
    closed: Literal["", "u", "v"] = ""

    def __post_init__(self) -> None:
        for name, count in (("u", self.nu), ("v", self.nv)):
            if not FEWEST <= count <= MOST:
                raise FitError(f"control points along {name} must be {FEWEST} to {MOST}: {count}")
            if count <= self.degree:
                raise FitError(
                    f"degree {self.degree} needs at least {self.degree + 1} control points"
                    f" along {name}, not {count}"
                )
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not (0 <= self.smoothness <= 1 and 0 <= self.reach <= 1):
            raise FitError("smoothness and reach must be 0 to 1")
        if self.frame not in ("best", "axes", "locked"):
            raise FitError("frame must be best, axes or locked")
        if self.knots not in KNOT_RULES:
            raise FitError(f"knots must be {', '.join(KNOT_RULES[:-1])} or {KNOT_RULES[-1]}")
        if self.sides not in ("follow", "straight"):
            raise FitError("sides must be follow or straight")
        if self.symmetric not in ("", "x", "y", "z"):
            raise FitError(f"symmetric about x, y or z, not {self.symmetric!r}")
        if self.closed not in ("", "u", "v"):
            raise FitError(f"a surface closes in u or v, not {self.closed!r}")
        if self.closed and self.symmetric:
            raise FitError("a surface that closes is not made symmetric: choose one of them")
        if len(set(self.plane)) != 2 or not set(self.plane) <= set("xyz"):
            raise FitError(f"the base plane must name two of x, y, z: {self.plane!r}")

    def same_base(self, other: DrapeSettings) -> bool:
        """Tell whether a region is laid flat alike, so that parameters can be taken over."""
        return all(
            getattr(self, name) == getattr(other, name)
            for name in ("reach", "frame", "plane", "sides", "symmetric", "closed")
        )

    def sized(self, nu: int, nv: int) -> DrapeSettings:
        return replace(self, nu=nu, nv=nv)

    def is_adaptive(self, direction: str) -> bool:
        return self.knots in ("adaptive", f"adaptive {direction}")


@dataclass(frozen=True, eq=False)
class Base:
    """A region laid flat: where a drape of it starts.

    Attributes
    ----------
    size : (float, float)
        Lengths along u and v on the surface, reach included, mm.
    u, v : (n,) arrays
        The points' parameters, in [0, 1].
    mirror : Mirror or None
        Where the surface is to be symmetric.
    least : Space or None
        The knots that its borders need.
    held : callable or None
        Gives the control points that are known in a space.
    closed : {"", "u", "v"}
        The direction in which it runs round.
    """

    size: tuple[float, float]
    u: Floats
    v: Floats
    mirror: Mirror | None = None
    least: Space | None = None
    held: Callable[[Space], Held] | None = None
    closed: str = ""

    def fewest(self, degree: int) -> tuple[int, int]:
        """Return the least counts along u and v."""
        open_ = max(FEWEST, degree + 1)
        # Fewer would overlap themselves on the way round.
        round_ = max(FEWEST, 2 * degree)
        return (
            round_ if self.closed == "u" else open_,
            round_ if self.closed == "v" else open_,
        )

    def start_space(self, settings: Sizes) -> Space:
        """Return the space of even knots, with what the borders need among them."""
        degree = settings.degree
        if self.least is None:
            knots = even_knots(settings.nu, degree), even_knots(settings.nv, degree)
            return Space(*knots, degree, degree, self.closed)
        least = self.least
        space = replace(
            least,
            knots_u=widened(least.knots_u, least.degree_u, settings.nu),
            knots_v=widened(least.knots_v, least.degree_v, settings.nv),
        )
        return space if self.mirror is None else self.mirror.doubled(space)


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


def lay_flat(sample: Sample, settings: DrapeSettings) -> Base:
    """Lay a region flat on its base rectangle.

    Raises
    ------
    FitError
        When there are too few points, or they span no area.
    FoldsOverError
        When the region folds over its base plane.
    """
    needed = settings.nu * settings.nv
    if len(sample.points) < needed:
        raise FitError(
            f"the region has {len(sample.points)} points, fewer than the {needed} control points"
            " asked for: choose a larger region or fewer control points"
        )
    if settings.closed:
        return _laid_round(sample, settings, settings.closed)
    frame = base_frame(sample.points, sample.normals, settings.frame, settings.plane)
    away = float(np.mean(sample.normals @ frame.axes[2] < 0))
    if away > MOST_FACING_AWAY and sample.has_mesh and not settings.symmetric:
        return (
            _laid_round(sample, settings, "v") if sample.runs_round else _unrolled(sample, settings)
        )
    if away > MOST_FACING_AWAY:
        raise FoldsOverError(
            f"the region folds over its base plane: {percent(away)} of it faces away."
            " Choose a smaller region, or use the four-corner patch"
        )
    u, v = np.clip((frame.local(sample.points)[:, :2] / frame.size).T, 0.0, 1.0)
    if settings.sides == "follow":
        v = np.clip(follow_sides(u, v), 0.0, 1.0)
    along, _, up = (sample.normals @ frame.axes.T).T
    # Only along the length, where ends turn down: across it, knots are better spread on the base.
    u, stretch = even_out(u, along, up)
    whole = 1 + settings.reach
    size = (float(frame.size[0]) * stretch * whole, float(frame.size[1]) * whole)
    u, v, mirror = 0.5 + (u - 0.5) / whole, 0.5 + (v - 0.5) / whole, None
    if settings.symmetric:
        mirror, u, v = settle_mirror(u, v, "xyz".index(settings.symmetric))
    return Base(size, u, v, mirror)


def _unrolled(sample: Sample, settings: DrapeSettings) -> Base:
    """Lay a region flat that cannot be seen whole from one side, by its conformal map."""
    try:
        places = sample.sheet.places
    except FlatError as error:
        raise FoldsOverError(
            f"the region folds over its base plane, and {error}. Choose a smaller region, or use"
            " the four-corner patch"
        ) from None
    flat = np.column_stack([places, np.zeros(len(places))])
    up = np.tile([0.0, 0.0, 1.0], (len(places), 1))
    frame = base_frame(flat, up)
    u, v = np.clip((frame.local(flat)[:, :2] / frame.size).T, 0.0, 1.0)
    if settings.sides == "follow":
        v = np.clip(follow_sides(u, v), 0.0, 1.0)
    whole = 1 + settings.reach
    size = (float(frame.size[0]) * whole, float(frame.size[1]) * whole)
    return Base(size, 0.5 + (u - 0.5) / whole, 0.5 + (v - 0.5) / whole)


def _laid_round(sample: Sample, settings: DrapeSettings, closed: str) -> Base:
    """Lay a tube flat; it reaches past its ends only."""
    if not sample.has_mesh:
        raise FitError(
            "loose points do not tell how they run round: close a region of a scan instead"
        )
    try:
        flat = sample.tube
    except FlatError as error:
        raise FitError(str(error)) from None
    along, across = flat.places.T
    length = float(np.ptp(along))
    whole = 1 + settings.reach
    u = 0.5 + ((along - along.min()) / length - 0.5) / whole
    v = across / flat.round
    if closed == "u":
        return Base((flat.round, length * whole), v, u, closed="u")
    return Base((length * whole, flat.round), u, v, closed="v")


def with_images(sample: Sample, settings: DrapeSettings) -> Sample:
    """Return what is fitted: the points, and behind them their mirror images where wanted."""
    if not settings.symmetric:
        return sample
    return mirrored(sample, "xyz".index(settings.symmetric))


def widened(knots: Floats, degree: int, count: int) -> Floats:
    """Halve the longest spans until there are so many control points."""
    while len(knots) - degree - 1 < count:
        at = int(np.argmax(np.diff(knots)))
        knots = np.insert(knots, at + 1, (knots[at] + knots[at + 1]) / 2)
    return knots


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
