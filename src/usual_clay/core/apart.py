"""Work that may crash or hang, in a process of its own: then it becomes one line for the user.

One such process is kept, so that the kernel need not be loaded each time. What is cancelled, takes
too long or ends its process costs that process alone.
"""

from __future__ import annotations

import atexit
import os
import resource
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from usual_clay.core.errors import ClayError
from usual_clay.core.progress import Progress, checkpoint, silent

Result = TypeVar("Result")
SECONDS = 300.0
# How often it is looked whether it should stop, s.
POLL = 0.05
# What such a process may use of the machine's memory.
SHARE = 0.6
LEAST = 3 << 30


class ApartError(ClayError):
    """Work that ended its process, or took too long."""


def apart(
    name: str,
    work: Callable[..., Result],
    *given: object,
    progress: Progress | None = None,
    seconds: float = SECONDS,
) -> Result:
    """Do work in a process of its own, and return what it gives.

    Parameters
    ----------
    name : str
        Of what it is about, for the message.
    work : function of a module
        With `progress` given it takes one of its own, by that name.
    given : what it takes, which can be pickled

    Raises
    ------
    ApartError
        Where it ends the process, or takes longer than so many seconds.
    Cancelled
        Where it was stopped.
    """
    helper = _taken()
    try:
        result = helper.do(name, work, given, progress, seconds)
    except ClayError as error:
        if isinstance(error, ApartError):
            helper.end()
        else:
            _kept(helper)
        raise
    except BaseException:
        helper.end()
        raise
    _kept(helper)
    return result


class _Helper:
    """One process that does what it is sent, one thing after another."""

    def __init__(self, *modules: str) -> None:
        self._line, theirs = Pipe()
        first = "".join(f"import {module}; " for module in modules)
        code = f"{first}from usual_clay.core.apart import serve; serve({theirs.fileno()})"
        # What the kernel prints is nobody's business.
        nowhere, path = subprocess.DEVNULL, os.pathsep.join(sys.path)
        self._process = subprocess.Popen(
            [sys.executable, "-c", code], pass_fds=[theirs.fileno()], stdin=nowhere,
            stdout=nowhere, stderr=nowhere, env=os.environ | {"PYTHONPATH": path},
        )  # fmt: skip
        theirs.close()

    @property
    def lives(self) -> bool:
        return self._process.poll() is None

    def do(
        self,
        name: str,
        work: Callable[..., Any],
        given: tuple[object, ...],
        progress: Progress | None,
        seconds: float,
    ) -> Any:
        until = time.monotonic() + seconds
        try:
            self._line.send((work, given, progress is not None))
            while True:
                checkpoint()
                if self._line.poll(POLL):
                    what, value = self._line.recv()
                    if what == "progress":
                        (progress or silent)(*value)
                    elif what == "done":
                        return value
                    else:
                        raise value
                elif time.monotonic() > until:
                    raise ApartError(
                        f"{name} takes longer than {seconds:g} s: it is damaged, or far too large"
                    )
        except (EOFError, BrokenPipeError, ConnectionResetError):
            raise ApartError(
                f"{name} ends the geometry kernel: it is damaged, or of a kind that it cannot take"
            ) from None

    def end(self) -> None:
        self._process.kill()
        self._process.wait()
        self._line.close()


_idle: list[_Helper] = []
_lock = threading.Lock()


def _taken() -> _Helper:
    with _lock:
        while _idle:
            helper = _idle.pop()
            if helper.lives:
                return helper
    return _Helper()


def _kept(helper: _Helper) -> None:
    with _lock:
        if not _idle:
            _idle.append(helper)
            return
    helper.end()


def ready(*modules: str) -> None:
    """Start a process that waits for work, so that the first work need not wait for it.

    Parameters
    ----------
    modules : str
        What it imports meanwhile.
    """
    with _lock:
        if not _idle:
            _idle.append(_Helper(*modules))


@atexit.register
def _end_all() -> None:
    with _lock:
        while _idle:
            _idle.pop().end()


def serve(descriptor: int) -> None:
    """Do what comes over a line, until it is closed."""
    line = Connection(descriptor)
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    most = max(int(SHARE * memory), LEAST)
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))

    def progress(fraction: float, words: str) -> None:
        line.send(("progress", (fraction, words)))

    while True:
        try:
            work, given, tells = line.recv()
        except EOFError:
            return
        try:
            answer = "done", work(*given, **({"progress": progress} if tells else {}))
        except ClayError as error:
            answer = "failed", error
        except MemoryError:
            answer = "failed", ApartError("it asks for more memory than there is")
        except Exception as error:
            answer = "failed", ApartError(f"the geometry kernel says: {_words(error)}")
        line.send(answer)


def _end_with(parent: int) -> None:
    """End as soon as the process is gone that waits for what is done here."""
    while os.getppid() == parent:
        time.sleep(1)
    os._exit(1)


def _words(error: Exception) -> str:
    return " ".join(str(error).split())[:200] or type(error).__name__
