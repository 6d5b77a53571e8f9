"""Splines and shapes of the geometry kernel (OCP): there and back, in millimetres."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface

Spline = BSplineSurface | BSplineCurve
# What has a higher degree than ours is brought so near to it, mm.
NEAR = 1e-5


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


def inside(shape: Any, kind: str, avoid: str = "SHAPE") -> Iterator[Any]:
    """Yield the faces, wires or edges of a shape, but for those inside what is avoided."""
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    kinds = [getattr(TopAbs_ShapeEnum, f"TopAbs_{name}") for name in (kind, avoid)]
    explorer = TopExp_Explorer(shape, *kinds)
    while explorer.More():
        yield explorer.Current()
        explorer.Next()


def _lower_curve(curve: Any) -> Any:
    """Return a curve of the kernel with a degree that we have, as near as matters."""
    from OCP.GeomAbs import GeomAbs_Shape
    from OCP.GeomConvert import GeomConvert_ApproxCurve

    near = GeomConvert_ApproxCurve(curve, NEAR, GeomAbs_Shape.GeomAbs_C1, 200, HIGHEST_DEGREE)
    return near.Curve() if near.HasResult() else curve


def _lower_surface(surface: Any) -> Any:
    """Return a surface of the kernel with degrees that we have, as near as matters."""
    from OCP.GeomAbs import GeomAbs_Shape
    from OCP.GeomConvert import GeomConvert_ApproxSurface

    smooth, most = GeomAbs_Shape.GeomAbs_C1, HIGHEST_DEGREE
    near = GeomConvert_ApproxSurface(surface, NEAR, smooth, smooth, most, most, 200, 1)
    return near.Surface() if near.HasResult() else surface


def edge_curve(part: Any) -> BSplineCurve | None:
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
    if made.Degree() > HIGHEST_DEGREE:
        made = _lower_curve(made)
    return curve_from_kernel(made)


def topology(spline: Spline) -> Any:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace

    if isinstance(spline, BSplineCurve):
        return BRepBuilderAPI_MakeEdge(curve_to_kernel(spline)).Edge()
    return BRepBuilderAPI_MakeFace(surface_to_kernel(spline), 1e-6).Face()


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
    return Geom_BSplineCurve(poles, weights, *distinct_knots(curve.knots), curve.degree)


def curve_from_kernel(geometry: Any) -> BSplineCurve:
    count = geometry.NbPoles()
    poles = [geometry.Pole(i + 1) for i in range(count)]
    weights = np.array([geometry.Weight(i + 1) for i in range(count)])
    index = range(1, geometry.NbKnots() + 1)
    knots = np.repeat([geometry.Knot(i) for i in index], [geometry.Multiplicity(i) for i in index])
    knots = (knots - knots[0]) / (knots[-1] - knots[0])
    rational = not np.allclose(weights, weights[0], rtol=1e-12)
    points = np.array([[pole.X(), pole.Y(), pole.Z()] for pole in poles])
    return BSplineCurve(knots, points, weights if rational else None)


def distinct_knots(knots: Floats) -> tuple[Any, Any]:
    """Return knots as the kernel has them: each once, with how often it is there."""
    from OCP.collections import Array1_double, Array1_int

    values, copies = np.unique(knots, return_counts=True)
    knot_array, copy_array = Array1_double(1, len(values)), Array1_int(1, len(values))
    for index, (value, copy) in enumerate(zip(values, copies, strict=True), start=1):
        knot_array.SetValue(index, float(value))
        copy_array.SetValue(index, int(copy))
    return knot_array, copy_array


def surface_to_kernel(surface: BSplineSurface) -> Any:
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

    knots_u, copies_u = distinct_knots(surface.knots_u)
    knots_v, copies_v = distinct_knots(surface.knots_v)
    p, q = surface.degrees
    return Geom_BSplineSurface(poles, weights, knots_u, knots_v, copies_u, copies_v, p, q)


def surface_from_kernel(geometry: Any) -> BSplineSurface:
    if geometry.IsUPeriodic() or geometry.IsVPeriodic():
        # What runs round is read as periodic: it is clamped again, which keeps its shape.
        bounds = geometry.Bounds()
        if geometry.IsUPeriodic():
            geometry.SetUNotPeriodic()
        if geometry.IsVPeriodic():
            geometry.SetVNotPeriodic()
        geometry.Segment(*bounds)
    if max(geometry.UDegree(), geometry.VDegree()) > HIGHEST_DEGREE:
        geometry = _lower_surface(geometry)
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
