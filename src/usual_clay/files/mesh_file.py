"""Triangle meshes from STL, PLY and OBJ files, through trimesh; STL and PLY out."""

from __future__ import annotations

import logging
from pathlib import Path

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import MeshError, TriangleMesh, weld
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError
from usual_clay.files.units import millimetres_in

SUFFIXES = (".stl", ".ply", ".obj")


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
    name = path.name
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{name}: scans are read from {', '.join(SUFFIXES)} files")
    try:
        size = path.stat().st_size
    except OSError as error:
        raise FileError(f"{name} cannot be opened: {error.strerror}") from error
    if size == 0:
        raise FileError(f"{name} is empty: export the scan again")
    vertices, triangles = _load(path)
    try:
        checked = TriangleMesh(vertices * factor, triangles)
        mesh = TriangleMesh(*weld(checked.vertices, checked.triangles))
    except MeshError as error:
        raise FileError(f"{name}: {error}. Export the scan again as a triangle mesh") from error
    if not np.linalg.norm(mesh.face_vectors, axis=1).max() > 0:
        raise FileError(f"{name}: its triangles have no area")
    return mesh


def _load(path: Path) -> tuple[Floats, Ints]:
    import trimesh

    logging.getLogger("trimesh").setLevel(logging.CRITICAL)
    try:
        loaded = trimesh.load(path, force="mesh", process=False, skip_materials=True)
        vertices = np.asarray(loaded.vertices, dtype=np.float64)
        triangles = np.asarray(loaded.faces, dtype=np.int64)
    except MemoryError as error:
        raise FileError(f"{path.name} says it is larger than the memory here") from error
    except Exception as error:
        # A damaged file can make the reader fail in any way; all mean the same to the user.
        raise FileError(
            f"{path.name} is no readable {path.suffix[1:].upper()} mesh ({_brief(error)})."
            " Export the scan again"
        ) from error
    if vertices.ndim != 2 or not len(vertices) or triangles.ndim != 2 or not len(triangles):
        raise FileError(f"{path.name} holds no triangles: it is no mesh, or was cut off")
    return vertices, triangles


def _brief(error: Exception) -> str:
    return (str(error).strip().splitlines() or [type(error).__name__])[0][:80]


def write_mesh(path: Path, vertices: Floats, triangles: Ints) -> None:
    """Write a binary STL or PLY file, in mm."""
    import trimesh

    mesh = trimesh.Trimesh(vertices, triangles, process=False)
    with whole_file(path) as temporary:
        temporary.write_bytes(mesh.export(file_type=path.suffix[1:].lower()))
