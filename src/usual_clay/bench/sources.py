"""Items as recipes take them, with what was worked out of measured points before kept."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from usual_clay.core.scan.sample import Sample
from usual_clay.files.picture_file import decode
from usual_clay.job.items import ItemId, PointList, Region
from usual_clay.job.job import Job, sample_of
from usual_clay.job.made import Given
from usual_clay.job.recipe import Recipe
from usual_clay.job.remake import given_for, source_of, values_of

KEPT = 8


class Sources:
    """What the open job's recipes are given; the samples of the last few regions are kept."""

    def __init__(self, job: Callable[[], Job]) -> None:
        self._job = job
        self._samples: dict[ItemId, tuple[tuple[object, ...], Sample]] = {}

    def forget(self) -> None:
        """Let go of everything: another job is open."""
        self._samples = {}

    def sample(self, item: Region | PointList) -> Sample:
        """Return the points of a region or a list, with what was worked out from them before."""
        job = self._job()
        values = values_of(job, item)
        kept = self._samples.get(item.id)
        if kept is None or not all(a is b for a, b in zip(kept[0], values, strict=True)):
            kept = (values, sample_of(job, item))
            self._samples = dict(list(self._samples.items())[-KEPT:])
            self._samples[item.id] = kept
        return kept[1]

    def one(self, item_id: ItemId, sample: bool = False) -> Any:
        """Return an item as recipes take it, as measured points where they are wanted."""
        item = self._job().items[item_id]
        if sample:
            return self.sample(item)  # type: ignore[arg-type]
        return source_of(self._job(), item_id, False, decode)

    def given(self, recipe: Recipe) -> Given:
        """Return a recipe's sources by role."""
        return given_for(self._job(), recipe, source=self.one)
