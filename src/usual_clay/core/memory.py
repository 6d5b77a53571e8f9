"""Memory: in one store, and given back to the system when it was let go of."""

from __future__ import annotations

import ctypes
from contextlib import suppress

# What glibc calls the most stores that threads may have (mallopt, M_ARENA_MAX).
MOST_STORES = -8


def keep_one_store() -> None:
    """Let all threads take memory from one store, before there are any.

    With one each, what a thread leaves between what is still used is of no use to others: a job
    opened and closed fifty times would end with a quarter more than it began with.
    """
    with suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").mallopt(MOST_STORES, 1)


def give_back() -> None:
    """Give back what the allocator keeps of memory that nothing uses any more.

    Threads that pack arrays leave much of it between what is still used: a long day of edits would
    end with half as much again as it began with. Takes some 20 ms.
    """
    # Another C library than the common one has no such function.
    with suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)
