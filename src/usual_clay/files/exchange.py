"""STEP and IGES: exact B-spline surfaces out and in, in millimetres, through OCP."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError

SUFFIXES = (".step", ".stp", ".igs", ".iges")


@contextmanager
def _silenced() -> Iterator[None]:
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


def write_exchange(path: Path, surfaces: Sequence[tuple[str, BSplineSurface]]) -> None:
    """Write named surfaces as STEP or IGES, by the file's ending; control points stay the same.

    Raises
    ------
    FileError
    """
    if not surfaces:
        raise FileError("there is no surface to write: choose one in the Shelf")
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{path.name}: surfaces are written as {', '.join(SUFFIXES)}")
    step = path.suffix.lower() in (".step", ".stp")
    with whole_file(path) as temporary, _silenced():
        written = (_write_step if step else _write_iges)(temporary, surfaces)
        if not written or not temporary.stat().st_size:
            raise OSError(None, "the geometry kernel could not write it")


def _write_step(path: Path, surfaces: Sequence[tuple[str, BSplineSurface]]) -> bool:
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.Interface import Interface_Static
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
    from OCP.TCollection import TCollection_HAsciiString

    writer = STEPControl_Writer()
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    for name, surface in surfaces:
        before = writer.Model().NbEntities() if writer.Model() is not None else 0
        writer.Transfer(_face(surface), STEPControl_StepModelType.STEPControl_AsIs)
        model = writer.Model()
        for index in range(before + 1, model.NbEntities() + 1):
            entity = model.Value(index)
            if type(entity).__name__ == "StepGeom_BSplineSurfaceWithKnots" or hasattr(
                entity, "UDegree"
            ):
                entity.SetName(TCollection_HAsciiString(name.encode("ascii", "replace").decode()))
    return bool(writer.Write(str(path)) == IFSelect_ReturnStatus.IFSelect_RetDone)


def _write_iges(path: Path, surfaces: Sequence[tuple[str, BSplineSurface]]) -> bool:
    from OCP.IGESControl import IGESControl_Writer

    writer = IGESControl_Writer("MM", 0)
    for _, surface in surfaces:
        writer.AddShape(_face(surface))
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
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS

    if path.suffix.lower() in (".step", ".stp"):
        from OCP.STEPControl import STEPControl_Reader as Reader
    else:
        from OCP.IGESControl import IGESControl_Reader as Reader
    reader = Reader()
    with _silenced():
        if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
            raise FileError(f"{path.name} is no readable STEP or IGES file")
        reader.TransferRoots()
        shape = reader.OneShape()
        explorer = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_FACE)
        found = []
        while explorer.More():
            geometry = BRep_Tool.Surface_s(TopoDS.Face(explorer.Current()))
            if hasattr(geometry, "Poles"):
                found.append(_from_kernel(geometry))
            explorer.Next()
    if not found:
        raise FileError(f"{path.name} holds no B-spline surface")
    return found


def _face(surface: BSplineSurface) -> Any:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace

    return BRepBuilderAPI_MakeFace(_to_kernel(surface), 1e-6).Face()


def _to_kernel(surface: BSplineSurface) -> Any:
    from OCP.collections import Array1_double, Array1_int, Array2_double, Array2_gp_Pnt
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

    def distinct(knots: Floats) -> tuple[Any, Any]:
        values, copies = np.unique(knots, return_counts=True)
        knot_array, copy_array = Array1_double(1, len(values)), Array1_int(1, len(values))
        for index, (value, copy) in enumerate(zip(values, copies, strict=True), start=1):
            knot_array.SetValue(index, float(value))
            copy_array.SetValue(index, int(copy))
        return knot_array, copy_array

    knots_u, copies_u = distinct(surface.knots_u)
    knots_v, copies_v = distinct(surface.knots_v)
    p, q = surface.degrees
    return Geom_BSplineSurface(poles, weights, knots_u, knots_v, copies_u, copies_v, p, q)


def _from_kernel(geometry: Any) -> BSplineSurface:
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
