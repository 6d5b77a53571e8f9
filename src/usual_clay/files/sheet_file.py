"""A flat sheet at true scale as SVG or DXF, in millimetres."""

from __future__ import annotations

from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.lines_plan import Sheet
from usual_clay.files.atomic import whole_file, write_text
from usual_clay.files.errors import FileError

SUFFIXES = (".svg", ".dxf")
MARGIN, LETTERS = 12.0, 2.5
# Ink and width of each layer, mm; what is not here is drawn fine.
INKS = {
    "sections": ("#8E3D1B", 0.25, 30),
    "lengthwise cuts": ("#0E7C7B", 0.25, 130),
    "waterlines": ("#7B2D5B", 0.25, 200),
    "stations": ("#8A8378", 0.1, 8),
}


def write_sheet(path: Path, sheet: Sheet, title: str) -> None:
    """Write a sheet by the file's ending.

    Raises
    ------
    FileError
    """
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise FileError(f"{path.name}: a sheet is written as {', '.join(SUFFIXES)}")
    if not sheet.lines:
        raise FileError("the sheet is empty: ask for stations")
    if suffix == ".svg":
        write_text(path, svg_of(sheet, title))
    else:
        _write_dxf(path, sheet, title)


def page_of(sheet: Sheet) -> Floats:
    """Return how wide and high a sheet's page is, mm."""
    return np.asarray(sheet.size + 2 * MARGIN)


def svg_of(sheet: Sheet, title: str) -> str:
    """Return a sheet as SVG."""
    width, height = page_of(sheet)
    rows = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.6g}mm" height="{height:.6g}mm"'
        f' viewBox="{-MARGIN:g} {-(height - MARGIN):.9g} {width:.9g} {height:.9g}">',
        f"<title>{escape(title)}</title>",
    ]
    for line in sheet.lines:
        ink, wide, _ = INKS[line.layer]
        # Rows go down in a drawing.
        places = " ".join(f"{x:.6f},{-y:.6f}" for x, y in line.places)
        rows.append(
            f'<polyline class={quoteattr(line.layer)} points="{places}" fill="none"'
            f' stroke="{ink}" stroke-width="{wide}"/>'
        )
    for words, (x, y) in sheet.words:
        rows.append(
            f'<text x="{x:.4f}" y="{-y:.4f}" font-size="{LETTERS}" font-family="sans-serif"'
            f' fill="#2B2A28">{escape(words)}</text>'
        )
    return "\n".join([*rows, "</svg>"]) + "\n"


def _write_dxf(path: Path, sheet: Sheet, title: str) -> None:
    # Slow to import.
    import ezdxf
    from ezdxf import units

    drawing = ezdxf.new("R2010", units=units.MM)
    drawing.header["$PROJECTNAME"] = title
    for layer, (_, _, colour) in INKS.items():
        drawing.layers.add(layer, color=colour)
    space = drawing.modelspace()
    for line in sheet.lines:
        space.add_lwpolyline(line.places.tolist(), dxfattribs={"layer": line.layer})
    for words, place in sheet.words:
        space.add_text(words, height=LETTERS, dxfattribs={"layer": "stations"}).set_placement(
            tuple(place.tolist())
        )
    with whole_file(path) as temporary:
        drawing.saveas(temporary)
