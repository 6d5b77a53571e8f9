"""Triangle meshes from STL, PLY, OBJ, OFF and GLB files, mostly through trimesh; and out."""

from __future__ import annotations

import logging
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import MeshError, TriangleMesh, welded
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError
from usual_clay.files.limited import read_apart
from usual_clay.files.plain_mesh import HEADER, read_plain
from usual_clay.files.units import MILLIMETRES, millimetres_in

SUFFIXES = (".stl", ".ply", ".obj", ".off", ".glb")
OUT = (".stl", ".ply", ".obj", ".3mf", ".glb")
# Formats that hold several named things.
NAMED = (".obj", ".3mf", ".glb")
# A format whose lengths are metres by its own standard.
METRES = (".glb",)
# A part is more often held in the hand than driven on: sizes in mm that are likely, per unit.
LIKELY = (5.0, 5000.0)


@dataclass(frozen=True, eq=False)
class ScanRead:
    """What a scan's file holds.

    Attributes
    ----------
    mesh : TriangleMesh or None
        In the file's own numbers; None for a plain cloud of points.
    colours : (n, 3) bytes or None
        Of the mesh's vertices, or of the points.
    points : (n, 3) array or None
        The cloud's points.
    """

    mesh: TriangleMesh | None
    colours: np.ndarray | None = None
    points: Floats | None = None

    @property
    def places(self) -> Floats:
        if self.mesh is not None:
            return self.mesh.vertices
        assert self.points is not None
        return self.points


def read_scan(path: Path) -> ScanRead:
    """Read a scan with its colours, or a plain cloud of points.

    Raises
    ------
    FileError
    """
    _check(path)
    vertices, triangles, colours = _load(path)
    if not len(triangles):
        bad = ~np.isfinite(vertices).all(axis=1)
        if bad.any():
            raise FileError(
                f"{path.name}: {bad.sum()} points are no finite numbers (the first is point"
                f" {int(np.argmax(bad)) + 1}). Export it again"
            )
        return ScanRead(None, colours, vertices)
    mesh, kept = _meshed(path.name, vertices, triangles)
    return ScanRead(mesh, None if colours is None else colours[kept])


def guess_unit(path: Path, places: Floats) -> tuple[str, str]:
    """Guess the unit of a scan's numbers; return it and the reason, in words."""
    size = float(np.ptp(places, axis=0).max())
    if path.suffix.lower() in METRES:
        return "m", "this format is in metres by its standard"
    fits = [
        unit
        for unit in ("mm", "cm", "m", "in")
        if LIKELY[0] <= size * MILLIMETRES[unit] <= LIKELY[1]
    ]
    if size < 0.5 and "m" in fits:
        return "m", f"{size:.3g} long would be tiny in mm, and is {size * 1000:.4g} mm in metres"
    if "mm" in fits or not fits:
        return "mm", f"most scans are, and {size:.4g} mm is a likely length"
    return fits[0], f"{size:.3g} mm would be tiny"


def read_mesh(path: Path, unit: str = "mm") -> TriangleMesh:
    """Read a mesh and merge vertices that coincide.

    Parameters
    ----------
    unit : str
        The unit of the file's numbers.

    Raises
    ------
    FileError
        When it is missing, empty, no mesh, or holds numbers or triangles that make no sense.
    """
    factor = millimetres_in(unit)
    _check(path)
    vertices, triangles, _ = _load(path)
    if not len(triangles):
        raise FileError(f"{path.name} holds no triangles: it is no mesh, or was cut off")
    return _meshed(path.name, vertices * factor, triangles)[0]


def _check(path: Path) -> None:
    name = path.name
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{name}: scans are read from {', '.join(SUFFIXES)} files")
    try:
        size = path.stat().st_size
    except OSError as error:
        raise FileError(f"{name} cannot be opened: {error.strerror}") from error
    if size == 0:
        raise FileError(f"{name} is empty: export the scan again")


def _meshed(name: str, vertices: Floats, triangles: Ints) -> tuple[TriangleMesh, Ints]:
    """Check and weld a mesh; return it and which of its vertices stayed."""
    try:
        checked = TriangleMesh(vertices, triangles)
        kept, merged = welded(checked.vertices, checked.triangles)
        mesh = TriangleMesh(checked.vertices[kept], merged)
    except MeshError as error:
        raise FileError(f"{name}: {error}. Export the scan again as a triangle mesh") from error
    if not np.linalg.norm(mesh.face_vectors, axis=1).max() > 0:
        raise FileError(f"{name}: its triangles have no area")
    return mesh, kept


def _load(path: Path) -> tuple[Floats, Ints, np.ndarray | None]:
    """Return vertices, triangles (none for a cloud) and colours (None where there are none)."""
    if path.suffix.lower() in (".stl", ".ply"):
        return _loaded(path)
    return read_apart(path, _loaded)


def _loaded(path: Path) -> tuple[Floats, Ints, np.ndarray | None]:
    _check_size(path)
    plain = read_plain(path)
    if plain is not None:
        return plain
    vertices, triangles, colours = _parsed(path)
    counts = _told_counts(path)
    for told, found, what in zip(counts, (vertices, triangles), ("points", "faces"), strict=True):
        if told is not None and len(found) < told:
            raise FileError(
                f"{path.name} is cut off: it says that it holds {told} {what}, and {len(found)} are"
                " there. Export the scan again"
            )
    return vertices, triangles, colours


def _told_counts(path: Path) -> tuple[int | None, int | None]:
    """Return how many points and faces a file's own header tells, where it does."""
    suffix = path.suffix.lower()
    if suffix not in (".ply", ".off"):
        return None, None
    with path.open("rb") as file:
        head = file.read(HEADER)
    if suffix == ".ply":
        found = [re.search(rb"element (?:%s)\s+(\d+)" % word, head.split(b"end_header")[0])
                 for word in (b"vertex", b"face")]  # fmt: skip
        points, faces = (None if each is None else int(each[1]) for each in found)
        return points, faces
    lines = [line.split(b"#")[0].split() for line in head.splitlines()]
    words = [word for line in lines for word in line if word.upper() != b"OFF"][:3]
    numbers = [int(word) for word in words if word.isdigit()]
    # Faces of more than three corners become several triangles: there are no fewer.
    return (numbers[0], numbers[1]) if len(numbers) == 3 else (None, None)


def _check_size(path: Path) -> None:
    """Refuse an STL whose own count cannot be, before anything is asked of memory for it."""
    if path.suffix.lower() != ".stl":
        return
    with path.open("rb") as file:
        head = file.read(84)
    if head[:5].lower() == b"solid" or len(head) < 84:
        return
    count, size = int.from_bytes(head[80:84], "little"), path.stat().st_size
    there = max(size - 84, 0) // 50
    # A count past all belief is no count: it is no such file, and its reader says so.
    if there < count <= 1000 * there:
        raise FileError(
            f"{path.name} is cut off: it says that it holds {count} triangles, and {there} are"
            " there. Export the scan again"
        )


def _parsed(path: Path) -> tuple[Floats, Ints, np.ndarray | None]:
    import trimesh

    logging.getLogger("trimesh").setLevel(logging.CRITICAL)
    try:
        loaded = trimesh.load(path, process=False, skip_materials=True)
        if isinstance(loaded, trimesh.Scene):
            # Parts at their places; with nothing in it, this fails like a damaged file.
            loaded = loaded.to_geometry()
        vertices = np.asarray(loaded.vertices, dtype=np.float64)
        triangles = np.asarray(getattr(loaded, "faces", np.zeros((0, 3))), dtype=np.int64)
        colours = _colours(loaded, len(vertices))
    except MemoryError as error:
        raise FileError(f"{path.name} says it is larger than the memory here") from error
    except Exception as error:
        # A damaged file can make the reader fail in any way; all mean the same to the user.
        raise FileError(
            f"{path.name} is no readable {path.suffix[1:].upper()} mesh ({_brief(error)})."
            " Export the scan again"
        ) from error
    if vertices.ndim != 2 or vertices.shape[1] != 3 or not len(vertices):
        raise FileError(f"{path.name} holds no triangles: it is no mesh, or was cut off")
    return vertices, triangles.reshape(-1, 3), colours


def _colours(loaded: Any, count: int) -> np.ndarray | None:
    """Return the vertex colours that a file itself gives."""
    if hasattr(loaded, "colors"):
        found = np.asarray(loaded.colors)
    elif getattr(loaded.visual, "kind", None) == "vertex":
        found = np.asarray(loaded.visual.vertex_colors)
    else:
        return None
    return found[:, :3].astype(np.uint8) if found.ndim == 2 and len(found) == count else None


def _brief(error: Exception) -> str:
    return (str(error).strip().splitlines() or [type(error).__name__])[0][:80]


@dataclass(frozen=True, eq=False)
class MeshPart:
    """Triangles that are written, with a name and a colour ("#rrggbb", or empty)."""

    name: str
    vertices: Floats
    triangles: Ints
    colour: str = ""


def write_mesh(path: Path, vertices: Floats, triangles: Ints) -> None:
    """Write triangles as one of `OUT`, in mm."""
    write_parts(path, [MeshPart(path.stem, vertices, triangles)], "mm")


def write_parts(path: Path, parts: Sequence[MeshPart], unit: str) -> None:
    """Write triangles as one of `OUT`, STL and PLY binary; names and colours where it holds them.

    Parameters
    ----------
    unit : str
        Of the numbers, for formats that say it.
    """
    import trimesh

    suffix = path.suffix.lower()
    meshes = []
    for part in parts:
        mesh = trimesh.Trimesh(part.vertices, part.triangles, process=False)
        mesh.units = unit
        if part.colour and suffix != ".stl":
            rgb = [int(part.colour[k : k + 2], 16) for k in (1, 3, 5)]
            mesh.visual = trimesh.visual.ColorVisuals(mesh, face_colors=[*rgb, 255])
        meshes.append(mesh)
    whole: Any = meshes[0] if len(meshes) == 1 else trimesh.util.concatenate(meshes)
    if suffix in NAMED:
        whole = trimesh.Scene()
        for part, mesh in zip(parts, meshes, strict=True):
            whole.add_geometry(mesh, node_name=part.name, geom_name=part.name)
    with whole_file(path) as temporary:
        said = {"header": "Usual Clay"} if suffix == ".obj" else {}
        told = whole.export(file_type=suffix[1:], **said)
        temporary.write_bytes(told.encode("ascii") if isinstance(told, str) else told)
