"""Ties that were lost: what an item followed and is gone, and what could take its place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.job.edits import make
from usual_clay.job.items import Curve, Followed, Item, ItemId, PointList, Region, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipes import kind_of

# Places that stand for where something lies, and of a large one.
PLACES, EXTENT = 60, 4000


@dataclass(frozen=True)
class Missing:
    """A source that is gone.

    Attributes
    ----------
    source : str
        The id that it had.
    role : str
        Which it took, as the user reads it.
    place : int
        Its place among all sources of the item.
    takes : tuple of item classes
    """

    source: ItemId
    role: str
    place: int
    takes: tuple[type[Item], ...]


@dataclass(frozen=True)
class Offer:
    """An item that could take a role, and how far from where the old one lay, mm."""

    item: ItemId
    name: str
    away: float


def missing(job: Job, item: Followed) -> list[Missing]:
    """Return the sources that an item follows, or followed, and that are gone."""
    recipe = item.follows
    if recipe is None:
        return []
    kind, found, place = kind_of(recipe.kind), [], 0
    for name, ids in recipe.by_role:
        role = kind.role(name)
        for number, each in enumerate(ids, 1):
            if each not in job.items:
                words = role.words if role.most == 1 else f"{role.words} {number}"
                found.append(Missing(each, words, place, role.takes))
            place += 1
    return found


def offers(job: Job, item: Followed, lost: Missing) -> list[Offer]:
    """Return what could take the place of a lost source, the nearest to where it lay first."""
    recipe = item.follows
    assert recipe is not None
    barred = {*recipe.sources, *job.downstream(item.id)}
    free = [
        each
        for kind in lost.takes
        for each in job.all(kind)
        if each.id not in barred and each.id != item.id
    ]
    was = _where_it_lay(item, lost.place)
    own = was if was is not None else places_of(job, item)
    if own is None or not len(own):
        return [Offer(each.id, each.name, float("nan")) for each in free]
    tree, made = cKDTree(own), []
    for each in free:
        places = places_of(job, each)
        if places is None or not len(places):
            continue
        away = float(tree.query(places)[0].mean())
        if was is not None:
            # What covers only a part of it does not lie where it lay.
            away = max(away, float(cKDTree(places).query(own)[0].mean()))
        made.append(Offer(each.id, each.name, away))
    return sorted(made, key=lambda offer: offer.away)


def tied_again(job: Job, item: Followed, others: Mapping[ItemId, ItemId]) -> Job:
    """Let other items take the places of lost sources; what stood by itself follows again.

    Raises
    ------
    RecipeError
        Where one does not fit its role, or follows the item itself.
    """
    if item.recipe is None and item.former is not None:
        job = make.restored(job, item)
    recipe = item.follows
    assert recipe is not None
    for role, ids in recipe.by_role:
        now = tuple(others.get(each, each) for each in ids)
        if now != ids:
            job = make.tied(job, job.the(item.id, Followed), role, *now)
    return job


def lost_the_same(job: Job, item: Followed, source: ItemId) -> list[Followed]:
    """Return other items that followed a lost source too."""
    return [each for each in job.followers(source) if each.id != item.id]


def words_of(items: Sequence[Item]) -> str:
    """Name items: the first, and how many others."""
    first, *others = [each.name for each in items]
    if not others:
        return first
    return f"{first} and {others[0]}" if len(others) == 1 else f"{first} and {len(others)} others"


def _where_it_lay(item: Followed, place: int) -> Floats | None:
    """Return places of a source as it was when an item was made of it, where that is known."""
    basis = item.made_of
    if basis is None:
        return None
    # Of what is told by its shape alone there is one value for each source, in their order.
    kind, shapes = kind_of(basis.recipe.kind), []
    for name, ids in basis.recipe.by_role:
        alone = all(issubclass(each, Curve | Surface) for each in kind.role(name).takes)
        shapes += [alone] * len(ids)
    values = [v for v in basis.values if isinstance(v, BSplineCurve | BSplineSurface)]
    if not shapes[place] or sum(shapes) != len(values):
        return None
    return _places_of(values[sum(shapes[:place])])


def places_of(job: Job, item: Item) -> Floats | None:
    """Return places that stand for where an item lies, (n, 3); None where none do."""
    if isinstance(item, Region):
        scan = job.get(item.scan, Scan)
        return None if scan is None else _few(scan.mesh.vertices[item.vertices])
    if isinstance(item, Scan):
        return _few(item.mesh.vertices)
    if isinstance(item, PointList):
        return _few(item.points)
    return _places_of(item.geometry) if isinstance(item, Curve | Surface) else None


def _places_of(geometry: Any) -> Floats | None:
    if isinstance(geometry, BSplineCurve):
        return curve_points(geometry, np.linspace(*geometry.domain, 4 * PLACES))
    if isinstance(geometry, BSplineSurface):
        steps = np.linspace(0, 1, PLACES)
        return surface_grid(geometry, steps, steps).reshape(-1, 3)
    return None


def _few(points: Floats) -> Floats:
    return points[:: max(1, len(points) // EXTENT)]
