"""Recipes of bodies: made in a process of its own, where the geometry kernel is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from usual_clay.core.apart import apart
from usual_clay.core.body.body_shape import BodyMade
from usual_clay.core.body.operate import operate
from usual_clay.core.progress import Progress
from usual_clay.job.items import Body
from usual_clay.job.made import Given

# Longer than this no step may take, s.
SECONDS = 600.0


def by_kernel(kind: str) -> Callable[[Any, Given, Progress, object], BodyMade]:
    """Return the maker of a kind of body."""

    def make(settings: Any, given: Given, progress: Progress, _: object) -> BodyMade:
        named = given.named()
        first = next((name for each in named.values() for name, _ in each), kind)
        return apart(first, operate, kind, settings, named, progress=progress, seconds=SECONDS)

    return make


def put_body(item: Body, made: BodyMade, _finished: bool) -> Body:
    """Put what was made into its item; what judges it is measured anew."""
    return replace(
        item, shape=made.shape, gaps=made.gaps, spots=made.spots, signed=None, inside=None
    )
