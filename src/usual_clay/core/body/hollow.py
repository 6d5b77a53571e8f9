"""Bodies hollowed to a wall, and surfaces given a thickness."""

from __future__ import annotations

from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid
from OCP.BRepLProp import BRepLProp_SLProps
from OCP.BRepOffset import (
    BRepOffset_MakeOffset,
    BRepOffset_MakeSimpleOffset,
    BRepOffset_Mode,
)
from OCP.GeomAbs import GeomAbs_JoinType
from OCP.gp import gp_Pnt2d
from OCP.IntTools import IntTools_FClass2d
from OCP.TopAbs import TopAbs_State
from OCP.TopoDS import TopoDS
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade, BodyShape, Spot
from usual_clay.core.body.mass import volume_of
from usual_clay.core.body.settings import ShellSettings, ThickenSettings
from usual_clay.core.body.shapes import (
    FACE,
    REVERSED,
    SHELL,
    SOLID,
    Named,
    body_of,
    faced_outward,
    joined_names,
    parts,
    size_of,
)
from usual_clay.core.body.sources import Taken, places_of
from usual_clay.core.body.trim import away_from
from usual_clay.core.progress import Progress
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh

# Places along each side of a face at which its bend is looked at.
PLACES = 17
# A wall may be thinner than asked by this.
THICK = 0.98
# A wall thinner than this share of the body's thickness has room in it.
ROOM = 0.15
# How near an offset lies to where it should, mm.
NEAR = 1e-4


def shell(settings: ShellSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Hollow a body to a wall.

    Raises
    ------
    BodyError
        Where the wall has no room, with the place where the shape bends tighter than it.
    """
    body = taken.body()
    name = taken.all("body")[0][0]
    if not parts(body.shape, SOLID):
        raise BodyError(f"{name} is an open shell: close it first, or thicken it")
    opened = _faces_at(body, places_of(settings.open))
    other = _faces_at(body, places_of(settings.other))
    way = 1.0 if settings.outward else -1.0
    progress(0.1, "Looking for tight bends")
    tight = tightest(body, opened, settings, other)
    progress(0.3, "Hollowing")
    maker = BRepOffset_MakeOffset()
    maker.Initialize(
        body.shape, way * settings.wall, NEAR, BRepOffset_Mode.BRepOffset_Skin, False, False,
        GeomAbs_JoinType.GeomAbs_Intersection, False, False,
    )  # fmt: skip
    for face in opened:
        maker.AddFace(face)
    for face in other:
        maker.SetOffsetOnFace(face, way * settings.other_wall)
    try:
        maker.MakeThickSolid() if opened else maker.MakeOffsetShape()
        is_done = bool(maker.IsDone())
    except Exception:  # the kernel's own errors have no common base
        is_done = False
    if not is_done:
        raise _no_room(body, settings, tight)
    made = _walled(body, maker, bool(opened), settings)
    progress(0.8, "Checking")
    return _checked(body, made, settings, tight)


def _walled(body: Named, maker: Any, is_open: bool, settings: ShellSettings) -> Named:
    if is_open:
        return joined_names(maker, maker.Shape(), [body]).filled("Wall")
    shells = parts(maker.Shape(), SHELL)
    own = parts(body.shape, SHELL)
    if len(shells) != 1 or len(own) != 1:
        raise _no_room(body, settings, None)
    inner, outer = (own[0], shells[0]) if settings.outward else (shells[0], own[0])
    solid = BRepBuilderAPI_MakeSolid(TopoDS.Shell(_outward(outer)))
    solid.Add(TopoDS.Shell(_outward(inner).Reversed()))
    made = Named(solid.Solid())
    for face in parts(made.shape, FACE):
        made.call([face], body.name(face, "Wall"))
    return made


def _outward(shell: Any) -> Any:
    """Return a closed shell so that its faces face away from what it encloses."""
    return shell if volume_of(shell) > 0 else shell.Reversed()


def _checked(
    body: Named, made: Named, settings: ShellSettings, tight: tuple[float, Floats] | None
) -> BodyMade:
    before = body_of(body)
    shape = body_of(made)
    # No wall holds more than the area times its thickness allows, or less than nothing.
    most = 2.0 * before.area * max(settings.wall, settings.other_wall)
    whole = shape.is_solid and shape.valid and 0 < shape.volume < most
    if not settings.outward:
        whole = whole and shape.volume < before.volume * (1 - 1e-9)
    if not whole or not _is_thick(before, shape, settings):
        raise _no_room(body, settings, tight)
    words = f"a wall of {settings.wall:g} mm"
    spots: tuple[Spot, ...] = ()
    if tight is not None:
        place = tuple(float(x) for x in tight[1])
        spots = (Spot(f"it bends tighter than the wall: {tight[0]:.2f} mm", place),)  # type: ignore[arg-type]
        words += f"; {spots[0].words}"
    return BodyMade(shape, words, spots=spots)


def _is_thick(before: BodyShape, shape: BodyShape, settings: ShellSettings) -> bool:
    """Tell whether the wall is nowhere thinner than asked, as a shape folded into itself is."""
    walls = [k for k, name in enumerate(shape.names) if name == "Wall"]
    mine = np.unique(shape.triangles[np.isin(shape.face_of, walls)])
    # Places of an opening's rim lie on the body itself.
    rim = np.unique(shape.triangles[~np.isin(shape.face_of, walls)])
    rims = cKDTree(shape.vertices[rim])
    points = shape.vertices[mine]
    points = points[rims.query(points)[0] > 1e-6]
    if not len(points):
        return True
    tree = tree_of(TriangleMesh(before.vertices, before.triangles))
    away = tree.nearest(points)[0]
    least = min(settings.wall, settings.other_wall) if settings.other else settings.wall
    return bool(away.min() > THICK * least - 2 * (before.chord + shape.chord))


def _no_room(body: Named, settings: ShellSettings, tight: tuple[float, Floats] | None) -> BodyError:
    if tight is not None:
        return BodyError(
            f"a wall of {settings.wall:g} mm has no room: the shape bends to a radius of"
            f" {tight[0]:.2f} mm at {tight[1][0]:.2f}, {tight[1][1]:.2f}, {tight[1][2]:.2f}",
            tight[1],
        )
    shape = body_of(body)
    mean = 2 * shape.volume / max(shape.area, 1e-300)
    if settings.wall < ROOM * mean:
        return BodyError(
            f"the geometry kernel cannot hollow this to a wall of {settings.wall:g} mm, though it"
            f" is about {mean:.2f} mm thick in the mean: faces that meet aslant or smoothly stand"
            " in the way. Leave another face open, try another wall, or hollow it before it is"
            " cut and rounded", shape.centre,
        )  # fmt: skip
    return BodyError(
        f"a wall of {settings.wall:g} mm has no room in it: the body is about {mean:.2f} mm thick"
        " in the mean. Make the wall thinner, or open another face: one that goes on smoothly into"
        " others cannot be left open", shape.centre,
    )  # fmt: skip


def _faces_at(body: Named, places: Floats) -> list[Any]:
    faces = parts(body.shape, FACE)
    numbers = {int(np.argmin([away_from(f, place) for f in faces])) for place in places}
    return [faces[k] for k in sorted(numbers)]


def tightest(
    body: Named, opened: list[Any], settings: ShellSettings, other: list[Any]
) -> tuple[float, Floats] | None:
    """Return the least radius to the side of the wall where that is less than it, and where."""
    found: tuple[float, Floats] | None = None
    for face in parts(body.shape, FACE):
        if any(face.IsSame(each) for each in opened):
            continue
        own = any(face.IsSame(each) for each in other)
        wall = settings.other_wall if own else settings.wall
        # Bends away from the normal are towards the inside of the body.
        sign = 1.0 if settings.outward else -1.0
        sign *= -1.0 if face.Orientation() == REVERSED else 1.0
        for bend, place in _bends(face):
            towards = max(sign * bend[0], sign * bend[1])
            if towards * wall > 1 and (found is None or 1 / towards < found[0]):
                found = (1 / towards, place)
    return found


def _bends(face: Any) -> list[tuple[tuple[float, float], Floats]]:
    """Return the principal curvatures at places of a face, towards its surface's own normal."""
    surface = BRepAdaptor_Surface(face)
    inside = IntTools_FClass2d(face, 1e-7)
    found = []
    for u in np.linspace(surface.FirstUParameter(), surface.LastUParameter(), PLACES + 2)[1:-1]:
        for v in np.linspace(surface.FirstVParameter(), surface.LastVParameter(), PLACES + 2)[1:-1]:
            place = gp_Pnt2d(float(u), float(v))
            if inside.Perform(place) != TopAbs_State.TopAbs_IN:
                continue
            properties = BRepLProp_SLProps(surface, float(u), float(v), 2, 1e-9)
            if not properties.IsCurvatureDefined():
                continue
            at = properties.Value()
            bend = properties.MinCurvature(), properties.MaxCurvature()
            found.append((bend, np.array([at.X(), at.Y(), at.Z()])))
    return found


def thicken(settings: ThickenSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Give a surface, or an open shell, a thickness.

    Raises
    ------
    BodyError
    """
    from usual_clay.core.body.trim import together

    source = together(taken.shapes("surface"))
    if parts(source.shape, SOLID):
        raise BodyError("it is a solid already: hollow it with Shell, or offset one of its faces")
    thickness = settings.thickness
    progress(0.2, "Thickening")
    if settings.both:
        source = _offset(source, -thickness / 2)
    maker = BRepOffset_MakeSimpleOffset(source.shape, float(thickness))
    maker.SetBuildSolidFlag(True)
    maker.SetTolerance(NEAR)
    maker.Perform()
    if not maker.IsDone() or not parts(maker.GetResultShape(), SOLID):
        bend = _tightest_of(source, thickness)
        raise BodyError(
            f"a thickness of {abs(thickness):g} mm cannot be had here{bend[0]}", bend[1]
        )
    made = Named(faced_outward(parts(maker.GetResultShape(), SOLID)[0]))
    for face in parts(source.shape, FACE):
        made.call([face], source.name(face))
    shape = body_of(made.filled("Wall"))
    thin = _tightest_of(source, thickness)
    if not shape.valid or thin[1] is not None:
        raise BodyError(f"a thickness of {abs(thickness):g} mm folds it{thin[0]}", thin[1])
    return BodyMade(shape, f"{abs(thickness):g} mm thick")


def _offset(source: Named, by: float) -> Named:
    maker = BRepOffset_MakeSimpleOffset(source.shape, float(by))
    maker.Perform()
    if not maker.IsDone():
        raise BodyError("it cannot be moved to both sides: let it lie on one side")
    made = Named(maker.GetResultShape())
    names = [source.name(face) for face in parts(source.shape, FACE)]
    for face, name in zip(parts(made.shape, FACE), names, strict=False):
        made.call([face], name)
    return made


def _tightest_of(source: Named, thickness: float) -> tuple[str, Floats | None]:
    wall = ShellSettings(wall=abs(thickness), outward=thickness > 0)
    found = tightest(source, [], wall, [])
    if found is None or size_of(source.shape) <= 0:
        return "", None
    return f": it bends to a radius of {found[0]:.2f} mm", found[1]
