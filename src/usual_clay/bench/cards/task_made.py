"""What becomes of a job with what a task made: new items, or others in the place of its sources."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

from usual_clay.bench.cards.task_kinds import Task
from usual_clay.core.build.alter_surface import SECOND
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.edits import make
from usual_clay.job.edits.curves import new_curve, reshaped
from usual_clay.job.edits.surfaces import reshaped_surface
from usual_clay.job.items import Curve, ItemId, Surface
from usual_clay.job.job import Job

# Settings, and what they made.
Made = Sequence[tuple[Any, Any]]


class Plan(NamedTuple):
    """A task, and what was picked for it."""

    kind: str
    task: Task
    picked: tuple[ItemId, ...]
    roles: Mapping[str, Any]


def with_made(job: Job, plan: Plan, made: Made) -> tuple[Job, ItemId | None]:
    """Return the job with what was made, and what of it to choose."""
    chosen: ItemId | None = None
    for settings, result in made:
        if plan.task.alter is None:
            item = make.planned(job, plan.kind, settings, **plan.roles)
            job, whole = make.with_result(job, item, result)
            job = make.with_sources_hidden(job, whole)
            chosen = chosen or whole.id
        elif isinstance(job.items[plan.picked[0]], Surface):
            job, chosen = _with_surfaces(job, plan, result), plan.picked[0]
        else:
            job, chosen = _with_curves(job, plan, result, chosen)
    return job, chosen


def _parts(result: Any) -> list[tuple[Any, str]]:
    return list(zip(result.curves, result.names or ("",), strict=False))


def _with_curves(
    job: Job, plan: Plan, result: Any, chosen: ItemId | None
) -> tuple[Job, ItemId | None]:
    """Put an altered curve in its place; further parts stand beside it."""
    first = job.items[plan.picked[0]]
    for index, (part, name) in enumerate(_parts(result)):
        if index == 0 and not name and isinstance(first, Curve):
            job = job.with_item(reshaped(job, first, part))
            chosen = first.id
        else:
            curve = new_curve(job, part, f"{first.name} {name or 'part'}", None)
            job = job.with_item(curve)
            chosen = chosen or curve.id
    return job, chosen


def _with_surfaces(job: Job, plan: Plan, result: Any) -> Job:
    """Put altered surfaces in their places; further parts stand beside the first."""
    first = job.the(plan.picked[0], Surface)
    parted = bool(result.names) and SECOND not in result.names
    for part, name in _parts(result):
        assert isinstance(part, BSplineSurface)
        if name == SECOND:
            other = job.the(plan.picked[1], Surface)
            job = job.with_item(reshaped_surface(job, other, part))
            continue
        placed = first
        if name:
            called = job.free_name(f"{first.name} {name}")
            placed = replace(first, id=job.new_id("surface"), name=called)
        job = job.with_item(reshaped_surface(job, placed, part, is_part=bool(name) or parted))
    return job
