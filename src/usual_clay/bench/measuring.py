"""Bodies, and surfaces that follow nothing, judged in the background as soon as either changes; and
surfaces anew of which a hand's edit has only followed how far what judges them lies off."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject

from usual_clay.bench.session import Session
from usual_clay.job.edits.judging import judge_of, measured, wants_measuring, with_measured
from usual_clay.job.edits.surfaces import is_followed_only, measured_anew
from usual_clay.job.items import Body, Surface


class Measuring(QObject):
    """Follows a session's edits."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._asked: dict[str, tuple[object, ...]] = {}
        session.job_changed.connect(self.follow)
        session.replaced.connect(self._asked.clear)

    def follow(self) -> None:
        """Measure what is to be judged and is not yet."""
        session = self._session
        if session.is_proposing:
            return
        kinds: tuple[type[Body | Surface], ...] = (Body, Surface)
        for item in [each for kind in kinds for each in session.job.all(kind)]:
            if wants_measuring(session.job, item):
                self._measure(item)
            elif isinstance(item, Surface) and is_followed_only(item):
                self._measure_anew(item)

    def _measure_anew(self, surface: Surface) -> None:
        session, job = self._session, self._session.job
        if self._asked.get(surface.id) == (surface,):
            return
        self._asked[surface.id] = (surface,)

        def done(made: Surface) -> None:
            if session.job.items.get(surface.id) is surface:
                session.amend(session.job.with_item(made))

        # Nobody waits for it: figures are there, and seldom change.
        session.work.start(surface.id, "measure", "", lambda *_: measured_anew(job, surface), done)

    def _measure(self, item: Body | Surface) -> None:
        session = self._session
        judge = judge_of(session.job, item)
        assert judge is not None
        (scan, region), tolerance = judge, session.job.tolerance.deviation
        shape, watches = _shape_of(item), item.watches
        wanted = (shape, scan.mesh if region is None else region, tolerance)
        asked = self._asked.get(item.id, ())
        if len(asked) == 3 and all(a is b for a, b in zip(asked[:2], wanted[:2], strict=True)):
            return
        self._asked[item.id] = wanted

        def done(found: Any) -> None:
            now = session.job.items.get(item.id)
            if not isinstance(now, Body | Surface) or now.watches != watches:
                return
            if _shape_of(now) is shape:
                session.amend(with_measured(session.job, now, *found))

        session.work.start(
            item.id,
            "measure",
            f"Measuring {item.name}",
            lambda *_: measured(item, scan.mesh, tolerance, region),
            done,
        )


def _shape_of(item: Body | Surface) -> object:
    return item.shape if isinstance(item, Body) else item.geometry
