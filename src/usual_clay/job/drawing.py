"""Lines plans of a job: of all its visible surfaces and bodies."""

from __future__ import annotations

from usual_clay.core.build.placed import InSurfaceSettings
from usual_clay.core.check.lines_plan import LinesPlan, LinesSettings, lines_plan
from usual_clay.core.progress import Progress, checkpoint, silent
from usual_clay.core.spline.basis import SplineError
from usual_clay.job.checking import CHORD, checked_items, triangles_of
from usual_clay.job.edits.make import add
from usual_clay.job.items import Surface
from usual_clay.job.job import Job


def plan_of(job: Job, settings: LinesSettings) -> LinesPlan:
    """Cut all that is visible.

    Raises
    ------
    LinesError
    """
    items = checked_items(job)
    chord = CHORD * job.tolerance.deviation
    return lines_plan([triangles_of([item], chord) for item in items], settings)


def with_lines(job: Job, plan: LinesPlan, progress: Progress = silent) -> tuple[Job, int]:
    """Keep a plan's cuts of surfaces as curves that follow them; return how many there are."""
    surfaces = [item for item in checked_items(job) if isinstance(item, Surface)]
    count, whole = 0, max(len(plan.stations) * len(surfaces), 1)
    for number, station in enumerate(plan.stations):
        axis = "xyz"[station.axis]
        for place, surface in enumerate(surfaces):
            checkpoint()
            progress((number * len(surfaces) + place) / whole, "Keeping lines")
            settings = InSurfaceSettings(axis, station.at)  # type: ignore[arg-type]
            name = f"{surface.name} {axis} {station.at:.1f}"
            try:
                job = add(job, "in surface", settings, name, surface=surface.id)[0]
            except SplineError:
                # Not every plane meets every surface.
                continue
            count += 1
    return job, count
