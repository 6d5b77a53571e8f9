"""STEP and IGES written: surfaces, curves and bodies with their names and colours, through OCP."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.kernel import Spline, silenced, topology
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError

Geometry = Spline | BodyShape | TriangleMesh | Floats
# What a header says of where a file comes from.
SYSTEM = "Usual Clay"
# How the kernel calls units.
UNITS = {"mm": "MM", "cm": "CM", "m": "M", "in": "INCH", "ft": "FT"}
# The axis that points up where a file goes, and how things are turned for it.
Up = Literal["z", "y", "x"]
TURNS: dict[Up, tuple[tuple[int, int, int], ...]] = {
    "z": ((1, 0, 0), (0, 1, 0), (0, 0, 1)),
    "y": ((1, 0, 0), (0, 0, 1), (0, -1, 0)),
    "x": ((0, 0, 1), (1, 0, 0), (0, 1, 0)),
}


@dataclass(frozen=True, eq=False)
class Piece:
    """A thing that is written.

    Attributes
    ----------
    name : str
    geometry : BSplineCurve, BSplineSurface, BodyShape, TriangleMesh or (n, 3) array of points
    colour : str
        "#rrggbb", or empty.
    group : str
        The group that it stands in, or empty: a layer of STEP and IGES.
    """

    name: str
    geometry: Geometry
    colour: str = ""
    group: str = ""


Given = Sequence[Piece | tuple[str, Spline | BodyShape]]


def pieces_of(given: Given) -> list[Piece]:
    """Return pieces, of which some were given as a name and a geometry."""
    return [each if isinstance(each, Piece) else Piece(*each) for each in given]


def write_exchange(path: Path, given: Given, job: str = "", unit: str = "mm", up: Up = "z") -> str:
    """Write named surfaces, curves and bodies as STEP or IGES, by the file's ending.

    The file says its unit; whoever reads it gets the same size. In STEP control points stay the
    same. IGES is read back, as it parts a curve at its kinks and may drop a control point where a
    net closes.

    Returns
    -------
    str
        What the format could not hold as it is; nothing where it is read back the same.

    Raises
    ------
    FileError
    """
    pieces = pieces_of(given)
    if not pieces:
        raise FileError("there is no surface, curve or body to write: choose one in the Shelf")
    write = WRITERS.get(path.suffix.lower())
    if write is None:
        raise FileError(f"{path.name}: surfaces are written as {', '.join(WRITERS)}")
    with whole_file(path) as temporary, silenced():
        document = _document(pieces, up)
        if not write(temporary, document, pieces, job, unit) or not temporary.stat().st_size:
            raise OSError(None, "the geometry kernel could not write it")
    return _changed(path, pieces) if write is _write_iges else ""


def _changed(path: Path, written: Sequence[Piece]) -> str:
    """Say what of the things written is not read back the same."""
    # STEP is written without it, and its process is there the sooner.
    from usual_clay.files.exchange import read_curves, read_exchange

    words = []
    if any(isinstance(piece.geometry, BodyShape) for piece in written):
        # A body's faces are read among the surfaces: they cannot be told apart.
        return ""
    for kind, read in ((BSplineCurve, read_curves), (BSplineSurface, read_exchange)):
        own = [piece.geometry for piece in written if isinstance(piece.geometry, kind)]
        if not own:
            continue
        try:
            back: Sequence[Spline] = read(path)
        except FileError:
            back = []
        what = "curve" if kind is BSplineCurve else "surface"
        before, after = (sum(_control_points(part) for part in parts) for parts in (own, back))
        if len(back) != len(own):
            words.append(f"{len(own)} {what}{'s' * (len(own) > 1)} became {len(back)}")
        elif after != before:
            words.append(f"{before} control points of {what}s became {after}")
    if not words:
        return ""
    return f"IGES does not hold all of it as it is: {', '.join(words)}. STEP keeps it the same."


def _control_points(spline: Spline) -> int:
    return int(np.prod(spline.points.shape[:-1]))


def _shape(piece: Piece) -> Any:
    if isinstance(piece.geometry, BodyShape):
        from usual_clay.core.body.shapes import read

        return read(piece.geometry.exact).shape
    assert isinstance(piece.geometry, Spline)
    return topology(piece.geometry)


def _turned(shape: Any, up: Up) -> Any:
    """Return a shape as it stands where another axis points up."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf

    turn = gp_Trsf()
    turn.SetValues(*(float(x) for row in TURNS[up] for x in (*row, 0)))
    return BRepBuilderAPI_Transform(shape, turn, True).Shape()


def _document(pieces: Sequence[Piece], up: Up) -> Any:
    """Return a document of the kernel that holds things with their names, colours and groups."""
    from OCP.Quantity import Quantity_Color, Quantity_TypeOfColor
    from OCP.TCollection import TCollection_ExtendedString
    from OCP.TDataStd import TDataStd_Name
    from OCP.TDocStd import TDocStd_Document
    from OCP.XCAFApp import XCAFApp_Application
    from OCP.XCAFDoc import XCAFDoc_ColorType, XCAFDoc_DocumentTool

    document = TDocStd_Document(TCollection_ExtendedString("XmlXCAF"))
    XCAFApp_Application.GetApplication_s().InitDocument(document)
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    colours = XCAFDoc_DocumentTool.ColorTool_s(document.Main())
    layers = XCAFDoc_DocumentTool.LayerTool_s(document.Main())
    for piece in pieces:
        shape = _shape(piece)
        label = shapes.AddShape(shape if up == "z" else _turned(shape, up), False)
        TDataStd_Name.Set_s(label, TCollection_ExtendedString(piece.name, True))
        if piece.colour:
            parts = [int(piece.colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
            colour = Quantity_Color(*parts, Quantity_TypeOfColor.Quantity_TOC_sRGB)
            colours.SetColor(label, colour, XCAFDoc_ColorType.XCAFDoc_ColorGen)
        if piece.group:
            layers.SetLayer(label, TCollection_ExtendedString(piece.group, True))
    return document


def _write_step(path: Path, document: Any, pieces: Sequence[Piece], job: str, unit: str) -> bool:
    from OCP.APIHeaderSection import APIHeaderSection_MakeHeader
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.Interface import Interface_Static
    from OCP.STEPCAFControl import STEPCAFControl_Writer
    from OCP.StepData import StepData_Logical
    from OCP.TCollection import TCollection_HAsciiString as Text

    writer = STEPCAFControl_Writer()
    Interface_Static.SetCVal_s("write.step.unit", UNITS[unit])
    writer.SetNameMode(True)
    writer.SetColorMode(True)
    writer.SetLayerMode(True)
    if not writer.Transfer(document):
        return False
    model = writer.ChangeWriter().Model()
    names = [piece.name for piece in pieces if not isinstance(piece.geometry, BodyShape)]
    for index in range(1, model.NbEntities() + 1):
        entity = model.Value(index)
        if len(names) == len(pieces) == 1 and (
            hasattr(entity, "UDegree") or hasattr(entity, "ControlPointsList")
        ):
            entity.SetName(Text(names[0].encode("ascii", "replace").decode()))
        # Said to be closed, a clamped spline is made periodic by some readers, and wrongly:
        # that its ends meet is in its control points.
        for setter in ("SetClosedCurve", "SetUClosed", "SetVClosed"):
            if hasattr(entity, setter):
                getattr(entity, setter)(StepData_Logical.StepData_LFalse)
    header = APIHeaderSection_MakeHeader(model)
    header.SetName(Text((job or path.stem).encode("ascii", "replace").decode()))
    for fill in (header.SetAuthorValue, header.SetOrganizationValue):
        fill(1, Text(""))
    header.SetAuthorisation(Text(""))
    header.SetOriginatingSystem(Text(SYSTEM))
    header.SetPreprocessorVersion(Text(SYSTEM))
    header.SetDescriptionValue(1, Text("Surfaces, curves and bodies"))
    return bool(writer.Write(str(path)) == IFSelect_ReturnStatus.IFSelect_RetDone)


def _write_iges(path: Path, document: Any, _pieces: Sequence[Piece], _job: str, unit: str) -> bool:
    from OCP.IGESCAFControl import IGESCAFControl_Writer
    from OCP.Interface import Interface_Static

    Interface_Static.SetCVal_s("write.iges.unit", UNITS[unit])
    Interface_Static.SetIVal_s("write.iges.brep.mode", 0)
    writer = IGESCAFControl_Writer()
    writer.SetNameMode(True)
    writer.SetColorMode(True)
    writer.SetLayerMode(True)
    return bool(writer.Transfer(document) and writer.Write(str(path)))


WRITERS = {".step": _write_step, ".stp": _write_step, ".igs": _write_iges, ".iges": _write_iges}
