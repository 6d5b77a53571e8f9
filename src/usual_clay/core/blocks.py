"""Work on long arrays in blocks that fit the processor's own memory, on two threads."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Part = TypeVar("Part")

BLOCK = 32_768
# Below so many points two threads only wait for each other.
THREADED = 80_000


def in_blocks(count: int, work: Callable[[slice], None]) -> None:
    """Call `work` for each block of `count` points; it writes to places of its own."""
    blocks = (slice(start, min(start + BLOCK, count)) for start in range(0, count, BLOCK))
    side_by_side(blocks, work, count)


def side_by_side(parts: Iterable[Part], work: Callable[[Part], None], count: int) -> None:
    """Call `work` for each part of what concerns `count` points."""
    if count < THREADED:
        for part in parts:
            work(part)
    else:
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(work, parts))
