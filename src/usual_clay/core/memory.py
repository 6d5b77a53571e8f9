"""Memory that was let go of, given back to the system."""

from __future__ import annotations

import ctypes
from contextlib import suppress


def give_back() -> None:
    """Give back what the allocator keeps of memory that nothing uses any more.

    Threads that pack arrays leave much of it between what is still used: a long day of edits would
    end with half as much again as it began with. Takes some 20 ms.
    """
    # Another C library than the common one has no such function.
    with suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)
