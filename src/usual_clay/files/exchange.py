"""STEP and IGES: exact B-spline surfaces and curves out and in, in millimetres, through OCP."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.joint import joint_at
from usual_clay.core.spline.chain import chain
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError

Spline = BSplineSurface | BSplineCurve
SUFFIXES = (".step", ".stp", ".igs", ".iges")
# More curves than this in one file are left.
MOST_CURVES = 5000


@contextmanager
def silenced() -> Iterator[None]:
    """Keep the kernel's own chatter off standard output."""
    sys.stdout.flush()
    kept = os.dup(1)
    sink = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(sink, 1)
        yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(sink)


def write_exchange(path: Path, surfaces: Sequence[tuple[str, Spline]]) -> str:
    """Write named surfaces and curves as STEP or IGES, by the file's ending.

    In STEP control points stay the same. IGES is read back, as it parts a curve at its kinks and
    may drop a control point where a net closes.

    Returns
    -------
    str
        What the format could not hold as it is; nothing where it is read back the same.

    Raises
    ------
    FileError
    """
    if not surfaces:
        raise FileError("there is no surface or curve to write: choose one in the Shelf")
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{path.name}: surfaces are written as {', '.join(SUFFIXES)}")
    step = path.suffix.lower() in (".step", ".stp")
    with whole_file(path) as temporary, silenced():
        written = (_write_step if step else _write_iges)(temporary, surfaces)
        if not written or not temporary.stat().st_size:
            raise OSError(None, "the geometry kernel could not write it")
    return "" if step else _changed(path, surfaces)


def _changed(path: Path, written: Sequence[tuple[str, Spline]]) -> str:
    """Say what of the things written is not read back the same."""
    words = []
    for kind, read in ((BSplineCurve, read_curves), (BSplineSurface, read_exchange)):
        own = [part for _, part in written if isinstance(part, kind)]
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


def _write_step(path: Path, surfaces: Sequence[tuple[str, Spline]]) -> bool:
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.Interface import Interface_Static
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
    from OCP.StepData import StepData_Logical
    from OCP.TCollection import TCollection_HAsciiString

    writer = STEPControl_Writer()
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    for name, surface in surfaces:
        before = writer.Model().NbEntities() if writer.Model() is not None else 0
        writer.Transfer(_topology(surface), STEPControl_StepModelType.STEPControl_AsIs)
        model = writer.Model()
        for index in range(before + 1, model.NbEntities() + 1):
            entity = model.Value(index)
            if hasattr(entity, "UDegree") or hasattr(entity, "ControlPointsList"):
                entity.SetName(TCollection_HAsciiString(name.encode("ascii", "replace").decode()))
            # Said to be closed, a clamped spline is made periodic by some readers, and wrongly:
            # that its ends meet is in its control points.
            for setter in ("SetClosedCurve", "SetUClosed", "SetVClosed"):
                if hasattr(entity, setter):
                    getattr(entity, setter)(StepData_Logical.StepData_LFalse)
    return bool(writer.Write(str(path)) == IFSelect_ReturnStatus.IFSelect_RetDone)


def _write_iges(path: Path, surfaces: Sequence[tuple[str, Spline]]) -> bool:
    from OCP.IGESControl import IGESControl_Writer

    writer = IGESControl_Writer("MM", 0)
    for _, surface in surfaces:
        writer.AddShape(_topology(surface))
    writer.ComputeModel()
    return bool(writer.Write(str(path)))


def read_exchange(path: Path) -> list[BSplineSurface]:
    """Read the B-spline surfaces of a STEP or IGES file, in mm.

    Raises
    ------
    FileError
        When the file cannot be read or holds no B-spline surface.
    """
    from OCP.BRep import BRep_Tool
    from OCP.TopoDS import TopoDS

    with silenced():
        faces = [BRep_Tool.Surface_s(TopoDS.Face(part)) for part in inside(shape_of(path), "FACE")]
    splines = [geometry for geometry in faces if hasattr(geometry, "Poles")]
    if not splines:
        raise FileError(f"{path.name} holds no B-spline surface")
    return [_from_kernel(geometry) for geometry in splines]


def read_curves(path: Path) -> list[BSplineCurve]:
    """Read the curves of a STEP or IGES file that bound no face, in mm, each as a B-spline.

    The kernel parts a curve where its knots are full; those parts are joined again.

    Raises
    ------
    FileError
        When the file cannot be read or holds no curve.
    """
    with silenced():
        whole = shape_of(path)
        runs = [list(inside(wire, "EDGE")) for wire in inside(whole, "WIRE", "FACE")]
        runs += [[edge] for edge in inside(whole, "EDGE", "WIRE")]
        found = [[_edge_curve(edge) for edge in run] for run in runs[:MOST_CURVES]]
    curves: list[BSplineCurve] = []
    for run in found:
        kept = [curve for curve in run if curve is not None]
        for index, curve in enumerate(kept):
            if index and joint_at(curves[-1], curve, (1, 0)).grade >= 1:
                curves[-1] = chain([curves[-1], curve]).curve
            else:
                curves.append(curve)
    if not curves:
        raise FileError(f"{path.name} holds no curve that stands by itself")
    return curves


def _edge_curve(part: Any) -> BSplineCurve | None:
    """Return the stretch of its curve that an edge has; None where it has none."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepAdaptor import BRepAdaptor_Curve
    from OCP.Geom import Geom_TrimmedCurve
    from OCP.GeomConvert import GeomConvert
    from OCP.TopoDS import TopoDS

    edge = TopoDS.Edge(part)
    whole = BRep_Tool.Curve_s(edge, 0.0, 1.0)
    if whole is None:
        return None
    reach = BRepAdaptor_Curve(edge)
    ends = reach.FirstParameter(), reach.LastParameter()
    if not np.isfinite(ends).all() or ends[1] <= ends[0] or max(map(abs, ends)) > 1e9:
        return None
    made = GeomConvert.CurveToBSplineCurve_s(Geom_TrimmedCurve(whole, *ends))
    if made.IsPeriodic():
        made.SetNotPeriodic()
    return _curve_from_kernel(made)


def inside(shape: Any, kind: str, avoid: str = "SHAPE") -> Iterator[Any]:
    """Yield the faces, wires or edges of a shape, but for those inside what is avoided."""
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    kinds = [getattr(TopAbs_ShapeEnum, f"TopAbs_{name}") for name in (kind, avoid)]
    explorer = TopExp_Explorer(shape, *kinds)
    while explorer.More():
        yield explorer.Current()
        explorer.Next()


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
    return reader.OneShape()


def _topology(spline: Spline) -> Any:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace

    if isinstance(spline, BSplineCurve):
        return BRepBuilderAPI_MakeEdge(curve_to_kernel(spline)).Edge()
    return BRepBuilderAPI_MakeFace(_to_kernel(spline), 1e-6).Face()


def curve_to_kernel(curve: BSplineCurve) -> Any:
    from OCP.collections import Array1_double, Array1_gp_Pnt
    from OCP.Geom import Geom_BSplineCurve
    from OCP.gp import gp_Pnt

    count = len(curve.points)
    poles, weights = Array1_gp_Pnt(1, count), Array1_double(1, count)
    given = np.ones(count) if curve.weights is None else curve.weights
    for i in range(count):
        poles.SetValue(i + 1, gp_Pnt(*map(float, curve.points[i])))
        weights.SetValue(i + 1, float(given[i]))
    return Geom_BSplineCurve(poles, weights, *_distinct(curve.knots), curve.degree)


def _curve_from_kernel(geometry: Any) -> BSplineCurve:
    count = geometry.NbPoles()
    poles = [geometry.Pole(i + 1) for i in range(count)]
    weights = np.array([geometry.Weight(i + 1) for i in range(count)])
    index = range(1, geometry.NbKnots() + 1)
    knots = np.repeat([geometry.Knot(i) for i in index], [geometry.Multiplicity(i) for i in index])
    knots = (knots - knots[0]) / (knots[-1] - knots[0])
    rational = not np.allclose(weights, weights[0], rtol=1e-12)
    points = np.array([[pole.X(), pole.Y(), pole.Z()] for pole in poles])
    return BSplineCurve(knots, points, weights if rational else None)


def _distinct(knots: Floats) -> tuple[Any, Any]:
    """Return knots as the kernel has them: each once, with how often it is there."""
    from OCP.collections import Array1_double, Array1_int

    values, copies = np.unique(knots, return_counts=True)
    knot_array, copy_array = Array1_double(1, len(values)), Array1_int(1, len(values))
    for index, (value, copy) in enumerate(zip(values, copies, strict=True), start=1):
        knot_array.SetValue(index, float(value))
        copy_array.SetValue(index, int(copy))
    return knot_array, copy_array


def _to_kernel(surface: BSplineSurface) -> Any:
    from OCP.collections import Array2_double, Array2_gp_Pnt
    from OCP.Geom import Geom_BSplineSurface
    from OCP.gp import gp_Pnt

    nu, nv = surface.counts
    poles = Array2_gp_Pnt(1, nu, 1, nv)
    weights = Array2_double(1, nu, 1, nv)
    given = np.ones((nu, nv)) if surface.weights is None else surface.weights
    for i in range(nu):
        for j in range(nv):
            poles.SetValue(i + 1, j + 1, gp_Pnt(*map(float, surface.points[i, j])))
            weights.SetValue(i + 1, j + 1, float(given[i, j]))

    knots_u, copies_u = _distinct(surface.knots_u)
    knots_v, copies_v = _distinct(surface.knots_v)
    p, q = surface.degrees
    return Geom_BSplineSurface(poles, weights, knots_u, knots_v, copies_u, copies_v, p, q)


def _from_kernel(geometry: Any) -> BSplineSurface:
    if geometry.IsUPeriodic() or geometry.IsVPeriodic():
        # What runs round is read as periodic: it is clamped again, which keeps its shape.
        bounds = geometry.Bounds()
        if geometry.IsUPeriodic():
            geometry.SetUNotPeriodic()
        if geometry.IsVPeriodic():
            geometry.SetVNotPeriodic()
        geometry.Segment(*bounds)
    nu, nv = geometry.NbUPoles(), geometry.NbVPoles()
    points = np.empty((nu, nv, 3))
    weights = np.empty((nu, nv))
    for i in range(nu):
        for j in range(nv):
            pole = geometry.Pole(i + 1, j + 1)
            points[i, j] = pole.X(), pole.Y(), pole.Z()
            weights[i, j] = geometry.Weight(i + 1, j + 1)

    def knots(count: int, value: Any, copies: Any) -> Floats:
        index = range(1, count + 1)
        return np.repeat([value(i) for i in index], [copies(i) for i in index])

    knots_u = knots(geometry.NbUKnots(), geometry.UKnot, geometry.UMultiplicity)
    knots_v = knots(geometry.NbVKnots(), geometry.VKnot, geometry.VMultiplicity)
    rational = not np.allclose(weights, weights[0, 0], rtol=1e-12)
    return BSplineSurface(knots_u, knots_v, points, weights if rational else None)
