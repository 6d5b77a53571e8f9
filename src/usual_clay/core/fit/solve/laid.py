"""Points laid on a surface, and what a fit of them comes to: what knots are chosen by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.deviation import distance_levels, quantiles
from usual_clay.core.fit.solve.slide import (
    LEAST_ALONG,
    LEAST_WITHIN,
    Pulls,
    Start,
    fit_from,
    may_slide,
    pulled,
    pulls_of,
    stepped,
)
from usual_clay.core.fit.solve.system import FixedControlPoints, Space
from usual_clay.core.scan.sample import beside, neighbours_of, spike_weights
from usual_clay.core.spline.closest import foot_points, heights
from usual_clay.core.spline.surface import BSplineSurface, surface_points

# Feet on the way are done when their next move is shorter than this share of the surface's size:
# a distance is of second order in it, and then right to far less than any noise.
NEAR = 1e-3
# Points are at rest when another round lowers the squared error by less than this; so many rounds
# are made before it is looked at whether they have sufficed.
AT_REST, REST_ROUNDS = 0.04, 3


@dataclass(frozen=True, eq=False)
class Laid:
    """Points with parameters, and what a fit of them needs.

    Attributes
    ----------
    points : (n, 3) array
    start : Start
    stiffness : float
    size : (float, float)
        Of the base, mm.
    noise : float
        Standard deviation of a coordinate's noise, mm.
    neighbours : (n, k) integers
        For each point its nearest others.
    areas : (n,) array or None
        How much of the area each point stands for; alike where None.
    fixed : bool
        Whether the points keep their parameters.
    held : callable or None
        Gives the control points that are known in a space.
    begun : Start
        Where the points were at first.
    """

    points: Floats
    start: Start
    stiffness: float
    size: tuple[float, float]
    noise: float
    neighbours: Ints
    areas: Floats | None = None
    fixed: bool = False
    held: Callable[[Space], FixedControlPoints] | None = None
    begun: Start | None = None

    def __post_init__(self) -> None:
        if self.begun is None:
            object.__setattr__(self, "begun", self.start)

    @property
    def anew(self) -> Laid:
        """The points where they were at first, believed as far as they are now."""
        assert self.begun is not None
        return replace(self, start=self.begun._replace(weights=self.start.weights))

    @cached_property
    def pulls(self) -> Pulls | None:
        """How the points pull; None where all directions count alike."""
        return pulls_of(self.start, self.points, LEAST_WITHIN if self.held else LEAST_ALONG)

    @cached_property
    def weights(self) -> Floats:
        """How much each point counts: as far as it is believed, for the area it stands for."""
        believed = self.start.weights
        return believed if self.areas is None else believed * self.areas

    def fitted(self, space: Space) -> Attempt:
        """Fit a space to the points."""
        control = self._solved(space, None if self.held is None else self.held(space))
        surface = BSplineSurface(space.knots_u, space.knots_v, control)
        places = surface_points(surface, self.start.u, self.start.v)
        return self._attempt(space, surface, self.points - places)

    def pull(self, space: Space, places: Floats, which: Ints) -> Floats:
        """Return how some of the points pull at places of a surface, weighed, (k, 3)."""
        weights = self.weights[which, None]
        if self.pulls is None or not may_slide(space):
            return weights * (self.points[which] - places)
        return weights * pulled(self.pulls.matrix[:, which], self.pulls.aims[which] - places)

    def answers(self, space: Space, loads: Floats) -> Floats:
        """Return how control points move under several loads, (nu, nv, 3, k)."""
        held = None
        if self.held is not None:
            held = FixedControlPoints(self.held(space).which, np.zeros_like(loads))
        return self._solved(space, held, loads)

    def _solved(
        self, space: Space, held: FixedControlPoints | None, loads: Floats | None = None
    ) -> Floats:
        start = self.start._replace(weights=self.weights)
        return fit_from(
            space, self.points, start, self.pulls, self.stiffness, self.size, held, loads
        )

    def _attempt(self, space: Space, surface: BSplineSurface, gap: Floats) -> Attempt:
        weights = self.weights
        counts = gap if self.pulls is None else pulled(self.pulls.matrix, gap)
        squares = np.maximum(np.einsum("nk,nk->n", gap, counts), 0.0)
        square = float(np.average(squares, weights=weights + 1e-12))
        return Attempt(space, surface, counts, square, squares, weights)

    def on(self, attempt: Attempt) -> tuple[Laid, Attempt]:
        """Bring the points to their feet on an attempt."""
        if self.fixed:
            return self, self.attempt(attempt.surface)
        surface, size = attempt.surface, max(self.size)
        seed = self.start.u, self.start.v
        feet = foot_points(surface, self.points, seed, NEAR * size, order=1)
        height = heights(surface, self.points, feet)
        weights = spike_weights(height, self.neighbours, 1e-6 * size)
        if self.begun is not None:
            # What lies far from all others at first is no part of the shape.
            weights *= self.begun.weights
        laid = replace(self, start=stepped(self.start, feet, surface, weights))
        return laid, laid._attempt(attempt.space, surface, self.points - feet.feet)

    def attempt(self, surface: BSplineSurface) -> Attempt:
        """Tell how far the points lie from a surface on which they have their feet."""
        space = Space(surface.knots_u, surface.knots_v, *surface.degrees)
        places = surface_points(surface, self.start.u, self.start.v)
        return self._attempt(space, surface, self.points - places)

    def every(self, step: int) -> Laid:
        """Return an even choice of the points."""
        points = self.points[::step]
        start, begun = self.start.every(step), (self.begun or self.start).every(step)
        neighbours = beside(points, neighbours_of(points), begun.places(self.size))
        areas = None if self.areas is None else self.areas[::step]
        return replace(
            self, points=points, start=start, neighbours=neighbours, areas=areas, begun=begun
        )

    def settled(self, space: Space, rounds: int = 2) -> tuple[Laid, Attempt]:
        """Fit a space and bring the points to their feet, a few times over."""
        laid, attempt = self.on(self.fitted(space))
        for _ in range(rounds - 1):
            laid, attempt = laid.on(laid.fitted(space))
        return laid, attempt

    def rested(self, attempt: Attempt) -> tuple[Laid, Attempt]:
        """Bring the points on while that still lowers the squared error, a few times at most."""
        laid = self
        for _ in range(REST_ROUNDS):
            now, again = laid.on(laid.fitted(attempt.space))
            if again.square >= attempt.square * (1 - AT_REST):
                break
            laid, attempt = now, again
        return laid, attempt


@dataclass(frozen=True, eq=False)
class Attempt:
    """A fit on the way.

    Attributes
    ----------
    space : Space
    surface : BSplineSurface
    gap : (n, 3) array
        From the surface to each point, as far as it counts: across it where the points slide.
    square : float
        The mean of the squared gaps.
    squares : (n,) array
        The squared gaps; of points on their feet the squared distances.
    weights : (n,) array
        How much each point counts.
    """

    space: Space
    surface: BSplineSurface
    gap: Floats
    square: float
    squares: Floats
    weights: Floats

    @property
    def distances(self) -> Floats:
        return np.sqrt(self.squares)

    def within(self, share: float) -> float:
        """Return the distance within which such a share of what is believed lies, by area."""
        return float(quantiles(self.distances, np.array([share]), self.weights)[0])

    @property
    def levels(self) -> Floats:
        """The distances at the shares that are kept of each candidate."""
        return distance_levels(self.distances, self.weights)

    def with_knots(self, direction: str, at: Floats) -> Space:
        """Return the space with more knots in one direction."""
        knots = knots_of(self.space, direction)
        return in_direction(self.space, direction, np.sort(np.concatenate([knots, at])))


def knots_of(space: Space, direction: str) -> Floats:
    """Return the knots of a direction."""
    return space.knots_u if direction == "u" else space.knots_v


def in_direction(space: Space, direction: str, knots: Floats) -> Space:
    return replace(space, knots_u=knots) if direction == "u" else replace(space, knots_v=knots)


def count_of(space: Space, direction: str) -> int:
    """Return the control points along a direction."""
    return space.counts[0 if direction == "u" else 1]
