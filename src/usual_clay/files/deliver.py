"""Handing surfaces and curves over: the format is told by the file's ending."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.core.spline.tessellate import grid_triangles, steps_for_chord, tessellate
from usual_clay.files import exchange
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import write_mesh
from usual_clay.files.svg_file import write_svg


def write_splines(path: Path, splines: Sequence[tuple[str, exchange.Spline]], chord: float) -> None:
    """Write named surfaces and curves: all as STEP or IGES, surfaces as STL, curves as SVG.

    STL triangles stay within a chord height in mm. An SVG shows the true view in which the curves
    are largest.

    Raises
    ------
    FileError
    """
    suffix = path.suffix.lower()
    if suffix == ".svg":
        curves = [(name, part) for name, part in splines if isinstance(part, BSplineCurve)]
        write_svg(path, curves, _largest_view(curves))
        return
    if suffix != ".stl":
        exchange.write_exchange(path, splines)
        return
    surfaces = [part for _, part in splines if isinstance(part, BSplineSurface)]
    if not surfaces:
        raise FileError("there is no surface to write: choose one in the Shelf")
    vertices, triangles, count = [], [], 0
    for surface in surfaces:
        grid, u, v = tessellate(surface, steps_for_chord(surface, chord))
        triangles.append(grid_triangles(len(u), len(v)) + count)
        vertices.append(grid.reshape(-1, 3))
        count += len(vertices[-1])
    write_mesh(path, np.concatenate(vertices), np.concatenate(triangles))


def _largest_view(curves: Sequence[tuple[str, BSplineCurve]]) -> str:
    if not curves:
        return "side"
    points = np.concatenate([curve.points for _, curve in curves])
    return ("front", "side", "top")[int(np.argmin(np.ptp(points, axis=0)))]
