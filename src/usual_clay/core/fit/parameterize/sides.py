"""How a region is better laid flat, its sides followed or straight, turned or not: by trying."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NamedTuple
from weakref import WeakKeyDictionary

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.fit.parameterize.frame import (
    Frame,
    FrameChoice,
    base_frame,
    bend_of,
    even_out,
    follow_sides,
    on_rectangle,
    slope_stretch,
)
from usual_clay.core.fit.solve.slide import LEAST_ALONG, Start, fit_from, pulls_of, stepped
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.scan.flat_maps import FlatError
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, grid_turns, surface_points

# Counts of control points, in groups of about as many.
Shares = tuple[tuple[tuple[int, int], ...], ...]

# A trial has so many points at the most, control points, and rounds.
POINTS, COUNTS, ROUNDS = 2_000, ((4, 4), (6, 5), (8, 6)), 3
# It runs past its region by this part, and is as stiff as a cast usually is.
REACH, SMOOTHNESS = 0.02, 0.3
# Misses of less than this share of the noise are alike.
LEAST_TOLD = 0.5
# Normals of neighbouring cells that turn by so much cost as much as being as far off again.
TURN, CELLS = float(np.radians(60)), 24
# Sides are followed where that is so much better.
BETTER = 0.85
# Sides that bend by less than this part of the width are straight.
BENT = 0.05
# A turned rectangle is tried with what some control points do best, however they are shared out.
SHARED = (((4, 4),), ((4, 12), (7, 7), (12, 4)), ((4, 24), (10, 10), (24, 4)))
# It is tried where the normals turn so many times as much one way as the other, so far from the
# outline's own ways; and taken untried where they turn hardly but one way.
ONE_WAY, PLAINLY, TURNED = 1.5, 3.0, float(np.radians(8))
# A region lies over itself where of the nearest in its plan three of so many lie farther apart in
# space than so many times there, and so much noise; on so much of it it winds.
BESIDE, OVER, NOISES, WINDING = 8, 5.0, 12.0, 0.04
# A wall is as steep: what stands there lies over nothing.
UPRIGHT = 0.2
# The middle of a region is looked at in so many places along it that have so much of the usual
# count of points.
TURNS, TELLS = 24, 0.3
# It bends round where it is so many times as long as wide, and may be better along its length where
# it fills no more of its rectangle, of so many fields each way.
LONG, FILLED, FIELDS = 2.5, 0.65, 16


@dataclass(eq=False)
class _Known:
    """What was found of a sample."""

    told: dict[tuple[str, str, str], bool] = field(default_factory=dict)
    frames: dict[tuple[str, str], Frame] = field(default_factory=dict)


# For as long as the sample lives.
_of_samples: WeakKeyDictionary[Sample, _Known] = WeakKeyDictionary()


def _known(sample: Sample) -> tuple[Sample, _Known]:
    # A choice of points is laid out as all of them are.
    sample = sample if sample.whole is None else sample.whole[0]
    return sample, _of_samples.setdefault(sample, _Known())


def frame_of(sample: Sample, choice: FrameChoice, plane: str = "xy") -> Frame:
    """Return the base rectangle of a sample, without what is scattered about it."""
    sample, known = _known(sample)
    if (choice, plane) not in known.frames:
        known.frames[choice, plane] = base_frame(sample.gathered, sample.telling[1], choice, plane)
    return known.frames[choice, plane]


def follows_better(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    """Tell whether a small surface whose sides follow a region lies clearly nearer, as calmly."""
    return _told(sample, "follows", choice, plane, _follows_better)


def bend_better(sample: Sample) -> bool:
    """Tell whether a rectangle along the bend does clearly better than the least one."""
    return _told(sample, "bend", "best", "xy", _bend_better)


def along_better(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    """Tell whether a region is clearly better laid along its length than seen from above."""
    return _told(sample, "along", choice, plane, _along_better)


def along_better_than_sheet(sample: Sample) -> bool:
    """Tell whether a region is clearly better laid along its length than by its own map, or
    cannot but be, since that lies over itself."""
    return _told(sample, "sheet", "best", "xy", _along_better_than_sheet)


def winds(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    """Tell whether a region lies over itself seen from above, as a screw does."""
    return _told(sample, "winds", choice, plane, _winds)


def _told(
    sample: Sample,
    what: str,
    choice: FrameChoice,
    plane: str,
    tried: Callable[[_Some, FrameChoice, str], bool],
) -> bool:
    sample, known = _known(sample)
    if (what, choice, plane) not in known.told:
        known.told[what, choice, plane] = tried(_Some.of(sample), choice, plane)
    return known.told[what, choice, plane]


@dataclass(frozen=True, eq=False)
class _Some:
    """Some points of a sample, for trials."""

    sample: Sample
    points: Floats
    normals: Floats
    which: Ints

    @classmethod
    def of(cls, sample: Sample) -> _Some:
        which, normals = sample.telling
        step = max(1, round(len(which) / POINTS))
        which = which[::step]
        return cls(sample, sample.points[which], normals[::step], which)

    def straight(self, frame: Frame) -> _Flat:
        """Return the points laid on a rectangle."""
        u, v = np.clip((frame.local(self.points)[:, :2] / frame.size).T, 0.0, 1.0)
        along, across, up = (self.normals @ frame.axes.T).T
        u, longer = even_out(u, u, slope_stretch(along, up))
        v, wider = even_out(v, v, slope_stretch(across, up))
        return _Flat(u, v, (float(frame.size[0]) * longer, float(frame.size[1]) * wider))

    def better(self, flat: _Flat, other: _Flat, shared: Shares) -> bool:
        """Tell whether one way to lay the points flat does clearly better than the other."""
        limit = BETTER * self._badness(other, shared)
        return self._badness(flat, shared, limit) < limit

    def _badness(self, flat: _Flat, shared: Shares, limit: float = np.inf) -> float:
        """Return how far off small surfaces come to rest in the mean, more where they turn much.

        Of those of about as many control points the best counts. Nothing more is tried where it
        cannot be less than a limit.
        """
        most = max(u * v for each in shared for u, v in each)
        if len(self.points) < 4 * most:
            return 1.0
        u, v = (0.5 + (each - 0.5) / (1 + REACH) for each in (flat.u, flat.v))
        start = Start(u, v, np.ones(len(self.points)))
        bad = np.full(len(shared), self._floor(flat.size))
        for number, each in enumerate(shared):
            if np.exp(np.mean(np.log(bad))) >= limit:
                break
            tried = [self._off(start, counts, flat.size) for counts in each]
            bad[number], start = min(tried, key=lambda one: one[0])
        return float(np.exp(np.mean(np.log(bad))))

    def _floor(self, size: tuple[float, float]) -> float:
        """Return what counts as how far off a surface lies at the least."""
        # What noise alone leaves does not tell.
        return max(LEAST_TOLD * self.sample.noise, 1e-9 * max(size))

    def _off(
        self, start: Start, counts: tuple[int, int], size: tuple[float, float]
    ) -> tuple[float, Start]:
        surface, start = _fitted(self.points, start, counts, size)
        gap = self.points - surface_points(surface, start.u, start.v)
        missed = float(np.mean(np.einsum("nk,nk->n", gap, gap))) - self.sample.noise**2
        off = max(np.sqrt(max(missed, 0.0)), self._floor(size))
        turn = max(float(part.max()) for part in grid_turns(surface, CELLS))
        return float(off * (1 + turn / TURN)), start


class _Flat(NamedTuple):
    """Parameters, and how long and wide the surface is."""

    u: Floats
    v: Floats
    size: tuple[float, float]


def _follows_better(some: _Some, choice: FrameChoice, plane: str) -> bool:
    frame = frame_of(some.sample, choice, plane)
    flat = some.straight(frame)
    v = np.clip((frame.local(some.points)[:, 1] / frame.size[1]), 0.0, 1.0)
    between = np.clip(follow_sides(flat.u, v), 0.0, 1.0)
    if np.abs(between - v).max() < BENT:
        return False
    followed = _Flat(flat.u, between, (flat.size[0], float(frame.size[1])))
    plainly = tuple((counts,) for counts in COUNTS)
    return some.better(followed, flat, plainly)


def _bend_better(some: _Some, choice: FrameChoice, plane: str) -> bool:
    frame = frame_of(some.sample, choice, plane)
    most, times = bend_of(some.normals, frame.axes[2])
    beside = float(np.abs(frame.axes[:2] @ most).max())
    if times < ONE_WAY or beside > np.cos(TURNED):
        return False
    if times > PLAINLY:
        return True
    turned = some.straight(frame_of(some.sample, "bend"))
    return some.better(turned, some.straight(frame), SHARED)


def _along_better(some: _Some, choice: FrameChoice, plane: str) -> bool:
    plan = some.straight(frame_of(some.sample, choice, plane))
    if _filled(plan) > FILLED or not bends_round(some.sample):
        return False
    band = some.sample.band.places[some.which]
    return some.better(_Flat(*on_rectangle(band)), plan, SHARED)


def _along_better_than_sheet(some: _Some, _choice: FrameChoice, _plane: str) -> bool:
    sheet = some.sample.sheet.places[some.which]
    if _lies_over_itself(sheet, some.points, some.sample.noise):
        return True
    if not bends_round(some.sample):
        return False
    band = some.sample.band.places[some.which]
    return some.better(_Flat(*on_rectangle(band)), _Flat(*on_rectangle(sheet)), SHARED)


def _filled(flat: _Flat) -> float:
    """Return how much of its rectangle a region fills, as a share."""
    cell = [np.clip(t * FIELDS, 0, FIELDS - 1).astype(np.intp) for t in (flat.u, flat.v)]
    return len(np.unique(cell[0] * FIELDS + cell[1])) / FIELDS**2


def bends_round(sample: Sample) -> bool:
    """Tell whether a long region turns by more than half a turn along its length."""
    if not sample.hangs_together:
        return False
    try:
        places = sample.band.places
    except FlatError:
        return False
    long, wide = np.ptp(places, axis=0)
    return bool(long > LONG * wide) and turned(places, sample.points) > np.pi


def turned(places: Floats, points: Floats) -> float:
    """Return by how much the middle of a region turns along it, radians.

    Parameters
    ----------
    places : (n, 2) array
        Along the region and across it.
    points : (n, 3) array
    """
    along, across = places.T
    along = (along - along.min()) / np.ptp(along)
    place = np.minimum(along * TURNS, TURNS - 1).astype(np.intp)
    across = across - np.median(across)
    # In each place a line across: its middle does not move to and fro with the choice of points.
    sums = [np.bincount(place, w, TURNS) for w in (np.ones(len(place)), across, across**2)]
    told = sums[0] >= TELLS * len(points) / TURNS
    ones, first, second = (each[told] for each in sums)
    mean, lean = (
        np.stack([np.bincount(place, w * c, TURNS)[told] for c in points.T], axis=1)
        for w in (1.0, across)
    )
    det = np.maximum(ones * second - first**2, 1e-300)
    way = np.diff((second[:, None] * mean - first[:, None] * lean) / det[:, None], axis=0)
    way /= np.maximum(np.linalg.norm(way, axis=1), 1e-300)[:, None]
    return float(np.arccos(np.clip(np.einsum("nk,nk->n", way[1:], way[:-1]), -1.0, 1.0)).sum())


def _winds(some: _Some, choice: FrameChoice, plane: str) -> bool:
    frame = frame_of(some.sample, choice, plane)
    flat = some.normals @ frame.axes[2] > UPRIGHT
    local = frame.local(some.points[flat])
    return _lies_over_itself(local[:, :2], local, some.sample.noise)


def _lies_over_itself(places: Floats, points: Floats, noise: float) -> bool:
    """Tell whether a plan shows what is far apart in space at one place.

    Parameters
    ----------
    places : (n, 2) array
        The points in the plan, mm.
    points : (n, 3) array
    noise : float
        Of the points, mm.
    """
    if len(points) <= BESIDE:
        return False
    apart, beside = cKDTree(places).query(places, BESIDE + 1)
    gap = np.linalg.norm(points[beside[:, 1:]] - points[:, None], axis=2)
    far = gap > OVER * apart[:, -1:] + NOISES * noise
    return bool(np.mean(far.sum(axis=1) >= 3) > WINDING)


def _fitted(
    points: Floats, start: Start, counts: tuple[int, int], size: tuple[float, float]
) -> tuple[BSplineSurface, Start]:
    """Return a surface of so many control points with the points at rest on it."""
    space = Space(even_knots(counts[0], 3), even_knots(counts[1], 3), 3, 3)
    stiffness = stiffness_of(SMOOTHNESS, size)
    for _ in range(ROUNDS):
        pulls = pulls_of(start, points, LEAST_ALONG)
        net = fit_from(space, points, start, pulls, stiffness, size)
        surface = BSplineSurface(space.knots_u, space.knots_v, net)
        feet = foot_points(surface, points, (start.u, start.v), 1e-4 * max(size), order=1)
        start = stepped(start, feet, surface, start.weights)
    return surface, start
