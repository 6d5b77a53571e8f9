"""The leanest surface that brings curves within a distance: least squares over a guide.

Each way to make a surface from curves says where its curves lie on it, and what it wants between
them; how it is spent is the same for all of them. Points of the curves slide to their feet and
knots are put where they earn most, as in a cast; a stiff enough plate and the guide keep what
lies between calm.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from usual_clay.core.arrays import Floats, Place
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.region import CastSettings, Parameterization
from usual_clay.core.fit.search.knot_search import KnotSearch
from usual_clay.core.fit.solve.adaptive import Laid, exchanged, grown
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.basis import HIGHEST_DEGREE, even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface

# A guide counts for this share of what the curves count for, all its points together.
GUIDE_SHARE = 0.02
# This share of what counts is brought within the distance by the search, and what that leaves
# past it by asking for a little less.
SHARE, CLOSER, MOST_ROUNDS = 0.97, 0.9, 5
SMOOTHNESS = 0.15
MOST = 120
SETTLING = 3


@dataclass(frozen=True)
class Spend:
    """What a surface from curves may cost.

    Attributes
    ----------
    nu, nv : int
        Control points along u and v; 0 for as few as bring every curve within a distance.
    degree : int
        1 to 7, in both directions.
    within : float
        The distance, mm.
    """

    nu: int = 0
    nv: int = 0
    degree: int = 3
    within: float = 0.05

    def __post_init__(self) -> None:
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not (np.isfinite(self.within) and self.within > 0):
            raise FitError("the distance from the curves must be more than 0 mm")
        for name, count in (("u", self.nu), ("v", self.nv)):
            if count and not self.degree < count <= MOST:
                raise FitError(
                    f"degree {self.degree} takes {self.degree + 1} to {MOST} control points along"
                    f" {name}, not {count}"
                )


@dataclass(frozen=True, eq=False)
class Line:
    """A source curve on a surface.

    Attributes
    ----------
    points : (n, 3) array
    u, v : (n,) arrays
        About where they lie.
    """

    points: Floats
    u: Floats
    v: Floats


@dataclass(frozen=True)
class Gap:
    """Where two sources do not quite touch: how far apart, mm, and where."""

    between: str
    gap: float
    at: Place


@dataclass(frozen=True, eq=False)
class Guide:
    """What a surface is wanted to be.

    Attributes
    ----------
    lines : tuple of Line
        One for each source curve.
    u, v : arrays
        Parameters of the guide's grid, rising.
    grid : (len(u), len(v), 3) array
        The surface as it is wanted between the curves.
    closed : {"", "u", "v"}
        The direction in which it runs round.
    poles : dict
        Of borders that are one place: which, and where.
    gaps : tuple of Gap
    words : str
        What the user should know.
    level : (3,) array or None
        The direction to which the surface is square at its poles.
    names : tuple of str
        Of the sources, whose lines are the first; further lines are drawn by the sources.
    """

    lines: tuple[Line, ...]
    u: Floats
    v: Floats
    grid: Floats
    closed: str = ""
    poles: dict[str, Floats] = field(default_factory=dict)
    gaps: tuple[Gap, ...] = ()
    words: str = ""
    level: Floats | None = None
    names: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class Built:
    """A surface from curves.

    Attributes
    ----------
    surface : BSplineSurface
    distances : dict
        By the name of each source curve how far places along it lie off, mm.
    farthest : float
        How far any place lies off that the surface was to pass through, mm.
    gaps : tuple of Gap
    words : str
    """

    surface: BSplineSurface
    distances: dict[str, Floats]
    farthest: float = 0.0
    gaps: tuple[Gap, ...] = ()
    words: str = ""


def lean_surface(guide: Guide, spend: Spend, progress: Progress = silent) -> Built:
    """Return the leanest surface that brings each curve of a guide within a distance.

    Raises
    ------
    FitError
        For a guide that is not finite.
    """
    if not all(np.isfinite(part).all() for part in (guide.grid, *(x.points for x in guide.lines))):
        raise FitError("the curves hold numbers that are not finite")
    base, laid = _laid(guide)
    if spend.nu and spend.nv:
        surface = _of_counts(laid, base, spend)
        return _built(guide, surface)
    best: Built | None = None
    aim = CLOSER * spend.within
    for number in range(MOST_ROUNDS):
        progress(number / MOST_ROUNDS, f"within {aim:.3f} mm")
        made = _built(guide, _searched(laid, base, spend, aim))
        if best is None or made.farthest < best.farthest:
            best = made
        if made.farthest <= spend.within:
            break
        aim *= max(CLOSER * spend.within / made.farthest, 0.3)
    assert best is not None
    if best.farthest > spend.within:
        short = (
            f"the farthest curve lies {best.farthest:.3f} mm off: {spend.within:g} mm was not met"
        )
        best = replace(best, words="; ".join(filter(None, [best.words, short])))
    return best


def _laid(guide: Guide) -> tuple[Parameterization, Laid]:
    """Return the points of curves and guide where they lie on the surface."""
    grid_u, grid_v = (each.ravel() for each in np.meshgrid(guide.u, guide.v, indexing="ij"))
    points = np.concatenate([*(line.points for line in guide.lines), guide.grid.reshape(-1, 3)])
    u = np.concatenate([*(line.u for line in guide.lines), grid_u])
    v = np.concatenate([*(line.v for line in guide.lines), grid_v])
    count = len(points) - len(grid_u)
    areas = np.full(len(points), 1.0)
    if count:
        areas[count:] = GUIDE_SHARE * count / len(grid_u)
    legs = [np.linalg.norm(np.diff(guide.grid, axis=k), axis=2).sum(axis=k) for k in (0, 1)]
    size = max(float(legs[0].mean()), 1e-9), max(float(legs[1].mean()), 1e-9)
    # About a pole a place may slide anywhere: there all keep to what the guide says.
    base = Parameterization(size, u, v, closed=guide.closed, fixed=bool(guide.poles))
    lone = np.zeros((len(points), 0), dtype=np.int64)
    start = Start(u, v, np.ones(len(points)), home=base.home)
    stiffness = stiffness_of(SMOOTHNESS, size)
    return base, Laid(points, start, stiffness, size, 0.0, lone, areas, base.fixed)


def _searched(laid: Laid, base: Parameterization, spend: Spend, aim: float) -> BSplineSurface:
    settings = CastSettings(
        nu=max(spend.degree + 1, 4), nv=max(spend.degree + 1, 4), degree=spend.degree,
        knots="adaptive",
    )  # fmt: skip
    fewest = base.fewest(spend.degree)
    counts = max(fewest[0], spend.nu), max(fewest[1], spend.nv)
    space = base.start_space(settings.sized(*counts))
    # A count that is set by hand stays.
    ends = spend.nu or MOST, spend.nv or MOST
    search = KnotSearch(
        laid, space, base, settings, Tolerance(aim, SHARE), ends, lambda _attempt: None
    )
    search.run()
    return search.attempt.surface


def _of_counts(laid: Laid, base: Parameterization, spend: Spend) -> BSplineSurface:
    fewest = base.fewest(spend.degree)
    if spend.nu < fewest[0] or spend.nv < fewest[1]:
        raise FitError(f"it takes at least {fewest[0]} × {fewest[1]} control points")
    knots = even_knots(fewest[0], spend.degree), even_knots(fewest[1], spend.degree)
    space = Space(*knots, spend.degree, spend.degree, base.closed)
    laid, attempt = laid.settled(space, SETTLING)
    laid, attempt = grown(laid, attempt, (spend.nu, spend.nv))
    laid, attempt = exchanged(laid, attempt, "uv", base.kept)
    return laid.rested(attempt)[1].surface


def _built(guide: Guide, surface: BSplineSurface) -> Built:
    points = surface.points.copy()
    for border, place in guide.poles.items():
        rows = points if border[0] == "u" else points.swapaxes(0, 1)
        end, next_ = (0, 1) if border[1] == "0" else (-1, -2)
        rows[end] = place
        if guide.level is not None:
            # Square to a direction: the next row is level with the pole.
            rows[next_] -= ((rows[next_] - place) @ guide.level)[:, None] * guide.level
    surface = replace(surface, points=points)
    away = [
        np.abs(foot_points(surface, line.points, (line.u, line.v)).signed) for line in guide.lines
    ]
    farthest = max((float(each.max()) for each in away), default=0.0)
    named = dict(zip(guide.names, away, strict=False))
    return Built(surface, named, farthest, guide.gaps, guide.words)


def evenly_in(count: int) -> Floats:
    """Return even parameters from 0 to 1."""
    return np.linspace(0.0, 1.0, count)


def words_of_gaps(gaps: Sequence[Gap], least: float) -> str:
    """Say which sources do not touch, the farthest apart first; gaps too small to see are left."""
    told = sorted((gap for gap in gaps if gap.gap > least), key=lambda gap: -gap.gap)
    if not told:
        return ""
    first = told[0]
    more = f", and {len(told) - 1} more" if len(told) > 1 else ""
    where = ", ".join(f"{x:.1f}" for x in first.at)
    return f"{first.between} pass at {first.gap:.3f} mm near {where}{more}; closed by half each"
