"""Older job files brought to the present version, as they are read."""

from __future__ import annotations

from typing import Any

Told = dict[str, Any]
# The roles of what versions 1 and 2 listed one after the other; the last takes all the rest.
ROLES: dict[str, tuple[tuple[str, int], ...]] = {
    "cast": (("measured", 1),),
    "patch": (("scan", 1), ("borders", 4), ("beside", 4)),
    "ball": (("points", 1), ("scan", 1)),
    "onto": (("points", 1), ("onto", 1)),
    "section": (("scan", 1),),
    "outline": (("picture", 1),),
    "spline": (("points", 1),),
    "shape": (("measured", 1),),
    "drawn": (("scan", 1),),
    "held": (("neighbours", 10_000),),
    "twin": (("curve", 1),),
    "copy": (("curve", 1),),
    "bridge": (("first", 1), ("second", 1)),
    "pair": (("first", 1), ("second", 1)),
    "chain": (("curves", 10_000),),
    "offset": (("curve", 1),),
    "across": (("profile", 1), ("along", 1)),
    "laid": (("curve", 1), ("onto", 1)),
    "in surface": (("surface", 1),),
}
# What kinds of recipes were called.
CALLED = {"drape": "cast", "related": "held"}


def brought_up(told: Told) -> Told:
    """Return a description of version 3 for one of version 1 or 2.

    Raises
    ------
    KeyError, TypeError, ValueError
        Where it makes no sense.
    """
    if told["version"] >= 3:
        return told
    aim = told["aim"]
    tolerance = {"deviation": aim["tolerance"], "share": aim["share"]}
    if set(aim) - {"tolerance", "share"}:
        raise ValueError("its tolerance has parts that are unknown")
    return told | {"tolerance": tolerance, "items": [_item(item) for item in told["items"]]}


def _item(written: Told) -> Told:
    told: Told = {"colour": ""} | written
    if "candidates" in told:
        told = told | {
            "counts": told["candidates"]["counts"],
            "levels": told["candidates"]["levels"],
        }
    recipe = told.get("recipe")
    if told["kind"] in ("curve", "surface"):
        told = {"watches": ""} | told
    if recipe is None:
        return told
    told = told | {"recipe": _recipe(recipe)}
    if recipe["kind"] in ("drape", "patch", "spline"):
        # What judges an item is named apart from what it follows now.
        told["watches"] = recipe["sources"][0]
    return told


def _recipe(told: Told) -> Told:
    kind = str(CALLED.get(told["kind"], told["kind"]))
    left = list(told["sources"])
    sources = {}
    for role, count in ROLES[kind]:
        if left[:count]:
            sources[role] = left[:count]
        left = left[count:]
    settings = dict(told["settings"])
    if "relations" in settings:
        settings["holds"] = settings.pop("relations")
    if kind == "bridge" and "first_end" in settings:
        # As bridges from ends alone were written.
        settings["first_at"] = float(settings.pop("first_end"))
        settings["second_at"] = float(settings.pop("second_end"))
    if kind == "pair":
        settings.pop("controls", None)
    return told | {"kind": kind, "sources": sources, "settings": settings}
