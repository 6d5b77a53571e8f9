"""What should be known of things before they are handed over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.check.deviation import percent
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import surface_normals
from usual_clay.job.items import Body, Curve, Followed, Item, ItemId, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import is_stale

# So many of the points that judge a surface tell which way it faces.
LOOKED_AT = 400


@dataclass(frozen=True)
class Doubt:
    """Why a thing should be looked at first."""

    item: ItemId
    words: str


def doubts(job: Job, items: Sequence[Item]) -> list[Doubt]:
    """Return what is stale, loose, open, out of tolerance or turned the wrong way."""
    found = []
    for item in items:
        if isinstance(item, Followed):
            if job.is_loose(item):
                found.append(Doubt(item.id, "is loose: what it followed is gone"))
            elif is_stale(job, item):
                found.append(Doubt(item.id, "is stale: its sources have changed"))
        if isinstance(item, Body):
            found += [Doubt(item.id, words) for words in _of_body(item)]
        if isinstance(item, Surface) and _faces_inward(job, item):
            found.append(Doubt(item.id, "faces inward"))
        if isinstance(item, Scan) and _is_inside_out(item.mesh):
            found.append(Doubt(item.id, "is inside out: its triangles face inward"))
        if isinstance(item, Body | Curve | Surface):
            report = job.report(item)
            if report is not None and not report.met:
                share = percent(job.tolerance.share)
                words = f"is out of tolerance: {share} within {report.at_share:.3f} mm"
                found.append(Doubt(item.id, words))
    return found


def _of_body(body: Body) -> list[str]:
    words = []
    if not body.shape.valid:
        words.append("has faults that the geometry kernel finds")
    if body.shape.open_edges:
        words.append(f"is open: {body.shape.open_edges} open edges")
    if body.shape.solids and body.shape.volume < 0:
        words.append("is inside out")
    return words


def _faces_inward(job: Job, surface: Surface) -> bool:
    """Tell whether a surface faces away from the side from which it was measured."""
    region = job.region_of(surface)
    scan = None if region is None else job.get(region.scan, Scan)
    if region is None or scan is None:
        return False
    some = region.vertices[:: max(1, len(region.vertices) // LOOKED_AT)]
    feet = foot_points(surface.geometry, scan.mesh.vertices[some])
    out = surface_normals(surface.geometry, feet.u, feet.v)
    return float(np.einsum("nk,nk->n", out, scan.mesh.vertex_normals[some]).mean()) < 0


def _is_inside_out(mesh: TriangleMesh) -> bool:
    """Tell whether a closed mesh encloses less than nothing."""
    if 2 * len(mesh.edges) != 3 * len(mesh.triangles):
        return False
    corners = mesh.vertices[mesh.triangles] - mesh.vertices.mean(axis=0)
    return bool(np.einsum("nk,nk->", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])) < 0)
