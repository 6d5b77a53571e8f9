"""An edge of a surface as a curve that follows it: job in, job out."""

from __future__ import annotations

from usual_clay.core.build.placed import InSurfaceSettings
from usual_clay.core.spline.boundary import Border, is_far
from usual_clay.job.edits.make import add
from usual_clay.job.items import Curve, ItemId, Surface
from usual_clay.job.job import Job


def with_edge(job: Job, surface: ItemId, border: Border) -> tuple[Job, Curve]:
    """Return the curve that follows an edge of a surface: the one there is, or a new one.

    Raises
    ------
    ClayError
    """
    at = 1.0 if is_far(border) else 0.0
    settings = InSurfaceSettings("along v" if border[0] == "u" else "along u", at)
    for curve in job.all(Curve):
        recipe = curve.recipe
        if recipe is None or recipe.kind != "in surface" or surface not in recipe.sources:
            continue
        if (recipe.settings.kind, recipe.settings.at) == (settings.kind, settings.at):
            return job, curve
    name = f"{job.the(surface, Surface).name} edge {border}"
    job, made, _ = add(job, "in surface", settings, name, surface=surface)
    return job, job.the(made.id, Curve)
