"""Changing a scan as a whole: moved or mended, with what lies on it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.core.arrays import Ints
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import Motion
from usual_clay.core.spline.closest import foot_points
from usual_clay.job.items import Followed, ItemId, Region, Scan, Surface
from usual_clay.job.job import Job, sample_of
from usual_clay.job.kinds import item_kind
from usual_clay.job.remake import basis_of, is_stale


def with_mesh(job: Job, scan_id: ItemId, mesh: TriangleMesh, origin: Ints) -> Job:
    """Give a scan another mesh; its regions keep what is left of them.

    Parameters
    ----------
    origin : (n,) integers
        For each vertex of the new mesh the old one that it comes from; -1 for a new one.
    """
    scan = job.the(scan_id, Scan)
    count = len(scan.mesh.vertices)
    colours = scan.colours
    if colours is not None:
        # A new vertex, such as the middle of a filled hole, takes the usual colour.
        usual = np.median(colours, axis=0).astype(np.uint8)
        colours = np.where((origin >= 0)[:, None], colours[np.maximum(origin, 0)], usual)
    job = job.changed(scan_id, mesh=mesh, colours=colours)
    for region in list(job.all(Region)):
        if region.scan == scan_id:
            job = job.changed(region.id, vertices=_kept(region.vertices, origin, count))
    for surface in list(job.all(Surface)):
        by_hand = surface.recipe is None and surface.inside is not None
        if by_hand and surface.watches == scan_id:
            job = job.with_item(_judged_anew(job, surface, origin, count))
    return job


def _kept(vertices: Ints, origin: Ints, count: int) -> Ints:
    """Return where chosen ones of `count` old vertices are among the new."""
    chosen = np.zeros(count + 1, dtype=bool)
    chosen[vertices] = True
    # A vertex that is new, at -1, meets the last place, which is never one of them.
    return np.flatnonzero(chosen[origin])


def _judged_anew(job: Job, surface: Surface, origin: Ints, count: int) -> Surface:
    """Let a patch that was shaped by hand be judged by what is left of the scan inside it."""
    assert surface.inside is not None
    kept = replace(surface, inside=_kept(surface.inside, origin, count))
    region = job.measured(kept)
    assert region is not None
    points = sample_of(job, region).points
    return replace(kept, signed=foot_points(kept.geometry, points).signed)


def moved(job: Job, scan_id: ItemId, motion: Motion) -> Job:
    """Move a scan, and with it what was fitted to its regions.

    That needs no new fit. What is made of a scan by the world's axes, such as its sections,
    becomes stale.
    """
    scan = job.the(scan_id, Scan)
    regions = {region.id for region in job.all(Region) if region.scan == scan_id}
    riding = [
        item
        for item in job.all(Followed)
        if item.recipe is not None
        and item_kind(item).carried is not None
        and set(item.recipe.sources) <= regions
    ]
    fresh = {item.id for item in riding if not is_stale(job, item)}
    mesh = TriangleMesh(motion.apply(scan.mesh.vertices), scan.mesh.triangles)
    job = job.changed(scan_id, mesh=mesh)
    for item in riding:
        carried = item_kind(item).carried
        assert carried is not None
        job = job.with_item(carried(item, motion))
    for item_id in fresh:
        made = job.get(item_id, Followed)
        assert made is not None
        job = job.changed(item_id, made_of=basis_of(job, made))
    return job
