"""Curves as DXF: the very splines, with their control points and knots."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.atomic import whole_file

# How the format counts units.
UNITS = {"in": 1, "ft": 2, "mm": 4, "cm": 5, "m": 6}


def write_dxf(
    path: Path, curves: Sequence[tuple[str, BSplineCurve]], unit: str, title: str
) -> None:
    """Write named curves, whose numbers are in a unit, each on a layer of its name."""
    # Slow to import.
    import ezdxf

    drawing = ezdxf.new("R2010", units=UNITS[unit])
    drawing.header["$PROJECTNAME"] = title
    space = drawing.modelspace()
    for name, curve in curves:
        # What a layer's name may not hold.
        layer = "".join("_" if c in '<>/\\":;?*|=`,' else c for c in name)[:200] or "0"
        if layer not in drawing.layers:
            drawing.layers.add(layer)
        spline = space.add_spline(dxfattribs={"layer": layer, "degree": curve.degree})
        spline.control_points = curve.points.tolist()
        spline.knots = curve.knots.tolist()
        if curve.weights is not None:
            spline.weights = curve.weights.tolist()
    with whole_file(path) as temporary:
        drawing.saveas(temporary)
