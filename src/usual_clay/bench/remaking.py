"""Remaking in the background what an edit made stale; the newest request wins."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject

from usual_clay.bench.session import Session
from usual_clay.bench.work import Request
from usual_clay.core.errors import sentence
from usual_clay.core.progress import Progress
from usual_clay.job.items import Basis, Followed, ItemId
from usual_clay.job.remake import basis_of, make, stale, with_made

STOPPED = "Stopped: it shows its last shape. Change something of it to fit it anew."


class Remaking(QObject):
    """Follows a session's edits."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._asked: dict[ItemId, Basis] = {}
        session.edited.connect(self.follow)
        session.replaced.connect(self._asked.clear)
        session.work.ended.connect(self._ended)

    def follow(self) -> None:
        """Start making whatever is stale now."""
        for item_id in stale(self._session.job):
            self._remake(item_id)

    def _remake(self, item_id: ItemId) -> None:
        session = self._session
        item = session.job.get(item_id, Followed)
        assert item is not None
        basis = basis_of(session.job, item)
        assert basis is not None
        under_way = session.work.find(item_id, "fit") is not None
        if basis.same_as(self._asked.get(item_id)) and (under_way or item_id in session.trouble):
            return
        self._asked[item_id] = basis
        given = session.sources.given(basis.recipe)

        def task(progress: Progress, partial: Callable[[Any], None]) -> Any:
            return make(basis.recipe, given, progress, partial)

        def put(made: Any, finished: bool) -> None:
            # Its name and the like are the user's, and may have changed meanwhile.
            now = session.job.get(item_id, Followed)
            if now is not None and basis.same_as(basis_of(session.job, now)):
                item = with_made(now, made, basis if finished else None)
                session.amend(session.job.with_item(item))

        def done(made: Any) -> None:
            session.trouble.pop(item_id, None)
            put(made, True)
            said = getattr(made, "words", "")
            if said:
                # Its card says it: what it follows may be dragged many times.
                session.note(item_id, sentence(said))
            # What follows from this one waited for it.
            self.follow()

        session.work.start(
            item_id,
            "fit",
            f"Fitting {item.name}",
            task,
            done,
            lambda made: put(made, False),
            failed=lambda error: session.fail(item_id, error),
        )

    def _ended(self, request: Request) -> None:
        """Say of an item whose fit was cancelled that it is not up to date."""
        session = self._session
        cancelled = request.purpose == "fit" and request.is_stopped
        again = session.work.find(request.owner, "fit") is not None
        if cancelled and not again and request.owner in stale(session.job):
            session.trouble.setdefault(request.owner, STOPPED)
            session.job_changed.emit()
