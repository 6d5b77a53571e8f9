"""Handing things over: the format is told by the file's ending, and what it holds by a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import numpy as np

from usual_clay.core.apart import apart, ready
from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.triangles import mesh_of
from usual_clay.core.check.comb import comb_of
from usual_clay.core.numbers import thousands
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.parts import evenly, length_of
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.atomic import write_text
from usual_clay.files.dxf_file import write_dxf
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import SUFFIXES
from usual_clay.files.mesh_file import OUT, MeshPart, write_parts
from usual_clay.files.points_file import write_points
from usual_clay.files.step_out import TURNS, Geometry, Given, Piece, Up, pieces_of, write_exchange
from usual_clay.files.svg_file import write_svg
from usual_clay.files.units import millimetres_in
from usual_clay.job.items import Item, ItemId, PointList, Scan
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind

MOST_POINTS = 100_000
# How the user reads each kind of thing, one and many.
WORDS = {
    BSplineSurface: ("surface", "surfaces"),
    BodyShape: ("body", "bodies"),
    BSplineCurve: ("curve", "curves"),
    TriangleMesh: ("scan", "scans"),
    np.ndarray: ("point list", "point lists"),
}
# Units whose sign would be read as another word.
SPELT = {"in": "inches", "m": "metres"}
What = Literal["chosen", "group", "visible", "all"]
Of = Literal["made", "measured", "both"]
MEASURED = (Scan, PointList)


@dataclass(frozen=True)
class Format:
    """What a format is called and holds.

    Attributes
    ----------
    title : str
    holds : tuple of classes
        Of geometry.
    exact : bool
        Whether shapes are written as they are, not as triangles or points within a chord height.
    unit : str
        The one that it always has; its users choose where there is none.
    """

    title: str
    holds: tuple[type, ...]
    exact: bool = False
    unit: str = ""


EXACT = (BSplineSurface, BodyShape, BSplineCurve)
TRIANGLES = (BSplineSurface, BodyShape, TriangleMesh)
FORMATS = {
    ".step": Format("STEP", EXACT, exact=True),
    ".igs": Format("IGES", EXACT, exact=True),
    ".stl": Format("STL", TRIANGLES),
    ".obj": Format("OBJ", TRIANGLES),
    ".3mf": Format("3MF", TRIANGLES, unit="mm"),
    ".ply": Format("PLY", TRIANGLES),
    ".glb": Format("GLB", TRIANGLES, unit="m"),
    ".svg": Format("SVG", (BSplineCurve,), exact=True, unit="mm"),
    ".dxf": Format("DXF", (BSplineCurve,), exact=True),
    ".csv": Format("CSV", (BSplineCurve, np.ndarray)),
}
# Other endings of the same.
ALIKE = {".stp": ".step", ".iges": ".igs"}


def format_of(path: Path) -> Format:
    """Return the format that a file's ending tells.

    Raises
    ------
    FileError
    """
    suffix = path.suffix.lower()
    suffix = ALIKE.get(suffix, suffix)
    if suffix not in FORMATS:
        raise FileError(f"{path.name}: what is handed over is written as {', '.join(FORMATS)}")
    return FORMATS[suffix]


@dataclass(frozen=True)
class DeliverSettings:
    """What is handed over, and how.

    Attributes
    ----------
    what : {"chosen", "group", "visible", "all"}
    of : {"made", "measured", "both"}
        Which of those: surfaces, bodies and curves, or scans and point lists. The chosen thing is
        meant whatever it is.
    suffix : str
        Of the format.
    unit : str
    up : {"z", "y", "x"}
        The axis that points up where it goes; here it is z.
    chord : float
        How far triangles and straight lines may lie off, mm.
    each : bool
        Whether each thing gets a file of its own.
    """

    what: What = "visible"
    of: Of = "made"
    suffix: str = ".step"
    unit: str = "mm"
    up: Up = "z"
    chord: float = 0.01
    each: bool = False

    def __post_init__(self) -> None:
        format_of(Path(f"a{self.suffix}"))
        millimetres_in(self.unit)
        if not (np.isfinite(self.chord) and self.chord > 0):
            raise FileError("the chord height must be more than 0 mm")

    @property
    def format(self) -> Format:
        return format_of(Path(f"a{self.suffix}"))

    @property
    def written_unit(self) -> str:
        """The unit of the numbers in the file."""
        return self.format.unit or self.unit


def ready_to_write(path: Path) -> None:
    """Load meanwhile what it takes to write a file of this ending."""
    if path.suffix.lower() in SUFFIXES:
        ready("OCP.OCP", write_exchange.__module__)


def piece_of(item: Item) -> Piece | None:
    """Return an item as what is written of it; None for what no file holds."""
    handed = item_kind(item).handed
    return None if handed is None else Piece(item.name, handed(item), item.colour, item.group)


def write_item(path: Path, item: Item, chord: float) -> str:
    """Write one item by the file's ending.

    Raises
    ------
    FileError
        Where the format does not hold it.
    """
    piece = piece_of(item)
    if piece is None:
        raise FileError(f"{item.name} is told in the report only: no file holds it")
    return write_pieces(path, [piece], chord)


def delivered(job: Job, chosen: Collection[ItemId], settings: DeliverSettings) -> list[Item]:
    """Return the items of a job that are handed over."""
    what, of = settings.what, settings.of
    every = [item for item in job.items.values() if item_kind(item).handed is not None]
    if what == "chosen":
        return [item for item in every if item.id in chosen]
    if what == "group":
        groups = {job.items[each].group for each in chosen if each in job.items} - {""}
        every = [item for item in every if item.group in groups]
    if of != "both":
        every = [item for item in every if isinstance(item, MEASURED) == (of == "measured")]
    return every if what in ("all", "group") else [item for item in every if item.visible]


def pieces_in(items: Sequence[Item]) -> list[Piece]:
    """Return items as what is written of them."""
    return [piece for item in items if (piece := piece_of(item)) is not None]


def counted(kinds: Sequence[type]) -> str:
    """Return how many there are of each kind, in words."""
    found = Counter(kinds)
    return ", ".join(
        f"{found[kind]} {words[found[kind] > 1]}" for kind, words in WORDS.items() if found[kind]
    )


def held_by(format_: Format, pieces: Sequence[Piece]) -> tuple[list[Piece], str]:
    """Return which things a format holds, and what must be said of the others."""
    own = [piece for piece in pieces if isinstance(piece.geometry, format_.holds)]
    left = counted([type(each.geometry) for each in pieces if each not in own])
    return own, f"{format_.title} does not hold {left}" if left else ""


@dataclass(frozen=True, eq=False)
class Written:
    """What was handed over: the files, in words what they hold, and what they do not."""

    files: tuple[Path, ...]
    words: str
    lost: str = ""


def deliver(pieces: Sequence[Piece], settings: DeliverSettings, path: Path, job: str) -> Written:
    """Write things to a file, or each into one of its own in a folder.

    Raises
    ------
    FileError
    """
    own, left = held_by(settings.format, pieces)
    if not own:
        raise FileError(left or "there is nothing to write: choose something in the Shelf")
    files = files_of(own, settings, path)
    parts = [[piece] for piece in own] if settings.each else [own]
    lost, triangles = [], 0
    for file, part in zip(files, parts, strict=True):
        gone, count = write_sized(file, part, settings, job)
        lost.append(gone)
        triangles += count
    words = counted([type(piece.geometry) for piece in own])
    if triangles:
        words += f": {thousands(triangles)} triangles within {settings.chord:g} mm"
    unit = settings.written_unit
    where = f"{len(files)} files in {path.name}" if settings.each else path.name
    told = f"Wrote {words} to {where}, in {SPELT.get(unit, unit)}"
    told += "" if settings.up == "z" else f", {settings.up} up"
    told += f". {left}." if left else "."
    return Written(files, told, " ".join(filter(None, lost)))


def files_of(own: Sequence[Piece], settings: DeliverSettings, path: Path) -> tuple[Path, ...]:
    """Return the files that are written: one, or one for each thing in a folder."""
    if not settings.each:
        return (path,)
    names: list[str] = []
    for piece in own:
        plain = "".join(c if c.isalnum() or c in " -_." else "_" for c in piece.name).strip(". ")
        name, number = plain or "thing", 2
        while name.casefold() in (each.casefold() for each in names):
            name, number = f"{plain} {number}", number + 1
        names.append(name)
    return tuple(path / f"{name}{settings.suffix}" for name in names)


def write_pieces(path: Path, given: Given, chord: float, job: str = "") -> str:
    """Write named things in mm, z up, by the file's ending; return what it could not hold.

    Triangles stay within a chord height in mm; those of a body are watertight. An SVG shows the
    true view in which the curves are largest.

    Raises
    ------
    FileError
    """
    pieces = pieces_of(given)
    own, left = held_by(format_of(path), pieces)
    if not own:
        raise FileError(f"{path.name}: {left or 'there is nothing to write'}")
    settings = DeliverSettings(suffix=path.suffix.lower(), chord=chord)
    lost, _ = write_sized(path, own, settings, job)
    return ". ".join(filter(None, [left, lost]))


def write_sized(
    path: Path, pieces: Sequence[Piece], settings: DeliverSettings, job: str
) -> tuple[str, int]:
    """Write things that the format holds; return what was lost, and how many triangles it took.

    Raises
    ------
    FileError
    """
    suffix = path.suffix.lower()
    if suffix in SUFFIXES:
        return apart(path.name, write_exchange, path, pieces, job, settings.unit, settings.up), 0
    if suffix in OUT:
        parts = [_mesh(piece, settings) for piece in pieces]
        write_parts(path, parts, settings.written_unit)
        return "", sum(len(part.triangles) for part in parts)
    first = pieces[0].geometry
    if suffix == ".csv" and len(pieces) == 1 and isinstance(first, np.ndarray):
        write_points(path, _moved(first, settings), settings.unit)
        return "", 0
    placed = [replace(piece, geometry=_placed(piece.geometry, settings)) for piece in pieces]
    curves = [(p.name, p.geometry) for p in placed if isinstance(p.geometry, BSplineCurve)]
    if suffix == ".svg":
        write_svg(path, curves, _largest_view(curves))
    elif suffix == ".dxf":
        write_dxf(path, curves, settings.unit, job)
    else:
        _write_points(path, placed, settings)
    return "", 0


def _moved(points: Floats, settings: DeliverSettings) -> Floats:
    turned = points @ np.array(TURNS[settings.up], dtype=float).T
    return np.asarray(turned / millimetres_in(settings.written_unit))


def _placed(geometry: Geometry, settings: DeliverSettings) -> Geometry:
    """Return a curve or points with their numbers as the file has them."""
    if isinstance(geometry, BSplineCurve):
        return replace(geometry, points=_moved(geometry.points, settings))
    assert isinstance(geometry, np.ndarray)
    return _moved(geometry, settings)


def triangles_of(piece: Piece, chord: float) -> TriangleMesh:
    """Return a thing as triangles within a chord height."""
    if isinstance(piece.geometry, TriangleMesh):
        return piece.geometry
    assert isinstance(piece.geometry, BSplineSurface | BodyShape)
    return mesh_of(piece.geometry, chord)


def _mesh(piece: Piece, settings: DeliverSettings) -> MeshPart:
    mesh = triangles_of(piece, settings.chord)
    return MeshPart(piece.name, _moved(mesh.vertices, settings), mesh.triangles, piece.colour)


def _write_points(path: Path, pieces: Sequence[Piece], settings: DeliverSettings) -> None:
    """Write points as they are, and along curves so dense that straight lines between them stay
    within a chord."""
    unit = settings.written_unit
    chord = settings.chord / millimetres_in(unit)
    lines = [f"curve,x [{unit}],y [{unit}],z [{unit}]"]
    for piece in pieces:
        quoted = '"' + piece.name.replace('"', '""') + '"'
        places = piece.geometry
        if isinstance(places, BSplineCurve):
            places = evenly(places, _dense(places, chord))
        assert isinstance(places, np.ndarray)
        lines += [f"{quoted},{x:.6f},{y:.6f},{z:.6f}" for x, y, z in places]
    write_text(path, "\n".join(lines) + "\n")


def _dense(curve: BSplineCurve, chord: float) -> int:
    radius = max(comb_of(curve).smallest_radius, 4 * chord)
    # A chord of this length rises so far above an arc of the smallest radius.
    step = float(np.sqrt(8 * radius * chord)) if np.isfinite(radius) else np.inf
    return int(np.clip(np.ceil(length_of(curve) / step), 1, MOST_POINTS)) + 1


def _largest_view(curves: Sequence[tuple[str, BSplineCurve]]) -> str:
    points = np.concatenate([curve.points for _, curve in curves])
    return ("front", "side", "top")[int(np.argmin(np.ptp(points, axis=0)))]
