"""How long computations report, and how they are stopped."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Progress = Callable[[float, str], None]


class Cancelled(Exception):
    """Raised where a computation reports, to stop it."""


def silent(_fraction: float, _words: str) -> None:
    """Take a report and do nothing with it."""


def stretch(progress: Progress, low: float, high: float) -> Progress:
    """Return a progress of which the whole is the stretch from `low` to `high` of another."""
    return lambda fraction, words: progress(
        low + (high - low) * min(max(fraction, 0.0), 1.0), words
    )


_stopped: ContextVar[Callable[[], bool] | None] = ContextVar("stopped", default=None)


@contextmanager
def stoppable(stopped: Callable[[], bool]) -> Iterator[None]:
    """Let `checkpoint` stop what runs in this context once `stopped` says so."""
    token = _stopped.set(stopped)
    try:
        yield
    finally:
        _stopped.reset(token)


def checkpoint() -> None:
    """Stop here if the computation was asked to; long loops call it between their steps.

    Raises
    ------
    Cancelled
    """
    stopped = _stopped.get()
    if stopped is not None and stopped():
        raise Cancelled
