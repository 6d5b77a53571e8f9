"""Holes and slots straight from recognised cylinders and planes."""

from __future__ import annotations

from itertools import combinations

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepIntCurveSurface import BRepIntCurveSurface_Inter
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Ax2, gp_Dir, gp_Lin, gp_Pnt

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade
from usual_clay.core.body.combine import operated
from usual_clay.core.body.settings import DrillSettings
from usual_clay.core.body.shapes import FACE, Named, body_of, box_of, is_smaller, parts
from usual_clay.core.body.sources import Taken
from usual_clay.core.progress import Progress
from usual_clay.core.scan.shapes import SimpleShape

# Planes of a slot are parallel, and its floor square to them, within this, radians.
PARALLEL, SQUARE = np.radians(5), np.radians(10)


def drill(settings: DrillSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Drill holes of cylinders and seats of spheres, and cut a slot between planes to a third.

    Raises
    ------
    BodyError
        For a shape that is neither, or one that misses the body.
    """
    body = taken.body()
    low, high = box_of(body.shape)
    far = 2 * float(np.linalg.norm(high - low)) + 1.0
    tools, said = [], []
    planes: list[tuple[str, SimpleShape]] = []
    for name, shape in taken.all("shapes"):
        if shape.kind == "cylinder":
            tool, words = _hole(name, shape, settings, body, far)
            tools.append(tool)
            said.append(words)
        elif shape.kind == "sphere":
            tool, words = _seat(name, shape, settings)
            tools.append(tool)
            said.append(words)
        elif shape.kind == "plane":
            planes.append((name, shape))
        else:
            raise BodyError(f"{name} is a {shape.kind}: holes are drilled from cylinders, seats"
                            " from spheres, slots from planes", shape.point)  # fmt: skip
    if planes:
        tool, words = _slot(planes, settings, far)
        tools.append(tool)
        said.append(words)
    progress(0.4, "Drilling")
    for tool in tools:
        drilled = operated(BRepAlgoAPI_Cut, body, [tool])
        if not is_smaller(drilled.shape, body.shape):
            name = tool.name(parts(tool.shape, FACE)[0])
            raise BodyError(f"{name} misses the body: nothing was taken away")
        body = drilled
    whole = body_of(body)
    if whole.solids > 1:
        said.append(f"it fell into {whole.solids} parts")
    return BodyMade(whole, "; ".join(said))


def _size(found: float, settings: DrillSettings) -> float:
    if settings.size:
        return settings.size
    if settings.rounded:
        return max(round(found / settings.rounded), 1) * settings.rounded
    return found


def _hole(
    name: str, shape: SimpleShape, settings: DrillSettings, body: Named, far: float
) -> tuple[Named, str]:
    found = 2 * shape.radius
    size = _size(found, settings)
    start, way, length = shape.point - far * shape.axis, shape.axis, 2 * far
    if settings.depth:
        entry, way = _entry(name, shape, body)
        # A little before where it enters, so that no skin is left.
        start, length = entry - far * way, far + settings.depth
    axes = gp_Ax2(gp_Pnt(*map(float, start)), gp_Dir(*map(float, way)))
    tool = Named(BRepPrimAPI_MakeCylinder(axes, size / 2, length).Shape()).filled(name)
    words = f"{name}: {found:.3f} to {size:.3f} mm across"
    return tool, words if abs(found - size) > 5e-4 else f"{name}: {size:.3f} mm across"


def _seat(name: str, shape: SimpleShape, settings: DrillSettings) -> tuple[Named, str]:
    found = 2 * shape.radius
    size = _size(found, settings)
    middle = gp_Pnt(*map(float, shape.point))
    tool = Named(BRepPrimAPI_MakeSphere(middle, size / 2).Shape()).filled(name)
    words = f"{name}: a seat of {found:.3f} to {size:.3f} mm"
    return tool, words if abs(found - size) > 5e-4 else f"{name}: a seat of {size:.3f} mm"


def _entry(name: str, shape: SimpleShape, body: Named) -> tuple[Floats, Floats]:
    """Return where a hole enters a body, and the way into it."""
    line = gp_Lin(gp_Pnt(*map(float, shape.point)), gp_Dir(*map(float, shape.axis)))
    inter = BRepIntCurveSurface_Inter()
    inter.Init(body.shape, line, 1e-6)
    found = []
    while inter.More():
        found.append(inter.W())
        inter.Next()
    if not found:
        raise BodyError(f"{name} misses the body: its axis does not meet it", shape.point)
    middle = sum(shape.span) / 2
    first, last = min(found), max(found)
    if abs(first - middle) <= abs(last - middle):
        return shape.point + first * shape.axis, shape.axis
    return shape.point + last * shape.axis, -shape.axis


def _slot(
    planes: list[tuple[str, SimpleShape]], settings: DrillSettings, far: float
) -> tuple[Named, str]:
    if len(planes) not in (2, 3):
        raise BodyError(f"a slot is cut between two planes, down to a third, not {len(planes)}")
    level = [abs(float(planes[i][1].axis @ planes[j][1].axis)) for i, j in _pairs(len(planes))]
    i, j = _pairs(len(planes))[int(np.argmax(level))]
    if np.arccos(min(max(level), 1.0)) > PARALLEL:
        raise BodyError("no two of these planes are parallel: a slot has two such sides")
    first, second = planes[i][1], planes[j][1]
    across = first.axis + np.sign(first.axis @ second.axis) * second.axis
    across /= np.linalg.norm(across)
    found = abs(float((second.point - first.point) @ across))
    size = _size(found, settings)
    middle = (first.point + second.point) / 2
    floor = next((shape for k, (_, shape) in enumerate(planes) if k not in (i, j)), None)
    if floor is None:
        raise BodyError("a slot without a floor cuts the body in two: give its floor as a third"
                        " plane, or split the body", middle)  # fmt: skip
    up = floor.axis - (floor.axis @ across) * across
    if np.linalg.norm(up) < np.cos(SQUARE):
        raise BodyError("the slot's floor is not square to its sides", floor.point)
    up /= np.linalg.norm(up)
    up *= np.sign((middle - floor.point) @ up) or 1.0
    along = np.cross(across, up)
    corner = middle + ((floor.point - middle) @ up) * up - size / 2 * across - far * along
    axes = gp_Ax2(gp_Pnt(*map(float, corner)), gp_Dir(*map(float, up)), gp_Dir(*map(float, across)))
    # Its own axes run across, along (or against) and up.
    sides = np.cross(up, across)
    if sides @ along < 0:
        corner = corner + 2 * far * along
        axes = gp_Ax2(
            gp_Pnt(*map(float, corner)), gp_Dir(*map(float, up)), gp_Dir(*map(float, across))
        )
    tool = Named(BRepPrimAPI_MakeBox(axes, size, 2 * far, far).Shape()).filled("Slot")
    words = f"slot: {found:.3f} to {size:.3f} mm wide"
    return tool, words if abs(found - size) > 5e-4 else f"slot: {size:.3f} mm wide"


def _pairs(count: int) -> list[tuple[int, int]]:
    return list(combinations(range(count), 2))
