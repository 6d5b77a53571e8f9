"""The job file, `.uclay`: a zip of one `job.json` and the arrays it names, as `.npy`.

Version 1. Described for users in docs/guide.md. What is opened is checked first: no entry may
lie outside, be larger than it says, hold objects, or disagree with the JSON that names it.
"""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.check.deviation import LEVELS, Aim
from usual_clay.core.fit.budget import Candidate
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError
from usual_clay.job.items import Item, PointList, Region, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS, Recipe
from usual_clay.job.remake import basis_of, is_stale

SUFFIX = ".uclay"
FORMAT, VERSION = "usual-clay-job", 1
LARGEST_ENTRY = 2 << 30
LARGEST_JSON = 32 << 20
MOST_ENTRIES = 20_000

Keep = Callable[[str, Any], str]


def write_job(path: Path, job: Job) -> None:
    """Write a job; the old file stays whole until the new one is.

    Raises
    ------
    FileError
    """
    with whole_file(path) as temporary, zipfile.ZipFile(temporary, "w") as archive:

        def keep(name: str, array: Any) -> str:
            entry = f"arrays/{name}.npy"
            buffer = io.BytesIO()
            np.lib.format.write_array(buffer, np.asarray(array), allow_pickle=False)
            archive.writestr(entry, buffer.getvalue(), zipfile.ZIP_DEFLATED, compresslevel=1)
            return entry

        description = {
            "format": FORMAT,
            "version": VERSION,
            "name": job.name,
            "aim": asdict(job.aim),
            "next_number": job.next_number,
            "items": [_describe(job, item, keep) for item in job.items.values()],
        }
        text = json.dumps(description, indent=1, allow_nan=False)
        archive.writestr("job.json", text, zipfile.ZIP_DEFLATED)


def _describe(job: Job, item: Item, keep: Keep) -> dict[str, Any]:
    common = {"id": item.id, "name": item.name, "visible": item.visible, "locked": item.locked}
    if isinstance(item, Scan):
        return common | {
            "kind": "scan",
            "source": item.source,
            "unit": item.unit,
            "vertices": keep(f"{item.id}.vertices", item.mesh.vertices),
            "triangles": keep(f"{item.id}.triangles", item.mesh.triangles.astype(np.int32)),
        }
    if isinstance(item, Region):
        return common | {
            "kind": "region",
            "scan": item.scan,
            "vertices": keep(f"{item.id}.vertices", item.vertices.astype(np.int32)),
        }
    if isinstance(item, PointList):
        return common | {
            "kind": "points",
            "source": item.source,
            "unit": item.unit,
            "closed": item.closed,
            "points": keep(f"{item.id}.points", item.points),
            "out": keep(f"{item.id}.out", item.out.astype(np.int32)),
        }
    if isinstance(item, Surface):
        geometry, recipe = item.geometry, item.recipe
        stale = is_stale(job, item)
        levels = np.array([c.levels for c in item.candidates]).reshape(-1, len(LEVELS))
        return common | {
            "kind": "surface",
            "knots_u": keep(f"{item.id}.knots_u", geometry.knots_u),
            "knots_v": keep(f"{item.id}.knots_v", geometry.knots_v),
            "points": keep(f"{item.id}.points", geometry.points),
            "weights": None
            if geometry.weights is None
            else keep(f"{item.id}.weights", geometry.weights),
            "signed": None if item.signed is None else keep(f"{item.id}.signed", item.signed),
            "recipe": None
            if recipe is None
            else {
                "kind": recipe.kind,
                "sources": list(recipe.sources),
                "settings": asdict(recipe.settings),
                "stale": stale,
            },
            "candidates": {
                "counts": [[c.nu, c.nv] for c in item.candidates],
                "levels": keep(f"{item.id}.levels", levels),
            },
        }
    raise TypeError(f"no way to write {type(item).__name__}")


def read_job(path: Path) -> Job:
    """Open a job file.

    Raises
    ------
    FileError
        When it is missing, cut off, damaged, of a newer version, or not what it says it is.
    """
    damaged = f"{path.name} is damaged or no job file"
    try:
        with zipfile.ZipFile(path) as archive:
            return _read_archive(archive, path.name)
    except FileNotFoundError:
        raise FileError(f"{path.name} is not there any more") from None
    except zipfile.BadZipFile as error:
        raise FileError(f"{damaged}: {error}. Nothing was opened") from error
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror or error}") from error
    except (
        KeyError, TypeError, ValueError, AttributeError, IndexError, EOFError, zlib.error,
        NotImplementedError, RuntimeError, RecursionError, OverflowError, MemoryError,
    ) as error:  # fmt: skip
        reason = str(error) or type(error).__name__
        raise FileError(f"{damaged}: {reason[:200]}. Nothing was opened") from error


def _read_archive(archive: zipfile.ZipFile, name: str) -> Job:
    entries = archive.infolist()
    if len(entries) > MOST_ENTRIES:
        raise ValueError(f"{len(entries)} entries are too many")
    for entry in entries:
        parts = Path(entry.filename).parts
        if entry.filename.startswith("/") or "\\" in entry.filename or ".." in parts:
            raise ValueError(f"the entry {entry.filename!r} points outside the file")
        limit = LARGEST_JSON if entry.filename == "job.json" else LARGEST_ENTRY
        if entry.file_size > limit:
            raise ValueError(f"the entry {entry.filename!r} is too large")
    description = json.loads(archive.read("job.json").decode("utf-8"))
    if description["format"] != FORMAT:
        raise ValueError("its job.json is of another kind")
    if not isinstance(description["version"], int):
        raise ValueError("its version is no number")
    if description["version"] > VERSION:
        raise FileError(
            f"{name} was saved by a newer version of Usual Clay (file version"
            f" {description['version']}, this one reads {VERSION}). Update to open it"
        )
    items: dict[str, Item] = {}
    aim = Aim(**{key: float(value) for key, value in description["aim"].items()})
    for told in description["items"]:
        item = _rebuild(told, archive, items)
        if item.id in items:
            raise ValueError(f"two items have the id {item.id}")
        items[item.id] = item
    job = Job(_text(description["name"]), items, aim, int(description["next_number"]))
    for told in description["items"]:
        surface = job.get(told["id"], Surface)
        if surface is not None and surface.recipe is not None and not told["recipe"]["stale"]:
            job = job.changed(surface.id, made_of=basis_of(job, surface))
    return job


def _text(value: Any) -> str:
    if not isinstance(value, str) or len(value) > 500:
        raise ValueError("a name is no text")
    return value


def _array(archive: zipfile.ZipFile, entry: Any, kind: str, shape: tuple[int | None, ...]) -> Any:
    """Read one array after checking its header against the entry's size and the wanted shape."""
    if not isinstance(entry, str):
        raise ValueError("an array has no name")
    size = archive.getinfo(entry).file_size
    with archive.open(entry) as stream:
        version = np.lib.format.read_magic(stream)
        if version != (1, 0):
            raise ValueError(f"{entry} has an unknown array version")
        found, fortran, dtype = np.lib.format.read_array_header_1_0(stream)
        fits = len(found) == len(shape) and all(
            want is None or want == have for want, have in zip(shape, found, strict=True)
        )
        count = int(np.prod(found, dtype=np.float64))
        if dtype.hasobject or dtype.kind != kind or fortran or not fits:
            raise ValueError(f"{entry} has the wrong shape {found} or type {dtype}")
        if size - stream.tell() != count * dtype.itemsize:
            raise ValueError(f"{entry} is shorter or longer than it says")
        array = np.frombuffer(stream.read(), dtype=dtype).reshape(found)
    array = array.astype(np.float64 if kind == "f" else np.int64)
    if kind == "f" and not np.isfinite(array).all():
        raise ValueError(f"{entry} holds numbers that are not finite")
    return array


def _rebuild(told: dict[str, Any], archive: zipfile.ZipFile, items: dict[str, Item]) -> Item:
    common: dict[str, Any] = {
        "id": _text(told["id"]),
        "name": _text(told["name"]),
        "visible": bool(told["visible"]),
        "locked": bool(told["locked"]),
    }
    if told["kind"] == "scan":
        vertices = _array(archive, told["vertices"], "f", (None, 3))
        triangles = _array(archive, told["triangles"], "i", (None, 3))
        mesh = TriangleMesh(vertices, triangles)
        return Scan(**common, mesh=mesh, source=_text(told["source"]), unit=_text(told["unit"]))
    if told["kind"] == "region":
        scan = items.get(told["scan"])
        if not isinstance(scan, Scan):
            raise ValueError(f"the region {common['name']} has no scan")
        chosen = _choice(archive, told["vertices"], len(scan.mesh.vertices), common["name"])
        return Region(**common, scan=scan.id, vertices=chosen)
    if told["kind"] == "points":
        points = _array(archive, told["points"], "f", (None, 3))
        return PointList(
            **common,
            points=points,
            out=_choice(archive, told["out"], len(points), common["name"]),
            closed=bool(told["closed"]),
            source=_text(told["source"]),
            unit=_text(told["unit"]),
        )
    if told["kind"] == "surface":
        return _rebuild_surface(told, archive, common)
    raise ValueError(f"unknown kind of item {told['kind']!r}")


def _choice(archive: zipfile.ZipFile, entry: Any, count: int, name: str) -> Any:
    """Read indices into `count` things, rising."""
    chosen = _array(archive, entry, "i", (None,))
    if len(chosen) and not (chosen[0] >= 0 and chosen[-1] < count and (np.diff(chosen) > 0).all()):
        raise ValueError(f"what is chosen in {name} does not fit its points")
    return chosen


def _rebuild_surface(
    told: dict[str, Any], archive: zipfile.ZipFile, common: dict[str, Any]
) -> Surface:
    points = _array(archive, told["points"], "f", (None, None, 3))
    weights = told["weights"]
    geometry = BSplineSurface(
        _array(archive, told["knots_u"], "f", (None,)),
        _array(archive, told["knots_v"], "f", (None,)),
        points,
        None if weights is None else _array(archive, weights, "f", points.shape[:2]),
    )
    recipe = told["recipe"]
    if recipe is not None:
        kind = KINDS[recipe["kind"]]
        sources = tuple(_text(source) for source in recipe["sources"])
        recipe = Recipe(recipe["kind"], sources, kind.settings(**recipe["settings"]))
    counts = told["candidates"]["counts"]
    levels = _array(archive, told["candidates"]["levels"], "f", (len(counts), len(LEVELS)))
    candidates = tuple(
        Candidate(int(nu), int(nv), row) for (nu, nv), row in zip(counts, levels, strict=True)
    )
    signed = told["signed"]
    signed = None if signed is None else _array(archive, signed, "f", (None,))
    if signed is not None and not len(signed):
        raise ValueError(f"the surface {common['name']} has no deviations")
    return Surface(**common, geometry=geometry, recipe=recipe, signed=signed, candidates=candidates)
