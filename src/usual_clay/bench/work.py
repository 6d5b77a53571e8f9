"""Background work: one thread a kind of work, the newest request wins."""

from __future__ import annotations

import threading
import traceback
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from usual_clay.core.progress import Cancelled, Progress

# What is run: told how to report progress and how to hand over partial results.
Task = Callable[[Progress, Callable[[Any], None]], Any]


class _Errand:
    """One request and what became of it."""

    def __init__(self, key: str, words: str, task: Task, then: dict[str, Callable]) -> None:
        self.key, self.words, self.task, self.then = key, words, task, then
        self.stopped = threading.Event()


class Work(QObject):
    """Runs tasks off the interface thread and tells of them on it.

    Signals
    -------
    progressed : key, fraction, words
    ended : key
    """

    progressed = Signal(str, float, str)
    ended = Signal(str)
    _came = Signal(object, str, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._running: dict[str, _Errand] = {}
        self._waiting: dict[str, _Errand] = {}
        self._came.connect(self._deliver)

    def start(
        self,
        key: str,
        words: str,
        task: Task,
        done: Callable[[Any], None],
        partial: Callable[[Any], None] | None = None,
        failed: Callable[[Exception], None] | None = None,
    ) -> None:
        """Run a task. An earlier one of the same key is stopped, and its results are dropped."""
        errand = _Errand(key, words, task, {"done": done})
        if partial is not None:
            errand.then["partial"] = partial
        if failed is not None:
            errand.then["failed"] = failed
        running = self._running.get(key)
        if running is not None:
            # Superseded, not cancelled: what it still hands over is no longer wanted.
            running.then = {}
            running.stopped.set()
            self._waiting[key] = errand
        else:
            self._launch(errand)

    def cancel(self, key: str) -> None:
        """Ask a task to stop; what it returns as its best so far is still delivered."""
        self._waiting.pop(key, None)
        if key in self._running:
            self._running[key].stopped.set()

    def cancel_all(self) -> None:
        for key in list(self._running):
            self.cancel(key)

    def drop(self, key: str) -> None:
        """Stop a task and forget what it returns."""
        if key in self._running:
            self._running[key].then = {}
            self.ended.emit(key)
        self.cancel(key)

    def is_busy(self, key: str | None = None) -> bool:
        return bool(self._running) if key is None else key in self._running

    def is_wanted(self, key: str) -> bool:
        """Tell whether a task runs and what it hands over is still waited for."""
        return key in self._running and bool(self._running[key].then)

    def busy_words(self) -> str:
        """Return the words of what runs, or nothing."""
        wanted = (errand for errand in self._running.values() if errand.then)
        return next((errand.words for errand in wanted if errand.words), "")

    def _launch(self, errand: _Errand) -> None:
        self._running[errand.key] = errand
        self.progressed.emit(errand.key, 0.0, errand.words)
        threading.Thread(target=self._run, args=(errand,), daemon=True).start()

    def _run(self, errand: _Errand) -> None:
        def progress(fraction: float, words: str) -> None:
            if errand.stopped.is_set():
                raise Cancelled
            self._came.emit(errand, "progress", (fraction, words))

        try:
            result = errand.task(progress, lambda part: self._came.emit(errand, "partial", part))
            self._came.emit(errand, "done", result)
        except Cancelled:
            self._came.emit(errand, "stopped", None)
        except Exception as error:
            self._came.emit(errand, "failed", error)

    def _deliver(self, errand: _Errand, what: str, value: Any) -> None:
        if what == "progress":
            if self._running.get(errand.key) is errand and errand.then:
                self.progressed.emit(errand.key, value[0], f"{errand.words} {value[1]}".strip())
            return
        then = errand.then.get(what)
        if what == "partial":
            if then is not None and not errand.stopped.is_set():
                then(value)
            return
        del self._running[errand.key]
        if then is not None:
            then(value)
        elif what == "failed" and errand.then:
            traceback.print_exception(value)
        waiting = self._waiting.pop(errand.key, None)
        if waiting is not None:
            self._launch(waiting)
        else:
            self.ended.emit(errand.key)
