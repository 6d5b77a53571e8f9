"""Surfaces and bodies cut by curves, planes, surfaces and bodies; parts of them kept."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Splitter
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_Copy,
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeVertex,
    BRepBuilderAPI_Transform,
)
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepOffsetAPI import BRepOffsetAPI_NormalProjection
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.gp import gp_Pnt, gp_Trsf, gp_Vec

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade
from usual_clay.core.body.join import sewn, solid_where_closed
from usual_clay.core.body.kernel import curve_to_kernel
from usual_clay.core.body.mass import area_of, volume_of
from usual_clay.core.body.settings import PartSettings, TrimSettings, Way
from usual_clay.core.body.shapes import (
    EDGE,
    FACE,
    SOLID,
    Named,
    body_of,
    box_of,
    compound,
    is_within,
    joined_names,
    listed,
    parts,
)
from usual_clay.core.body.sources import Taken, places_of, plane_across, shape_of
from usual_clay.core.progress import Progress
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve

# Faces that were one, and edges that were, are joined again within this, mm.
AGAIN = 1e-5
AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


def trim(settings: TrimSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Cut a surface or a body, and keep the parts that are meant.

    Raises
    ------
    BodyError
        Where nothing crosses it.
    """
    pieces = pieces_of(taken, settings.way, progress)
    kept = those_at(pieces, places_of(settings.keep)) if settings.keep else pieces[:1]
    made = together(kept)
    words = f"{len(kept)} of {len(pieces)} parts kept"
    return BodyMade(body_of(made), words)


def split(settings: PartSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Cut a surface or a body, and keep both sides, or one part of it.

    Raises
    ------
    BodyError
    """
    pieces = pieces_of(taken, settings.way, progress)
    if settings.part > len(pieces):
        raise BodyError(f"there are {len(pieces)} parts: there is no part {settings.part}")
    if settings.part:
        return BodyMade(body_of(pieces[settings.part - 1]), f"part {settings.part}")
    made = pieces[0] if len(pieces) == 1 else apart_again(pieces)
    return BodyMade(body_of(made), f"{len(pieces)} parts")


def pieces_of(taken: Taken, way: Way, progress: Progress) -> list[Named]:
    """Return the parts that a thing falls into, the largest first."""
    whole = together(taken.shapes("thing"))
    low, high = box_of(whole.shape)
    far = 2 * float(np.linalg.norm(high - low)) + 1.0
    knives: list[Any] = []
    for name, geometry in taken.all("by"):
        progress(0.1, f"Bringing {name} there")
        if isinstance(geometry, BSplineCurve):
            knives.append(_knife(name, geometry, whole, way, far))
        elif isinstance(geometry, SimpleShape) and geometry.kind == "plane":
            # It is brought to what it cuts, wherever it was recognised.
            knives.append(plane_across(whole.shape, geometry.point, geometry.axis))
        else:
            knives.append(shape_of(name, geometry).shape)
    progress(0.3, "Cutting")
    return cut_by(whole, knives, "what cuts")


def _knife(name: str, curve: BSplineCurve, whole: Named, way: Way, far: float) -> Any:
    """Return a curve as what cuts: laid on, or as a wall along an axis."""
    edge = BRepBuilderAPI_MakeEdge(curve_to_kernel(curve)).Edge()
    if way == "normal":
        laid = BRepOffsetAPI_NormalProjection(whole.shape)
        laid.Add(edge)
        laid.Build()
        if not laid.IsDone() or not parts(laid.Projection(), EDGE):
            raise BodyError(f"{name} does not lie over it: lay it along an axis", curve.points[0])
        return laid.Projection()
    axis = np.array(AXES[way]) * 2 * far
    start = gp_Vec(*map(float, -axis / 2))
    move = gp_Trsf()
    move.SetTranslation(start)
    low = BRepBuilderAPI_Transform(edge, move, True).Shape()
    return BRepPrimAPI_MakePrism(low, gp_Vec(*map(float, axis))).Shape()


def cut_by(whole: Named, knives: Sequence[Any], what: str) -> list[Named]:
    """Return the parts that a shape falls into, the largest first.

    Raises
    ------
    BodyError
        Where it stays in one part.
    """
    splitter = BRepAlgoAPI_Splitter()
    splitter.SetArguments(listed([whole.shape]))
    splitter.SetTools(listed(knives))
    splitter.Build()
    if not splitter.IsDone():
        raise BodyError("the geometry kernel cannot cut it so: move what cuts a little")
    named = joined_names(splitter, splitter.Shape(), [whole]).filled("Cut")
    pieces = parted(named)
    if len(pieces) < 2:
        at = _nearest_place(whole.shape, knives[0])
        raise BodyError(
            f"{what} does not cut it in two: it must cross it from edge to edge, or run round in"
            " it", at,
        )  # fmt: skip
    return pieces


def _nearest_place(shape: Any, knife: Any) -> tuple[float, float, float] | None:
    near = BRepExtrema_DistShapeShape(shape, knife)
    if not near.IsDone() or not near.NbSolution():
        return None
    place = near.PointOnShape1(1)
    return place.X(), place.Y(), place.Z()


def parted(named: Named) -> list[Named]:
    """Return the solids of a shape, or the faces of one that has none, the largest first."""
    solids = parts(named.shape, SOLID)
    found = []
    if solids:
        sizes = [volume_of(solid) for solid in solids]
        shapes = solids
    else:
        # A shell that was cut falls into faces that hang together only over what was no cut.
        shapes = parts(named.shape, FACE)
        sizes = [area_of(face) for face in shapes]
    for k in np.argsort(sizes)[::-1]:
        piece = Named(shapes[k])
        for face in parts(shapes[k], FACE):
            piece.call([face], named.name(face))
        found.append(piece)
    return found


def those_at(pieces: Sequence[Named], places: Floats) -> list[Named]:
    """Return the parts on which, or in which, places lie."""
    chosen: list[Named] = []
    for place in places:
        nearest = min(pieces, key=lambda piece: away_from(piece.shape, place))
        if nearest not in chosen:
            chosen.append(nearest)
    return chosen


def away_from(shape: Any, place: Floats) -> float:
    """Return how far a place lies from a shape, 0 within a solid, mm."""
    if parts(shape, SOLID) and is_within(shape, place):
        return 0.0
    point = BRepBuilderAPI_MakeVertex(gp_Pnt(*map(float, place))).Vertex()
    near = BRepExtrema_DistShapeShape(shape, point)
    return float(near.Value()) if near.IsDone() else np.inf


def together(pieces: Sequence[Named]) -> Named:
    """Return parts as one: faces that touch are joined, solids stand beside each other."""
    if len(pieces) == 1:
        return pieces[0]
    if any(parts(piece.shape, SOLID) for piece in pieces):
        return apart_again(pieces)
    return solid_where_closed(sewn(pieces, AGAIN))


def apart_again(pieces: Sequence[Named]) -> Named:
    """Return parts as one shape, not joined: each with a copy of a face that they share, as that
    bounds the one from this side and the other from that."""
    copies = [BRepBuilderAPI_Copy(piece.shape) for piece in pieces]
    made = Named(compound([copy.Shape() for copy in copies]))
    for piece, copy in zip(pieces, copies, strict=True):
        for face in parts(piece.shape, FACE):
            made.call([copy.ModifiedShape(face)], piece.name(face))
    return made
