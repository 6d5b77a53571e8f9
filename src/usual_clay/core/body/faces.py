"""The faces of a body as splines with their edges, for what checks them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from usual_clay.core.apart import apart
from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.check.joints import Face
from usual_clay.core.spline.surface import BSplineSurface, surface_points

# So many places along an edge are known on its faces, that lie so near it, as a share of a face.
ALONG, NEAR = 17, 0.02


def faces_of(name: str, body: BodyShape) -> list[Face]:
    """Return the faces of a body, each with the part of its surface that it lies on."""
    return apart(name, _faces, name, body.exact)


def _faces(name: str, exact: tuple[bytes, tuple[str, ...]]) -> list[Face]:
    from OCP.BRep import BRep_Tool
    from OCP.BRepTools import BRepTools
    from OCP.Geom import Geom_RectangularTrimmedSurface
    from OCP.GeomConvert import GeomConvert

    from usual_clay.core.body.kernel import edge_curve, surface_from_kernel
    from usual_clay.core.body.shapes import EDGE, FACE, parts, read

    named = read(exact)
    found = []
    every = parts(named.shape, FACE)
    for face in every:
        surface: Any = BRep_Tool.Surface_s(face)
        if not hasattr(surface, "Poles"):
            u0, u1, v0, v1 = BRepTools.UVBounds_s(face)
            trimmed = Geom_RectangularTrimmedSurface(surface, u0, u1, v0, v1)
            surface = GeomConvert.SurfaceToBSplineSurface_s(trimmed)
        spline = surface_from_kernel(surface)
        edges = [edge for edge in parts(face, EDGE) if not BRep_Tool.Degenerated_s(edge)]
        own = [edge for edge in edges if not BRep_Tool.IsClosed_s(edge, face)]
        lines = tuple(line for edge in own if (line := edge_curve(edge)) is not None)
        called = f"{name}: {named.name(face, 'face')}" if len(every) > 1 else name
        found.append(Face(called, spline, lines, _rim(face, spline, own)))
    return found


def _rim(face: Any, spline: BSplineSurface, edges: Sequence[Any]) -> Floats | None:
    """Return parameters along the edges of a face, (n, 2); None where its surface as a spline does
    not run there with these, as one may that was cut out of a closed one."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepAdaptor import BRepAdaptor_Curve

    rim, places = [], []
    for edge in edges:
        line, curve = BRep_Tool.CurveOnSurface_s(edge, face, 0.0, 1.0), BRepAdaptor_Curve(edge)
        if line is None:
            return None
        for t in np.linspace(curve.FirstParameter(), curve.LastParameter(), ALONG).tolist():
            on, at = line.Value(t), curve.Value(t)
            rim.append((on.X(), on.Y()))
            places.append((at.X(), at.Y(), at.Z()))
    if not rim:
        return None
    (u0, u1), (v0, v1) = spline.domain
    found = np.clip(np.array(rim), (u0, v0), (u1, v1))
    away = np.linalg.norm(surface_points(spline, *found.T) - np.array(places), axis=1)
    size = float(np.ptp(spline.points.reshape(-1, 3), axis=0).max())
    return found if away.max() <= NEAR * size else None
