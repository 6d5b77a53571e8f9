"""Edits of point lists: job in, job out."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.curve.trace import Traced
from usual_clay.core.points.lay import closes_smoothly
from usual_clay.core.points.order import order_along_path
from usual_clay.job.edits.make import planned, with_result
from usual_clay.job.items import Curve, PointList
from usual_clay.job.job import Job, JobError


def named_after(job: Job, source: str) -> Job:
    """Name a job that nothing is in yet after the first file that is brought into it."""
    fresh = not job.items and job.name == Job().name
    return replace(job, name=Path(source).stem) if fresh else job


def with_point_list(
    job: Job, points: Floats, source: str, unit: str = "mm"
) -> tuple[Job, PointList]:
    """Add a point list that was read from a file."""
    job = named_after(job, source)
    made = PointList(
        id=job.new_id("points"),
        name=job.free_name(Path(source).stem),
        points=points,
        closed=closes_smoothly(points),
        source=source,
        unit=unit,
    )
    return job.with_item(made), made


def ordered(job: Job, points: PointList, gap: float | None = None) -> tuple[Job, int]:
    """Order loose points along their paths; each further path gets a list of its own.

    Returns
    -------
    job : Job
    count : int
        How many paths there are.

    Raises
    ------
    JobError
    """
    loose = points.points[points.kept]
    runs = [loose[path] for path in order_along_path(loose, gap) if len(path) > 1]
    if not runs:
        raise JobError(f"{points.name} has too few points to lie on a path")
    fields: dict[str, Any] = {"out": points.out[:0], "recipe": None, "made_of": None}
    job = job.changed(points.id, points=runs[0], closed=closes_smoothly(runs[0]), **fields)
    for run in runs[1:]:
        part = replace(
            points,
            id=job.new_id("points"),
            name=job.free_name(points.name),
            points=run,
            closed=closes_smoothly(run),
            **fields,
        )
        job = job.with_item(part)
    return job, len(runs)


def with_traced(job: Job, points: PointList, made: Traced, name: str = "") -> tuple[Job, Curve]:
    """Add the spline that a search over a list has found."""
    item = planned(job, "spline", made.settings, name, points=points.id)
    job, whole = with_result(job, replace(item, candidates=made.candidates), made.fit)  # type: ignore[call-arg]
    curve = job.get(whole.id, Curve)
    assert curve is not None
    return job, curve
