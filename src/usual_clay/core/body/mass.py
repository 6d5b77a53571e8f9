"""Volume, area and moments of the kernel's shapes."""

from __future__ import annotations

import numpy as np
from OCP.BRepGProp import BRepGProp
from OCP.GeomAbs import GeomAbs_Shape
from OCP.GProp import GProp_GProps
from OCP.ShapeUpgrade import ShapeUpgrade_ShapeDivideContinuity
from OCP.TopoDS import TopoDS_Shape

from usual_clay.core.arrays import Floats

# Figures are right to this share.
EXACT = 1e-7


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


def _parted(shape: TopoDS_Shape) -> TopoDS_Shape:
    """Return a shape with its faces and edges parted at their knots.

    The kernel integrates along a whole edge as if it were one polynomial: over a flat face inside
    a spline of forty spans its volume was 17 % off, whatever it was asked for.
    """
    smooth = GeomAbs_Shape.GeomAbs_CN
    parted = ShapeUpgrade_ShapeDivideContinuity(shape)
    parted.SetBoundaryCriterion(smooth)
    parted.SetPCurveCriterion(smooth)
    parted.SetSurfaceCriterion(smooth)
    try:
        parted.Perform()
        whole = parted.Result()
    except Exception:  # the kernel's own errors have no common base
        return shape
    return shape if whole.IsNull() else whole
