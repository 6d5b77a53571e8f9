"""What there is to check of a job: its faces, their joints, and all of it against a scan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.body.faces import faces_of
from usual_clay.core.body.triangles import mesh_of
from usual_clay.core.check.deviation import Report, Tolerance, judge
from usual_clay.core.check.free_edges import FreeEdges
from usual_clay.core.check.joints import Face, face_of_surface
from usual_clay.core.check.spots import OutSpot, spots_of
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.scan.sample import as_shares
from usual_clay.job.items import Accepted, Body, Surface
from usual_clay.job.job import Job

# Triangles that stand for what is judged lie as near as this share of the tolerance.
CHORD = 0.1
# A scan's points farther from all that is made than so many tolerances are of something else.
REACH = 20.0
# Edges no farther apart than this, mm, belong to each other.
JOINED = 0.2


def checked_items(job: Job) -> list[Surface | Body]:
    """Return what is checked of a job: the surfaces and bodies that are visible."""
    kinds: tuple[type[Surface | Body], ...] = (Surface, Body)
    return [item for kind in kinds for item in job.all(kind) if item.visible]


def faces_in(items: Sequence[Surface | Body]) -> list[Face]:
    """Return all faces of surfaces and bodies."""
    faces: list[Face] = []
    for item in items:
        if isinstance(item, Surface):
            faces.append(face_of_surface(item.name, item.geometry))
        else:
            faces += faces_of(item.name, item.shape)
    return faces


@dataclass(frozen=True, eq=False)
class AgainstScan:
    """How all that was made lies against a scan.

    Attributes
    ----------
    signed : (n,) array
        Of each of the scan's vertices, mm, positive outside; NaN of those that are far off.
    judged : (n,) mask
    report : Report
        By area, of those that are judged.
    spots, accepted : list of OutSpot
        Those out of tolerance; and those that are accepted, which the report leaves out.
    unmade : float
        Area of the scan that nothing lies near to, mm squared.
    unmeasured : float
        Area of what was made that nothing was measured near to, mm squared.
    """

    signed: Floats
    judged: Bools
    report: Report
    spots: list[OutSpot]
    accepted: list[tuple[str, OutSpot]]
    unmade: float
    unmeasured: float


class NothingNearError(GeometryError):
    """What was measured lies far off all that was made."""


def against_scan(
    items: Sequence[Surface | Body],
    mesh: TriangleMesh,
    tolerance: Tolerance,
    accepted: Sequence[Accepted] = (),
) -> AgainstScan:
    """Judge all that was made by all that was measured, but for accepted spots.

    Raises
    ------
    NothingNearError
        Where nothing is left to judge by.
    """
    whole = triangles_of(items, CHORD * tolerance.deviation)
    away, which, nearest = tree_of(whole).nearest(mesh.vertices)
    a, b, c = (whole.vertices[whole.triangles[which, k]] for k in range(3))
    normals = unit(np.cross(b - a, c - a))
    side = ((mesh.vertices - nearest) * normals).sum(axis=1)
    signed = np.where(side < 0, -away, away)
    used = np.zeros(len(signed), dtype=bool)
    used[mesh.triangles] = True
    reach = REACH * tolerance.deviation
    judged = used & (away <= reach)
    # What was measured past the end of what was made is not off it: nothing was made there.
    ended = FreeEdges.of(faces_in([each for each in items if not _is_closed(each)]), JOINED)
    judged[judged] = ~ended.beside(mesh.vertices[judged], nearest[judged], normals[judged])
    signed = np.where(judged, signed, np.nan)
    areas = mesh.vertex_areas
    middles = whole.vertices[whole.triangles].mean(axis=1)
    far = tree_of(mesh).nearest(middles)[0] > reach
    spots, taken = _parted(spots_of(mesh, signed, tolerance.deviation), accepted)
    counts = judged.copy()
    for _, spot in taken:
        counts[spot.vertices] = False
    if not counts.any():
        besides = " but what is accepted" if taken else ""
        raise NothingNearError(
            f"of what was measured nothing{besides} lies within {reach:g} mm of what is shown:"
            " show what was fitted to it, or bring the two together"
        )
    return AgainstScan(
        signed,
        judged,
        judge(signed[counts], tolerance, as_shares(areas[counts])),
        spots,
        taken,
        float(areas[used & ~judged].sum()),
        float(np.linalg.norm(whole.face_vectors[far], axis=1).sum() / 2),
    )


def _is_closed(item: Surface | Body) -> bool:
    return isinstance(item, Body) and item.shape.is_solid


def _parted(
    spots: Sequence[OutSpot], accepted: Sequence[Accepted]
) -> tuple[list[OutSpot], list[tuple[str, OutSpot]]]:
    """Part spots from those that are accepted, which come with their notes."""
    left, taken = [], []
    for spot in spots:
        near = [a.name for a in accepted if np.linalg.norm(spot.at - a.at) <= a.reach]
        if near:
            taken.append((near[0], spot))
        else:
            left.append(spot)
    return left, taken


def accepting(job: Job, mesh: TriangleMesh, spot: OutSpot, note: str) -> Job:
    """Return the job with a spot accepted: as far as it reaches from its worst place."""
    away = np.linalg.norm(mesh.vertices[spot.vertices] - spot.at, axis=1)
    name = job.free_name(note.strip() or "Accepted spot")
    item = Accepted(id=job.new_id("accepted"), name=name, at=spot.at, reach=float(away.max()))
    return job.with_item(item)


def triangles_of(items: Sequence[Surface | Body], chord: float) -> TriangleMesh:
    """Return all that was made as triangles within a chord height, mm, that stand for it."""
    meshes = [
        mesh_of(item.shape if isinstance(item, Body) else item.geometry, chord) for item in items
    ]
    starts = np.cumsum([0, *(len(mesh.vertices) for mesh in meshes)])
    return TriangleMesh(
        np.concatenate([mesh.vertices for mesh in meshes]),
        np.concatenate(
            [mesh.triangles + start for mesh, start in zip(meshes, starts, strict=False)]
        ),
    )
