"""The job: an immutable map of items and the one tolerance they are judged by."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from types import MappingProxyType
from typing import Any, TypeVar
from weakref import WeakKeyDictionary, ref

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.deviation import Report, Tolerance, judge
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.region import triangles_within
from usual_clay.core.scan.sample import Sample, as_shares, sample_of_points
from usual_clay.job.items import (
    Body,
    Followed,
    Item,
    ItemId,
    Judged,
    PointList,
    Region,
    Scan,
    Surface,
)

Kind = TypeVar("Kind", bound=Item)
Planned = TypeVar("Planned", bound=Item)


class JobError(GeometryError):
    """An edit that the job does not allow."""


@dataclass(frozen=True, eq=False)
class Job:
    """Everything the user is making. Edits return a new job that shares the rest.

    Attributes
    ----------
    name : str
    items : mapping of id to Item
        In the order they were added.
    tolerance : Tolerance
        The one tolerance and coverage share.
    next_number : int
        Part of the next new id.
    """

    name: str = "New job"
    items: Mapping[ItemId, Item] = field(default_factory=dict)
    tolerance: Tolerance = field(default_factory=Tolerance)
    next_number: int = 1

    def __post_init__(self) -> None:
        object.__setattr__(self, "items", MappingProxyType(dict(self.items)))

    def all(self, kind: type[Kind]) -> Iterator[Kind]:
        """Yield the items of one kind."""
        return (item for item in self.items.values() if isinstance(item, kind))

    def get(self, item_id: ItemId | None, kind: type[Kind]) -> Kind | None:
        """Return an item if it is there and of the kind."""
        item = self.items.get(item_id) if item_id is not None else None
        return item if isinstance(item, kind) else None

    def the(self, item_id: ItemId, kind: type[Kind]) -> Kind:
        """Return an item that must be there, and of the kind.

        Raises
        ------
        JobError
        """
        item = self.get(item_id, kind)
        if item is None:
            raise JobError(f"{item_id} is gone, or is something else")
        return item

    def new_id(self, word: str) -> ItemId:
        return f"{word}-{self.next_number}"

    def free_name(self, wanted: str) -> str:
        """Return the wanted name, numbered if another item has it."""
        names = {item.name for item in self.items.values()}
        stem, _, number = wanted.rpartition(" ")
        stem, count = (stem, int(number)) if stem and number.isdecimal() else (wanted, 1)
        while wanted in names:
            count += 1
            wanted = f"{stem} {count}"
        return wanted

    def with_item(self, item: Item) -> Job:
        """Add an item, or put it in place of the one with its id."""
        fresh = item.id not in self.items
        return replace(
            self,
            items={**self.items, item.id: item},
            next_number=self.next_number + 1 if fresh else self.next_number,
        )

    def changed(self, item_id: ItemId, **fields: Any) -> Job:
        """Change fields of one item."""
        return self.with_item(replace(self.items[item_id], **fields))

    def renewed(self, item: Planned) -> Planned:
        """Return a planned item with an id and a name that are still free."""
        if item.id not in self.items and all(
            item.name != other.name for other in self.items.values()
        ):
            return item
        word = item.id.rpartition("-")[0]
        return replace(item, id=self.new_id(word), name=self.free_name(item.name))

    def without(self, item_id: ItemId) -> Job:
        """Delete an item. What followed it stays as it is, loose; a scan takes its regions along.

        Raises
        ------
        JobError
            When the item, or a region that would go with it, is locked.
        """
        gone = {item_id} | {region.id for region in self.all(Region) if region.scan == item_id}
        for each in gone:
            if self.items[each].locked:
                raise JobError(f"{self.items[each].name} is locked: unlock it first")
        return replace(self, items={k: v for k, v in self.items.items() if k not in gone})

    def is_loose(self, item: Followed) -> bool:
        """Tell whether a source of an item is no longer there."""
        recipe = item.recipe
        return recipe is not None and not all(source in self.items for source in recipe.sources)

    def followers(self, item_id: ItemId) -> list[Followed]:
        """Return what is made from an item, directly."""
        return [
            item
            for item in self.all(Followed)
            if item.recipe is not None and item_id in item.recipe.sources
        ]

    def downstream(self, item_id: ItemId) -> set[ItemId]:
        """Return the ids of an item and of all that is made from it, near or far."""
        found, going = {item_id}, [item_id]
        while going:
            fresh = [item.id for item in self.followers(going.pop()) if item.id not in found]
            found.update(fresh)
            going += fresh
        return found

    def measured(self, surface: Surface) -> Region | PointList | None:
        """Return the region or loose points that judge a surface, if they are still there.

        What a patch is judged by is no region of the user's, but is given as one.
        """
        source = surface.watches
        if surface.inside is not None and self.get(source, Scan) is not None:
            name = f"the scan inside {surface.name}"
            return Region(
                id=f"{surface.id} inside", name=name, scan=source, vertices=surface.inside
            )
        region = self.get(source, Region)
        if surface.inside is not None and region is not None:
            return _part_inside(region, surface)
        return self.get(source, Region) or self.get(source, PointList)

    def region_of(self, surface: Surface) -> Region | None:
        """Return what judges a surface where it is a region of a scan."""
        measured = self.measured(surface)
        return measured if isinstance(measured, Region) else None

    def report(self, item: Judged) -> Report | None:
        """Judge what was fitted by the job's tolerance: a surface by area, others by points."""
        if isinstance(item, Body):
            return _report(item, None, self.get(item.watches, Scan), self.tolerance)
        if not isinstance(item, Surface):
            return _report(item, None, None, self.tolerance)
        source = None if item.watches is None else self.items.get(item.watches)
        region = self.region_of(item)
        scan = None if region is None else self.get(region.scan, Scan)
        return _report(item, source, scan, self.tolerance)


def forget() -> None:
    """Let go of what was worked out for jobs that are no longer open."""
    for kept in (_part_inside, _loose_areas, _region_areas):
        kept.cache_clear()


@lru_cache(maxsize=16)
def _part_inside(region: Region, surface: Surface) -> Region:
    # The same one each time, so that what is worked out for it is found again.
    assert surface.inside is not None
    vertices = _inside(region, surface.inside)
    return replace(region, id=f"{surface.id} inside", vertices=vertices)


def _inside(region: Region, inside: Ints) -> Ints:
    """Return the vertices of a region that judge a surface; all where it has changed since."""
    known = len(inside) == 0 or inside[-1] < len(region.vertices)
    return region.vertices[inside] if known else region.vertices


# The last report of each item, and of what: Card, Shelf and Balance all ask for it, at each move
# of a hand. It goes with its item, and holds nothing else.
_reports: WeakKeyDictionary[Judged, tuple[tuple[object, object, Tolerance], Report]] = (
    WeakKeyDictionary()
)


def _report(
    item: Judged, source: Item | None, scan: Scan | None, tolerance: Tolerance
) -> Report | None:
    if item.signed is None:
        return None
    by = (_weakly(source), _weakly(scan), tolerance)
    kept = _reports.get(item)
    if kept is not None and kept[0] == by:
        return kept[1]
    areas = _areas_of(item, source, scan)
    if areas is not None and len(areas) != len(item.signed):
        areas = None
    report = judge(item.signed, tolerance, areas)
    _reports[item] = by, report
    return report


def _weakly(item: Item | None) -> ref[Item] | None:
    return None if item is None else ref(item)


def _areas_of(item: Judged, source: Item | None, scan: Scan | None) -> Floats | None:
    """Return how much of the area each measured point of a surface stands for."""
    inside = item.inside if isinstance(item, Surface | Body) else None
    if scan is None:
        return _loose_areas(source) if isinstance(source, PointList) else None
    if isinstance(source, Region):
        if inside is None:
            return _region_areas(source, scan)
        inside = _inside(source, inside)
    return None if inside is None else _shares_of(scan, inside)


def _shares_of(scan: Scan, vertices: Ints) -> Floats | None:
    return None if is_of_another(scan, vertices) else as_shares(scan.mesh.vertex_areas[vertices])


@lru_cache(maxsize=4)
def _region_areas(region: Region, scan: Scan) -> Floats | None:
    return _shares_of(scan, region.vertices)


@lru_cache(maxsize=4)
def _loose_areas(points: PointList) -> Floats:
    kept = points.points[points.kept]
    # How they face takes far longer to tell, and does not matter for it.
    return Sample(kept, np.zeros_like(kept)).areas


def measured_points(job: Job, measured: Region | PointList) -> Floats | None:
    """Return the points of a region or a list, (n, 3), where they are still in the job."""
    if isinstance(measured, PointList):
        return measured.points[measured.kept]
    scan = job.get(measured.scan, Scan)
    if scan is None or is_of_another(scan, measured.vertices):
        return None
    return scan.mesh.vertices[measured.vertices]


def is_of_another(scan: Scan, vertices: Ints) -> bool:
    """Tell whether vertices are those of the scan as it was, until what holds them follows."""
    return bool(len(vertices)) and int(vertices.max()) >= len(scan.mesh.vertices)


def sample_of(job: Job, region: Item) -> Sample:
    """Return the measured points of a region, or loose ones of a list.

    Raises
    ------
    JobError
    """
    if isinstance(region, PointList):
        return sample_of_points(region.points[region.kept])
    if not isinstance(region, Region):
        raise JobError(f"{region.name} holds no measured points")
    scan = job.get(region.scan, Scan)
    if scan is None:
        raise JobError(f"the scan of {region.name} is no longer in the job")
    vertices = region.vertices
    return Sample(
        scan.mesh.vertices[vertices],
        scan.mesh.vertex_normals[vertices],
        triangles_within(scan.mesh, vertices),
        scan.mesh.vertex_areas[vertices],
    )
