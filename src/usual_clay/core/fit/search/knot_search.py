"""The fewest control points within tolerance, with adaptive knots: put in, then taken out again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import InitVar, dataclass, field
from itertools import chain
from operator import itemgetter

import numpy as np

from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import COARSE_ROUNDS
from usual_clay.core.fit.parameterize.region import Parameterization, Sizes, adaptive_directions
from usual_clay.core.fit.search.fairness import Calm
from usual_clay.core.fit.solve.adaptive import (
    best_inserts,
    exchanged,
    grown,
    least_needed,
    without_knot,
)
from usual_clay.core.fit.solve.ease import eased
from usual_clay.core.fit.solve.laid import Attempt, Laid, count_of
from usual_clay.core.fit.solve.system import Space

# All points may take so many times the control points that the choice took.
SPARE = 2.0
# Two knots less in one direction are not made up for by one more in the other where one less lies
# farther past the tolerance than this.
WORST_TRADED = 2.0
# Knots are moved to make up for one less where that one lies no farther past the tolerance; so many
# are tried that lie nearest.
WORST_EASED, MOST_EASED = 2.5, 2
# Of no more rows than so many each is worth trying the search anew without it.
FEW_ROWS = 8
# So many of the knots that seem to be needed least are taken out for trial.
TRIED_OUT = 2
# The search is made on so few of the points before all of the choice have their say.
FEW_POINTS = 2_000
# While it has few points, a search does not go on to more control points than one for so many.
POINTS_EACH = 8
# In the end so many points take no more than one control point.
LEAST_POINTS = 1.5
# A choice of the points is to lie within this share of the tolerance: all of them then mostly do.
CAUTION = 0.985
# A choice that lies so much nearer than all points do has too few.
TELLS = 1.03
# So many times the control points that lower neither error by more than this part are too many;
# what lies no more than so much farther off than the nearest is about as near.
STALLED, HARDLY, ABOUT = 2.5, 0.04, 1.02
# What lies so far past the tolerance does not come within when its points come to rest.
HOPELESS = 1.25


@dataclass
class KnotSearch:
    """A search for the leanest surface with adaptive knots, on a choice of the points.

    It is made on few of them first, and brought to its end on all of the choice.

    Attributes
    ----------
    laid : Laid
        The points, and where they have come to.
    space : Space
        Of the surface that it begins with.
    ends : two int
        The most control points along u and v.
    noted : callable
        Told of each attempt; it may stop the search by raising `Cancelled`.
    attempt : Attempt
        How far it has come.
    met : (int, int) or None
        The counts with which the choice was within tolerance first.
    """

    laid: Laid
    space: InitVar[Space]
    base: Parameterization
    settings: Sizes
    tolerance: Tolerance
    ends: tuple[int, int]
    noted: Callable[[Attempt], None]
    attempt: Attempt = field(init=False)
    met: tuple[int, int] | None = None
    denser: Callable[[], Laid] | None = None
    rounds: int = 1
    _all: Laid | None = None
    _calm: Calm | None = None
    # Whether every knot is needed by far, so that none goes, wherever points rest and others are.
    _worn: bool = False
    # Fits with one knot less than the attempt, by direction, the nearest first, where none holds.
    _short: dict[str, list[Attempt]] = field(default_factory=dict)
    # How many control points the few points took, where the search began with few.
    _found: int = 0
    # How near the choice is to lie, mm, as all points ask for more than it does.
    _finer: float = np.inf
    # What was tried on the way up, with ever more control points.
    _way: list[Attempt] = field(default_factory=list)

    def __post_init__(self, space: Space) -> None:
        step = len(self.laid.points) // FEW_POINTS
        if step > 1:
            self._all, self.laid = self.laid, self.laid.every(step)
        self.laid, self.attempt = self.laid.settled(space, COARSE_ROUNDS)

    @property
    def directions(self) -> str:
        return adaptive_directions(self.settings)

    def holds(self, attempt: Attempt) -> bool:
        """Tell whether an attempt is within tolerance, as far as a choice of points can tell."""
        return self._error(attempt) <= self._cautious

    @property
    def _cautious(self) -> float:
        return min(CAUTION * self.tolerance.deviation, self._finer)

    def _error(self, attempt: Attempt) -> float:
        return attempt.within(self.tolerance.share)

    def _enough(self, attempt: Attempt) -> bool:
        self.attempt = attempt
        self.noted(attempt)
        each = LEAST_POINTS if self._all is None else POINTS_EACH
        if each * np.prod(attempt.space.counts) > len(attempt.gap):
            return True
        return self.holds(attempt)

    def _stalled(self, attempt: Attempt) -> bool:
        """Tell whether many more control points have brought nothing nearer."""
        total, now = int(np.prod(attempt.space.counts)), np.array(self._far(attempt))
        self._way = [one for one in self._way if np.prod(one.space.counts) < total] + [attempt]
        fewer = [one for one in self._way if np.prod(one.space.counts) * STALLED <= total]
        return bool(fewer) and bool((now > np.array(self._far(fewer[-1])) * (1 - HARDLY)).all())

    def _far(self, attempt: Attempt) -> tuple[float, float]:
        """Return how far the points lie off, less what control points gain on noise alone (Craven
        and Wahba 1979)."""
        spare = max(1 - float(np.prod(attempt.space.counts)) / len(attempt.gap), 0.1)
        return self._error(attempt) / spare, attempt.square / spare**2

    def _go_back(self) -> None:
        """Go back to the leanest on the way that lies about as near as any."""
        nearest = min(self._error(one) for one in self._way)
        lean = next(one for one in self._way if self._error(one) <= ABOUT * nearest)
        self.laid, self.attempt = self.laid.on(lean)

    def run(self) -> None:
        """Put knots in until the tolerance is met or only noise is left; then take some out."""
        self._find()
        if self._all is not None:
            self._found = int(np.prod(self.attempt.space.counts))
            laid, attempt = self._all.on(self.attempt)
            self.laid, self.attempt = laid.on(laid.fitted(attempt.space))
            self._all, self._way = None, []
            self._find()

    def _find(self) -> None:
        before = np.prod(self.attempt.space.counts)
        self._grow()
        # What was found before more had to come in says nothing of how calm this may be.
        if self._calm is None or np.prod(self.attempt.space.counts) > before:
            self._calm = Calm.of(self.attempt.surface, self.base)
        self._draw_in()

    def _draw_in(self) -> None:
        """Take out what is not needed, and move the rest, while that pays."""
        self._worn = False
        self._lean()
        while not self._worn and self._exchange() and self._lean():
            pass
        while self._reshaped():
            self._lean()

    def _lean(self) -> bool:
        """Take knots out while the tolerance holds; tell whether any went."""
        made = [(self.laid, self.attempt)]
        while True:
            if self.holds(self.attempt) and (leaner := self._leaner()) is not None:
                made.append(leaner)
                self.laid, self.attempt = leaner
                self.noted(self.attempt)
            elif not (self._worn and self._all) and self._come_to_rest():
                made[-1] = self.laid, self.attempt
            elif (
                self._may_ease
                and self.holds(self.attempt)
                and (leaner := self._eased()) is not None
            ):
                made.append(leaner)
                self.laid, self.attempt = leaner
                self.noted(self.attempt)
            else:
                break
        # Fewer control points are not worth wiggles.
        while (
            len(made) > 1 and self._calm and not self._calm.allows(made[-1][1].surface, self.base)
        ):
            made.pop()
        self.laid, self.attempt = made[-1]
        return len(made) > 1

    @property
    def _may_ease(self) -> bool:
        """Whether knots are moved to make up for one less: on few points, or for more of them only
        where they have come to need more control points."""
        more = int(np.prod(self.attempt.space.counts)) > self._found
        return self._all is not None or self._finer < np.inf or more

    def _eased(self) -> tuple[Laid, Attempt] | None:
        """Return an attempt with one knot less whose others have moved to make up for it."""
        worst = WORST_EASED * self.tolerance.deviation
        near = [(self._error(each), each) for each in chain(*self._short.values())]
        near = sorted((pair for pair in near if pair[0] <= worst), key=itemgetter(0))
        for _, tried in near[:MOST_EASED]:
            laid, attempt = self._best_of(*self.laid.on(tried))
            if self.holds(attempt):
                return laid, attempt
        return None

    def _best_of(self, laid: Laid, attempt: Attempt) -> tuple[Laid, Attempt]:
        """Return an attempt whose knots have moved, with its points at rest where it takes that."""
        laid, attempt = eased(laid, attempt, self.directions, self.base.kept)
        return (laid, attempt) if self.holds(attempt) else laid.rested(attempt)

    def _reshaped(self) -> bool:
        """Give up a whole row, and put knots in the other way while that makes it up; tell whether
        it did.

        With few rows each costs so much that a way down which began with one too many is to end as
        leanly as one that did not.
        """
        if not (self.directions == "uv" and self._may_ease and self.holds(self.attempt)):
            return False
        space, ways = self.attempt.space, (("u", "v"), ("v", "u"))
        for direction, other in sorted(ways, key=lambda each: count_of(space, each[0])):
            if count_of(space, direction) > FEW_ROWS:
                continue
            lean = self._without(direction, self.attempt)
            made = self._made_up(lean[0], other, int(np.prod(space.counts))) if lean else None
            if made is not None:
                self.laid, self.attempt = made
                self.noted(self.attempt)
                return True
        return False

    def _made_up(self, lean: Attempt, other: str, total: int) -> tuple[Laid, Attempt] | None:
        """Return an attempt of fewer control points than so many that holds, with knots put in."""
        laid, attempt = self.laid.on(lean)
        while True:
            at, _ = best_inserts(laid, attempt, other)
            if not len(at) or np.prod((space := attempt.with_knots(other, at)).counts) >= total:
                return None
            laid, attempt = self._best_of(*laid.on(laid.fitted(space)))
            if self.holds(attempt):
                calm = self._calm is None or self._calm.allows(attempt.surface, self.base)
                return (laid, attempt) if calm else None

    def _come_to_rest(self) -> bool:
        """Bring the points to rest on the surface; tell whether they had some way to go."""
        laid, attempt = self.laid.rested(self.attempt)
        if self._no_better(attempt):
            return False
        self.laid, self.attempt = laid, attempt
        return True

    def _no_better(self, attempt: Attempt) -> bool:
        """Tell whether an attempt is the same, or lost the tolerance for a lower squared error."""
        return attempt is self.attempt or (self.holds(self.attempt) and not self.holds(attempt))

    def _exchange(self) -> bool:
        """Move knots to where they earn more; tell whether that helped."""
        laid, attempt = exchanged(self.laid, self.attempt, self.directions, self.base.kept)
        if self._no_better(attempt):
            return False
        self.laid, self.attempt = laid, attempt
        self.noted(attempt)
        return True

    def _grow(self) -> None:
        """Put knots in until it is enough; when it nearly is, bring the points to rest first."""

        def nearly(attempt: Attempt) -> bool:
            return (
                self._enough(attempt)
                or self._stalled(attempt)
                or self._error(attempt) <= HOPELESS * self.tolerance.deviation
            )

        while True:
            self.laid, self.attempt = grown(self.laid, self.attempt, self.ends, nearly)
            if not self.holds(self.attempt) and self._stalled(self.attempt):
                return self._go_back()
            if not self._enough(self.attempt):
                self.laid, self.attempt = self.laid.settled(self.attempt.space)
            if self._enough(self.attempt) or not self._one_more():
                return None

    def _one_more(self) -> bool:
        """Put one more knot in, where it earns most; tell whether there was room for it."""
        before = self.attempt.space.counts
        u, v = (min(n + 1, most) for n, most in zip(before, self.ends, strict=True))
        self.laid, self.attempt = grown(
            self.laid, self.attempt, (u, v), lambda attempt: attempt.space.counts != before
        )
        self.noted(self.attempt)
        return self.attempt.space.counts != before

    def go_past(self, tolerance: Tolerance, richer: float) -> None:
        """Put knots in until a finer tolerance is met, or so many times the control points."""
        most = richer * float(np.prod(self.attempt.space.counts))
        self.tolerance = tolerance
        grown(
            self.laid,
            self.attempt,
            self.ends,
            lambda attempt: self._enough(attempt) or bool(np.prod(attempt.space.counts) > most),
        )

    def goes_on(self, reached: float) -> bool:
        """Go on as all points ask for more than the choice did: bring it to rest, put knots in.

        Not where the tolerance was never met, nor for ever.

        Parameters
        ----------
        reached : float
            Within how many mm all points lie, at the wanted share.

        Returns
        -------
        bool
            Whether there is something new.
        """
        if self.met is None:
            nearly = self._error(self.attempt) <= HOPELESS * self.tolerance.deviation
            self.met = self.attempt.space.counts if nearly else (0, 0)
        before, held = self.attempt, self.holds(self.attempt)
        if self.denser is not None and reached > TELLS * self._error(before):
            laid, self.denser = self.denser(), None
            laid, attempt = laid.on(before)
            self.laid, self.attempt = laid.on(laid.fitted(attempt.space))
            self._find()
            return True
        # The choice is to lie so much nearer as all points lie farther off than it does.
        self._finer = self._cautious * self._error(before) / reached
        while (
            not self.holds(self.attempt)
            and np.prod(self.attempt.space.counts) <= SPARE * np.prod(self.met)
            and (self._come_to_rest() or self._one_more())
        ):
            pass
        if held and not self.holds(self.attempt):
            # Few were enough for as long as what they miss was left out: that is a new search.
            self._way = []
            self._find()
            self.met = self.attempt.space.counts if self.holds(self.attempt) else (0, 0)
        elif self.holds(self.attempt):
            self._draw_in()
        return self.attempt is not before

    def _leaner(self) -> tuple[Laid, Attempt] | None:
        """Return an attempt with fewer control points that holds, if one is found."""
        total = int(np.prod(self.attempt.space.counts))
        self._worn, self._short = False, {}
        for direction in "vu":
            self._short[direction] = lean = self._without(direction, self.attempt)
            if lean and (found := self._holding(lean[0], total)) is not None:
                return found
        worst = WORST_TRADED * self.tolerance.deviation
        within = {
            d: lean[0] for d, lean in self._short.items() if lean and self._error(lean[0]) <= worst
        }
        self._worn = not within
        for direction in filter(within.get, "uv"):
            traded = self._traded(direction, within[direction])
            if traded is not None and (found := self._holding(traded, total)) is not None:
                return found
        return None

    def _holding(self, tried: Attempt, total: int) -> tuple[Laid, Attempt] | None:
        """Return an attempt, settled, if it takes fewer control points than so many and holds."""
        if np.prod(tried.space.counts) >= total:
            return None
        if self._error(tried) > HOPELESS * self.tolerance.deviation:
            return None
        laid, attempt = self.laid.on(tried)
        for _ in range(self.rounds):
            if self.holds(attempt):
                return laid, attempt
            laid, attempt = laid.on(laid.fitted(tried.space))
        return (laid, attempt) if self.holds(attempt) else None

    def _without(self, direction: str, attempt: Attempt) -> list[Attempt]:
        """Return fits with one knot less in a direction, the nearest first, if there may be one."""
        fewest = self.base.fewest(self.settings.degree)["uv".index(direction)]
        if direction not in self.directions or count_of(attempt.space, direction) <= fewest:
            return []
        # The surface alone does not tell for certain which one the points need least.
        knots = least_needed(attempt, direction, self.base.kept(direction), TRIED_OUT)
        tried = [self.laid.fitted(without_knot(attempt.space, direction, t)) for t in knots]
        return sorted(tried, key=lambda lean: lean.square)

    def _traded(self, direction: str, lean: Attempt) -> Attempt | None:
        """Return a fit with one more knot less in a direction, and one more in the other."""
        other = "v" if direction == "u" else "u"
        if other not in self.directions:
            return None
        leaner = self._without(direction, lean)
        if not leaner or count_of(lean.space, other) >= self.ends["uv".index(other)]:
            return None
        at, _ = best_inserts(self.laid, leaner[0], other)
        return self.laid.fitted(leaner[0].with_knots(other, at)) if len(at) else None
