"""The leanest surface that brings curves within a distance.

Each way to make a surface from curves says where its curves lie on it, and what it wants between
them, as a grid of places; how it is spent is the same for all of them: least squares over that
grid, with knots where they earn most. Near that surface the places may slide along it, as in a
cast, and fewer control points do.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.interpolate import CubicSpline

from usual_clay.core.arrays import Bools, Floats, Place
from usual_clay.core.build.smooth import Smooth
from usual_clay.core.build.tensor import TensorSearch, Way
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.region import CastSettings, KnotRule, Parameterization
from usual_clay.core.fit.search.knot_search import KnotSearch
from usual_clay.core.fit.solve.adaptive import Laid
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.core.spline.basis import HIGHEST_DEGREE, even_knots
from usual_clay.core.spline.boundary import BORDERS, Border
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface

# A row whose parameter is nearer than this to a source curve's is that curve.
ON_LINE = 1e-9
# Rows of a guide that are source curves count for this share of all its rows.
LINE_SHARE = 1.0
# A pole counts for so many rows.
POLE = 1e4
# What the search leaves past the distance is made up for by asking for a little less.
CLOSER, MOST_ROUNDS, SLID_ROUNDS = 0.9, 5, 2
MOST = 120
# Surfaces of more control points are not made leaner by sliding: it takes long.
MOST_SLID = 120
# While places slide, the guide counts for this share of what the curves count for, and this share
# of what counts is brought within the distance by the search.
GUIDE_SHARE, SHARE, SMOOTHNESS = 0.02, 0.97, 0.15


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
    scan : float
        How near measured points are followed between the curves, where there are any: 0 for the
        curves only, 1 for all the way.
    """

    nu: int = 0
    nv: int = 0
    degree: int = 3
    within: float = 0.05
    scan: float = 1.0

    def __post_init__(self) -> None:
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not (np.isfinite(self.within) and self.within > 0):
            raise FitError("the distance from the curves must be more than 0 mm")
        if not 0 <= self.scan <= 1:
            raise FitError("how near the scan is followed must be 0 to 1")
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
    lines_u, lines_v : arrays or None
        Those among them at which the grid's rows are source curves; where neither is given every
        place of the grid is to lie within the distance.
    closed : {"", "u", "v"}
        The direction in which it runs round.
    poles : dict
        Of borders that are one place: which, and where.
    gaps : tuple of Gap
    words : str
        What the user should know.
    whole : bool
        Whether most of the whole grid is to lie within the distance, not its curves alone.
    creases : dict
        By the direction: parameters at which the surface turns sharply.
    smooth : dict
        Of borders that go on smoothly from what lies beside: how they leave it.
    level : dict
        Of poles that are smooth: the direction to which the surface is square there.
    names : tuple of str
        Of the sources, whose lines are the first; further lines are drawn by the sources.
    """

    lines: tuple[Line, ...]
    u: Floats
    v: Floats
    grid: Floats
    closed: str = ""
    poles: dict[Border, Floats] = field(default_factory=dict)
    gaps: tuple[Gap, ...] = ()
    words: str = ""
    level: dict[Border, Floats] = field(default_factory=dict)
    lines_u: Floats | None = None
    lines_v: Floats | None = None
    names: tuple[str, ...] = ()
    whole: bool = False
    creases: dict[str, tuple[float, ...]] = field(default_factory=dict)
    smooth: dict[Border, Smooth] = field(default_factory=dict)

    def curve_rows(self, direction: str) -> Bools:
        """Tell which rows of equal u, or of equal v, are source curves."""
        t, own = (self.u, self.lines_u) if direction == "u" else (self.v, self.lines_v)
        if own is None:
            return np.zeros(len(t), dtype=bool)
        return np.asarray(np.abs(t[:, None] - own).min(axis=1) < ON_LINE)

    @property
    def on_curves(self) -> Bools:
        """Which places of the grid lie on source curves, (len(u), len(v))."""
        return self.curve_rows("u")[:, None] | self.curve_rows("v")


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

    @property
    def total(self) -> int:
        return int(np.prod(self.surface.counts))


def lean_surface(guide: Guide, spend: Spend, progress: Progress = silent) -> Built:
    """Return the leanest surface that brings each curve of a guide within a distance.

    Raises
    ------
    FitError
        For a guide that is not finite.
    """
    if not all(np.isfinite(part).all() for part in (guide.grid, *(x.points for x in guide.lines))):
        raise FitError("the curves hold numbers that are not finite")
    search, ways = _over(guide, spend)
    if spend.nu and spend.nv:
        return _built(guide, search.settled(search.fitted(*ways)).surface)
    best = _nearest_of(
        guide, spend, lambda aim: search.within(*ways, aim).surface, stretch(progress, 0, 0.5)
    )
    curves = guide.lines_u is not None or guide.lines_v is not None
    may_slide = curves and not guide.poles and not guide.whole
    may_slide = may_slide and not guide.smooth and best.total <= MOST_SLID
    if best.farthest <= spend.within and may_slide:
        slid = _Slid(guide, spend, best.surface)
        leaner = _nearest_of(guide, spend, slid.within, stretch(progress, 0.5, 1), SLID_ROUNDS)
        if leaner.farthest <= spend.within and leaner.total < best.total:
            best = leaner
    if best.farthest > spend.within:
        short = (
            f"the farthest curve lies {best.farthest:.3f} mm off: {spend.within:g} mm was not met"
        )
        best = replace(best, words="; ".join(filter(None, [best.words, short])))
    return best


def carried_along(surface: BSplineSurface, before: Guide, now: Guide) -> BSplineSurface:
    """Return a surface moved by as much as its guide is, on the knots that it has.

    Least squares of the move over the guide's grid: quick, and near while the move is small.
    """
    was = before.grid
    for axis, (t, there) in enumerate(((before.u, now.u), (before.v, now.v))):
        if not np.array_equal(t, there):
            was = CubicSpline(t, was, axis=axis)(there)
    ways = [
        Way(t, _weights(now, name), p, now.closed == name, knots[p + 1 : -p - 1])
        for name, t, p, knots in zip(
            "uv", (now.u, now.v), surface.degrees, (surface.knots_u, surface.knots_v), strict=True
        )
    ]
    search = TensorSearch(now.grid - was, np.ones(was.shape[:2], dtype=bool), (MOST, MOST))
    moved = replace(surface, points=surface.points + search.fitted(*ways).points)
    return _with_poles(moved, now)


def _nearest_of(
    guide: Guide,
    spend: Spend,
    search: Callable[[float], BSplineSurface],
    progress: Progress,
    rounds: int = MOST_ROUNDS,
) -> Built:
    """Search for a finer and finer distance, until every curve is within the one that is asked."""
    best: Built | None = None
    aim = spend.within
    for number in range(rounds):
        progress(number / rounds, f"within {aim:.3f} mm")
        made = _built(guide, search(aim))
        if best is None or made.farthest < best.farthest:
            best = made
        if made.farthest <= spend.within:
            break
        aim *= max(CLOSER * spend.within / made.farthest, 0.3)
    assert best is not None
    return best


class _Slid:
    """A search that sets out from a surface near the curves, along which their places slide."""

    def __init__(self, guide: Guide, spend: Spend, surface: BSplineSurface) -> None:
        # Each other place tells enough.
        thin = slice(None, None, 2)
        grid_u, grid_v = (
            x.ravel() for x in np.meshgrid(guide.u[thin], guide.v[thin], indexing="ij")
        )
        lines = [(line.points[thin], line.u[thin], line.v[thin]) for line in guide.lines]
        points = np.concatenate([*(x for x, _, _ in lines), guide.grid[thin, thin].reshape(-1, 3)])
        u = np.concatenate([*(x for _, x, _ in lines), grid_u])
        v = np.concatenate([*(x for _, _, x in lines), grid_v])
        count = len(points) - len(grid_u)
        areas = np.ones(len(points))
        areas[count:] = GUIDE_SHARE * count / len(grid_u)
        legs = [np.linalg.norm(np.diff(guide.grid, axis=k), axis=2).sum(axis=k) for k in (0, 1)]
        size = max(float(legs[0].mean()), 1e-9), max(float(legs[1].mean()), 1e-9)
        self.base = Parameterization(size, u, v, closed=guide.closed)
        start = Start(u, v, np.ones(len(points)), home=self.base.home)
        lone = np.zeros((len(points), 0), dtype=np.int64)
        stiffness = stiffness_of(SMOOTHNESS, size)
        self.laid = Laid(points, start, stiffness, size, 0.0, lone, areas)
        self.spend = spend
        degree = spend.degree
        self.space = Space(surface.knots_u, surface.knots_v, degree, degree, guide.closed)

    def within(self, aim: float) -> BSplineSurface:
        """Return the leanest surface found, near enough as far as the search can tell."""
        aim *= CLOSER
        spend = self.spend
        nu, nv = self.space.counts
        rule: KnotRule = "adaptive u" if spend.nv else "adaptive v" if spend.nu else "adaptive"
        settings = CastSettings(max(nu, 4), max(nv, 4), spend.degree, knots=rule)
        # Knots only go: it is near enough already.
        search = KnotSearch(
            self.laid,
            self.space,
            self.base,
            settings,
            Tolerance(aim, SHARE),
            self.space.counts,
            lambda _: None,
        )
        search.run()
        return search.attempt.surface


def _over(guide: Guide, spend: Spend) -> tuple[TensorSearch, tuple[Way, Way]]:
    """Return a search over a guide's grid, and the ways that it begins with."""
    watched = guide.on_curves
    ways = []
    for name, t, count in (("u", guide.u, spend.nu), ("v", guide.v, spend.nv)):
        weights = _weights(guide, name)
        way = Way(t, weights, spend.degree, guide.closed == name, np.zeros(0), _held(guide, name))
        if way.held and max(order for _, order in way.held) >= spend.degree:
            raise FitError("a joint of G1 takes degree 2 or more, one of G2 degree 3 or more")
        sharp = np.repeat(np.array(guide.creases.get(name, ())), spend.degree)
        fewest = way.fewest + len(sharp)
        if count and count < fewest and not way.closed:
            raise FitError(f"its joints and creases take {fewest} control points along {name}")
        inner = even_knots(max(count, fewest) - len(sharp), spend.degree)
        inner = inner[spend.degree + 1 : -spend.degree - 1]
        ways.append(replace(way, inner=np.sort(np.concatenate([inner, sharp]))))
    if not watched.any():
        watched[:] = True
    ends = spend.nu or MOST, spend.nv or MOST
    if not guide.smooth:
        return TensorSearch(guide.grid, watched, ends, guide.whole), (ways[0], ways[1])
    grid, joints = _with_joints(guide, spend.within)
    every = np.pad(watched, [(0, len(way.held)) for way in ways], constant_values=True)
    rims = {
        (axis, int(border[1])): smooth.rim(
            guide.grid.swapaxes(0, axis)[-int(border[1])], spend.within
        )
        for border, smooth in guide.smooth.items()
        for axis in ("uv".index(border[0]),)
    }
    return TensorSearch(grid, every, ends, guide.whole, joints, rims), (ways[0], ways[1])


def _weights(guide: Guide, name: str) -> Floats:
    """Return how much each row of a guide's grid counts: those that are curves, and poles, more."""
    weights, on = np.ones(len(guide.u if name == "u" else guide.v)), guide.curve_rows(name)
    weights[on] = max(1.0, LINE_SHARE * len(weights) / max(int(on.sum()), 1))
    for border, end in ((f"{name}0", 0), (f"{name}1", -1)):
        if border in guide.poles:
            # It is put in its one place: no row beside is to make up for that.
            weights[end] = POLE * weights.max()
    return weights


def _held(guide: Guide, name: str) -> tuple[tuple[int, int], ...]:
    """Return which derivatives are held at the ends of a direction."""
    return tuple(
        (end, order)
        for end in (0, 1)
        if (smooth := guide.smooth.get(f"{name}{end}")) is not None  # type: ignore[call-overload]
        for order in range(1, len(smooth.rows) + 1)
    )


def _with_joints(guide: Guide, within: float) -> tuple[Floats, Floats]:
    """Return a guide's grid with further rows and columns for what is held at its borders.

    Returns
    -------
    grid : (n + k, m + l, 3) array
        Where two borders meet it has how the one's slope changes along the other.
    joints : the same
        What the rows and columns that were added count along, mm.
    """
    n, m, _ = guide.grid.shape
    rows = [
        (smooth, border, order)
        for border in BORDERS
        if (smooth := guide.smooth.get(border)) is not None
        for order in range(len(smooth.rows))
    ]
    over_u = [each for each in rows if each[1][0] == "u"]
    over_v = [each for each in rows if each[1][0] == "v"]
    grid = np.zeros((n + len(over_u), m + len(over_v), 3))
    joints = np.zeros_like(grid)
    grid[:n, :m] = guide.grid
    for k, (smooth, _, order) in enumerate(over_v):
        grid[:n, m + k] = smooth.rows[order]
        joints[:n, m + k] = smooth.scales(within)[order]
    for k, (smooth, _, order) in enumerate(over_u):
        grid[n + k, :m] = smooth.rows[order]
        joints[n + k, :m] = smooth.scales(within)[order]
    for j, (one, at_u, first) in enumerate(over_u):
        for k, (other, at_v, second) in enumerate(over_v):
            along_v = _slope_at(one.rows[first], guide.v, second, at_v)
            along_u = _slope_at(other.rows[second], guide.u, first, at_u)
            grid[n + j, m + k] = (along_v + along_u) / 2
    return grid, joints


def _slope_at(rows: Floats, t: Floats, order: int, border: Border) -> Floats:
    """Return the derivative of rows of vectors at the end of a border."""
    return np.asarray(CubicSpline(t, rows)(float(border[1]), order + 1))


def _with_poles(surface: BSplineSurface, guide: Guide) -> BSplineSurface:
    """Put the borders of a surface that are one place there."""
    points = surface.points.copy()
    for border, place in guide.poles.items():
        rows = points if border[0] == "u" else points.swapaxes(0, 1)
        end, next_ = (0, 1) if border[1] == "0" else (-1, -2)
        rows[end] = place
        if (axis := guide.level.get(border)) is not None:
            # Square to a direction: the next row is level with the pole.
            rows[next_] -= ((rows[next_] - place) @ axis)[:, None] * axis
    return replace(surface, points=points)


def _built(guide: Guide, surface: BSplineSurface) -> Built:
    surface = _with_poles(surface, guide)
    away = [
        np.abs(foot_points(surface, line.points, (line.u, line.v)).signed) for line in guide.lines
    ]
    farthest = max((float(each.max()) for each in away), default=0.0)
    named = dict(zip(guide.names, away, strict=False))
    return Built(surface, named, farthest, guide.gaps, guide.words)


def evenly_in(count: int) -> Floats:
    """Return even parameters from 0 to 1."""
    return np.linspace(0.0, 1.0, count)


def words_of_gaps(gaps: Sequence[Gap], least: float, mended: str = "closed by half each") -> str:
    """Say which sources do not touch, the farthest apart first; gaps too small to see are left."""
    told = sorted((gap for gap in gaps if gap.gap > least), key=lambda gap: -gap.gap)
    if not told:
        return ""
    first = told[0]
    more = f", and {len(told) - 1} more" if len(told) > 1 else ""
    where = ", ".join(f"{x:.1f}" for x in first.at)
    return f"{first.between} pass at {first.gap:.3f} mm near {where}{more}; {mended}"
