"""A guide: where curves lie on a surface that is to be made, and what is wanted between them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Place, told_at
from usual_clay.core.build.smooth import Smooth
from usual_clay.core.errors import FitError
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.curve import BSplineCurve

# A row whose parameter is nearer than this to a source curve's is that curve.
ON_LINE = 1e-9
# The most control points of a direction.
MOST = 120
# Rows of a grid for each control point of the richest curve along them, and the most there are.
ROWS_EACH, CLOSEST = 4, 400


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
class Own:
    """A curve that is to be a border.

    Attributes
    ----------
    curve : BSplineCurve
        On [0, 1], running as the parameter along the border does.
    t, at : (n,) arrays
        Its own parameter, and the guide's along the border there; both rise from 0 to 1.
    """

    curve: BSplineCurve
    t: Floats
    at: Floats


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
    exact : dict
        Of borders that are a curve exactly: that curve, which runs with the parameter along it.
    own : dict
        Of borders that are to be a curve exactly, while the grid does not run by that curve's
        parameter yet.
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
    exact: dict[Border, BSplineCurve] = field(default_factory=dict)
    own: dict[Border, Own] = field(default_factory=dict)
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


def rows_for(curves: Sequence[BSplineCurve], least: int, most: int = CLOSEST) -> int:
    """Return how many rows tell how such curves run: so many for each of their control points."""
    richest = max((len(curve.points) for curve in curves), default=0)
    return min(max(ROWS_EACH * richest, least), most)


def evenly_in(count: int, closed: bool = False) -> Floats:
    """Return even parameters from 0 to 1; once round, where 1 is 0 again, without it."""
    return np.arange(count) / count if closed else np.linspace(0.0, 1.0, count)


def words_of_gaps(gaps: Sequence[Gap], least: float, mended: str = "closed by half each") -> str:
    """Say which sources do not touch, the farthest apart first; gaps too small to see are left."""
    told = sorted((gap for gap in gaps if gap.gap > least), key=lambda gap: -gap.gap)
    if not told:
        return ""
    first = told[0]
    more = f", and {len(told) - 1} more" if len(told) > 1 else ""
    where = told_at(first.at)
    return f"{first.between} pass at {first.gap:.3f} mm near {where}{more}; {mended}"
