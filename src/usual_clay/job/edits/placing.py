"""Whole things moved, turned, scaled and mirrored: job in, job out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.build.affine import Affine
from usual_clay.core.check.live import LiveFeet
from usual_clay.core.errors import ClayError
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.core.spline.surface import BSplineSurface, swap_directions
from usual_clay.job.edits.curves import reshaped
from usual_clay.job.edits.shaping import with_drawing
from usual_clay.job.edits.surfaces import reshaped_surface
from usual_clay.job.edits.ties import places_of, words_of
from usual_clay.job.items import Curve, Item, ItemId, PointList, Shape, Surface
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind

# What can be moved whole; scans and pictures are set straight and pinned at Gather.
MOVABLE = (Curve, Surface, PointList, Shape)
# Drawn curves that are still what they are when their points are moved any way.
BY_POINTS = ("through", "controls", "line")


class PlaceError(ClayError):
    """Something that cannot be moved so."""


def middle_of(job: Job, items: Sequence[Item]) -> Floats:
    """Return the middle of the box round items, (3,)."""
    seen = [
        item.geometry.point[None] if isinstance(item, Shape) else places_of(job, item)
        for item in items
    ]
    every = np.concatenate([places for places in seen if places is not None])
    return np.asarray((every.min(axis=0) + every.max(axis=0)) / 2)


def placed(
    job: Job,
    ids: Sequence[ItemId],
    affine: Affine,
    copies: int = 0,
    lives: Mapping[ItemId, LiveFeet | None] = MappingProxyType({}),
) -> tuple[Job, list[ItemId], str]:
    """Move items; with copies leave them, and add so many, each moved once more.

    What followed others follows no more, as it does not lie where they would have it; a copy of
    it does not follow either.

    Parameters
    ----------
    lives : mapping
        Of surfaces the feet of what judges them, where these are known: they are followed.

    Returns
    -------
    job : Job
    ids : list of str
        What was moved, or the copies.
    words : str
        What the user should know.

    Raises
    ------
    PlaceError
        Where an item cannot be moved so.
    """
    made, loose = [], []
    for item_id in ids:
        item = job.items[item_id]
        if item.locked and not copies:
            raise PlaceError(f"{item.name} is locked: unlock it first")
        step = affine
        for number in range(max(copies, 1)):
            new = _placed(job, item, step, lives.get(item_id))
            if copies:
                word = item_kind(item).name
                name = job.free_name(f"{item.name} copy")
                new = replace(new, id=job.new_id(word), name=name, locked=False)
            job = job.with_item(new)
            made.append(new.id)
            if not number and _follows(item) and not copies:
                loose.append(item)
            step = step.then(affine)
    words = ""
    if loose:
        alone = "stands by itself" if len(loose) == 1 else "stand by themselves"
        words = f"{words_of(loose)} followed others, and now {alone}"
    return job, made, words


def _follows(item: Item) -> bool:
    recipe = getattr(item, "recipe", None)
    return recipe is not None and bool(recipe.sources)


def _placed(job: Job, item: Item, affine: Affine, live: LiveFeet | None) -> Item:
    if isinstance(item, Curve):
        drawn = item.made_by(DrawnSettings)
        if drawn is not None and drawn.kind in BY_POINTS and not (drawn.handles or _follows(item)):
            places = as_places(affine.apply(drawn.array))
            return with_drawing(job, item, replace(drawn, points=places))
        moved = replace(item.geometry, points=affine.apply(item.geometry.points))
        return reshaped(job, replace(item, recipe=None, made_of=None), moved)
    if isinstance(item, Surface):
        if live is not None and affine.turns_over:
            live = live.turned
        return reshaped_surface(job, item, placed_surface(item.geometry, affine), live)
    if isinstance(item, PointList):
        return replace(item, points=affine.apply(item.points), recipe=None, made_of=None)
    if isinstance(item, Shape):
        shape = _placed_shape(item.geometry, affine, item.name)
        return replace(item, geometry=shape, recipe=None, made_of=None)
    raise PlaceError(
        f"{item.name} is a {item_kind(item).word}: curves, surfaces, points and simple shapes are"
        " moved here"
    )


def placed_surface(surface: BSplineSurface, affine: Affine) -> BSplineSurface:
    """Return a surface moved; where right becomes left its normals still point outward."""
    moved = replace(surface, points=affine.apply(surface.points))
    return swap_directions(moved) if affine.turns_over else moved


def _placed_shape(shape: SimpleShape, affine: Affine, name: str) -> SimpleShape:
    size = affine.size
    if size is None:
        raise PlaceError(f"{name} would be no {shape.kind} any more: scale it alike all ways")
    axis = affine.change @ shape.axis / size
    low, high = (size * end for end in shape.span)
    return replace(
        shape, point=affine.apply(shape.point), axis=axis, radius=size * shape.radius,
        span=(low, high),
    )  # fmt: skip
