"""What is worked out of the chosen surface by itself, a moment after all is quiet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, QTimer

from usual_clay.bench.session import Session
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import with_images
from usual_clay.core.fit.parameterize.region import parameterize
from usual_clay.core.fit.patch.budget import patch_front
from usual_clay.core.fit.patch.patch import lay_out
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.fairness import Fairness, fairness_of
from usual_clay.core.fit.search.front import front
from usual_clay.core.progress import Progress
from usual_clay.job.items import Surface
from usual_clay.job.recipes import beside
from usual_clay.job.remake import is_stale

# So long nothing has changed before it is begun, ms.
AFTER = 700
# With so many candidates a search has shown the front already.
KNOWN = 8


@dataclass(frozen=True, eq=False)
class Asked:
    """What something is worked out of: a surface's sources, its settings, and more that counts."""

    surface: Surface
    sources: tuple[Any, ...]
    settings: Any
    tolerance: Tolerance
    more: tuple[object, ...] = ()

    def same_as(self, other: Asked | None) -> bool:
        if other is None or self.surface.id != other.surface.id:
            return False
        mine, theirs = (*self.sources, *self.more), (*other.sources, *other.more)
        alike = len(mine) == len(theirs) and all(a is b for a, b in zip(mine, theirs, strict=True))
        return alike and self.settings == other.settings and self.tolerance == other.tolerance

    @property
    def is_patch(self) -> bool:
        return self.surface.recipe is not None and self.surface.recipe.kind == "patch"


class Idle(QObject):
    """Asks for something of the chosen cast or patch when nothing has changed for a while."""

    key = ""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.enabled = True
        self._asked: Asked | None = None
        self._timer = QTimer(self, singleShot=True, interval=AFTER)
        self._timer.timeout.connect(self.begin)
        for signal in (session.job_changed, session.chosen_changed):
            signal.connect(self._look)
        session.work.ended.connect(lambda key: self._look() if key != self.key else None)

    def asked_of(self, surface: Surface, sources: tuple[Any, ...]) -> Asked:
        """Return what is asked for of a surface that is up to date."""
        raise NotImplementedError

    def task(self, asked: Asked, progress: Progress, found: Callable[[Any], None]) -> Any:
        """Work it out, off the interface thread."""
        raise NotImplementedError

    def came(self, asked: Asked, result: Any) -> None:
        """Take the result."""

    def found(self, asked: Asked, part: Any) -> None:
        """Take a part of it."""

    def drop(self) -> None:
        """Forget what was worked out before: it is of something else."""

    def _wanted(self) -> Asked | None:
        session = self.session
        surface = session.job.get(session.chosen, Surface)
        if surface is None or surface.recipe is None or session.is_proposing:
            return None
        if surface.locked or is_stale(session.job, surface):
            return None
        region = session.measured(surface)
        if region is None:
            return None
        if surface.recipe.kind == "patch":
            return self.asked_of(surface, tuple(session.making.sources_of(surface.recipe.sources)))
        return self.asked_of(surface, (session.making.sample(region),))

    def _look(self) -> None:
        wanted = self._wanted()
        if wanted is not None and wanted.same_as(self._asked):
            return
        self._timer.stop()
        if self._asked is not None:
            self._asked = None
            self.drop()
            self.session.work.drop(self.key)
        if self.enabled and wanted is not None:
            self._timer.start()

    def begin(self) -> None:
        """Work it out now."""
        asked, session = self._wanted(), self.session
        if asked is None or session.work.is_busy(f"search {asked.surface.id}"):
            return
        self._asked = asked

        def still(take: Callable[[Asked, Any], None]) -> Callable[[Any], None]:
            return lambda value: take(asked, value) if self._asked is asked else None

        # What cannot be fitted is said where it is fitted.
        session.work.start(
            self.key,
            "",
            lambda progress, found: self.task(asked, progress, found),
            still(self.came),
            still(self.found),
            failed=lambda _error: None,
        )


class Fronts(Idle):
    """The front of the chosen surface, which is the same for all counts of control points."""

    key = "front"

    def asked_of(self, surface: Surface, sources: tuple[Any, ...]) -> Asked:
        assert surface.recipe is not None
        settings = surface.recipe.settings
        plain = settings.sized(settings.degree + 3, settings.degree + 3)
        return Asked(surface, sources, plain, self.session.job.tolerance)

    def task(self, asked: Asked, progress: Progress, found: Callable[[Any], None]) -> Any:
        settings, tolerance = asked.settings, asked.tolerance
        if len(asked.surface.candidates) >= KNOWN:
            return
        if asked.is_patch:
            mesh, *others = asked.sources
            neighbours = beside(settings, others[4:])
            patch_front(mesh, others[:4], neighbours, settings, tolerance, progress, found)
        else:
            front(asked.sources[0], settings, tolerance, progress=progress, found=found)

    def found(self, asked: Asked, part: Candidate) -> None:
        others = [c for c in self.session.front if (c.nu, c.nv) != (part.nu, part.nv)]
        self.session.front = [*others, part]
        self.session.searching.emit()

    def drop(self) -> None:
        self.session.front = []


class Calmness(Idle):
    """How calm the chosen surface is for how near it lies."""

    key = "calm"

    def asked_of(self, surface: Surface, sources: tuple[Any, ...]) -> Asked:
        assert surface.recipe is not None
        more = (surface.geometry, surface.signed)
        return Asked(surface, sources, surface.recipe.settings, self.session.job.tolerance, more)

    def task(self, asked: Asked, progress: Progress, _found: Callable[[Any], None]) -> Fairness:
        settings, surface = asked.settings, asked.surface
        if asked.is_patch:
            mesh, *others = asked.sources
            ground = lay_out(mesh, others[:4], beside(settings, others[4:]), settings)
            sample, base = ground.sample, ground.base
        else:
            sample = asked.sources[0]
            base = parameterize(with_images(sample, settings), settings)
        progress(0.2, "how calm")
        assert surface.signed is not None
        return fairness_of(
            sample, base, settings, surface.geometry, surface.signed, asked.tolerance
        )

    def came(self, asked: Asked, result: Fairness) -> None:
        self.session.calm = (asked.surface.geometry, result)
        self.session.searching.emit()

    def drop(self) -> None:
        self.session.calm = None
