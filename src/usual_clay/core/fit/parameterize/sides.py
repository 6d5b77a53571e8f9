"""Whether a region's long sides are better followed or taken straight: found by trying both."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.parameterize.frame import (
    FrameChoice,
    base_frame,
    even_out,
    follow_sides,
    slope_stretch,
)
from usual_clay.core.fit.solve.slide import LEAST_ALONG, Start, fit_from, pulls_of, stepped
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, grid_turns, surface_points

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


# What was found of a sample, for as long as that lives.
_known: WeakKeyDictionary[Sample, dict[tuple[str, str], bool]] = WeakKeyDictionary()


def follows_better(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    """Tell whether a small surface whose sides follow a region lies clearly nearer, as calmly."""
    # A choice of points is laid out as all of them are.
    sample = sample if sample.whole is None else sample.whole[0]
    told = _known.setdefault(sample, {})
    if (choice, plane) not in told:
        told[choice, plane] = _tried(sample, choice, plane)
    return told[choice, plane]


def _tried(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    step = max(1, len(sample.points) // POINTS)
    some = np.flatnonzero(~sample.scattered)[::step]
    points = sample.points[some]
    frame = base_frame(*sample.gathered, choice, plane)
    u, v = np.clip((frame.local(points)[:, :2] / frame.size).T, 0.0, 1.0)
    along, across, up = (sample.evened_normals[some] @ frame.axes.T).T
    u, longer = even_out(u, slope_stretch(along, up))
    between = np.clip(follow_sides(u, v), 0.0, 1.0)
    if np.abs(between - v).max() < BENT:
        return False
    size = (float(frame.size[0]) * longer, float(frame.size[1]))
    followed = _badness(points, u, between, size, sample.noise)
    v, wider = even_out(v, slope_stretch(across, up))
    straight = _badness(points, u, v, (size[0], size[1] * wider), sample.noise)
    return followed < BETTER * straight


def _badness(
    points: Floats, u: Floats, v: Floats, size: tuple[float, float], noise: float
) -> float:
    """Return how far off small surfaces come to rest in the mean, more where they turn sharply."""
    if len(points) < 4 * COUNTS[-1][0] * COUNTS[-1][1]:
        return 1.0
    u, v = (0.5 + (each - 0.5) / (1 + REACH) for each in (u, v))
    start = Start(u, v, np.ones(len(points)))
    bad = []
    for counts in COUNTS:
        surface, start = _fitted(points, start, counts, size)
        gap = points - surface_points(surface, start.u, start.v)
        # What noise alone leaves does not tell.
        missed = float(np.mean(np.einsum("nk,nk->n", gap, gap))) - noise**2
        off = np.sqrt(max(missed, (LEAST_TOLD * noise) ** 2, (1e-9 * max(size)) ** 2))
        turn = max(float(part.max()) for part in grid_turns(surface, CELLS))
        bad.append(off * (1 + turn / TURN))
    return float(np.exp(np.mean(np.log(bad))))


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
