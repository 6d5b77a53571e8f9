"""How long computations report, and how they are stopped."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[float, str], None]


class Cancelled(Exception):
    """Raised inside a progress callback to stop the computation that called it."""


def silent(_fraction: float, _words: str) -> None:
    """Take a report and do nothing with it."""
