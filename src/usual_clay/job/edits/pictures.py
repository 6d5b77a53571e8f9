"""Edits of pictures: job in, job out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.agreement import Difference, Reference, agreement
from usual_clay.core.picture.outline import OutlineSettings, silhouette
from usual_clay.core.picture.placement import (
    Placement,
    Plane,
    from_space,
    moved_by,
    scaled_about,
    to_flat,
    to_pixels,
    to_space,
    turned_about,
)
from usual_clay.core.points.ball import BallSettings
from usual_clay.core.scan.section import SectionSettings
from usual_clay.job.edits.points import named_after
from usual_clay.job.items import Picture, PointList, Scan
from usual_clay.job.job import Job
from usual_clay.job.kinds import Decode

# A picture that does not say its scale is shown this wide.
FIRST_WIDTH = 100.0


@dataclass(frozen=True)
class Row:
    """Where a row of pictures goes: the first plane, and the step to each next one, mm."""

    plane: Plane
    offset: float = 0.0
    step: float = 10.0


class PictureIn(Protocol):
    """A picture as a file gives it."""

    @property
    def data(self) -> bytes: ...
    @property
    def size(self) -> tuple[int, int]: ...
    @property
    def mm_per_pixel(self) -> float | None: ...


def with_pictures(job: Job, read: Sequence[tuple[str, PictureIn]], row: Row) -> tuple[Job, Picture]:
    """Pin pictures, one or several on a row of parallel planes, alike in place and scale.

    Returns
    -------
    job : Job
    picture : Picture
        The last of them.
    """
    job = named_after(job, read[0][0])
    first, made = read[0][1], None
    width = FIRST_WIDTH if first.mm_per_pixel is None else first.size[0] * first.mm_per_pixel
    for number, (source, one) in enumerate(read):
        # One scale for all: a pixel is as large in each.
        own = width * one.size[0] / first.size[0]
        placement = Placement(
            row.plane, own, own * one.size[1] / one.size[0], offset=row.offset + number * row.step
        )
        made = Picture(
            id=job.new_id("picture"),
            name=job.free_name(_spoken(source)),
            data=one.data,
            size=one.size,
            placement=placement,
            source=source,
        )
        job = job.with_item(made)
    assert made is not None
    return job, made


def row_of(job: Job, picture: Picture) -> list[Picture]:
    """Return the others that lie as a picture does, on planes parallel to its own."""

    def lies(one: Picture) -> tuple[object, ...]:
        place = one.placement
        scale = round(place.width / one.size[0], 9)
        return place.plane, place.x, place.y, place.turn, place.mirrored, scale

    alike = [other for other in job.all(Picture) if lies(other) == lies(picture)]
    return [other for other in alike if other.placement.offset != picture.placement.offset]


def scaled(job: Job, picture: Picture, now: Placement, others: Sequence[Picture] = ()) -> Job:
    """Give a picture its true size, and others that lie alike with it."""
    factor = now.width / picture.placement.width
    for one in (picture, *others):
        width, height = one.placement.width * factor, one.placement.height * factor
        place = replace(one.placement, width=width, height=height, x=now.x, y=now.y)
        job = job.changed(one.id, placement=place, scaled=True)
    return job


def _spoken(source: str) -> str:
    words = Path(source).stem.replace("_", " ").replace("-", " ").strip()
    return words[:1].upper() + words[1:] or "Picture"


def marks_in_pixels(picture: Picture, points: Floats) -> Floats:
    """Return marks on a picture's plane, (n, 3), in pixels."""
    placement = picture.placement
    return to_pixels(placement, picture.size, from_space(placement, points))


def colour_at(picture: Picture, pixels: np.ndarray, point: Floats) -> tuple[int, int, int] | None:
    """Return the picture's colour at a place on its plane; None outside it."""
    share = marks_in_pixels(picture, point[None])[0] / picture.size
    if not ((share >= 0) & (share < 1)).all():
        return None
    column, row = (share * [pixels.shape[1], pixels.shape[0]]).astype(int)
    patch = pixels[max(row - 1, 0) : row + 2, max(column - 1, 0) : column + 2, :3]
    r, g, b = np.median(patch.reshape(-1, 3), axis=0).astype(int)
    return int(r), int(g), int(b)


def references(job: Job, pixels_of: Decode) -> list[Reference]:
    """Return what of a job can be compared: visible pictures, closed runs, and scans.

    Of a run that was moved for its probe's ball, only the moved one tells of the shape.
    """
    found = []
    for picture in job.all(Picture):
        axes = _axes_of(picture.placement)
        if picture.visible and axes is not None:
            pixels = pixels_of(picture.data)
            line = silhouette(pixels).pixels * picture.size / pixels.shape[1::-1]
            flat = to_flat(picture.placement, picture.size, line)
            outline = to_space(picture.placement, flat)
            found.append(
                Reference(
                    picture.id, picture.name, outline, axes, not picture.locked, picture.scaled
                )
            )
    for points in job.all(PointList):
        kept = points.points[points.kept]
        moved = any(f.made_by(BallSettings) for f in job.followers(points.id))
        spans = np.ptp(kept, axis=0) if len(kept) > 2 else np.zeros(3)
        flat_along = int(np.argmin(spans))
        is_flat = spans[flat_along] < 0.01 * spans.max()
        shown = points.visible and points.closed and not moved
        follows = points.made_by(OutlineSettings) or points.made_by(SectionSettings)
        if shown and is_flat and not follows:
            plane = ((1, 2), (0, 2), (0, 1))[flat_along]
            found.append(Reference(points.id, points.name, kept, plane))
    for scan in job.all(Scan):
        if scan.visible:
            calm = scan.mesh.vertices[~scan.mesh.spikes]
            found.append(Reference(scan.id, scan.name, calm, None))
    return found


def _axes_of(placement: Placement) -> tuple[int, int] | None:
    """Return the world axes that a picture's plane runs along; None for a tilted one."""
    axes = np.abs(np.array([placement.plane.across, placement.plane.up]))
    if (axes.max(axis=1) < 0.999).any():
        return None
    across, up = axes.argmax(axis=1)
    return int(across), int(up)


def compare(job: Job, pixels_of: Decode) -> list[Difference]:
    """Compare all references of a job."""
    return agreement(references(job, pixels_of))


def brought_into_line(picture: Picture, difference: Difference) -> Placement:
    """Return the placement that takes a difference away."""
    placement = picture.placement
    about = from_space(placement, difference.about[None])[0]
    if difference.kind == "size":
        return scaled_about(placement, difference.amount, about)
    across, up = np.array(placement.plane.across), np.array(placement.plane.up)
    if difference.kind == "turn":
        # The turn was told in the world's axes; seen from behind it goes the other way.
        sense = float(np.sign(across.sum()) * np.sign(up.sum()))
        return turned_about(placement, difference.amount * sense, about)
    step = difference.amount * np.eye(3)[difference.axis]
    return moved_by(placement, float(step @ across), float(step @ up))
