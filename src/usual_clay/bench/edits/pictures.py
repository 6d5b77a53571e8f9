"""Edits of pictures that the interface can make in a session."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from usual_clay.bench.edits.scans import ask
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.agreement import Difference, Reference, agreement
from usual_clay.core.picture.outline import OutlineSettings, silhouette
from usual_clay.core.picture.placement import (
    Placement,
    PlacementError,
    Plane,
    from_space,
    moved_by,
    scaled_about,
    scaled_by_marks,
    to_flat,
    to_pixels,
    to_space,
    turned_about,
)
from usual_clay.core.picture.square_up import Squared, checked_corners, square_up
from usual_clay.core.scan.health import spikes
from usual_clay.files.picture_file import PictureRead, decode, encoded, shown_pixels
from usual_clay.job.items import Picture, PointList, Scan
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS, PointsMade, Recipe
from usual_clay.job.remake import basis_of, source_of

# A picture that does not say its scale is shown this wide.
FIRST_WIDTH = 100.0


@dataclass(frozen=True)
class Row:
    """Where a row of pictures goes: the first plane, and the step to each next one, mm."""

    plane: Plane
    offset: float = 0.0
    step: float = 10.0


def pin(session: Session, read: Sequence[tuple[str, PictureRead]], row: Row) -> None:
    """Pin pictures, one or several on a row of parallel planes, alike in place and scale."""
    job = session.job
    first = read[0][1]
    width = FIRST_WIDTH if first.mm_per_pixel is None else first.size[0] * first.mm_per_pixel
    if not job.items and session.path is None:
        job = replace(job, name=Path(read[0][0]).stem)
    made = None
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
    session.commit(job, f"pin {len(read)} pictures" if len(read) > 1 else f"pin {made.name}")
    session.choose(made.id)


def _spoken(source: str) -> str:
    words = Path(source).stem.replace("_", " ").replace("-", " ").strip()
    return words[:1].upper() + words[1:] or "Picture"


def place(session: Session, picture: Picture, placement: Placement, words: str) -> None:
    """Put a picture elsewhere; a number that is changed again stays one step."""
    if placement != picture.placement:
        session.change(picture, words, onto_last=True, placement=placement)


def marks_in_pixels(picture: Picture, points: Floats) -> Floats:
    """Return marks on a picture's plane, (n, 3), in pixels."""
    placement = picture.placement
    return to_pixels(placement, picture.size, from_space(placement, points))


def scale_by(session: Session, picture: Picture, points: Floats, length: float) -> None:
    """Scale a picture so that two marks on it are a known length apart."""
    try:
        if len(points) != 2:
            raise PlacementError("set two marks on the picture first")
        first, second = marks_in_pixels(picture, points)
        now = scaled_by_marks(picture.placement, picture.size, first, second, length)
    except PlacementError as error:
        session.told.emit("trouble", f"{picture.name} was not scaled: {error}.")
        return
    session.change(picture, f"scale {picture.name}", placement=now)


def square(session: Session, picture: Picture, points: Floats, width: float, height: float) -> None:
    """Square a picture up from the marks on a rectangle's corners; resampled once."""
    if not session.may_change(picture):
        return
    try:
        corners = marks_in_pixels(picture, points)
        checked_corners(corners)
    except PlacementError as error:
        session.told.emit("trouble", f"{picture.name} was not squared up: {error}.")
        return
    data = picture.data
    middle = from_space(picture.placement, points).mean(axis=0)

    def done(squared: Squared) -> None:
        if session.job.items.get(picture.id) is not picture:
            return
        placement = replace(
            picture.placement,
            width=squared.width,
            height=squared.height,
            x=float(middle[0]),
            y=float(middle[1]),
            turn=0.0,
            mirrored=False,
        )
        size = (squared.pixels.shape[1], squared.pixels.shape[0])
        session.change(
            picture,
            f"square up {picture.name}",
            data=encoded(squared.pixels),
            size=size,
            placement=placement,
        )
        session.told.emit(
            "news", f"{picture.name} is squared up: the rectangle is now {width:g} × {height:g} mm."
        )

    ask(
        session,
        f"Squaring up {picture.name}",
        lambda: square_up(decode(data), corners, width, height),
        done,
    )


def colour_at(picture: Picture, point: Floats) -> tuple[int, int, int] | None:
    """Return the picture's colour at a place on its plane; None outside it."""
    pixels = shown_pixels(picture.data)
    share = marks_in_pixels(picture, point[None])[0] / picture.size
    if not ((share >= 0) & (share < 1)).all():
        return None
    column, row = (share * [pixels.shape[1], pixels.shape[0]]).astype(int)
    patch = pixels[max(row - 1, 0) : row + 2, max(column - 1, 0) : column + 2, :3]
    r, g, b = np.median(patch.reshape(-1, 3), axis=0).astype(int)
    return int(r), int(g), int(b)


def add_outline(session: Session, picture: Picture, settings: OutlineSettings) -> None:
    """Find an outline in a picture; it becomes a point list that follows the picture."""
    recipe = Recipe("outline", (picture.id,), settings)
    source = source_of(session.job, picture.id, decode)

    def done(made: PointsMade) -> None:
        if picture.id not in session.job.items:
            return
        points = PointList(
            id=session.job.new_id("points"),
            name=session.job.free_name(f"{picture.name} outline"),
            points=made.points,
            closed=made.closed,
            source=picture.name,
            recipe=recipe,
        )
        points = replace(points, made_of=basis_of(session.job, points))
        session.add(points, f"outline of {picture.name}")

    ask(
        session,
        f"Outlining {picture.name}",
        lambda: KINDS["outline"].make(settings, [source]),
        done,
    )


# ---- agreement -------------------------------------------------------------------------------


def references(job: Job) -> list[Reference]:
    """Return what of a job can be compared: visible pictures, closed runs, and scans.

    Of a run that was moved for its probe's ball, only the moved one tells of the shape.
    """
    found = []
    for picture in job.all(Picture):
        axes = _axes_of(picture.placement)
        if picture.visible and axes is not None:
            pixels = shown_pixels(picture.data)
            line = silhouette(pixels).pixels * picture.size / pixels.shape[1::-1]
            flat = to_flat(picture.placement, picture.size, line)
            outline = to_space(picture.placement, flat)
            found.append(Reference(picture.id, picture.name, outline, axes, not picture.locked))
    for points in job.all(PointList):
        kept = points.points[points.kept]
        moved = any(f.recipe and f.recipe.kind == "ball" for f in job.followers(points.id))
        spans = np.ptp(kept, axis=0) if len(kept) > 2 else np.zeros(3)
        flat_along = int(np.argmin(spans))
        is_flat = spans[flat_along] < 0.01 * spans.max()
        shown = points.visible and points.closed and not moved
        follows = points.recipe is not None and points.recipe.kind in ("outline", "section")
        if shown and is_flat and not follows:
            plane = ((1, 2), (0, 2), (0, 1))[flat_along]
            found.append(Reference(points.id, points.name, kept, plane))
    for scan in job.all(Scan):
        if scan.visible:
            calm = scan.mesh.vertices[~spikes(scan.mesh)]
            found.append(Reference(scan.id, scan.name, calm, None))
    return found


def _axes_of(placement: Placement) -> tuple[int, int] | None:
    """Return the world axes that a picture's plane runs along; None for a tilted one."""
    axes = np.abs(np.array([placement.plane.across, placement.plane.up]))
    if (axes.max(axis=1) < 0.999).any():
        return None
    across, up = axes.argmax(axis=1)
    return int(across), int(up)


def compare(job: Job) -> list[Difference]:
    """Compare all references of a job."""
    return agreement(references(job))


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
