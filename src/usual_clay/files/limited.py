"""Readers that lean on libraries of others, each file within limits of time and memory."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from usual_clay.core.apart import ApartError, apart
from usual_clay.files.errors import FileError

Read = TypeVar("Read")
# How long reading may take, s, and how much longer for each byte.
SECONDS, PER_BYTE = 15.0, 1e-6


def read_apart(path: Path, work: Callable[..., Read], *given: object) -> Read:
    """Read a file in a process of its own.

    Parameters
    ----------
    work : function of a module
        ``work(path, *given)``.

    Raises
    ------
    FileError
        What is wrong with it; also where it ends the process, or never comes to an end.
    """
    try:
        size = path.stat().st_size
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror}") from None
    try:
        return apart(path.name, work, path, *given, seconds=SECONDS + PER_BYTE * size)
    except ApartError as error:
        raise FileError(str(error).replace("the geometry kernel", "its reader")) from None
