"""Nothing that goes wrong in the window ends it: unexpected errors become a calm notice.

Methods that Qt calls are guarded one by one, since an error that leaves one on its way through
C++ can end the process.
"""

from __future__ import annotations

import functools
import sys
import threading
import traceback
from collections.abc import Callable
from types import FunctionType, TracebackType
from typing import Any, TypeVar

from PySide6.QtCore import QObject, QSize, Signal

from usual_clay.log import logger

Class = TypeVar("Class", bound=type)
# What a guarded method gives instead, by its name; None for all others.
INSTEAD: dict[str, Any] = {
    "event": False,
    "eventFilter": False,
    "sizeHint": QSize(),
    "minimumSizeHint": QSize(),
    "heightForWidth": -1,
    "tickValues": [],
    "tickStrings": [],
}
WORDS = (
    "Something went wrong that should not have. The job is as it was, and you can go on;"
    " save it under another name to be sure."
)


class Faults(QObject):
    """Where unexpected errors of any thread come together.

    Signals
    -------
    came : words for the user, details to copy
    """

    came = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self._last = ""

    def take(self, error: BaseException, where: str = "") -> None:
        """Log an error and tell of it; one that comes again at once is told once."""
        details = "".join(traceback.format_exception(error))
        # What the frames hold, such as a painter at work, must not outlive the error.
        traceback.clear_frames(error.__traceback__)
        if details != self._last:
            self._last = details
            logger.error("%s\n%s", where or "unexpected error", details)
            self.came.emit(WORDS, details)

    def forget(self) -> None:
        """Tell of the last error again if it comes again."""
        self._last = ""


faults = Faults()


def guarded(method: Callable[..., Any]) -> Callable[..., Any]:
    """Return a method that hands what goes wrong in it to `faults`."""

    @functools.wraps(method)
    def safe(*arguments: Any, **named: Any) -> Any:
        try:
            return method(*arguments, **named)
        except Exception as error:
            faults.take(error, method.__qualname__)
            return INSTEAD.get(method.__name__)

    safe.is_guarded = True  # type: ignore[attr-defined]
    return safe


def overrides(cls: type) -> list[str]:
    """Return the names of a class's own methods that override one of Qt's."""
    toolkit = [
        base for base in cls.__mro__[1:] if base.__module__.startswith(("PySide6", "Shiboken"))
    ]
    return [
        name
        for name, value in vars(cls).items()
        if isinstance(value, FunctionType)
        and not name.startswith("__")
        and any(name in vars(base) for base in toolkit)
    ]


class Guarded:
    """A base that guards every method of its subclasses that overrides one of Qt's."""

    def __init_subclass__(cls, **named: Any) -> None:
        super().__init_subclass__(**named)
        for name in overrides(cls):
            setattr(cls, name, guarded(vars(cls)[name]))


def watch() -> None:
    """Let errors that nobody caught come to `faults`, on whatever thread."""

    def uncaught(
        kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
        else:
            faults.take(error.with_traceback(trace))

    def uncaught_in_thread(told: threading.ExceptHookArgs) -> None:
        if told.exc_value is not None and not issubclass(told.exc_type, SystemExit):
            faults.take(told.exc_value, f"thread {told.thread.name if told.thread else ''}")

    def unraisable(told: Any) -> None:
        if told.exc_value is not None:
            faults.take(told.exc_value, str(told.err_msg or ""))

    sys.excepthook = uncaught
    threading.excepthook = uncaught_in_thread
    sys.unraisablehook = unraisable
