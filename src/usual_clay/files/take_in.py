"""Curves and surfaces from files of other programs: the format is told by the file's ending."""

from __future__ import annotations

from pathlib import Path

from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.kernel import Spline
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files import exchange
from usual_clay.files.errors import FileError
from usual_clay.files.svg_read import read_svg

SUFFIXES = (".svg", *exchange.SUFFIXES)


def read_splines(path: Path, view: str = "side") -> list[tuple[str, BSplineCurve | BSplineSurface]]:
    """Read all curves and surfaces of a file, named, in mm; a drawing lies on a true plane.

    Raises
    ------
    FileError
        Where there are none, or the file cannot be read.
    """
    if path.suffix.lower() == ".svg":
        return list(read_svg(path, view))
    found: list[tuple[str, BSplineCurve | BSplineSurface]] = []
    said = []
    for read in (exchange.read_exchange, exchange.read_curves):
        try:
            parts: list[BSplineCurve | BSplineSurface] = [*read(path)]
        except FileError as error:
            said.append(str(error))
            continue
        found += [(f"{path.stem} {len(found) + k + 1}", part) for k, part in enumerate(parts)]
    if not found:
        raise FileError("; ".join(dict.fromkeys(said)))
    return found


def read_pieces(path: Path, view: str = "side") -> list[tuple[str, Spline | BodyShape]]:
    """Read all that a file holds, named, in mm: curves, whole surfaces, and bodies of all else.

    Raises
    ------
    FileError
        Where there is nothing, or the file cannot be read.
    """
    if path.suffix.lower() == ".svg":
        return list(read_splines(path, view))
    found: list[tuple[str, Spline | BodyShape]] = []
    said = []
    try:
        found += exchange.read_bodies(path)
    except FileError as error:
        said.append(str(error))
    try:
        curves = exchange.read_curves(path)
        found += [(f"{path.stem} curve {k}", curve) for k, curve in enumerate(curves, 1)]
    except FileError as error:
        said.append(str(error))
    if not found:
        raise FileError("; ".join(dict.fromkeys(said)))
    return found
