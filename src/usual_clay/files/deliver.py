"""Handing surfaces over: the format is told by the file's ending."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.core.spline.tessellate import grid_triangles, steps_for_chord, tessellate
from usual_clay.files import exchange
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import write_mesh


def write_surfaces(
    path: Path, surfaces: Sequence[tuple[str, BSplineSurface]], chord: float
) -> None:
    """Write named surfaces as STEP or IGES, or as STL triangles within a chord height in mm.

    Raises
    ------
    FileError
    """
    if path.suffix.lower() != ".stl":
        exchange.write_exchange(path, surfaces)
        return
    if not surfaces:
        raise FileError("there is no surface to write: choose one in the Shelf")
    vertices, triangles, count = [], [], 0
    for _, surface in surfaces:
        grid, u, v = tessellate(surface, steps_for_chord(surface, chord))
        triangles.append(grid_triangles(len(u), len(v)) + count)
        vertices.append(grid.reshape(-1, 3))
        count += len(vertices[-1])
    write_mesh(path, np.concatenate(vertices), np.concatenate(triangles))
