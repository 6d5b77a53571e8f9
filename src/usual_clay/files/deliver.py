"""Handing surfaces and curves over: the format is told by the file's ending."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from usual_clay.core.check.comb import comb_of
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.parts import evenly, length_of
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.core.spline.tessellate import grid_triangles, parameters_for_chord
from usual_clay.files import exchange
from usual_clay.files.atomic import write_text
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import write_mesh
from usual_clay.files.points_file import write_points
from usual_clay.files.svg_file import write_svg
from usual_clay.job.items import Item

MOST_POINTS = 100_000


def write_item(path: Path, item: Item, chord: float) -> str:
    """Write one item by the file's ending: a surface or a curve as `write_splines`, points as CSV.

    Raises
    ------
    FileError
        Where the format does not hold it.
    """
    geometry = getattr(item, "geometry", None)
    if isinstance(geometry, BSplineCurve | BSplineSurface):
        return write_splines(path, [(item.name, geometry)], chord)
    points = getattr(item, "points", None)
    if points is None:
        raise FileError(f"{item.name} is told in the report only: no file holds it")
    if path.suffix.lower() != ".csv":
        raise FileError(f"{path.name}: points are written as .csv")
    write_points(path, points)
    return ""


def write_splines(path: Path, splines: Sequence[tuple[str, exchange.Spline]], chord: float) -> str:
    """Write named surfaces and curves: all as STEP or IGES, surfaces as STL, curves as SVG
    or as points in CSV.

    STL triangles stay within a chord height in mm. An SVG shows the true view in which the curves
    are largest. What the format could not hold as it is comes back in words.

    Raises
    ------
    FileError
    """
    suffix = path.suffix.lower()
    if suffix == ".svg":
        curves = [(name, part) for name, part in splines if isinstance(part, BSplineCurve)]
        write_svg(path, curves, _largest_view(curves))
        return ""
    if suffix == ".csv":
        _write_points(path, splines, chord)
        return ""
    if suffix != ".stl":
        return exchange.write_exchange(path, splines)
    surfaces = [part for _, part in splines if isinstance(part, BSplineSurface)]
    if not surfaces:
        raise FileError("there is no surface to write: choose one in the Shelf")
    vertices, triangles, count = [], [], 0
    for surface in surfaces:
        u, v = parameters_for_chord(surface, chord)
        grid = surface_grid(surface, u, v)
        triangles.append(grid_triangles(len(u), len(v)) + count)
        vertices.append(grid.reshape(-1, 3))
        count += len(vertices[-1])
    write_mesh(path, np.concatenate(vertices), np.concatenate(triangles))
    return ""


def _write_points(path: Path, splines: Sequence[tuple[str, exchange.Spline]], chord: float) -> None:
    """Write points along curves, so dense that straight lines between them stay within a chord."""
    lines = ["curve,x [mm],y [mm],z [mm]"]
    for name, curve in splines:
        if not isinstance(curve, BSplineCurve):
            continue
        size = comb_of(curve)
        radius = max(size.smallest_radius, 4 * chord)
        # A chord of this length rises so far above an arc of the smallest radius.
        step = float(np.sqrt(8 * radius * chord)) if np.isfinite(radius) else np.inf
        count = int(np.clip(np.ceil(length_of(curve) / step), 1, MOST_POINTS)) + 1
        quoted = '"' + name.replace('"', '""') + '"'
        lines += [f"{quoted},{x:.6f},{y:.6f},{z:.6f}" for x, y, z in evenly(curve, count)]
    if len(lines) == 1:
        raise FileError("there is no curve to write: choose one in the Shelf")
    write_text(path, "\n".join(lines) + "\n")


def _largest_view(curves: Sequence[tuple[str, BSplineCurve]]) -> str:
    if not curves:
        return "side"
    points = np.concatenate([curve.points for _, curve in curves])
    return ("front", "side", "top")[int(np.argmin(np.ptp(points, axis=0)))]
