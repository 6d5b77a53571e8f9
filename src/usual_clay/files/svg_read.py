"""Curves out of an SVG drawing, at true scale."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import TRUE_PLANES
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.chain import chain
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.errors import FileError
from usual_clay.files.limited import read_apart

# The format's own unit is px, 96 to an inch; the parser's other units are rounded a little.
PER_INCH, INCH = 96.0, 25.4
UNITS = {"mm": 1.0, "cm": 10.0, "in": INCH, "pt": INCH / 72, "pc": INCH / 6, "px": INCH / PER_INCH}
SIZED = re.compile(rb"""<svg[^>]*\bwidth\s*=\s*["'][\d.eE+ -]+(mm|cm|in|pt|pc)?""")
LARGEST, MOST_PIECES = 40_000_000, 20_000
# Pieces that meet at more than this are apart: a true corner stays one, radians.
CORNER = float(np.radians(1.0))


def read_svg(path: Path, view: str = "side") -> list[tuple[str, BSplineCurve]]:
    """Read the lines of a drawing as curves on a true plane, in mm, with their names.

    Pieces that meet smoothly become one curve, and straight ones that follow each other a
    polyline; curves part at corners. A drawing that names no unit is taken to be in px.

    Raises
    ------
    FileError
    """
    found: list[tuple[str, BSplineCurve]] = read_apart(path, _read_svg, view)
    return found


def _read_svg(path: Path, view: str) -> list[tuple[str, BSplineCurve]]:
    try:
        return _lines_of(path, view)
    except FileError:
        raise
    except Exception as error:
        # The parser raises whatever its own parts do.
        raise FileError(f"{path.name} is no readable SVG drawing: {error}") from error


def _lines_of(path: Path, view: str) -> list[tuple[str, BSplineCurve]]:
    from svgelements import SVG, Shape
    from svgelements import Path as Drawn

    try:
        if path.stat().st_size > LARGEST:
            raise FileError(f"{path.name} is larger than {LARGEST // 1_000_000} MB")
        with path.open("rb") as file:
            head = file.read(200_000)
            if b"<!ENTITY" in head:
                raise FileError(f"{path.name} defines entities of its own: that is not read")
        drawing = SVG.parse(str(path), ppi=PER_INCH)
    except OSError as error:
        raise FileError(f"{path.name} could not be read: {error.strerror or error}") from error
    plane = TRUE_PLANES[view]
    space = np.stack([np.asarray(plane.across), -np.asarray(plane.up)]) * _scale(head)
    origin = _origin(drawing)
    made: list[tuple[str, BSplineCurve]] = []
    pieces_in_all = 0
    if not isinstance(drawing, SVG):
        raise FileError(f"{path.name} holds no drawing")
    for element in drawing.elements():
        if not isinstance(element, Shape):
            continue
        name = str(element.id or f"{path.stem} {len(made) + 1}")
        for part in Drawn(element).as_subpaths():
            pieces = _pieces(Drawn(part))
            pieces_in_all += len(pieces)
            if pieces_in_all > MOST_PIECES:
                raise FileError(f"{path.name} holds more than {MOST_PIECES} pieces of curves")
            made += [
                (name, curve) for curve in _curves([(piece + origin) @ space for piece in pieces])
            ]
    if not made:
        raise FileError(f"{path.name} holds no lines or curves")
    return made


def _origin(drawing: Any) -> Floats:
    """Return the corner of what is shown in the parser's px: the drawing keeps its own origin."""
    box = getattr(drawing, "viewbox", None)
    if box is None or not box.width or not box.height:
        return np.zeros(2)
    corner = np.array([box.x, box.y], dtype=np.float64)
    size = np.array([drawing.width, drawing.height], dtype=np.float64)
    # Both are shown at one scale, the smaller.
    return corner * float((size / [box.width, box.height]).min())


def _scale(head: bytes) -> float:
    """Return how many mm the parser's px are, exact for the unit that the drawing is sized in."""
    from svgelements import Length

    sized = SIZED.search(head)
    unit = sized.group(1).decode() if sized is not None and sized.group(1) else "px"
    return UNITS[unit] / float(Length(f"1{unit}").value(ppi=PER_INCH))


def _pieces(drawn: Any) -> list[Floats]:
    """Return a subpath as Bezier pieces, (2, 2) for lines and (4, 2) for curves."""
    from svgelements import Arc, Close, CubicBezier, Line, QuadraticBezier

    pieces: list[Floats] = []

    def add(*points: Any) -> None:
        piece = np.array([[point.x, point.y] for point in points], dtype=np.float64)
        if np.isfinite(piece).all() and np.ptp(piece, axis=0).max() > 1e-9:
            pieces.append(piece)

    for segment in drawn:
        if isinstance(segment, Line | Close) and segment.start and segment.end:
            add(segment.start, segment.end)
        elif isinstance(segment, QuadraticBezier):
            start, middle, end = (segment.start, segment.control, segment.end)
            add(start, start + (middle - start) * (2 / 3), end + (middle - end) * (2 / 3), end)
        elif isinstance(segment, CubicBezier):
            add(segment.start, segment.control1, segment.control2, segment.end)
        elif isinstance(segment, Arc):
            for cubic in segment.as_cubic_curves():
                add(cubic.start, cubic.control1, cubic.control2, cubic.end)
    return pieces


def _curves(pieces: Sequence[Floats]) -> list[BSplineCurve]:
    """Make curves of pieces in space that follow each other."""
    made: list[BSplineCurve] = []
    run: list[Floats] = []
    for piece in pieces:
        if run and not _goes_on(run[-1], piece):
            made.append(_one(run))
            run = []
        run.append(piece)
    return [*made, _one(run)] if run else made


def _goes_on(before: Floats, after: Floats) -> bool:
    if np.linalg.norm(before[-1] - after[0]) > 1e-6 or len(before) != len(after):
        return False
    if len(before) == 2:
        return True
    out, into = before[-1] - before[-2], after[1] - after[0]
    size = float(np.linalg.norm(out) * np.linalg.norm(into))
    return size > 0 and float(out @ into) / size > np.cos(CORNER)


def _one(run: Sequence[Floats]) -> BSplineCurve:
    if len(run[0]) == 2:
        points = np.concatenate([run[0][:1], *(piece[1:] for piece in run)])
        along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
        return BSplineCurve(np.concatenate([[0], along / along[-1], [1]]), points)
    beziers = [BSplineCurve(np.repeat([0.0, 1.0], 4), piece) for piece in run]
    try:
        return chain(beziers).curve if len(beziers) > 1 else beziers[0]
    except SplineError as error:
        raise FileError(f"a line of the drawing makes no curve: {error}") from error
