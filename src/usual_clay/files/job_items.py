"""Items and their recipes in a job file, whatever kinds they are."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict
from operator import index
from typing import Any

from usual_clay.core.fit.curve.holds import Hold
from usual_clay.core.fit.patch.meet import Ribbon
from usual_clay.core.spline.make import Handle
from usual_clay.files.item_files import ITEM_FILES, Read, Told, text, tuples
from usual_clay.job.items import Followed, Item
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind
from usual_clay.job.recipe import Recipe
from usual_clay.job.recipe_kind import recipe_problem
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import is_stale

# Keeps an array or bytes under a name and returns the name of its entry.
Keep = Callable[[str, Any], str]
# Settings that are made of smaller ones.
NESTED: dict[str, type] = {"handles": Handle, "holds": Hold, "ribbons": Ribbon}


def describe(job: Job, item: Item, keep: Keep) -> Told:
    """Return what is written of an item; its arrays go to `keep`."""
    name = item_kind(item).name
    told: Told = {
        "kind": name,
        "id": item.id,
        "name": item.name,
        "visible": item.visible,
        "locked": item.locked,
        "colour": item.colour,
        "group": item.group,
        "order": item.order,
    }
    followed = job.get(item.id, Followed)
    if followed is not None:
        recipe = followed.recipe
        told["recipe"] = recipe and _told(recipe) | {"stale": is_stale(job, item)}
        told["former"] = followed.former and _told(followed.former)

    def put(part: str, array: Any) -> None:
        told[part] = None if array is None else keep(f"{item.id}.{part}", array)

    return told | ITEM_FILES[name].write(item, put) | told


def _told(recipe: Recipe) -> Told:
    return {
        "kind": recipe.kind,
        "sources": {role: list(ids) for role, ids in recipe.by_role},
        "settings": asdict(recipe.settings),
    }


def rebuild(told: Told, read: Read, items: Mapping[str, Item]) -> Item:
    """Return an item from what was written of it.

    Raises
    ------
    KeyError, TypeError, ValueError, RecipeError
        Where it makes no sense.
    """
    common: Told = {
        "id": text(told["id"]),
        "name": text(told["name"]),
        "visible": bool(told["visible"]),
        "locked": bool(told["locked"]),
        "colour": text(told["colour"]),
        # Jobs from before there were groups have neither.
        "group": text(told.get("group", "")),
        "order": index(told.get("order", 0)),
    }
    if told.get("recipe") is not None:
        common["recipe"] = _recipe(told["recipe"])
    if told.get("former") is not None:
        common["former"] = _recipe(told["former"])
    return ITEM_FILES[told["kind"]].read(told, common, read, items)


def _recipe(told: Told) -> Recipe:
    kind = kind_of(text(told["kind"]))
    sources = {
        text(role): tuple(text(each) for each in ids) for role, ids in told["sources"].items()
    }
    # A source may be gone, and its item loose; but each role must be one of the kind's.
    for role in sources:
        kind.role(role)
    settings = tuples(told["settings"])
    for name, nested in NESTED.items():
        if name in settings:
            settings[name] = tuple(nested(**part) for part in settings[name])
    problem = recipe_problem(kind, sources)
    if problem:
        raise ValueError(problem)
    return Recipe.of(kind.name, kind.settings(**settings), **sources)
