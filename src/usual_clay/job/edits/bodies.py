"""Edits of bodies: what they are to be made of."""

from __future__ import annotations

from usual_clay.job.items import Body, Surface
from usual_clay.job.job import Job


def cost_of(job: Job, body: Body) -> int:
    """Return the control points of all surfaces that a body is made of, near or far."""
    seen: set[str] = set()
    going, cost = [body.id], 0
    while going:
        item = job.items.get(going.pop())
        if item is None or item.id in seen:
            continue
        seen.add(item.id)
        if isinstance(item, Surface):
            cost += item.control_points
        elif isinstance(item, Body) and item.recipe is not None:
            going += item.recipe.sources
    return cost
