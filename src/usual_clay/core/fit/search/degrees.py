"""Searches over degrees: the leanest of several searches, one for each degree."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from usual_clay.core.progress import Progress, stretch

# In the order in which they are tried; of equally lean ones the first is kept.
DEGREES = (3, 2, 4, 5)

Found = TypeVar("Found")


def leanest(
    search: Callable[[int, Progress], Found],
    cost: Callable[[Found], tuple[float, ...]],
    stopped: Callable[[Found], bool],
    progress: Progress,
) -> Found:
    """Return the best of searches with several degrees.

    Parameters
    ----------
    search : callable
        ``search(degree, progress)``.
    cost : callable
        Whether the tolerance is not met, and how many control points it takes.
    stopped : callable
        Whether a search was stopped: then no more are made, and the best before it is returned.
    """
    best: Found | None = None
    for number, degree in enumerate(DEGREES):
        part = stretch(progress, number / len(DEGREES), (number + 1) / len(DEGREES))
        found = search(degree, part)
        if best is None or (not stopped(found) and cost(found) < cost(best)):
            best = found
        if stopped(found):
            break
    assert best is not None
    return best
