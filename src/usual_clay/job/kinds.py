"""The kinds of items: ONE ROW for each.

What files write of an item and how the bench shows it are tables of their own, with the same
names: `files/item_files.py` and `bench/item_views.py`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from usual_clay.core.arrays import as_places
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.fit.curve.sequence import PointSequence
from usual_clay.core.scan.motion import Motion
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.items import (
    Accepted,
    Body,
    Curve,
    Dimension,
    Floating,
    Followed,
    Item,
    ItemId,
    Picture,
    PointList,
    Recipe,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.job import Job, sample_of
from usual_clay.job.made import Pinned

# Turns a picture's file into pixels.
Decode = Callable[[bytes], np.ndarray]


@dataclass(frozen=True)
class ItemKind:
    """One kind of item.

    Attributes
    ----------
    name : str
        How files name it; ids begin with it.
    item : type
    word, many : str
        How the user reads one, and several.
    values : callable
        ``values(job, item)``: what of it matters to what follows from it.
    source : callable or None
        ``source(job, item, decode)``: the item as recipes take it; None where nothing is made
        from it.
    blank : callable or None
        ``blank(id, name, recipe)``: one without a shape yet, to put into what a recipe makes.
    carried : callable or None
        ``carried(item, motion)``: how one that was fitted to a scan goes with it.
    handed : callable or None
        ``handed(item)``: what files for others hold of it; None where they hold nothing.
    part_of : callable or None
        ``part_of(item)``: the id of the item that it is a part of, and goes with.
    """

    name: str
    item: type[Item]
    word: str
    many: str
    values: Callable[[Job, Any], tuple[object, ...]]
    source: Callable[[Job, Any, Decode | None], Any] | None = None
    blank: Callable[[ItemId, str, Recipe], Followed] | None = None
    carried: Callable[[Any, Motion], Followed] | None = None
    part_of: Callable[[Any], ItemId] | None = None
    handed: Callable[[Any], Any] | None = None


def _values_of_region(job: Job, region: Region) -> tuple[object, ...]:
    scan = job.get(region.scan, Scan)
    return (region.vertices, None if scan is None else scan.mesh)


def _pinned(_job: Job, picture: Picture, decode: Decode | None) -> Pinned:
    data = picture.data

    def pixels() -> np.ndarray:
        if decode is None:
            raise TypeError("nothing was given that reads pictures")
        return decode(data)

    return Pinned(picture.placement, picture.size, pixels)


def _geometry(_job: Job, item: Any) -> tuple[object, ...]:
    return (item.geometry,)


def _blank_points(item_id: ItemId, name: str, recipe: Recipe) -> PointList:
    return PointList(id=item_id, name=name, points=np.zeros((0, 3)), recipe=recipe)


def _blank_curve(item_id: ItemId, name: str, recipe: Recipe) -> Curve:
    line = BSplineCurve(even_knots(2, 1), np.zeros((2, 3)))
    return Curve(id=item_id, name=name, geometry=line, recipe=recipe)


def _blank_surface(item_id: ItemId, name: str, recipe: Recipe) -> Surface:
    flat = BSplineSurface(even_knots(2, 1), even_knots(2, 1), np.zeros((2, 2, 3)))
    return Surface(id=item_id, name=name, geometry=flat, recipe=recipe)


def _blank_shape(item_id: ItemId, name: str, recipe: Recipe) -> Shape:
    from usual_clay.core.scan.shapes import SimpleShape

    plane = SimpleShape("plane", np.zeros(3), np.array([0.0, 0.0, 1.0]))
    return Shape(id=item_id, name=name, geometry=plane, recipe=recipe)


def _blank_body(item_id: ItemId, name: str, recipe: Recipe) -> Body:
    return Body(id=item_id, name=name, shape=BodyShape.blank(), recipe=recipe)


def _blank_floating(item_id: ItemId, name: str, recipe: Recipe) -> Floating:
    return Floating(id=item_id, name=name, recipe=recipe)


def _blank_dimension(item_id: ItemId, name: str, recipe: Recipe) -> Dimension:
    return Dimension(id=item_id, name=name, recipe=recipe)


def _carried_shape(item: Shape, motion: Motion) -> Shape:
    shape = item.geometry
    point, axis = motion.apply(shape.point[None])[0], motion.turn @ shape.axis
    return replace(item, geometry=replace(shape, point=point, axis=axis))


def _carried_surface(item: Surface, motion: Motion) -> Surface:
    geometry = item.geometry
    points = motion.apply(geometry.points.reshape(-1, 3)).reshape(geometry.points.shape)
    recipe = item.recipe
    if recipe is not None and getattr(recipe.settings, "net", None):
        # Where a fit sets out from goes along.
        net = as_places(motion.apply(np.array(recipe.settings.net)))
        recipe = replace(recipe, settings=replace(recipe.settings, net=net))
    return replace(item, geometry=replace(geometry, points=points), recipe=recipe)


ITEM_KINDS: dict[str, ItemKind] = {
    kind.name: kind
    for kind in (
        ItemKind(
            "scan", Scan, "scan", "scans", lambda _, scan: (scan.mesh,),
            lambda _, scan, __: scan.mesh, handed=lambda scan: scan.mesh,
        ),
        ItemKind(
            "region", Region, "region of a scan", "regions", _values_of_region,
            lambda job, region, _: sample_of(job, region), part_of=lambda region: region.scan,
        ),
        ItemKind(
            "picture", Picture, "picture", "pictures",
            lambda _, picture: (picture.data, picture.size, picture.placement), _pinned,
        ),
        ItemKind(
            "points", PointList, "points", "point lists",
            lambda _, points: (points.points, points.out, points.closed),
            lambda _, points, __: PointSequence(points.points[points.kept], points.closed),
            _blank_points, handed=lambda points: points.points[points.kept],
        ),
        ItemKind(
            "shape", Shape, "simple shape", "simple shapes", _geometry,
            lambda _, shape, __: shape.geometry, _blank_shape, _carried_shape,
        ),
        ItemKind(
            "curve", Curve, "spline", "curves", _geometry, lambda _, curve, __: curve.geometry,
            _blank_curve, handed=lambda curve: curve.geometry,
        ),
        ItemKind(
            "surface", Surface, "surface", "surfaces", _geometry,
            lambda _, surface, __: surface.geometry, _blank_surface, _carried_surface,
            handed=lambda surface: surface.geometry,
        ),
        ItemKind(
            "body", Body, "body", "bodies", lambda _, body: (body.shape,),
            lambda _, body, __: body.shape, _blank_body, handed=lambda body: body.shape,
        ),
        ItemKind(
            "afloat", Floating, "floating body", "floating bodies",
            lambda _, item: (item.lying,), None, _blank_floating,
        ),
        ItemKind(
            "accepted", Accepted, "accepted spot", "accepted spots",
            lambda _, item: (item.at, item.reach),
        ),
        ItemKind(
            "dimension", Dimension, "dimension", "dimensions",
            lambda _, item: (item.figure,), None, _blank_dimension,
        ),
    )
}  # fmt: skip


def item_kind(item: Item | type[Item]) -> ItemKind:
    """Return the row of an item, or of a class of items.

    Raises
    ------
    TypeError
        For one that has no row.
    """
    cls = item if isinstance(item, type) else type(item)
    for kind in ITEM_KINDS.values():
        if kind.item is cls:
            return kind
    raise TypeError(f"{cls.__name__} is no kind of item: it has no row in ITEM_KINDS")


def whole_of(item: Item) -> ItemId | None:
    """Return the id of what an item is a part of, as a region is of its scan."""
    part_of = item_kind(item).part_of
    return None if part_of is None else part_of(item)
