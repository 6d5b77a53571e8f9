"""The fewest control points within tolerance, with adaptive knots: put in, then taken out again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from usual_clay.core.check.deviation import Aim
from usual_clay.core.fit.adaptive import (
    Attempt,
    Laid,
    best_inserts,
    count_of,
    exchanged,
    grown,
    least_needed,
    without_knot,
)
from usual_clay.core.fit.base import Base, Sizes, adaptive_directions
from usual_clay.core.fit.fairness import Calm
from usual_clay.core.fit.system import Space

# So near to the noise a tolerance below it is as good as met: more points only copy noise.
AT_NOISE = 1.05
# All points may take so many times the control points that the choice took.
SPARE = 1.3
# What lies so far past the tolerance does not come within when its points come to rest.
HOPELESS = 1.25


@dataclass
class KnotSearch:
    """A search for the leanest surface with adaptive knots, on a choice of the points.

    Attributes
    ----------
    laid, attempt : Laid, Attempt
        How far it has come.
    ends : two int
        The most control points along u and v.
    noted : callable
        Told of each attempt; it may stop the search by raising `Cancelled`.
    met : (int, int) or None
        The counts with which the choice was within tolerance first.
    """

    laid: Laid
    attempt: Attempt
    base: Base
    settings: Sizes
    aim: Aim
    ends: tuple[int, int]
    noted: Callable[[Attempt], None]
    met: tuple[int, int] | None = None
    _calm: Calm | None = None

    @property
    def directions(self) -> str:
        return adaptive_directions(self.settings)

    def holds(self, attempt: Attempt) -> bool:
        """Tell whether an attempt is within tolerance."""
        return self._error(attempt) <= self.aim.tolerance

    def _error(self, attempt: Attempt) -> float:
        return float(np.quantile(attempt.distances, self.aim.share))

    def _enough(self, attempt: Attempt) -> bool:
        self.attempt = attempt
        self.noted(attempt)
        floor = self.aim.noise_floor(self.laid.noise)
        error = self._error(attempt)
        return error <= self.aim.tolerance or (
            self.aim.tolerance < floor and error < AT_NOISE * floor
        )

    def run(self) -> None:
        """Put knots in until the tolerance is met or only noise is left; then take some out."""
        self._grow()
        self.laid, self.attempt = exchanged(
            self.laid, self.attempt, self.directions, self.base.kept
        )
        self.noted(self.attempt)
        self._calm = Calm.of(self.attempt.surface, self.base)
        while self.holds(self.attempt) and (leaner := self._leaner()) is not None:
            self.laid, self.attempt = leaner
            self.noted(self.attempt)

    def _grow(self) -> None:
        """Put knots in until it is enough; when it nearly is, bring the points to rest first."""

        def nearly(attempt: Attempt) -> bool:
            return self._enough(attempt) or self._error(attempt) <= HOPELESS * self.aim.tolerance

        while True:
            self.laid, self.attempt = grown(self.laid, self.attempt, self.ends, nearly)
            if not self._enough(self.attempt):
                self.laid, self.attempt = self.laid.settled(self.attempt.space)
            if self._enough(self.attempt) or not self._one_more():
                return

    def _one_more(self) -> bool:
        """Put one more knot in, where it earns most; tell whether there was room for it."""
        before = self.attempt.space.counts
        u, v = (min(n + 1, most) for n, most in zip(before, self.ends, strict=True))
        self.laid, self.attempt = grown(
            self.laid, self.attempt, (u, v), lambda attempt: attempt.space.counts != before
        )
        self.noted(self.attempt)
        return self.attempt.space.counts != before

    def go_past(self, aim: Aim, richer: float) -> None:
        """Put knots in until a finer aim is met, or so many times the control points are there."""
        most = richer * float(np.prod(self.attempt.space.counts))
        self.aim = aim
        grown(
            self.laid,
            self.attempt,
            self.ends,
            lambda attempt: self._enough(attempt) or bool(np.prod(attempt.space.counts) > most),
        )

    def goes_on(self) -> bool:
        """Put one more knot in, as all points ask for more than the choice did.

        Not where the tolerance was never met, nor for ever. Tells whether one was put in.
        """
        if self.met is None:
            self.met = self.attempt.space.counts if self.holds(self.attempt) else (0, 0)
        spare = np.prod(self.attempt.space.counts) <= SPARE * np.prod(self.met)
        return bool(spare) and self._one_more()

    def _leaner(self) -> tuple[Laid, Attempt] | None:
        """Return an attempt with fewer control points that holds, if one is found."""
        total = np.prod(self.attempt.space.counts)
        for out in ("v", "u", "uu", "vv"):
            space = self._exchanged_for(out)
            if space is None or np.prod(space.counts) >= total:
                continue
            tried = self.laid.fitted(space)
            if self._error(tried) > HOPELESS * self.aim.tolerance:
                continue
            laid, attempt = self.laid.on(tried)
            laid, attempt = laid.on(laid.fitted(space))
            calm = self._calm is None or self._calm.allows(attempt.surface, self.base)
            if self.holds(attempt) and calm:
                return laid, attempt
        return None

    def _exchanged_for(self, out: str) -> Space | None:
        """Return the space without some knots; of two, with one more in the other direction."""
        space = self.attempt.space
        direction = out[0]
        other = "v" if direction == "u" else "u"
        if not set(out + other[: len(out) - 1]) <= set(self.directions):
            return None
        lean = self.attempt
        for _ in out:
            t = least_needed(lean, direction, self.base.kept(direction))
            fewest = self.base.fewest(self.settings.degree)["uv".index(direction)]
            if t is None or count_of(lean.space, direction) <= fewest:
                return None
            space = without_knot(lean.space, direction, t)
            lean = self.laid.fitted(space)
        if len(out) > 1:
            at, _ = best_inserts(self.laid, lean, other)
            if not len(at) or count_of(space, other) >= self.ends["uv".index(other)]:
                return None
            space = lean.with_knots(other, at)
        return space
