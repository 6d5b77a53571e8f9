"""Volume, area and moments of the kernel's shapes."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepGProp import BRepGProp
from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as Shapes
from OCP.GeomAbs import GeomAbs_Shape
from OCP.GProp import GProp_GProps
from OCP.ShapeUpgrade import ShapeUpgrade_ShapeDivideContinuity
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Compound, TopoDS_Shape

from usual_clay.core.arrays import Floats

# Figures are right to this share.
EXACT = 1e-7
FORWARD = TopAbs_Orientation.TopAbs_FORWARD


# A body is measured several times on its way through an operation.
@lru_cache(maxsize=8)
def held_by(shape: TopoDS_Shape) -> GProp_GProps:
    """Return volume, centre and moments of what a shape encloses."""
    properties = GProp_GProps()
    BRepGProp.VolumeProperties_s(_parted(shape), properties, EXACT)
    return properties


def skin_of(shape: TopoDS_Shape) -> GProp_GProps:
    """Return area and centre of a shape's faces."""
    properties = GProp_GProps()
    BRepGProp.SurfaceProperties_s(_parted(shape), properties, EXACT)
    return properties


def volume_of(shape: TopoDS_Shape) -> float:
    """Return the volume, mm cubed."""
    return float(held_by(shape).Mass())


def middle_of(shape: TopoDS_Shape) -> Floats:
    """Return the middle of what a shape encloses."""
    centre = held_by(shape).CentreOfMass()
    return np.array([centre.X(), centre.Y(), centre.Z()])


def area_of(shape: TopoDS_Shape) -> float:
    """Return the area of a shape's faces, mm squared."""
    return float(skin_of(shape).Mass())


def forget() -> None:
    """Let go of what was kept of shapes that were measured."""
    held_by.cache_clear()
    _kept.clear()


def _parted(shape: TopoDS_Shape) -> TopoDS_Shape:
    """Return a shape's faces, they and their edges parted at their knots.

    The kernel integrates along a whole edge as if it were one polynomial: over a flat face inside
    a spline of forty spans its volume was 17 % off, whatever it was asked for.
    """
    builder, parts = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(parts)
    faces = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_FACE)
    while faces.More():
        builder.Add(parts, _kept.of(faces.Current()))
        faces.Next()
    return parts


class _PartedFaces:
    """Faces parted, each kept: what comes out of an operation shares most of its faces with what
    went in, and to part them takes longer than all else."""

    def __init__(self) -> None:
        self._known, self._parted = Shapes(), dict[int, TopoDS_Shape]()

    def clear(self) -> None:
        self._known.Clear()
        self._parted.clear()

    def of(self, face: TopoDS_Shape) -> TopoDS_Shape:
        """Return a face parted."""
        # The map takes a face that is turned for the same.
        turned = face.Orientation()
        face = face.Oriented(FORWARD)
        number = self._known.Add(face)
        if number not in self._parted:
            self._parted[number] = _divided(face)
        return self._parted[number].Oriented(turned)


_kept = _PartedFaces()


def _divided(face: TopoDS_Shape) -> TopoDS_Shape:
    """Return a face parted at as many of its knots as leave it sound; edges on a face that it bends
    along cannot always be."""
    whole = _parted_at(face, "Boundary", "PCurve", "Surface")
    if whole is not None:
        return whole
    edges = _parted_at(face, "Boundary")
    if edges is None:
        return _parted_at(face, "Surface") or face
    return _parted_at(face, "Boundary", "Surface") or edges


def _parted_at(face: TopoDS_Shape, *criteria: str) -> TopoDS_Shape | None:
    """Return a face parted at the knots of some; None where that does not leave it sound."""
    parted = ShapeUpgrade_ShapeDivideContinuity(face)
    for name in criteria:
        getattr(parted, f"Set{name}Criterion")(GeomAbs_Shape.GeomAbs_CN)
    try:
        if not parted.Perform():
            return face
        whole = parted.Result()
    except Exception:  # the kernel's own errors have no common base
        return None
    if whole.IsNull() or not BRepCheck_Analyzer(whole).IsValid():
        return None
    return whole
