"""STEP and IGES read: exact B-spline surfaces and curves and bodies, in millimetres, through OCP.

Files are read in a process of their own, since a damaged one can end it or keep it busy for ever.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from usual_clay.core.apart import ApartError, apart
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.kernel import edge_curve, inside, surface_from_kernel
from usual_clay.core.check.joint import joint_at
from usual_clay.core.spline.chain import chain
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.errors import FileError

SUFFIXES = (".step", ".stp", ".igs", ".iges")
# More curves than this in one file are left.
MOST_CURVES = 5000
# How long reading may take, s, and how much longer for each byte; and how large a file may be.
SECONDS, PER_BYTE, LARGEST = 15.0, 2e-5, 1 << 30
Read = TypeVar("Read")


def read_exchange(path: Path) -> list[BSplineSurface]:
    """Read the B-spline surfaces of a STEP or IGES file, in mm.

    Raises
    ------
    FileError
        When the file cannot be read or holds no B-spline surface.
    """
    return _apart(path, _surfaces)


def read_curves(path: Path) -> list[BSplineCurve]:
    """Read the curves of a STEP or IGES file that bound no face, in mm, each as a B-spline.

    The kernel parts a curve where its knots are full; those parts are joined again.

    Raises
    ------
    FileError
        When the file cannot be read or holds no curve.
    """
    return _apart(path, _curves)


def read_bodies(path: Path) -> list[tuple[str, BSplineSurface | BodyShape]]:
    """Read the solids, shells and faces of a STEP or IGES file, in mm, with their names.

    A face that is a whole B-spline surface comes as that.

    Raises
    ------
    FileError
        When the file cannot be read or holds no face.
    """
    return _apart(path, _bodies)


def _apart(path: Path, work: Callable[[str], Read]) -> Read:
    try:
        size = path.stat().st_size
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror}") from None
    if not size:
        raise FileError(f"{path.name} is empty: export it again")
    if size > LARGEST:
        raise FileError(f"{path.name} is larger than {LARGEST >> 30} GB: export parts of it")
    try:
        return apart(path.name, work, str(path), seconds=SECONDS + PER_BYTE * size)
    except ApartError as error:
        raise FileError(str(error)) from None


def _surfaces(path: str) -> list[BSplineSurface]:
    from OCP.BRep import BRep_Tool
    from OCP.TopoDS import TopoDS

    faces = [
        BRep_Tool.Surface_s(TopoDS.Face(part)) for part in inside(shape_of(Path(path)), "FACE")
    ]
    splines = [geometry for geometry in faces if hasattr(geometry, "Poles")]
    if not splines:
        raise FileError(f"{Path(path).name} holds no B-spline surface")
    return [surface_from_kernel(geometry) for geometry in splines]


def _curves(path: str) -> list[BSplineCurve]:
    whole = shape_of(Path(path))
    runs = [list(inside(wire, "EDGE")) for wire in inside(whole, "WIRE", "FACE")]
    runs += [[edge] for edge in inside(whole, "EDGE", "WIRE")]
    found = [[edge_curve(edge) for edge in run] for run in runs[:MOST_CURVES]]
    curves: list[BSplineCurve] = []
    for run in found:
        kept = [curve for curve in run if curve is not None]
        for index, curve in enumerate(kept):
            if index and joint_at(curves[-1], curve, (1, 0)).grade >= 1:
                curves[-1] = chain([curves[-1], curve]).curve
            else:
                curves.append(curve)
    if not curves:
        raise FileError(f"{Path(path).name} holds no curve that stands by itself")
    return curves


def _bodies(path: str) -> list[tuple[str, BSplineSurface | BodyShape]]:
    from usual_clay.core.body.shapes import FACE, SOLID, Named, body_of, parts

    found: list[tuple[str, BSplineSurface | BodyShape]] = []
    for name, whole in _roots(Path(path)):
        own = [
            *parts(whole, SOLID),
            *inside(whole, "SHELL", "SOLID"),
            *inside(whole, "FACE", "SHELL"),
        ]
        for number, part in enumerate(own, 1):
            called = name if len(own) == 1 else f"{name} {number}"
            faces = parts(part, FACE)
            spline = _whole_spline(faces[0]) if len(faces) == 1 else None
            if spline is not None and not parts(part, SOLID):
                found.append((called, spline))
                continue
            named = Named(part)
            for k, face in enumerate(faces, 1):
                named.call([face], called if len(faces) == 1 else f"{called} face {k}")
            found.append((called, body_of(named)))
    if not found:
        raise FileError(f"{Path(path).name} holds no face")
    return found


def _whole_spline(face: Any) -> BSplineSurface | None:
    """Return the surface of a face that ends only where that does."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepTools import BRepTools
    from OCP.TopAbs import TopAbs_Orientation

    surface = BRep_Tool.Surface_s(face)
    if not hasattr(surface, "Poles") or face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED:
        return None
    if not BRep_Tool.NaturalRestriction_s(face) and len(list(inside(face, "EDGE"))) > 4:
        return None
    bounds, ends = surface.Bounds(), BRepTools.UVBounds_s(face)
    spans = (bounds[1] - bounds[0], bounds[1] - bounds[0], bounds[3] - bounds[2])
    off = [abs(a - b) for a, b in zip(bounds, ends, strict=True)]
    if max(off) > 1e-6 * max(spans) or not _is_rectangle(face, bounds):
        return None
    return surface_from_kernel(surface)


def _is_rectangle(face: Any, bounds: tuple[float, float, float, float]) -> bool:
    """Tell whether a face's edges all run along the ends of its surface's domain."""
    from OCP.BRep import BRep_Tool
    from OCP.TopoDS import TopoDS

    slack = 1e-6 * max(bounds[1] - bounds[0], bounds[3] - bounds[2])
    for part in inside(face, "EDGE"):
        line = BRep_Tool.CurveOnSurface_s(TopoDS.Edge(part), face, 0.0, 1.0)
        if line is None:
            return False
        first, last = line.FirstParameter(), line.LastParameter()
        if max(abs(first), abs(last)) > 1e9:
            continue
        middle = line.Value((first + last) / 2)
        u, v = middle.X(), middle.Y()
        away = (abs(u - bounds[0]), abs(u - bounds[1]), abs(v - bounds[2]), abs(v - bounds[3]))
        if min(away) > slack:
            return False
    return True


def _roots(path: Path) -> list[tuple[str, Any]]:
    """Return the things that a file holds, with their names."""
    if path.suffix.lower() not in (".step", ".stp"):
        return [(path.stem, shape_of(path))]
    from OCP.collections import Sequence_TDF_Label
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.STEPCAFControl import STEPCAFControl_Reader
    from OCP.TCollection import TCollection_ExtendedString
    from OCP.TDocStd import TDocStd_Document
    from OCP.XCAFDoc import XCAFDoc_DocumentTool

    document = TDocStd_Document(TCollection_ExtendedString("XmlXCAF"))
    reader = STEPCAFControl_Reader()
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise FileError(f"{path.name} is no readable STEP file")
    if not reader.Transfer(document):
        return [(path.stem, shape_of(path))]
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    labels = Sequence_TDF_Label()
    tool.GetFreeShapes(labels)
    found = []
    for k in range(1, labels.Length() + 1):
        shape = tool.GetShape_s(labels.Value(k))
        name = _label_name(labels.Value(k)) or path.stem
        if labels.Length() > 1 and name in ("SOLID", "COMPOUND", "SHELL", "OPEN_SHELL"):
            name = f"{path.stem} {k}"
        found.append((name, shape))
    return found


def _label_name(label: Any) -> str:
    from OCP.TDataStd import TDataStd_Name

    found = TDataStd_Name()
    if not label.FindAttribute(TDataStd_Name.GetID_s(), found):
        return ""
    words = "".join(c for c in str(found.Get().ToExtString()) if c.isprintable()).strip()
    # What the kernel calls a thing that has no name of its own says nothing.
    return "" if words.startswith("Open CASCADE") else words[:100]


def shape_of(path: Path) -> Any:
    """Return all that a file holds as one shape of the kernel."""
    from OCP.IFSelect import IFSelect_ReturnStatus

    if path.suffix.lower() in (".step", ".stp"):
        from OCP.STEPControl import STEPControl_Reader as Reader
    else:
        from OCP.IGESControl import IGESControl_Reader as Reader
    reader = Reader()
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise FileError(f"{path.name} is no readable STEP or IGES file")
    reader.TransferRoots()
    whole = reader.OneShape()
    if whole is None or whole.IsNull():
        raise FileError(f"{path.name} holds no shape that can be read")
    return whole
