"""Whether a region's long sides are better followed or taken straight: found by trying both."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.parameterize.frame import FrameChoice, base_frame, follow_sides
from usual_clay.core.fit.solve.slide import LEAST_ALONG, Start, fit_from, pulls_of
from usual_clay.core.fit.solve.system import Space
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

# A trial has so many points at the most, control points, and rounds.
POINTS, COUNTS, ROUNDS = 2_000, (8, 6), 4
# It runs past its region by this part, and is about as stiff as a calm surface.
REACH, STIFFNESS = 0.1, 10**-11.2
# Normals of neighbours on a grid that turn by so much cost as much as being as far off again.
TURN, GRID = float(np.radians(60)), np.linspace(0.03, 0.97, 40)
# Sides are followed where that is so much better: straight ones go wrong less often.
BETTER = 0.9


@lru_cache(maxsize=16)
def follows_better(sample: Sample, choice: FrameChoice, plane: str) -> bool:
    """Tell whether a small surface whose sides follow a region lies nearer and calmer."""
    step = max(1, len(sample.points) // POINTS)
    points = sample.points[::step]
    frame = base_frame(sample.points, sample.normals, choice, plane)
    u, v = np.clip((frame.local(points)[:, :2] / frame.size).T, 0.0, 1.0)
    followed = np.clip(follow_sides(u, v), 0.0, 1.0)
    size = (float(frame.size[0]), float(frame.size[1]))
    return _badness(points, u, followed, size) < BETTER * _badness(points, u, v, size)


def _badness(points: Floats, u: Floats, v: Floats, size: tuple[float, float]) -> float:
    """Return how far off a small surface comes to rest, more where its normals turn over."""
    if len(points) < 4 * COUNTS[0] * COUNTS[1]:
        return 1.0
    space = Space(even_knots(COUNTS[0], 3), even_knots(COUNTS[1], 3), 3, 3)
    stiffness = STIFFNESS * size[0] * size[1]
    u, v = (0.5 + (each - 0.5) / (1 + REACH) for each in (u, v))
    start = Start(u, v, np.ones(len(points)))
    for _ in range(ROUNDS):
        pulls = pulls_of(start, points, LEAST_ALONG)
        net = fit_from(space, points, start, pulls, stiffness, size)
        surface = BSplineSurface(space.knots_u, space.knots_v, net)
        feet = foot_points(surface, points, (start.u, start.v), 1e-4 * max(size), order=1)
        start = Start(feet.u, feet.v, start.weights, surface)
    off = float(np.sqrt(np.mean(feet.signed**2)))
    return max(off, 1e-9 * max(size)) * (1 + _turn(surface) / TURN)


def _turn(surface: BSplineSurface) -> float:
    """Return the greatest angle between the normals of neighbours on a grid, radians."""
    u, v = (part.ravel() for part in np.meshgrid(GRID, GRID, indexing="ij"))
    normals = surface_normals(surface, u, v).reshape(len(GRID), len(GRID), 3)
    cosines = [
        np.einsum("abk,abk->ab", one, two).min()
        for one, two in ((normals[1:], normals[:-1]), (normals[:, 1:], normals[:, :-1]))
    ]
    return float(np.arccos(np.clip(min(cosines), -1.0, 1.0)))
