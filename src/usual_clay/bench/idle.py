"""What is worked out of the chosen surface by itself, a moment after all is quiet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from PySide6.QtCore import QObject, QTimer

from usual_clay.bench.guard import faults
from usual_clay.bench.session import Session
from usual_clay.bench.work import Request
from usual_clay.core.build.guide import Spend
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import ClayError, sentence
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.fairness import Fairness
from usual_clay.core.progress import Progress
from usual_clay.job.items import Surface
from usual_clay.job.made import Given
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import is_stale
from usual_clay.job.searching import Searching
from usual_clay.log import logger

# So long nothing has changed before it is begun, ms.
AFTER = 700
# With so many candidates a search has shown the front already.
KNOWN = 8


@dataclass(frozen=True, eq=False)
class Asked:
    """What something is worked out of: a surface's sources, its settings, and more that counts."""

    surface: Surface
    given: Given
    searching: Searching
    settings: Any
    tolerance: Tolerance
    more: tuple[object, ...] = ()

    def same_as(self, other: Asked | None) -> bool:
        if other is None or self.surface.id != other.surface.id:
            return False
        mine, theirs = (*self.given, *self.more), (*other.given, *other.more)
        alike = len(mine) == len(theirs) and all(a is b for a, b in zip(mine, theirs, strict=True))
        return alike and self.settings == other.settings and self.tolerance == other.tolerance


class Idle(QObject):
    """Asks for something of the chosen fitted surface when nothing has changed for a while."""

    purpose = ""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.enabled = True
        self._asked: Asked | None = None
        self._timer = QTimer(self, singleShot=True, interval=AFTER)
        self._timer.timeout.connect(self.begin)
        for signal in (session.job_changed, session.choice.changed):
            signal.connect(self._look)
        session.work.ended.connect(self._ended)

    def asked_of(self, surface: Surface, given: Given, searching: Searching) -> Asked | None:
        """Return what is asked for of a surface that is up to date."""
        raise TypeError(f"{type(self).__name__} asks for nothing")

    def task(self, asked: Asked, progress: Progress, found: Callable[[Any], None]) -> Any:
        """Work it out, off the interface thread."""
        raise TypeError(f"{type(self).__name__} works nothing out")

    def came(self, asked: Asked, result: Any) -> None:
        """Take the result."""

    def found(self, asked: Asked, part: Any) -> None:
        """Take a part of it."""

    def drop(self) -> None:
        """Forget what was worked out before: it is of something else."""

    def _wanted(self) -> Asked | None:
        session = self.session
        surface = session.job.get(session.choice.item, Surface)
        if surface is None or surface.recipe is None or session.is_proposing:
            return None
        if surface.locked or is_stale(session.job, surface) or session.job.is_loose(surface):
            return None
        searching = kind_of(surface.recipe.kind).search
        if searching is None:
            return None
        return self.asked_of(surface, session.sources.given(surface.recipe), searching)

    def _ended(self, request: Request) -> None:
        if request.purpose != self.purpose:
            self._look()

    def _look(self) -> None:
        wanted = self._wanted()
        if wanted is not None and wanted.same_as(self._asked):
            return
        self._timer.stop()
        if self._asked is not None:
            self.session.work.drop(self._asked.surface.id, self.purpose)
            self._asked = None
            self.drop()
        if self.enabled and wanted is not None:
            self._timer.start()

    def begin(self) -> None:
        """Work it out now."""
        asked, session = self._wanted(), self.session
        if asked is None or session.work.find(asked.surface.id, "search") is not None:
            return
        self._asked = asked

        def still(take: Callable[[Asked, Any], None]) -> Callable[[Any], None]:
            return lambda value: take(asked, value) if self._asked is asked else None

        def failed(error: Exception) -> None:
            # What cannot be fitted is said where it is fitted; all else is a fault.
            if isinstance(error, ClayError):
                logger.info("%s of %s: %s", self.purpose, asked.surface.name, error)
            else:
                faults.take(error, self.purpose)

        session.work.start(
            asked.surface.id,
            self.purpose,
            "",
            lambda progress, found: self.task(asked, progress, found),
            still(self.came),
            still(self.found),
            failed=failed,
        )


class Fronts(Idle):
    """The front of the chosen surface, which is the same for all counts of control points."""

    purpose = "front"

    def asked_of(self, surface: Surface, given: Given, searching: Searching) -> Asked | None:
        if surface.recipe is None or searching.front is None:
            return None
        settings, tolerance = surface.recipe.settings, self.session.job.tolerance
        if isinstance(settings, Spend):
            plain = replace(settings, nu=0, nv=0, within=tolerance.deviation)
            return Asked(surface, given, searching, plain, tolerance)
        least = settings.degree + 3
        plain = replace(settings, nu=least, nv=least, inner_u=(), inner_v=(), net=())
        return Asked(surface, given, searching, plain, tolerance)

    def task(self, asked: Asked, progress: Progress, found: Callable[[Any], None]) -> Any:
        if len(asked.surface.candidates) < KNOWN and asked.searching.front is not None:
            asked.searching.front(asked.settings, asked.given, asked.tolerance, progress, found)

    def found(self, asked: Asked, part: Candidate) -> None:
        sight = self.session.sight
        others = [c for c in sight.front if (c.nu, c.nv) != (part.nu, part.nv)]
        sight.front = [*others, part]
        sight.known_changed.emit()

    def drop(self) -> None:
        self.session.sight.front = []


class OfShape(Idle):
    """What is known of the chosen surface just as it is; `Sight` has it under the purpose."""

    def work(self, searching: Searching) -> Callable[..., Any] | None:
        """Return what works it out, or None where there is no such thing."""
        raise TypeError(f"{type(self).__name__} works nothing out")

    def asked_of(self, surface: Surface, given: Given, searching: Searching) -> Asked | None:
        if surface.recipe is None or surface.signed is None or self.work(searching) is None:
            return None
        settings, tolerance = surface.recipe.settings, self.session.job.tolerance
        more = (surface.geometry, surface.signed)
        return Asked(surface, given, searching, settings, tolerance, more)

    def came(self, asked: Asked, result: Any) -> None:
        setattr(self.session.sight, self.purpose, (asked.surface.geometry, result))
        self.session.sight.known_changed.emit()

    def drop(self) -> None:
        setattr(self.session.sight, self.purpose, None)


class Prices(OfShape):
    """What the conditions of the chosen surface cost."""

    purpose = "price"

    def work(self, searching: Searching) -> Callable[..., Any] | None:
        return searching.price

    def task(self, asked: Asked, progress: Progress, _found: Callable[[Any], None]) -> str:
        surface, price = asked.surface, asked.searching.price
        assert price is not None
        assert surface.signed is not None
        return sentence(
            price(asked.settings, asked.given, surface.geometry, surface.signed, progress)
        )


class Calmness(OfShape):
    """How calm the chosen surface is for how near it lies."""

    purpose = "calm"

    def work(self, searching: Searching) -> Callable[..., Any] | None:
        return searching.fairness

    def task(self, asked: Asked, _progress: Progress, _found: Callable[[Any], None]) -> Fairness:
        surface, fairness = asked.surface, asked.searching.fairness
        assert fairness is not None
        assert surface.signed is not None
        return fairness(
            asked.settings, asked.given, surface.geometry, surface.signed, asked.tolerance
        )
