"""Lines plans of a job: of all its visible surfaces and bodies."""

from __future__ import annotations

from usual_clay.core.build.placed import InSurfaceSettings
from usual_clay.core.check.lines_plan import LinesPlan, LinesSettings, lines_plan
from usual_clay.core.progress import Progress, checkpoint, silent
from usual_clay.core.scan.mesh import TriangleMesh, welded
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.tessellate import grid_triangles, steps_for_chord, tessellate
from usual_clay.job.checking import checked_items
from usual_clay.job.edits.make import add
from usual_clay.job.items import Surface
from usual_clay.job.job import Job

# Lines lie so near to what they are cut from, as a share of the tolerance.
CHORD = 0.1


def plan_of(job: Job, settings: LinesSettings) -> LinesPlan:
    """Cut all that is visible.

    Raises
    ------
    LinesError
    """
    chord = CHORD * job.tolerance.deviation
    meshes = []
    for item in checked_items(job):
        if isinstance(item, Surface):
            grid = tessellate(item.geometry, steps_for_chord(item.geometry, chord))[0]
            triangles = grid_triangles(*grid.shape[:2])
            meshes.append(TriangleMesh(grid.reshape(-1, 3), triangles))
        else:
            # Lines run on from face to face.
            first, triangles = welded(item.shape.vertices, item.shape.triangles)
            meshes.append(TriangleMesh(item.shape.vertices[first], triangles))
    return lines_plan(meshes, settings)


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
