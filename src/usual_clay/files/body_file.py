"""Bodies as triangles: closed ones read to float."""

from __future__ import annotations

from pathlib import Path

from usual_clay.core.apart import ApartError, apart
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.afloat import ClosedMesh
from usual_clay.files import exchange
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import read_mesh

# A chord height without one asked for, as a share of a body's size.
FINE = 2e-4


def read_body(path: Path, unit: str = "mm", chord: float = 0.0) -> ClosedMesh:
    """Read a closed body.

    Parameters
    ----------
    unit : str
        Of a mesh file, which says none.
    chord : float
        How far triangles of a kernel's body may lie off it, mm; 0 for a share of its size.

    Raises
    ------
    FileError, FloatError
        What is wrong with the file, or where the body is open.
    """
    if path.suffix.lower() in exchange.SUFFIXES:
        if not path.exists():
            raise FileError(f"{path.name} is not there")
        try:
            return ClosedMesh.of(*apart(path.name, _read, str(path), chord))
        except ApartError as error:
            raise FileError(str(error)) from None
    mesh = read_mesh(path, unit)
    return ClosedMesh.of(mesh.vertices, mesh.triangles)


def _read(path: str, chord: float) -> tuple[Floats, Ints]:
    from usual_clay.core.body.meshing import triangles_of
    from usual_clay.core.body.shapes import FACE, parts, size_of

    whole = exchange.shape_of(Path(path))
    faces = parts(whole, FACE)
    if not faces:
        raise FileError(f"{Path(path).name} holds no face")
    vertices, _, triangles, _ = triangles_of(whole, faces, chord or FINE * size_of(whole))
    return vertices, triangles
