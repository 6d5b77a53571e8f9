"""The front of the chosen surface, computed by itself while nothing else is asked for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, QTimer

from usual_clay.bench.session import Session
from usual_clay.core.check.deviation import Aim
from usual_clay.core.fit.candidates import Candidate
from usual_clay.core.fit.front import front
from usual_clay.core.fit.patch_budget import patch_front
from usual_clay.core.progress import Progress
from usual_clay.job.items import ItemId, Surface
from usual_clay.job.recipes import beside
from usual_clay.job.remake import is_stale

# So long nothing has changed before a front is begun, ms.
AFTER = 700
KEY = "front"
# With so many candidates a search has shown the front already.
KNOWN = 8


@dataclass(frozen=True, eq=False)
class _Asked:
    """What a front is of: the same surface with other counts has the same one."""

    item: ItemId
    sources: tuple[object, ...]
    settings: Any
    aim: Aim

    def same_as(self, other: _Asked | None) -> bool:
        return (
            other is not None
            and self.item == other.item
            and self.settings == other.settings
            and self.aim == other.aim
            and len(self.sources) == len(other.sources)
            and all(a is b for a, b in zip(self.sources, other.sources, strict=True))
        )


class Fronts(QObject):
    """Computes the front of a drape or a patch a moment after it was chosen or changed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.enabled = True
        self._asked: _Asked | None = None
        self._timer = QTimer(self, singleShot=True, interval=AFTER)
        self._timer.timeout.connect(self.begin)
        for signal in (session.job_changed, session.chosen_changed):
            signal.connect(self._look)
        session.work.ended.connect(lambda key: self._look() if key != KEY else None)

    def _wanted(self) -> tuple[_Asked, Surface] | None:
        """Return what a front could be computed of now."""
        session = self.session
        surface = session.job.get(session.chosen, Surface)
        if surface is None or surface.recipe is None or session.is_proposing:
            return None
        if surface.locked or is_stale(session.job, surface):
            return None
        region, recipe = session.measured(surface), surface.recipe
        if region is None:
            return None
        if recipe.kind == "patch":
            sources = tuple(session.making.sources_of(recipe.sources))
        else:
            sources = (session.making.sample(region),)
        plain = recipe.settings.sized(recipe.settings.degree + 3, recipe.settings.degree + 3)
        return _Asked(surface.id, sources, plain, session.job.aim), surface

    def _look(self) -> None:
        wanted = self._wanted()
        if wanted is not None and wanted[0].same_as(self._asked):
            return
        self._timer.stop()
        if self._asked is not None:
            self._asked = None
            self.session.front = []
            self.session.work.drop(KEY)
        if self.enabled and wanted is not None and len(wanted[1].candidates) < KNOWN:
            self._timer.start()

    def begin(self) -> None:
        """Compute the front of the chosen surface now."""
        wanted, session = self._wanted(), self.session
        if wanted is None or session.work.is_busy(f"search {wanted[1].id}"):
            return
        asked = self._asked = wanted[0]
        kind = wanted[1].recipe.kind  # type: ignore[union-attr]

        def task(progress: Progress, found: Callable[[Any], None]) -> None:
            settings, aim = asked.settings, asked.aim
            if kind == "patch":
                mesh, *others = asked.sources
                neighbours = beside(settings, others[4:])  # type: ignore[arg-type]
                patch_front(mesh, others[:4], neighbours, settings, aim, progress, found)  # type: ignore[arg-type]
            else:
                front(asked.sources[0], settings, aim, progress=progress, found=found)  # type: ignore[arg-type]

        def partial(candidate: Candidate) -> None:
            if self._asked is asked:
                pair = (candidate.nu, candidate.nv)
                others = [c for c in session.front if (c.nu, c.nv) != pair]
                session.front = [*others, candidate]
                session.searching.emit()

        # What cannot be fitted is said where it is fitted.
        session.work.start(KEY, "", task, lambda _none: None, partial, failed=lambda _error: None)
