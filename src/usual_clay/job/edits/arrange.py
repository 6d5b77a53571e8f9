"""The order of the Shelf, and groups of items: job in, job out."""

from __future__ import annotations

from collections.abc import Sequence

from usual_clay.job.items import ItemId
from usual_clay.job.job import Job
from usual_clay.job.kinds import whole_of


def placed_beside(
    job: Job, ids: Sequence[ItemId], target: ItemId, below: bool, column: Sequence[ItemId]
) -> Job:
    """Put items before or behind another one; they join its group, if it is in one.

    Parameters
    ----------
    column : sequence of item ids
        All that stand under one heading, in the order in which they stand.
    """
    moved = [each for each in column if each in ids and each != target]
    stay = [each for each in column if each not in moved]
    at = stay.index(target) + below
    order = [*stay[:at], *moved, *stay[at:]]
    group = job.items[target].group
    for number, each in enumerate(order, start=1):
        of = group if each in moved else job.items[each].group
        if (job.items[each].order, job.items[each].group) != (number, of):
            job = job.changed(each, order=number, group=of)
    return job


def in_group(job: Job, ids: Sequence[ItemId], group: str) -> Job:
    """Put items in a group, or with no name in none; a part stands with its whole."""
    for each in ids:
        if whole_of(job.items[each]) is None and job.items[each].group != group:
            job = job.changed(each, group=group)
    return job


def members(job: Job, group: str) -> list[ItemId]:
    """Return the items of a group."""
    return [item.id for item in job.items.values() if group and item.group == group]


def free_group(job: Job) -> str:
    """Return a name that no group has yet."""
    taken = {item.group for item in job.items.values()}
    return next(f"Group {k}" for k in range(1, len(taken) + 2) if f"Group {k}" not in taken)
