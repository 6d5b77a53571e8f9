"""Work that may crash or hang, in a process of its own: then it becomes one line for the user."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import get_context
from typing import TypeVar

from usual_clay.files.errors import FileError

Result = TypeVar("Result")
SECONDS = 300.0


def apart(
    name: str, work: Callable[..., Result], *given: object, seconds: float = SECONDS
) -> Result:
    """Do work in a process of its own, and return what it gives.

    Parameters
    ----------
    name : str
        Of the file that it is about, for the message.
    work : function of a module
    given : what it takes, which can be pickled

    Raises
    ------
    FileError
        Where it ends the process, or takes longer than so many seconds.
    """
    pool = ProcessPoolExecutor(1, mp_context=get_context("spawn"))
    try:
        return pool.submit(work, *given).result(timeout=seconds)
    except BrokenProcessPool:
        raise FileError(
            f"{name} ends the geometry kernel: it is damaged, or of a kind that it cannot take"
        ) from None
    except TimeoutError:
        raise FileError(
            f"{name} takes longer than {seconds:g} s to read: it is damaged, or far too large"
        ) from None
    finally:
        for process in (getattr(pool, "_processes", None) or {}).values():
            process.kill()
        pool.shutdown(wait=False, cancel_futures=True)
