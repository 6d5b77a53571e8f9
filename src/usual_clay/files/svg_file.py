"""Curves as SVG at true scale: cubic pieces, in millimetres, seen along an axis."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from xml.sax.saxutils import quoteattr

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import TRUE_PLANES
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.files.atomic import write_text
from usual_clay.files.errors import FileError

MARGIN = 2.0
# Pieces for each knot span of a curve that is no cubic polynomial.
PIECES = 16


def write_svg(path: Path, curves: Sequence[tuple[str, BSplineCurve]], view: str = "side") -> None:
    """Write curves as a drawing of their true size.

    Cubics and what is below them are written exactly; others in pieces of cubics that meet them
    in place and tangent, sixteen to a span.

    Parameters
    ----------
    view : str
        The true view they are seen in.

    Raises
    ------
    FileError
    """
    if not curves:
        raise FileError("there is no curve to write: choose one in the Shelf")
    plane = TRUE_PLANES[view]
    # Rows go down in a drawing.
    flat = np.stack([np.asarray(plane.across), -np.asarray(plane.up)], axis=1)
    pieces = [(name, [piece @ flat for piece in _cubics(curve)]) for name, curve in curves]
    every = np.concatenate([piece for _, parts in pieces for piece in parts])
    low, high = every.min(axis=0) - MARGIN, every.max(axis=0) + MARGIN
    width, height = high - low
    lines = [
        '<svg xmlns="http://www.w3.org/2000/svg"'
        f' width="{width:.9g}mm" height="{height:.9g}mm"'
        f' viewBox="{low[0]:.9g} {low[1]:.9g} {width:.9g} {height:.9g}">'
    ]
    for name, parts in pieces:
        words = f"M {_pair(parts[0][0])}"
        for piece in parts:
            words += " C " + ", ".join(_pair(point) for point in piece[1:])
        lines.append(
            f'<path id={quoteattr(name)} d="{words}" fill="none" stroke="#2B2A28"'
            ' stroke-width="0.2"/>'
        )
    write_text(path, "\n".join([*lines, "</svg>"]) + "\n")


def _pair(point: Floats) -> str:
    return f"{point[0]:.9g} {point[1]:.9g}"


def _cubics(curve: BSplineCurve) -> list[Floats]:
    """Return Bezier pieces, (4, 3) each, by place and tangent at their ends."""
    breaks = np.unique(curve.knots)
    if curve.degree > 3 or curve.weights is not None:
        share = np.arange(PIECES) / PIECES
        inner = (breaks[:-1, None] + np.diff(breaks)[:, None] * share).ravel()
        breaks = np.append(inner, breaks[-1])
    width = np.diff(breaks)
    # Just inside each piece: at a knot of full multiplicity the tangent jumps.
    inside = 1e-9 * width
    start = curve_derivatives(curve, breaks[:-1] + inside, 1)
    end = curve_derivatives(curve, breaks[1:] - inside, 1)
    return [
        np.stack(
            [
                start[0, k],
                start[0, k] + width[k] / 3 * start[1, k],
                end[0, k] - width[k] / 3 * end[1, k],
                end[0, k],
            ]
        )
        for k in range(len(width))
    ]
