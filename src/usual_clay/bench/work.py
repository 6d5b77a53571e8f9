"""Background work as requests: each has an owner, a purpose, progress, and a Cancel that ends it.

A request takes the place of an earlier one of the same owner and purpose, and of no other.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from usual_clay.bench.guard import faults
from usual_clay.core.progress import Cancelled, Progress, stoppable

# What is run: told how to report progress and how to hand over partial results.
Task = Callable[[Progress, Callable[[Any], None]], Any]
# Threads that run, and all that each of them works with.
_threads: list[tuple[threading.Thread, object]] = []
# A task that was cancelled has so long to come to its end, ms; then it is left to itself.
GRACE = 350


def start_thread(
    of: QObject, name: str, target: Callable[..., None], *args: object
) -> threading.Thread:
    """Start a thread that an object hears from, on the thread that the object lives on.

    The object, and whatever the target knows (a card that asked for it, say), is kept until the
    thread has ended: were the thread the last to hold it, it would be destroyed away from the
    thread that its events come to.
    """
    _threads[:] = [each for each in _threads if each[0].is_alive()]
    thread = threading.Thread(target=target, args=args, name=name, daemon=True)
    _threads.append((thread, (of, target, args)))
    thread.start()
    return thread


class Request:
    """One piece of work.

    Attributes
    ----------
    owner : str
        The item or the card that it is for; empty for the job as a whole.
    purpose : str
        What it is for, such as "fit", "search" or "mend".
    words : str
        What the user reads of it; empty for what is not worth telling.
    asked : bool
        Whether the user asked for it and waits: Escape ends it.
    keeps_best : bool
        Whether what it has when it is cancelled is handed over.
    fraction : float
        How far it has come, 0 to 1; it never runs back.
    step : str
        What it is at.
    """

    def __init__(
        self, owner: str, purpose: str, words: str, task: Task, asked: bool, keeps_best: bool
    ) -> None:
        self.owner, self.purpose, self.words = owner, purpose, words
        self.asked, self.keeps_best = asked, keeps_best
        self.fraction, self.step = 0.0, ""
        self._task = task
        self._then: dict[str, Callable[[Any], None]] = {}
        self._stopped = threading.Event()

    @property
    def key(self) -> tuple[str, str]:
        return self.owner, self.purpose

    @property
    def is_wanted(self) -> bool:
        """Whether what it hands over is still waited for."""
        return bool(self._then)

    @property
    def is_stopped(self) -> bool:
        return self._stopped.is_set()


class Work(QObject):
    """Runs requests off the interface thread and tells of them on it.

    Signals
    -------
    progressed, ended : the request
    failed : the request, and an error that whoever asked for it does not take
    """

    progressed = Signal(object)
    ended = Signal(object)
    failed = Signal(object, object)
    _came = Signal(object, str, object)
    _begun = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        # Told a moment later: work may begin while a view paints, and what shows it paints too.
        self._begun.connect(self.progressed, Qt.ConnectionType.QueuedConnection)
        self._running: dict[tuple[str, str], Request] = {}
        self._waiting: dict[tuple[str, str], Request] = {}
        self._came.connect(self._deliver)

    def start(
        self,
        owner: str,
        purpose: str,
        words: str,
        task: Task,
        done: Callable[[Any], None],
        partial: Callable[[Any], None] | None = None,
        failed: Callable[[Exception], None] | None = None,
        asked: bool = False,
        keeps_best: bool = False,
    ) -> Request:
        """Run a task. An earlier one of the same owner and purpose is stopped, and forgotten.

        What fails without `failed` is told by the signal.
        """
        request = Request(owner, purpose, words, task, asked, keeps_best)
        request._then["done"] = done
        if partial is not None:
            request._then["partial"] = partial
        if failed is not None:
            request._then["failed"] = failed
        running = self._running.get(request.key)
        if running is not None:
            # Superseded, not cancelled: what it still hands over is no longer wanted.
            running._then = {}
            running._stopped.set()
            self._waiting[request.key] = request
            self._leave_soon(running)
        else:
            self._launch(request)
        return request

    # ---- what there is -------------------------------------------------------------------

    def find(self, owner: str, purpose: str) -> Request | None:
        """Return a request that runs or waits and is still wanted."""
        for request in (self._waiting.get((owner, purpose)), self._running.get((owner, purpose))):
            if request is not None and request.is_wanted:
                return request
        return None

    def all(self) -> list[Request]:
        """Return what runs and is wanted, the oldest first."""
        return [request for request in self._running.values() if request.is_wanted]

    def is_busy(self) -> bool:
        """Tell whether anything runs at all, wanted or on its way to an end."""
        return bool(self._running)

    def shown(self) -> Request | None:
        """Return the request that the user should read of: one asked for before all others."""
        told = [request for request in self.all() if request.words]
        return next((r for r in told if r.asked), told[0] if told else None)

    # ---- ending --------------------------------------------------------------------------

    def cancel(self, request: Request | None) -> None:
        """End a request within half a second; where it keeps its best, that is handed over."""
        if request is not None:
            self._end(request, forgets=not request.keeps_best)

    def _end(self, request: Request, forgets: bool) -> None:
        if request.is_stopped and not request.is_wanted:
            # It has ended, but for its task: that is told once.
            return
        waits = self._waiting.get(request.key) is request
        runs = self._running.get(request.key) is request
        if forgets:
            request._then = {}
        if waits:
            del self._waiting[request.key]
        if runs:
            request._stopped.set()
            self._leave_soon(request)
        if (waits or runs) and not request.is_wanted:
            self.ended.emit(request)

    def drop(self, owner: str, purpose: str = "") -> None:
        """End an owner's requests, or its one of a purpose, and forget what they return."""
        for request in [*self._running.values(), *self._waiting.values()]:
            if request.owner == owner and purpose in ("", request.purpose):
                self._end(request, forgets=True)

    def cancel_all(self) -> None:
        """End everything, and forget it."""
        for request in [*self._running.values(), *self._waiting.values()]:
            self._end(request, forgets=True)

    def _leave_soon(self, request: Request) -> None:
        QTimer.singleShot(GRACE, self, lambda: self._leave(request))

    def _leave(self, request: Request) -> None:
        """Go on without a task that did not come to its end in time."""
        if self._running.get(request.key) is request and request.is_stopped:
            request._then = {}
            self._finish(request)

    # ---- running -------------------------------------------------------------------------

    def _launch(self, request: Request) -> None:
        self._running[request.key] = request
        self._begun.emit(request)
        name = f"{request.purpose} {request.owner}".strip()
        start_thread(self, name, self._run, request)

    def _run(self, request: Request) -> None:
        def progress(fraction: float, words: str) -> None:
            if request.is_stopped:
                raise Cancelled
            self._came.emit(request, "progress", (fraction, words))

        try:
            with stoppable(lambda: request.is_stopped):
                result = request._task(
                    progress, lambda part: self._came.emit(request, "partial", part)
                )
            self._came.emit(request, "done", result)
        except Cancelled:
            self._came.emit(request, "stopped", None)
        except Exception as error:
            self._came.emit(request, "failed", error)

    def _deliver(self, request: Request, what: str, value: Any) -> None:
        if self._running.get(request.key) is not request:
            return
        then = request._then.get(what)
        if what == "progress":
            if request.is_wanted:
                request.fraction = max(request.fraction, min(max(value[0], 0.0), 1.0))
                request.step = value[1]
                self.progressed.emit(request)
            return
        if what == "partial":
            if then is not None and not request.is_stopped:
                self._call(then, value)
            return
        wanted, request._then = request.is_wanted, {}
        if then is not None:
            self._call(then, value)
        elif what == "failed" and wanted:
            self.failed.emit(request, value)
        self._finish(request)

    def _call(self, then: Callable[[Any], None], value: Any) -> None:
        """Hand something over; what goes wrong in taking it must not stop the work."""
        try:
            then(value)
        except Exception as error:
            faults.take(error, "what came of background work")

    def _finish(self, request: Request) -> None:
        del self._running[request.key]
        waiting = self._waiting.pop(request.key, None)
        if waiting is not None:
            self._launch(waiting)
        self.ended.emit(request)
