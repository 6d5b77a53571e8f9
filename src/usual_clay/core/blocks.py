"""Work on long arrays in blocks that fit the processor's own memory, on two threads."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context

from usual_clay.core.progress import checkpoint

# Smaller ones would have two threads wait for each other.
BLOCK = 16_384
# Below so many points two threads are not worth starting.
THREADED = 80_000


def in_blocks(count: int, work: Callable[[slice], None]) -> None:
    """Call `work` for each block of `count` points; it writes to places of its own.

    Raises
    ------
    Cancelled
        Between blocks, where the computation was asked to stop.
    """
    blocks = (slice(start, min(start + BLOCK, count)) for start in range(0, count, BLOCK))
    if count < THREADED:
        for block in blocks:
            checkpoint()
            work(block)
        return

    def step(block: slice) -> None:
        checkpoint()
        work(block)

    with ThreadPoolExecutor(2) as pool:
        # Each thread is to hear of a stop, so each call has the context of the caller.
        running = [pool.submit(copy_context().run, step, block) for block in blocks]
        for each in running:
            each.result()
