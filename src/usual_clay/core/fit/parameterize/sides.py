"""Whether a region's long sides are better followed or taken straight: found by trying both."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.parameterize.frame import FrameChoice, base_frame, follow_sides
from usual_clay.core.fit.solve.slide import LEAST_ALONG, Start, fit_from, pulls_of
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

# A trial has so many points at the most, control points, and rounds.
POINTS, COUNTS, ROUNDS = 2_000, (8, 6), 3
# It runs past its region by this part, and is as stiff as a cast usually is.
REACH, SMOOTHNESS = 0.1, 0.3
# Normals of neighbouring cells that turn by so much cost as much as being as far off again.
TURN, CELLS = float(np.radians(60)), 24
# Sides are straight where that is so much better: a surface that follows them does not run past
# a region that tapers.
BETTER = 0.9


# What was found of a sample, for as long as that lives.
_known: WeakKeyDictionary[Sample, dict[tuple[str, str], bool]] = WeakKeyDictionary()


def follows_better(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    """Tell whether a small surface whose sides follow a region lies as near, and as calmly."""
    told = _known.setdefault(sample, {})
    if (choice, plane) not in told:
        told[choice, plane] = _tried(sample, choice, plane)
    return told[choice, plane]


def _tried(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    step = max(1, len(sample.points) // POINTS)
    points = sample.points[::step]
    frame = base_frame(sample.points, sample.normals, choice, plane)
    u, v = np.clip((frame.local(points)[:, :2] / frame.size).T, 0.0, 1.0)
    followed = np.clip(follow_sides(u, v), 0.0, 1.0)
    size = (float(frame.size[0]), float(frame.size[1]))
    return _badness(points, u, v, size) > BETTER * _badness(points, u, followed, size)


def _badness(points: Floats, u: Floats, v: Floats, size: tuple[float, float]) -> float:
    """Return how far off a small surface comes to rest, more where it turns among the points."""
    if len(points) < 4 * COUNTS[0] * COUNTS[1]:
        return 1.0
    space = Space(even_knots(COUNTS[0], 3), even_knots(COUNTS[1], 3), 3, 3)
    stiffness = stiffness_of(SMOOTHNESS, size)
    u, v = (0.5 + (each - 0.5) / (1 + REACH) for each in (u, v))
    start = Start(u, v, np.ones(len(points)))
    for _ in range(ROUNDS):
        pulls = pulls_of(start, points, LEAST_ALONG)
        net = fit_from(space, points, start, pulls, stiffness, size)
        surface = BSplineSurface(space.knots_u, space.knots_v, net)
        feet = foot_points(surface, points, (start.u, start.v), 1e-4 * max(size), order=1)
        start = Start(feet.u, feet.v, start.weights, surface)
    off = float(np.sqrt(np.mean(feet.signed**2)))
    return max(off, 1e-9 * max(size)) * (1 + _turn(surface, feet.u, feet.v) / TURN)


def _turn(surface: BSplineSurface, u: Floats, v: Floats) -> float:
    """Return the greatest angle between normals of neighbouring cells with points, radians."""
    row, column = (np.minimum((each * CELLS).astype(np.int64), CELLS - 1) for each in (u, v))
    filled = np.zeros((CELLS, CELLS), dtype=bool)
    filled[row, column] = True
    at = (np.arange(CELLS) + 0.5) / CELLS
    middle_u, middle_v = (part.ravel() for part in np.meshgrid(at, at, indexing="ij"))
    normals = surface_normals(surface, middle_u, middle_v).reshape(CELLS, CELLS, 3)
    least = 1.0
    for one, two in (
        (np.s_[1:, :], np.s_[:-1, :]),
        (np.s_[:, 1:], np.s_[:, :-1]),
    ):
        both = filled[one] & filled[two]
        cosines = np.einsum("abk,abk->ab", normals[one], normals[two])[both]
        least = min(least, float(cosines.min())) if len(cosines) else least
    return float(np.arccos(np.clip(least, -1.0, 1.0)))
