"""What recipes of bodies are given, as named shapes of the kernel."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.gp import gp_Dir, gp_Pln, gp_Pnt
from OCP.TopoDS import TopoDS

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyShape
from usual_clay.core.body.kernel import surface_to_kernel
from usual_clay.core.body.shapes import Named, box_of, read
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.surface import BSplineSurface

# A pole's control points lie no farther apart than this share of a surface's size.
POLE = 1e-7


@dataclass(frozen=True, eq=False)
class Taken:
    """The sources of a recipe by role, each with its name."""

    by_role: Mapping[str, Sequence[tuple[str, Any]]]

    def all(self, role: str) -> list[tuple[str, Any]]:
        return list(self.by_role.get(role, ()))

    def geometry(self, role: str) -> list[Any]:
        return [geometry for _, geometry in self.all(role)]

    def shapes(self, role: str, far: float = 0.0) -> list[Named]:
        """Return what takes a role as shapes; planes reach so far."""
        return [shape_of(name, geometry, far) for name, geometry in self.all(role)]

    def body(self, role: str = "body") -> Named:
        """Return the one body of a role."""
        (name, geometry), *_ = self.all(role)
        return shape_of(name, geometry)


def shape_of(name: str, geometry: Any, far: float = 0.0) -> Named:
    """Return a surface, a body or a plane as a shape.

    Raises
    ------
    BodyError
        For what is none of these.
    """
    if isinstance(geometry, BodyShape):
        return read(geometry.exact)
    if isinstance(geometry, BSplineSurface):
        face = face_of(name, geometry)
    elif isinstance(geometry, SimpleShape) and geometry.kind == "plane":
        face = plane_face(geometry.point, geometry.axis, far)
    else:
        raise BodyError(f"{name} is no surface, body or plane: choose another")
    return Named.one(face, name)


def face_of(name: str, surface: BSplineSurface) -> Any:
    """Return a surface as a face, with all its borders.

    Raises
    ------
    BodyError
    """
    if not np.isfinite(surface.points).all():
        raise BodyError(f"{name} holds numbers that are not finite")
    size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
    if not size > 0:
        raise BodyError(f"{name} is a single place: it has no area")
    maker = BRepBuilderAPI_MakeFace(surface_to_kernel(surface), POLE * size)
    if not maker.IsDone():
        raise BodyError(f"{name} cannot be taken by the geometry kernel: its control points"
                        " make no surface")  # fmt: skip
    return TopoDS.Face(maker.Face())


def plane_face(point: Floats, normal: Floats, far: float) -> Any:
    """Return a plane as a face that reaches so far to all sides."""
    plane = gp_Pln(gp_Pnt(*map(float, point)), gp_Dir(*map(float, normal)))
    return TopoDS.Face(BRepBuilderAPI_MakeFace(plane, -far, far, -far, far).Face())


def plane_across(shape: Any, point: Floats, normal: Floats) -> Any:
    """Return a plane as a face that reaches past a shape to all sides."""
    low, high = box_of(shape)
    middle = (low + high) / 2
    at = middle - ((middle - point) @ normal) * normal
    return plane_face(at, normal, 2 * float(np.linalg.norm(high - low)) + 1.0)


def places_of(numbers: Sequence[float]) -> Floats:
    """Return places from their numbers one after the other, (n, 3)."""
    return np.asarray(numbers, dtype=float).reshape(-1, 3)
