"""Work on long arrays in blocks that fit the processor's own memory, on two threads."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

# Smaller ones would have two threads wait for each other.
BLOCK = 32_768
# Below so many points two threads are not worth starting.
THREADED = 80_000


def in_blocks(count: int, work: Callable[[slice], None]) -> None:
    """Call `work` for each block of `count` points; it writes to places of its own."""
    blocks = (slice(start, min(start + BLOCK, count)) for start in range(0, count, BLOCK))
    if count < THREADED:
        for block in blocks:
            work(block)
    else:
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(work, blocks))
