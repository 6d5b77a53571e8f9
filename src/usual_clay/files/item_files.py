"""How each kind of item is written into a job file, and read from one: ONE ROW for each."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from hashlib import sha256
from typing import Any

import numpy as np

from usual_clay.core.body.body_shape import BodyShape, EdgeGap, Spot
from usual_clay.core.check.deviation import LEVELS
from usual_clay.core.check.measure import Figure
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.picture.look import Look
from usual_clay.core.picture.placement import Placement, Plane
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.shapes import KINDS as SHAPE_KINDS
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.afloat_file import read_lying, write_lying
from usual_clay.files.picture_file import size_of
from usual_clay.job.items import (
    Accepted,
    Body,
    Curve,
    Dimension,
    Floating,
    Item,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)

Told = dict[str, Any]
# Puts an array or bytes into the file under a name, and into what is told where it lies.
Put = Callable[[str, Any], None]
# Reads an entry: an array of a kind and a shape, or with no kind the bytes.
Read = Callable[..., Any]
MOST_TEXT = 500
# Of what is measured.
UNITS = ("mm", "mm²", "°")


@dataclass(frozen=True)
class ItemFile:
    """How one kind of item is written and read.

    Attributes
    ----------
    write : callable
        ``write(item, put)`` gives what is written in words and numbers; arrays go to `put`.
    read : callable
        ``read(told, common, read, items)`` gives the item; `items` are those before it.
    """

    write: Callable[[Any, Put], Told]
    read: Callable[[Told, Told, Read, Mapping[str, Item]], Item]


def _write_scan(scan: Scan, put: Put) -> Told:
    put("vertices", scan.mesh.vertices)
    put("triangles", scan.mesh.triangles.astype(np.int32))
    put("colours", None if scan.colours is None else scan.colours.astype(np.int32))
    return {"source": scan.source, "unit": scan.unit}


def _write_region(region: Region, put: Put) -> Told:
    put("vertices", region.vertices.astype(np.int32))
    return {"scan": region.scan}


def _write_picture(picture: Picture, put: Put) -> Told:
    put("data", picture.data)
    told: Told = {
        "source": picture.source,
        "size": list(picture.size),
        "scaled": picture.scaled,
    }
    return told | {"placement": asdict(picture.placement), "look": asdict(picture.look)}


def _write_points(points: PointList, put: Put) -> Told:
    put("points", points.points)
    put("out", points.out.astype(np.int32))
    return {"source": points.source, "unit": points.unit, "closed": points.closed}


def _write_shape(item: Shape, put: Put) -> Told:
    shape = item.geometry
    put("signed", item.signed)
    places = {"point": shape.point.tolist(), "axis": shape.axis.tolist()}
    return {"shape": asdict(shape) | places}


def _write_curve(curve: Curve, put: Put) -> Told:
    for name in ("knots", "points", "weights"):
        put(name, getattr(curve.geometry, name))
    put("signed", curve.signed)
    watched = None if curve.watched is None else asdict(curve.watched)
    return {"watches": curve.watches, "watched": watched} | _write_candidates(curve.candidates, put)


def _write_surface(surface: Surface, put: Put) -> Told:
    put("inside", None if surface.inside is None else surface.inside.astype(np.int32))
    for name in ("knots_u", "knots_v", "points", "weights"):
        put(name, getattr(surface.geometry, name))
    put("signed", surface.signed)
    return {"watches": surface.watches} | _write_candidates(surface.candidates, put)


def _write_candidates(candidates: Sequence[Candidate], put: Put) -> Told:
    levels = np.array([c.levels for c in candidates]).reshape(-1, len(LEVELS))
    put("levels", levels)
    return {
        "counts": [[c.nu, c.nv] for c in candidates],
        "asked": [c.within for c in candidates],
    }


def text(value: Any) -> str:
    """Return a value that must be a text of a sensible length."""
    if not isinstance(value, str) or len(value) > MOST_TEXT:
        raise ValueError("a name is no text")
    return value


def tuples(value: Any) -> Any:
    """Turn lists back into the tuples that they were."""
    if isinstance(value, list):
        return tuple(tuples(part) for part in value)
    return {k: tuples(v) for k, v in value.items()} if isinstance(value, dict) else value


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
    if size_of(data, common["name"]) != tuple(told["size"]):
        raise ValueError(f"the picture {common['name']} is not as large as it says")
    placed = tuples(told["placement"])
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
        look=Look(**tuples(told["look"])),
        source=text(told["source"]),
        scaled=bool(told.get("scaled", False)),
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
    return None if told is None else TraceSettings(**tuples(told))


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
        watches=text(told["watches"]),
        inside=_inside(told, common, read, items),
    )


def _inside(told: Told, common: Told, read: Read, items: Mapping[str, Item]) -> Any:
    """Return what of a scan, or of a region, judges a surface; nothing where that is gone."""
    if told.get("inside") is None:
        return None
    source = items.get(told["watches"])
    if not isinstance(source, Scan | Region):
        return None
    count = len(source.mesh.vertices if isinstance(source, Scan) else source.vertices)
    inside = read(told["inside"], "i", (None,))
    if isinstance(source, Region) and len(inside) and inside.max() >= count:
        # The region has changed since: the surface is made anew, and finds out by itself.
        return None
    return _choice(inside, count, common["name"])


def _candidates(told: Told, read: Read) -> tuple[Candidate, ...]:
    counts = told["counts"]
    asked = told.get("asked") or [0.0] * len(counts)
    levels = read(told["levels"], "f", (len(counts), len(LEVELS)))
    return tuple(
        Candidate(int(nu), int(nv), row, within=float(within))
        for (nu, nv), row, within in zip(counts, levels, asked, strict=True)
    )


def _signed(told: Told, read: Read) -> Any:
    signed = told["signed"]
    signed = None if signed is None else read(signed, "f", (None,))
    if signed is not None and not len(signed):
        raise ValueError(f"{told['name']} has no deviations")
    return signed


# ---- bodies ------------------------------------------------------------------------------------

NUMBERS = ("volume", "area", "chord")
# What is drawn and told of a body beside its exact shape, and what each array is.
DRAWN = {
    "vertices": ("f", (None, 3)),
    "normals": ("f", (None, 3)),
    "triangles": ("i", (None, 3)),
    "face_of": ("i", (None,)),
    "edge_points": ("f", (None, 3)),
    "edge_starts": ("i", (None,)),
    "edge_faces": ("i", (None, 2)),
    "edge_turns": ("f", (None,)),
}  # fmt: skip


def _write_body(body: Body, put: Put) -> Told:
    shape = body.shape
    put("brep", shape.brep)
    for name, (kind, _) in DRAWN.items():
        array = getattr(shape, name)
        put(name, array.astype(np.int32) if kind == "i" else array)
    put("signed", body.signed)
    put("inside", None if body.inside is None else body.inside.astype(np.int32))
    figures = {name: getattr(shape, name) for name in ("solids", "valid", *NUMBERS)}
    return figures | {
        "digest": sha256(shape.brep).hexdigest(),
        "names": list(shape.names),
        "centre": shape.centre.tolist(),
        "inertia": shape.inertia.tolist(),
        "gaps": [asdict(gap) | {"gap": _open_as_none(gap.gap)} for gap in body.gaps],
        "spots": [asdict(spot) for spot in body.spots],
        "density": body.density,
        "watches": body.watches,
    }


def _open_as_none(gap: float) -> float | None:
    return gap if np.isfinite(gap) else None


def _body(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Body:
    rest: Told = {
        "gaps": tuple(
            EdgeGap(**tuples(gap | {"gap": np.inf if gap["gap"] is None else gap["gap"]}))
            for gap in told["gaps"]
        ),
        "spots": tuple(Spot(**tuples(spot)) for spot in told["spots"]),
        "density": float(_finite([told["density"]], 1)[0]),
        "watches": text(told["watches"]),
    }
    try:
        shape = _body_shape(told, read)
    except (KeyError, ValueError, TypeError, zipfile.BadZipFile, zlib.error):
        if common.get("recipe") is None:
            raise
        # Its recipe makes it anew.
        told["recipe"]["stale"] = True
        return Body(**common, **rest, shape=BodyShape.blank())
    signed, inside = _signed(told, read), None
    if told.get("inside") is not None:
        inside = read(told["inside"], "i", (None,))
        # The scan may come after it in the file.
        _choice(inside, int(inside.max()) + 1 if len(inside) else 0, common["name"])
    if inside is None or signed is None or len(signed) != len(inside):
        signed = inside = None
    return Body(**common, **rest, shape=shape, signed=signed, inside=inside)


def _body_shape(told: Told, read: Read) -> BodyShape:
    """Return a body's shape where all of it is sound and goes together."""
    brep = read(told["brep"], None)
    if sha256(brep).hexdigest() != told["digest"]:
        raise ValueError("a body's shape is damaged")
    drawn = {name: read(told[name], kind, shape) for name, (kind, shape) in DRAWN.items()}
    names = tuple(text(name) for name in told["names"])
    edges, starts = len(drawn["edge_faces"]), drawn["edge_starts"]
    fits = (
        len(drawn["normals"]) == len(drawn["vertices"])
        and len(drawn["face_of"]) == len(drawn["triangles"])
        and len(starts) == edges + 1 == len(drawn["edge_turns"]) + 1
        and (np.diff(starts) >= 2).all()
        and starts[0] == 0
        and starts[-1] == len(drawn["edge_points"])
        and _below(drawn["triangles"], len(drawn["vertices"]))
        and _below(drawn["face_of"], len(names))
        and _below(drawn["edge_faces"] + 1, len(names) + 1)
    )
    if not fits:
        raise ValueError("what is drawn of a body does not go together")
    numbers: Told = {k: float(_finite([told[k]], 1)[0]) for k in NUMBERS}
    inertia = np.stack([_finite(row, 3) for row in told["inertia"]])
    return BodyShape(
        brep=brep, names=names, solids=int(told["solids"]), valid=bool(told["valid"]),
        centre=_finite(told["centre"], 3), inertia=inertia,
        **numbers, **drawn,
    )  # fmt: skip


def _below(numbers: Any, count: int) -> bool:
    return not len(numbers) or (numbers.min() >= 0 and numbers.max() < count)


def _accepted(told: Told, common: Told, _read: Read, _items: Mapping[str, Item]) -> Accepted:
    reach = float(told["reach"])
    if not 0 <= reach < 1e6:
        raise ValueError("an accepted spot reaches no such way")
    return Accepted(at=_finite(told["at"], 3), reach=reach, **common)


def _write_dimension(item: Dimension, put: Put) -> Told:
    figure = item.figure
    put("ends", None if figure is None else figure.ends)
    if figure is None:
        return {"value": None, "unit": ""}
    return {"value": figure.value if np.isfinite(figure.value) else None, "unit": figure.unit}


def _dimension(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Dimension:
    if told.get("ends") is None:
        return Dimension(**common)
    if told["unit"] not in UNITS:
        raise ValueError("a dimension has no unit that is known")
    # What is straight has no radius that JSON knows.
    value = np.inf if told["value"] is None else float(told["value"])
    if np.isnan(value) or value < 0:
        raise ValueError("a dimension is no length")
    return Dimension(
        **common, figure=Figure(value, told["unit"], read(told["ends"], "f", (None, 3)))
    )


def _floating(told: Told, common: Told, read: Read, _items: Mapping[str, Item]) -> Floating:
    """Return how a body floats; where that is not all there it is worked out anew."""
    try:
        return Floating(lying=read_lying(told, read), **common)
    except (KeyError, ValueError, TypeError, zipfile.BadZipFile, zlib.error):
        if told.get("recipe") is not None:
            told["recipe"]["stale"] = True
        return Floating(**common)


ITEM_FILES: dict[str, ItemFile] = {
    "scan": ItemFile(_write_scan, _scan),
    "region": ItemFile(_write_region, _region),
    "picture": ItemFile(_write_picture, _picture),
    "points": ItemFile(_write_points, _points),
    "shape": ItemFile(_write_shape, _shape),
    "curve": ItemFile(_write_curve, _curve),
    "surface": ItemFile(_write_surface, _surface),
    "body": ItemFile(_write_body, _body),
    "afloat": ItemFile(lambda item, put: write_lying(item.lying, put), _floating),
    "accepted": ItemFile(
        lambda item, _put: {"at": item.at.tolist(), "reach": item.reach}, _accepted
    ),
    "dimension": ItemFile(_write_dimension, _dimension),
}
