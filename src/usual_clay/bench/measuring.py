"""Bodies judged by scans, in the background, as soon as either changes."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject

from usual_clay.bench.session import Session
from usual_clay.job.edits.bodies import measured, wants_measuring, with_measured
from usual_clay.job.items import Body, Scan


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
        for body in session.job.all(Body):
            if wants_measuring(session.job, body):
                self._measure(body)

    def _measure(self, body: Body) -> None:
        session = self._session
        scan, tolerance = session.job.the(body.watches, Scan), session.job.tolerance.deviation
        wanted = (body.shape, scan.mesh, tolerance)
        asked = self._asked.get(body.id, ())
        if len(asked) == 3 and all(a is b for a, b in zip(asked[:2], wanted[:2], strict=True)):
            return
        self._asked[body.id] = wanted

        def done(found: Any) -> None:
            now = session.job.get(body.id, Body)
            if now is not None and now.shape is body.shape and now.watches == scan.id:
                session.amend(with_measured(session.job, now, *found))

        session.work.start(
            body.id,
            "measure",
            f"Measuring {body.name}",
            lambda *_: measured(body.shape, scan.mesh, tolerance),
            done,
        )
