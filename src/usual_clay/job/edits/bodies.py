"""Edits of bodies: what judges them, and what they are to be made of."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.triangles import deviation_from
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.job.items import Body, Scan, Surface
from usual_clay.job.job import Job

# What lies farther off than so many tolerances, and than this share of the body, is not of it.
TOLERANCES, SHARE = 10.0, 0.02
# Triangles that stand for a body when it is judged lie as near as this share of the tolerance.
CHORD = 0.1


def watching(job: Job, body: Body, scan: Scan | None) -> Job:
    """Let a scan judge a body, or nothing; it is measured then."""
    watches = "" if scan is None else scan.id
    return job.changed(body.id, watches=watches, signed=None, inside=None)


def wants_measuring(job: Job, body: Body) -> bool:
    """Tell whether a body is to be judged by a scan and is not yet."""
    return bool(job.get(body.watches, Scan)) and body.signed is None and bool(body.shape.brep)


def measured(
    shape: BodyShape, mesh: TriangleMesh, tolerance: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return how far a scan's vertices lie from a body, and which of them belong to it."""
    signed = deviation_from(shape, mesh.vertices, CHORD * tolerance)
    reach = max(TOLERANCES * tolerance, SHARE * float(np.ptp(shape.box, axis=0).max()))
    used = np.zeros(len(signed), dtype=bool)
    used[mesh.triangles] = True
    inside = np.flatnonzero(used & (np.abs(signed) <= reach))
    return signed[inside], inside


def with_measured(job: Job, body: Body, signed: np.ndarray, inside: np.ndarray) -> Job:
    """Put what was measured into a body."""
    return job.with_item(replace(body, signed=signed, inside=inside))


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
