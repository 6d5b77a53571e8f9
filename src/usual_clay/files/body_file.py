"""Bodies as triangles: closed ones read to float, and any written watertight."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from usual_clay.core.apart import ApartError, apart
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.afloat import ClosedMesh
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.files import exchange
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import read_mesh

# A chord height without one asked for, as a share of a body's size.
FINE = 2e-4
# Corners no farther apart than this share of a body's size are one.
TOGETHER = 1e-9


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
    from usual_clay.core.body.shapes import FACE, parts, size_of, triangles_of

    whole = exchange.shape_of(Path(path))
    if not parts(whole, FACE):
        raise FileError(f"{Path(path).name} holds no face")
    return triangles_of(whole, chord or FINE * size_of(whole))


def triangles_at(body: BodyShape, chord: float) -> tuple[Floats, Ints]:
    """Return a body's triangles within a chord height; those of faces that meet share corners."""
    vertices, triangles = apart("the body", _triangles, body.exact, chord)
    size = float(np.ptp(vertices, axis=0).max())
    grid = np.round(vertices / (TOGETHER * size)).astype(np.int64)
    _, first, which = np.unique(grid, axis=0, return_index=True, return_inverse=True)
    joined = which.ravel()[triangles]
    own = (joined != np.roll(joined, 1, axis=1)).all(axis=1)
    return vertices[first], joined[own]


def _triangles(exact: tuple[bytes, tuple[str, ...]], chord: float) -> tuple[Floats, Ints]:
    from usual_clay.core.body.shapes import read, triangles_of

    return triangles_of(read(exact).shape, chord)
