"""Handing surfaces, curves and bodies over: the format is told by the file's ending."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from usual_clay.core.apart import apart, ready
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.triangles import triangles_at
from usual_clay.core.check.comb import comb_of
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.parts import evenly, length_of
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.core.spline.tessellate import grid_triangles, parameters_for_chord
from usual_clay.files.atomic import write_text
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import SUFFIXES
from usual_clay.files.mesh_file import OUT, write_mesh
from usual_clay.files.points_file import write_points
from usual_clay.files.step_out import Given, Piece, pieces_of, write_exchange
from usual_clay.files.svg_file import write_svg
from usual_clay.job.items import Body, Item, ItemId
from usual_clay.job.job import Job

MOST_POINTS = 100_000


def write_item(path: Path, item: Item, chord: float) -> str:
    """Write one item by the file's ending: what has a shape as `write_pieces`, points as CSV.

    Raises
    ------
    FileError
        Where the format does not hold it.
    """
    if isinstance(item, Body):
        return write_pieces(path, [Piece(item.name, item.shape, item.colour)], chord)
    geometry = getattr(item, "geometry", None)
    if isinstance(geometry, BSplineCurve | BSplineSurface):
        return write_pieces(path, [Piece(item.name, geometry, item.colour)], chord)
    points = getattr(item, "points", None)
    if points is None:
        raise FileError(f"{item.name} is told in the report only: no file holds it")
    if path.suffix.lower() != ".csv":
        raise FileError(f"{path.name}: points are written as .csv")
    write_points(path, points)
    return ""


def ready_to_write(path: Path) -> None:
    """Load meanwhile what it takes to write a file of this ending."""
    if path.suffix.lower() in SUFFIXES:
        ready("OCP.OCP")


def delivered(job: Job, chosen: ItemId | None) -> list[Piece]:
    """Return what is handed over of a job: the chosen thing, or all that are visible."""
    found = []
    for item in job.items.values():
        shape = item.shape if isinstance(item, Body) else getattr(item, "geometry", None)
        if isinstance(shape, BodyShape | BSplineSurface | BSplineCurve):
            found.append((item, Piece(item.name, shape, item.colour)))
    own = [piece for item, piece in found if item.id == chosen]
    return own or [piece for item, piece in found if item.visible]


def write_pieces(path: Path, given: Given, chord: float, job: str = "") -> str:
    """Write named surfaces, curves and bodies: all as STEP or IGES, surfaces and bodies as
    triangles, curves as SVG or as points in CSV.

    Triangles stay within a chord height in mm; those of a body are watertight. An SVG shows the
    true view in which the curves are largest. What the format could not hold as it is comes back
    in words.

    Raises
    ------
    FileError
    """
    pieces, suffix = pieces_of(given), path.suffix.lower()
    if suffix == ".svg":
        curves = [(p.name, p.geometry) for p in pieces if isinstance(p.geometry, BSplineCurve)]
        write_svg(path, curves, _largest_view(curves))
        return ""
    if suffix == ".csv":
        _write_points(path, pieces, chord)
        return ""
    if suffix not in OUT:
        return apart(path.name, write_exchange, path, pieces, job)
    meshes = [mesh for piece in pieces if (mesh := _mesh(piece, chord)) is not None]
    if not meshes:
        raise FileError("there is no surface or body to write: choose one in the Shelf")
    starts = np.cumsum([0, *(len(vertices) for vertices, _ in meshes)])
    vertices = np.concatenate([vertices for vertices, _ in meshes])
    triangles = [own + start for (_, own), start in zip(meshes, starts, strict=False)]
    write_mesh(path, vertices, np.concatenate(triangles))
    return ""


def _mesh(piece: Piece, chord: float) -> tuple[Floats, Ints] | None:
    if isinstance(piece.geometry, BodyShape):
        return triangles_at(piece.geometry, chord)
    if not isinstance(piece.geometry, BSplineSurface):
        return None
    u, v = parameters_for_chord(piece.geometry, chord)
    grid = surface_grid(piece.geometry, u, v).reshape(-1, 3)
    return grid, grid_triangles(len(u), len(v))


def _write_points(path: Path, pieces: Sequence[Piece], chord: float) -> None:
    """Write points along curves, so dense that straight lines between them stay within a chord."""
    lines = ["curve,x [mm],y [mm],z [mm]"]
    for piece in pieces:
        name, curve = piece.name, piece.geometry
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
