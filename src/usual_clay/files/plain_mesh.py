"""Binary STL and PLY of triangles, as scanners write them, straight from their bytes.

The library that reads every other mesh takes half a second to load, longer than it then takes to
read. What is not exactly as expected here is left to it, and to what it says of damage.
"""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from usual_clay.core.arrays import Floats, Ints

# A header ends before so many bytes.
HEADER = 64 << 10
STL_START = 84
STL_TRIANGLE = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("more", "<u2")])
# The numbers of PLY, by both of the names that each goes by.
NUMBERS = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2",
    "ushort": "u2", "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4",
    "float": "f4", "float32": "f4", "double": "f8", "float64": "f8",
}  # fmt: skip
ORDER = {"binary_little_endian": "<", "binary_big_endian": ">"}
CORNERS = ("vertex_indices", "vertex_index")
COLOUR = ("red", "green", "blue")

Parsed = tuple[Floats, Ints, np.ndarray | None]


def read_plain(path: Path) -> Parsed | None:
    """Return vertices, triangles (none for a cloud) and colours (None where there are none).

    None where the file is no such one, or not whole.
    """
    read = {".stl": _stl, ".ply": _ply}.get(path.suffix.lower())
    if read is None:
        return None
    with path.open("rb") as file:
        head = file.read(HEADER)
    return read(path, head, path.stat().st_size)


def _stl(path: Path, head: bytes, size: int) -> Parsed | None:
    count = int.from_bytes(head[STL_START - 4 : STL_START], "little")
    # A text begins with the same word as many a binary file: what tells is the length.
    if count < 1 or size != STL_START + count * STL_TRIANGLE.itemsize:
        return None
    corners = np.fromfile(path, STL_TRIANGLE, count, offset=STL_START)["corners"]
    vertices = corners.reshape(-1, 3).astype(np.float64)
    return vertices, np.arange(len(vertices)).reshape(-1, 3), None


def _ply(path: Path, head: bytes, size: int) -> Parsed | None:
    head, ended, _ = head.partition(b"\nend_header\n")
    lines = [line.split() for line in head.decode("latin-1").split("\n")]
    lines = [words for words in lines if words[:1] not in (["comment"], ["obj_info"])]
    if not ended or len(lines) < 2 or lines[0] != ["ply"] or lines[1][:1] != ["format"]:
        return None
    order = ORDER.get(lines[1][1] if len(lines[1]) > 1 else "")
    elements = None if order is None else _elements(lines[2:], order)
    at = len(head) + len(ended)
    if elements is None or size != at + sum(n * kind.itemsize for n, kind in elements.values()):
        return None
    found = {}
    for name, (count, kind) in elements.items():
        found[name] = np.fromfile(path, kind, count, offset=at)
        at += count * kind.itemsize
    return _of_elements(found)


def _elements(lines: list[list[str]], order: str) -> dict[str, tuple[int, np.dtype]] | None:
    """Return how many of each element there are, and of what, its lists being of three."""
    fields: dict[str, list[tuple[str, str]]] = {}
    counts: dict[str, int] = {}
    for words in lines:
        match words:
            case ["element", ("vertex" | "face") as name, count] if (
                name not in fields and re.fullmatch(r"[0-9]{1,15}", count)
            ):
                fields[name], counts[name] = [], int(count)
            case ["property", "list", "uchar" | "uint8", kind, name] if (
                name in CORNERS and kind in NUMBERS and list(fields) == ["vertex", "face"]
            ):
                fields["face"] += [("corners", "u1"), ("indices", f"3{order}{NUMBERS[kind]}")]
            case ["property", kind, name] if kind in NUMBERS and fields:
                fields[list(fields)[-1]].append((name, order + NUMBERS[kind]))
            case _:
                return None
    if list(fields) not in (["vertex"], ["vertex", "face"]):
        return None
    try:
        return {name: (counts[name], np.dtype(each)) for name, each in fields.items()}
    except ValueError:
        # A name that stands there twice.
        return None


def _of_elements(found: dict[str, np.ndarray]) -> Parsed | None:
    points, faces = found["vertex"], found.get("face")
    names = points.dtype.names or ()
    # What has pictures laid on it is the library's: it parts vertices.
    if not len(points) or not {"x", "y", "z"} <= set(names) or {"u", "s", "texture_u"} & set(names):
        return None
    vertices = np.stack([points[axis].astype(np.float64) for axis in "xyz"], axis=1)
    triangles = np.zeros((0, 3), dtype=np.int64)
    if faces is not None and len(faces):
        own = faces.dtype.names or ()
        if "indices" not in own or {*COLOUR} & {*own} or (faces["corners"] != 3).any():
            return None
        triangles = faces["indices"].astype(np.int64)
    colours = None
    if any(name in names for name in COLOUR):
        if not all(name in names and points.dtype[name] == np.uint8 for name in COLOUR):
            return None
        colours = np.stack([points[name] for name in COLOUR], axis=1)
    return vertices, triangles, colours
