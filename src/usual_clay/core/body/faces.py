"""The faces of a body as splines with their edges, for what checks them."""

from __future__ import annotations

from typing import Any

from usual_clay.core.apart import apart
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.check.joints import Face


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
    many = len(parts(named.shape, FACE)) > 1
    for face in parts(named.shape, FACE):
        surface: Any = BRep_Tool.Surface_s(face)
        if not hasattr(surface, "Poles"):
            u0, u1, v0, v1 = BRepTools.UVBounds_s(face)
            trimmed = Geom_RectangularTrimmedSurface(surface, u0, u1, v0, v1)
            surface = GeomConvert.SurfaceToBSplineSurface_s(trimmed)
        lines = []
        for edge in parts(face, EDGE):
            if BRep_Tool.Degenerated_s(edge) or BRep_Tool.IsClosed_s(edge, face):
                continue
            line = edge_curve(edge)
            if line is not None:
                lines.append(line)
        called = f"{name}: {named.name(face, 'face')}" if many else name
        found.append(Face(called, surface_from_kernel(surface), tuple(lines)))
    return found
