"""What judges a body, or a surface that follows nothing: a scan as far as it belongs to it, or a
region of one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.body.triangles import deviation_from
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_normals
from usual_clay.job.items import Body, Region, Scan, Surface
from usual_clay.job.job import Job

# What lies farther off than so many tolerances, and than this share of the thing, is not of it.
TOLERANCES, SHARE = 10.0, 0.02
# Triangles that stand for a body when it is judged lie as near as this share of the tolerance.
CHORD = 0.1
# Feet this near to a border lie on it: what was measured there lies past the surface.
ON_RIM = 1e-7
# Normals that agree less, as a cosine, are those of another side.
FACING = 0.3


def watching(job: Job, item: Body | Surface, judge: Scan | Region | None) -> Job:
    """Let a scan judge a body or a surface, or a region of one, or nothing; it is measured then."""
    watches = "" if judge is None else judge.id
    return job.changed(item.id, watches=watches, signed=None, inside=None)


def wants_measuring(job: Job, item: Body | Surface) -> bool:
    """Tell whether an item is to be judged by a scan and is not yet."""
    if isinstance(item, Body) and not item.shape.brep:
        return False
    if isinstance(item, Surface) and item.recipe is not None:
        return False
    return judge_of(job, item) is not None and item.signed is None and item.inside is None


def judge_of(job: Job, item: Body | Surface) -> tuple[Scan, Region | None] | None:
    """Return the scan that judges an item, and the region of it where that does."""
    region = job.get(item.watches, Region)
    scan = job.get(item.watches if region is None else region.scan, Scan)
    return None if scan is None else (scan, region)


def measured(
    item: Body | Surface, mesh: TriangleMesh, tolerance: float, region: Region | None = None
) -> tuple[Floats, Ints | None]:
    """Return how far a scan's vertices lie from an item, and which of them belong to it.

    A region belongs to it as a whole.
    """
    if region is not None and isinstance(item, Surface):
        return foot_points(item.geometry, mesh.vertices[region.vertices]).signed, None
    used = np.zeros(len(mesh.vertices), dtype=bool)
    used[mesh.triangles] = True
    if isinstance(item, Surface):
        return _over(item.geometry, mesh, used, tolerance)
    signed = deviation_from(item.shape, mesh.vertices, CHORD * tolerance)
    inside = np.flatnonzero(used & (np.abs(signed) <= _reach(item.shape.box, tolerance)))
    return signed[inside], inside


def _over(
    surface: BSplineSurface, mesh: TriangleMesh, used: Bools, tolerance: float
) -> tuple[Floats, Ints]:
    """Return the same for a surface: of what lies over it and faces as it does."""
    net = surface.points.reshape(-1, 3)
    box = np.stack([net.min(axis=0), net.max(axis=0)])
    reach = _reach(box, tolerance)
    near = (mesh.vertices >= box[0] - reach) & (mesh.vertices <= box[1] + reach)
    some = np.flatnonzero(used & near.all(axis=1))
    if not len(some):
        return np.zeros(0), some
    feet = foot_points(surface, mesh.vertices[some])
    (u0, u1), (v0, v1) = surface.domain
    u, v = (feet.u - u0) / (u1 - u0), (feet.v - v0) / (v1 - v0)
    over = np.maximum(np.abs(u - 0.5), np.abs(v - 0.5)) < 0.5 - ON_RIM
    over &= np.abs(feet.signed) <= reach
    normals = surface_normals(surface, feet.u, feet.v)
    facing = np.einsum("nk,nk->n", normals, mesh.vertex_normals[some])
    half = float(np.median(np.abs(feet.signed[over]))) if over.any() else 0.0
    # A surface that was brought in may face either way: as the nearer half of the points do.
    close = over & (np.abs(feet.signed) <= half)
    way = 1.0 if facing[close].sum() >= 0 else -1.0
    over &= way * facing > FACING
    return feet.signed[over], some[over]


def _reach(box: Floats, tolerance: float) -> float:
    return max(TOLERANCES * tolerance, SHARE * float(np.ptp(box, axis=0).max()))


def with_measured(job: Job, item: Body | Surface, signed: Floats, inside: Ints | None) -> Job:
    """Put what was measured into an item."""
    # Where nothing lies near it, nothing judges it.
    return job.with_item(replace(item, signed=signed if len(signed) else None, inside=inside))
