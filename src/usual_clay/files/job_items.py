"""How each kind of item is written into a job file, and rebuilt from one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict
from typing import Any

import numpy as np

from usual_clay.core.check.deviation import LEVELS
from usual_clay.core.fit.curve.holds import Hold
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.patch.meet import Ribbon
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.picture.look import Look
from usual_clay.core.picture.placement import Placement, Plane
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.shapes import KINDS as SHAPE_KINDS
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.make import Handle
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.picture_file import checked_size
from usual_clay.job.items import (
    Curve,
    Followed,
    Item,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS, Recipe
from usual_clay.job.remake import is_stale

Told = dict[str, Any]
# Keeps an array or bytes under a name and returns the name of its entry.
Keep = Callable[[str, Any], str]
# Reads an entry: an array of a kind and a shape, or with no kind the bytes.
Read = Callable[..., Any]
MOST_TEXT = 500
# Settings that are made of smaller ones.
NESTED: dict[str, type] = {"handles": Handle, "holds": Hold, "ribbons": Ribbon}


def describe(job: Job, item: Item, keep: Keep) -> Told:
    """Return what is written of an item; its arrays go to `keep`."""
    told: Told = {
        "kind": NAMES[type(item)],
        "id": item.id,
        "name": item.name,
        "visible": item.visible,
        "locked": item.locked,
        "colour": item.colour,
    }
    if isinstance(item, Followed):
        recipe = item.recipe
        told["recipe"] = recipe and {
            "kind": recipe.kind,
            "sources": list(recipe.sources),
            "settings": asdict(recipe.settings),
            "stale": is_stale(job, item),
        }

    def put(name: str, array: Any) -> None:
        told[name] = None if array is None else keep(f"{item.id}.{name}", array)

    if isinstance(item, Scan):
        told |= {"source": item.source, "unit": item.unit}
        put("vertices", item.mesh.vertices)
        put("triangles", item.mesh.triangles.astype(np.int32))
        put("colours", None if item.colours is None else item.colours.astype(np.int32))
    elif isinstance(item, Region):
        told["scan"] = item.scan
        put("vertices", item.vertices.astype(np.int32))
    elif isinstance(item, Picture):
        told |= {"source": item.source, "size": list(item.size)}
        told |= {"placement": asdict(item.placement), "look": asdict(item.look)}
        put("data", item.data)
    elif isinstance(item, PointList):
        told |= {"source": item.source, "unit": item.unit, "closed": item.closed}
        put("points", item.points)
        put("out", item.out.astype(np.int32))
    elif isinstance(item, Shape):
        shape = item.geometry
        told["shape"] = asdict(shape) | {"point": shape.point.tolist(), "axis": shape.axis.tolist()}
        put("signed", item.signed)
    elif isinstance(item, Curve):
        told |= {"watches": item.watches, "watched": item.watched and asdict(item.watched)}
        for name in ("knots", "points", "weights"):
            put(name, getattr(item.geometry, name))
        put("signed", item.signed)
    elif isinstance(item, Surface):
        told["watches"] = item.watches
        put("inside", None if item.inside is None else item.inside.astype(np.int32))
        for name in ("knots_u", "knots_v", "points", "weights"):
            put(name, getattr(item.geometry, name))
        put("signed", item.signed)
    if isinstance(item, Curve | Surface):
        told["candidates"] = {
            "counts": [[c.nu, c.nv] for c in item.candidates],
            "levels": keep(
                f"{item.id}.levels",
                np.array([c.levels for c in item.candidates]).reshape(-1, len(LEVELS)),
            ),
        }
    return told


def rebuild(told: Told, read: Read, items: Mapping[str, Item]) -> Item:
    """Return an item from what was written of it.

    Raises
    ------
    KeyError, TypeError, ValueError
        Where it makes no sense.
    """
    common: Told = {
        "id": text(told["id"]),
        "name": text(told["name"]),
        "visible": bool(told["visible"]),
        "locked": bool(told["locked"]),
        "colour": text(told.get("colour", "")),
    }
    if told.get("recipe") is not None:
        common["recipe"] = _recipe(told["recipe"])
    return REBUILD[told["kind"]](told, common, read, items)


def text(value: Any) -> str:
    """Return a value that must be a text of a sensible length."""
    if not isinstance(value, str) or len(value) > MOST_TEXT:
        raise ValueError("a name is no text")
    return value


def _recipe(told: Told) -> Recipe:
    kind = KINDS[told["kind"]]
    sources = tuple(text(source) for source in told["sources"])
    settings = _tuples(told["settings"])
    for name, nested in NESTED.items():
        if name in settings:
            settings[name] = tuple(nested(**part) for part in settings[name])
    if told["kind"] == "bridge" and "first_end" in settings:
        # As bridges from ends alone were written.
        settings["first_at"] = float(settings.pop("first_end"))
        settings["second_at"] = float(settings.pop("second_end"))
    if told["kind"] == "pair":
        settings.pop("controls", None)
    return Recipe(told["kind"], sources, kind.settings(**settings))


def _tuples(value: Any) -> Any:
    """Turn lists back into the tuples that they were."""
    if isinstance(value, list):
        return tuple(_tuples(part) for part in value)
    return {k: _tuples(v) for k, v in value.items()} if isinstance(value, dict) else value


def _finite(values: Any, count: int) -> Any:
    array = np.array([float(value) for value in values])
    if array.shape != (count,) or not np.isfinite(array).all():
        raise ValueError("a place or a direction is not made of finite numbers")
    return array


def _scan(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Scan:
    mesh = TriangleMesh(
        read(told["vertices"], "f", (None, 3)), read(told["triangles"], "i", (None, 3))
    )
    colours = told.get("colours")
    if colours is not None:
        found = read(colours, "i", (len(mesh.vertices), 3))
        if found.min() < 0 or found.max() > 255:
            raise ValueError(f"the scan {common['name']} has colours that are none")
        colours = found.astype(np.uint8)
    source, unit = text(told["source"]), text(told["unit"])
    return Scan(**common, mesh=mesh, source=source, unit=unit, colours=colours)


def _region(told: Told, common: Told, read: Read, items: Mapping[str, Item]) -> Region:
    scan = items.get(told["scan"])
    if not isinstance(scan, Scan):
        raise ValueError(f"the region {common['name']} has no scan")
    chosen = _choice(read(told["vertices"], "i", (None,)), len(scan.mesh.vertices), common["name"])
    return Region(**common, scan=scan.id, vertices=chosen)


def _points(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> PointList:
    points = read(told["points"], "f", (None, 3))
    return PointList(
        **common,
        points=points,
        out=_choice(read(told["out"], "i", (None,)), len(points), common["name"]),
        closed=bool(told["closed"]),
        source=text(told["source"]),
        unit=text(told["unit"]),
    )


def _choice(chosen: Any, count: int, name: str) -> Any:
    """Check indices into `count` things, rising."""
    if len(chosen) and not (chosen[0] >= 0 and chosen[-1] < count and (np.diff(chosen) > 0).all()):
        raise ValueError(f"what is chosen in {name} does not fit its points")
    return chosen


def _picture(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Picture:
    data = read(told["data"], None)
    if checked_size(data, common["name"]) != tuple(told["size"]):
        raise ValueError(f"the picture {common['name']} is not as large as it says")
    placed = _tuples(told["placement"])
    plane = placed.pop("plane")
    across, up, origin = (_finite(plane[name], 3) for name in ("across", "up", "origin"))
    if np.abs(np.stack([across, up]) @ np.stack([across, up]).T - np.eye(2)).max() > 1e-6:
        raise ValueError(f"the plane of {common['name']} has no right angles")
    whole = Plane(text(plane["name"]), *(tuple(part.tolist()) for part in (across, up, origin)))
    return Picture(
        **common,
        data=data,
        size=(int(told["size"][0]), int(told["size"][1])),
        placement=Placement(whole, **placed),
        look=Look(**_tuples(told["look"])),
        source=text(told["source"]),
    )


def _shape(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Shape:
    shape = dict(told["shape"])
    if shape["kind"] not in SHAPE_KINDS:
        raise ValueError(f"no simple shape is called {shape['kind']!r}")
    point, axis, span = (_finite(shape[k], n) for k, n in (("point", 3), ("axis", 3), ("span", 2)))
    radius, angle = _finite((shape["radius"], shape["angle"]), 2)
    geometry = SimpleShape(
        shape["kind"], point, axis, float(radius), float(angle), (float(span[0]), float(span[1]))
    )
    return Shape(**common, geometry=geometry, signed=_signed(told, read))


def _curve(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Curve:
    points = read(told["points"], "f", (None, 3))
    weights = told["weights"]
    geometry = BSplineCurve(
        read(told["knots"], "f", (None,)),
        points,
        None if weights is None else read(weights, "f", (len(points),)),
    )
    return Curve(
        **common,
        geometry=geometry,
        signed=_signed(told, read),
        candidates=_candidates(told, read),
        watches=text(told["watches"]),
        watched=_watched(told.get("watched")),
    )


def _watched(told: Told | None) -> TraceSettings | None:
    return None if told is None else TraceSettings(**_tuples(told))


def _surface(told: Told, common: Told, read: Read, items: Mapping[str, Item]) -> Surface:
    points = read(told["points"], "f", (None, None, 3))
    weights = told["weights"]
    geometry = BSplineSurface(
        read(told["knots_u"], "f", (None,)),
        read(told["knots_v"], "f", (None,)),
        points,
        None if weights is None else read(weights, "f", points.shape[:2]),
    )
    return Surface(
        **common,
        geometry=geometry,
        signed=_signed(told, read),
        candidates=_candidates(told, read),
        watches=text(told.get("watches", "")),
        inside=_inside(told, common, read, items),
    )


def _inside(told: Told, common: Told, read: Read, items: Mapping[str, Item]) -> Any:
    """Return what of a scan judges a patch; nothing where the scan is gone."""
    if told.get("inside") is None:
        return None
    recipe = common.get("recipe")
    scan = items.get(recipe.sources[0] if recipe is not None else told.get("watches", ""))
    if not isinstance(scan, Scan):
        return None
    return _choice(read(told["inside"], "i", (None,)), len(scan.mesh.vertices), common["name"])


def _candidates(told: Told, read: Read) -> tuple[Candidate, ...]:
    counts = told["candidates"]["counts"]
    levels = read(told["candidates"]["levels"], "f", (len(counts), len(LEVELS)))
    return tuple(
        Candidate(int(nu), int(nv), row) for (nu, nv), row in zip(counts, levels, strict=True)
    )


def _signed(told: Told, read: Read) -> Any:
    signed = told["signed"]
    signed = None if signed is None else read(signed, "f", (None,))
    if signed is not None and not len(signed):
        raise ValueError(f"{told['name']} has no deviations")
    return signed


NAMES: dict[type[Item], str] = {
    Scan: "scan",
    Region: "region",
    Picture: "picture",
    PointList: "points",
    Shape: "shape",
    Curve: "curve",
    Surface: "surface",
}
REBUILD: dict[str, Callable[[Told, Told, Read, Mapping[str, Item]], Item]] = {
    "scan": _scan,
    "region": _region,
    "picture": _picture,
    "points": _points,
    "shape": _shape,
    "curve": _curve,
    "surface": _surface,
}
