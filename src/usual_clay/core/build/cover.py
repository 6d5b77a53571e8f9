"""One surface that covers a loop of any number of edges, and where the edges lie on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.build.combine import plane_through
from usual_clay.core.build.fill import loop_of, parted_edge
from usual_clay.core.build.guide import Gap, words_of_gaps
from usual_clay.core.build.sections import BuildError
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.budget import to_tolerance
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.surface import BSplineSurface, surface_normals, surface_points

# So many places along all edges together, and across the loop.
ROUND, ACROSS = 400, 36
# What lies beside is followed so far, in steps between those places.
AHEAD = (3.0, 6.0)
# An edge of which so much lies on what is beside goes on from it.
ALONG = 0.9
# Between the edges, places count for so much.
CALM = 0.05
# It is asked for nearer so often, until every edge lies within, and meets what lies beside at less
# than this angle, corners apart; no more where that is not nearer than this share of the best.
TRIES, CLOSER, SHARE, WORTH = 4, 0.8, 0.98, 0.8
TURN = np.radians(0.3)
# It runs past its edges by this part.
PAST = 0.1


@dataclass(frozen=True)
class CoverSettings:
    """How a loop of edges is covered.

    Attributes
    ----------
    smooth : {0, 1}
        G0 or G1 to the surfaces that lie beside edges.
    within : float
        How near every edge is to lie, mm.
    degree : int
        1 to 7, in both directions.
    mend : float
        Ends that are no farther apart are brought together, mm.
    """

    smooth: Literal[0, 1] = 1
    within: float = 0.05
    degree: int = 3
    mend: float = 0.5

    def __post_init__(self) -> None:
        if self.smooth not in (0, 1):
            raise FitError("a covered loop meets what lies beside as G0 or G1")
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not (np.isfinite(self.within) and self.within > 0):
            raise FitError("the distance from the edges must be more than 0 mm")
        if not (np.isfinite(self.mend) and self.mend >= 0):
            raise FitError("ends are brought together over 0 mm or more")


@dataclass(frozen=True, eq=False)
class Covered:
    """A surface over a loop.

    Attributes
    ----------
    surface : BSplineSurface
    sides : tuple of (n, 2) arrays
        Where each edge runs on it, one after the other; each ends where the next begins.
    gaps : tuple of Gap
    words : str
    """

    surface: BSplineSurface
    sides: tuple[Floats, ...]
    gaps: tuple[Gap, ...]
    words: str


def cover(
    edges: tuple[BSplineCurve, ...],
    beside: tuple[BSplineSurface, ...],
    settings: CoverSettings,
    inner: tuple[BSplineCurve, ...] = (),
    places: Floats | None = None,
    progress: Progress = silent,
) -> Covered:
    """Cover a loop of edges with one surface, calm between them, that runs a little past them.

    The calmest height over the loop's plane through the edges (a thin plate: Duchon 1977), and
    along what lies beside, is what a lean surface is fitted to as to a scan.

    Parameters
    ----------
    inner, places : curves, and an (n, 3) array
        That it passes on the way.

    Raises
    ------
    BuildError
        For edges that make no loop, or one that folds over its plane.
    """
    loop, gaps = loop_of([Measured(edge) for edge in parted_edge(edges)], settings.mend)
    step = sum(way.length for way in loop) / ROUND
    rims = _met([way.at(_even(way, step)) for way in loop])
    ring = np.concatenate([rim[:-1] for rim in rims])
    middle, up = plane_through(ring)
    axes = _axes(loop[0], up)
    flat = (ring - middle) @ axes.T
    if _turned(flat[:, :2]):
        axes[1:] *= -1
        flat[:, 1:] *= -1
    passed = [curve_points(each, np.linspace(*each.domain, ROUND // 4)) for each in inner]
    known = np.concatenate([ring, *passed, *([] if places is None else [places])])
    count = len(known)
    lies = [_Lies.on(rim, surface, settings.mend) for rim in rims for surface in beside]
    if settings.smooth:
        known = np.concatenate([known, *(each.led_on(axes[2], step) for each in lies)])
    aimed = _with_calm(known, flat[:, :2], middle, axes)
    areas = np.concatenate([np.ones(len(known)), np.full(len(aimed) - len(known), CALM)])
    sample = Sample(aimed, np.tile(axes[2], (len(aimed), 1)), area=areas)
    joined = _Joined(lies if settings.smooth else [])
    surface, off, angle = _nearest(sample, count, settings, joined, progress)
    wanted = axes[2]
    if sum(float((each.normals @ wanted)[each.near].sum()) for each in lies) < 0:
        wanted, rims = -wanted, [rim[::-1] for rim in reversed(rims)]
    half = np.array([0.5])
    if surface_normals(surface, half, half)[0] @ wanted < 0:
        surface = reverse(surface, "v")
    words = [
        words_of_gaps(gaps, 0.1 * settings.within),
        f"{surface.counts[0]} × {surface.counts[1]} control points, every edge within {off:.3f} mm",
        "" if off <= settings.within else f"{settings.within:g} mm was not met",
    ]
    if settings.smooth and beside:
        words.append(f"it meets what lies beside at {np.degrees(angle):.2f}° at most")
    return Covered(surface, _sides(surface, rims), gaps, "; ".join(filter(None, words)))


def _even(way: Measured, step: float) -> Floats:
    return np.linspace(0, 1, max(12, round(way.length / step)) + 1)


def _met(rims: list[Floats]) -> list[Floats]:
    """Bring ends together by half each, and less and less along the edges."""
    corners = [(rims[k - 1][-1] + rims[k][0]) / 2 for k in range(len(rims))]
    made = []
    for k, rim in enumerate(rims):
        start, stop = corners[k] - rim[0], corners[(k + 1) % len(rims)] - rim[-1]
        t = np.linspace(0, 1, len(rim))[:, None]
        made.append(rim + (1 - t) * start + t * stop)
    return made


def _axes(first: Measured, up: Floats) -> Floats:
    along = np.cross(up, first.ahead(np.array([0.5]))[0])
    if np.linalg.norm(along) < 1e-6:
        along = np.cross(up, np.eye(3)[int(np.argmin(np.abs(up)))])
    along /= np.linalg.norm(along)
    return np.stack([along, np.cross(up, along), up])


def _turned(ring: Floats) -> bool:
    """Tell whether a flat loop runs clockwise."""
    after = np.roll(ring, -1, axis=0)
    return float((ring[:, 0] * after[:, 1] - after[:, 0] * ring[:, 1]).sum()) < 0


@dataclass(frozen=True, eq=False)
class _Lies:
    """How an edge lies on a surface beside it: its feet, the normals there, and which are near."""

    rim: Floats
    surface: BSplineSurface
    feet: FootPoints
    normals: Floats
    near: Bools

    @classmethod
    def on(cls, rim: Floats, surface: BSplineSurface, most: float) -> _Lies:
        feet = foot_points(surface, rim)
        normals = surface_normals(surface, feet.u, feet.v)
        return cls(rim, surface, feet, normals, np.abs(feet.signed) <= most)

    @property
    def inner(self) -> slice:
        """The places that are not next to corners."""
        return slice(len(self.rim) // 8, -(len(self.rim) // 8))

    def led_on(self, up: Floats, step: float) -> Floats:
        """Return places on the surface, a little outward from the edge where it goes on from it.

        The loop runs counterclockwise: outward lies to the right.
        """
        outward = np.cross(np.gradient(self.rim, axis=0), up)
        outward -= np.einsum("nk,nk->n", outward, self.normals)[:, None] * self.normals
        size = np.linalg.norm(outward, axis=1)
        near = self.near & (size > 1e-9 * size.max())
        made = [np.zeros((0, 3))]
        for far in AHEAD if near.mean() >= ALONG else ():
            sought = self.rim[near] + far * step * outward[near] / size[near, None]
            there = foot_points(self.surface, sought, (self.feet.u[near], self.feet.v[near]))
            u, v = there.u, there.v
            on = (u > 0) & (u < 1) & (v > 0) & (v < 1)
            made.append(surface_points(self.surface, u[on], v[on]))
        return np.concatenate(made)


def _with_calm(known: Floats, ring: Floats, middle: Floats, axes: Floats) -> Floats:
    """Return places with the calmest ones between and a little round them.

    Raises
    ------
    BuildError
        For places that lie over each other.
    """
    # Slow to import.
    from shapely import Polygon, contains_xy

    flat = (known - middle) @ axes.T
    low, high = ring.min(axis=0), ring.max(axis=0)
    _, first = np.unique(np.round(flat[:, :2] / (1e-6 * (high - low).max())), axis=0,
                         return_index=True)  # fmt: skip
    try:
        plate = scipy.interpolate.RBFInterpolator(
            flat[first, :2], flat[first, 2], kernel="thin_plate_spline"
        )
    except np.linalg.LinAlgError:
        raise BuildError("the loop lies over itself as its plane sees it") from None
    step = (high - low).max() / ACROSS
    x, y = (np.arange(a + step / 2, b, step) for a, b in zip(low, high, strict=True))
    grid = np.stack([each.ravel() for each in np.meshgrid(x, y, indexing="ij")], axis=1)
    grid = grid[contains_xy(Polygon(ring), grid)]
    if not len(grid):
        raise BuildError("the loop encloses no area as its plane sees it")
    height = plate(grid)
    return np.concatenate([known, middle + np.column_stack([grid, height]) @ axes])


class _Joined:
    """The edges on what lies beside them, corners apart."""

    def __init__(self, lies: Sequence[_Lies]) -> None:
        held = [each for each in lies if each.near[each.inner].mean() >= ALONG]
        none = np.zeros((0, 3))
        self.places = np.concatenate([none, *(each.rim[each.inner] for each in held)])
        self.normals = np.concatenate([none, *(each.normals[each.inner] for each in held)])

    def angle(self, surface: BSplineSurface) -> float:
        """Return the greatest angle at which a surface meets what lies beside, radians."""
        if not len(self.places):
            return 0.0
        feet = foot_points(surface, self.places)
        turn = np.einsum("nk,nk->n", surface_normals(surface, feet.u, feet.v), self.normals)
        return float(np.arccos(np.clip(np.abs(turn).min(), -1, 1)))


def _nearest(
    sample: Sample, count: int, settings: CoverSettings, joined: _Joined, progress: Progress
) -> tuple[BSplineSurface, float, float]:
    """Return the leanest surface that all of the first places lie near, how near, and its angle."""
    aim, best = CLOSER * settings.within, None
    least = max(4, settings.degree + 1)
    wanted = CastSettings(
        least, least, settings.degree, 0.05, PAST, sides="straight", knots="adaptive"
    )
    for number in range(TRIES):
        part = stretch(progress, number / TRIES, (number + 1) / TRIES)
        made = to_tolerance(sample, wanted, Tolerance(aim, SHARE), progress=part).made
        off, angle = float(np.abs(made.feet.signed[:count]).max()), joined.angle(made.surface)
        over = max(off / settings.within, angle / TURN)
        worth = best is None or over < WORTH * best[0]
        if best is None or over < best[0]:
            best = over, (made.surface, off, angle)
        # Where edges themselves turn, to be nearer to them does not help.
        if over <= 1 or not worth:
            break
        aim *= max(CLOSER / over, 0.3)
    assert best is not None
    return best[1]


def _sides(surface: BSplineSurface, rims: list[Floats]) -> tuple[Floats, ...]:
    """Return where edges run on a surface; each ends just where the next begins."""
    made = []
    for rim in rims:
        feet = foot_points(surface, rim)
        made.append(np.column_stack([feet.u, feet.v]))
    for k, side in enumerate(made):
        side[0] = made[k - 1][-1]
    return tuple(made)
