"""Closed outlines pushed along a direction: stock added to a body, or taken away."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Transform,
)
from OCP.BRepIntCurveSurface import BRepIntCurveSurface_Inter
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.gp import gp_Dir, gp_Lin, gp_Pln, gp_Pnt, gp_Trsf, gp_Vec
from OCP.TopoDS import TopoDS

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade
from usual_clay.core.body.combine import operated
from usual_clay.core.body.kernel import curve_to_kernel
from usual_clay.core.body.settings import PadSettings
from usual_clay.core.body.shapes import (
    FACE,
    SOLID,
    Named,
    body_of,
    box_of,
    faced_outward,
    is_smaller,
    parts,
    size_of,
)
from usual_clay.core.body.sources import Taken
from usual_clay.core.body.trim import AXES, away_from, cut_by
from usual_clay.core.progress import Progress
from usual_clay.core.spline.curve import BSplineCurve, curve_points

# Along each curve of an outline so many places are looked at.
PLACES = 24
# A curve is flat where it stays within this of a plane, mm, or this share of its size.
FLAT = 1e-4


def pad(settings: PadSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Push an outline along, and unite it with a body where one is given.

    Raises
    ------
    BodyError
    """
    stock = stock_of(settings, taken, progress)
    if not taken.all("body"):
        return BodyMade(body_of(stock))
    progress(0.7, "Uniting")
    made = operated(BRepAlgoAPI_Fuse, taken.body(), [stock])
    solids = len(parts(made.shape, SOLID))
    words = "" if solids == 1 else "it does not touch the body: they stand beside each other"
    return BodyMade(body_of(made), words)


def cut(settings: PadSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Push an outline along, and take it away from a body.

    Raises
    ------
    BodyError
    """
    stock = stock_of(settings, taken, progress)
    progress(0.7, "Taking away")
    body = taken.body()
    cut_off = operated(BRepAlgoAPI_Cut, body, [stock])
    if not is_smaller(cut_off.shape, body.shape):
        raise BodyError("the cut misses the body: nothing was taken away")
    made = body_of(cut_off)
    words = f"it fell into {made.solids} parts" if made.solids > 1 else ""
    return BodyMade(made, words)


def stock_of(settings: PadSettings, taken: Taken, progress: Progress) -> Named:
    """Return what an outline gives as it is pushed along."""
    curves = taken.all("outline")
    wire, places = outline_wire(curves, settings.gap)
    face, normal = _plane_inside(wire, places)
    way = np.array(AXES[settings.way]) if settings.way != "normal" else normal
    if abs(way @ normal) < 1e-3:
        raise BodyError("the outline lies along the way it is pushed: choose another axis")
    until = taken.shapes("until", far=1e4)
    progress(0.2, "Pushing along")
    name = curves[0][0]
    if until:
        return _up_to(face, places, way, until, taken, name)
    low, high = 0.0, settings.length
    if settings.through:
        reach = _through(taken, places, way)
        low, high = -reach, reach
    elif settings.both:
        low, high = -settings.length, settings.length
    return _prism(face, way, low, high, name)


def _through(taken: Taken, places: Floats, way: Floats) -> float:
    if not taken.all("body"):
        raise BodyError("through all of what? Choose a body, or give a length")
    low, high = box_of(taken.body().shape)
    return float(
        np.linalg.norm(high - low) + np.linalg.norm(places.mean(axis=0) - (low + high) / 2)
    )


def outline_wire(curves: Sequence[tuple[str, BSplineCurve]], gap: float) -> tuple[Any, Floats]:
    """Return curves that close end to end as one loop, corners kept, and places along it.

    Raises
    ------
    BodyError
        Where they do not close: between which, by how much, and where.
    """
    left = list(curves)
    name, first = left.pop(0)
    run = [(name, first, False)]
    while left:
        end = _end(run[-1], 1)
        choices = [
            (float(np.linalg.norm(end - _end((n, c, turned), 0))), k, turned)
            for k, (n, c) in enumerate(left)
            for turned in (False, True)
        ]
        _, k, turned = min(choices)
        n, c = left.pop(k)
        run.append((n, c, turned))
    maker = BRepBuilderAPI_MakeWire()
    corners = []
    for k, part in enumerate(run):
        following = run[(k + 1) % len(run)]
        a, b = _end(part, 1), _end(following, 0)
        off = float(np.linalg.norm(a - b))
        if off > gap:
            raise BodyError(
                f"the outline does not close: {part[0]} and {following[0]} are {off:.3f} mm apart",
                (a + b) / 2,
            )
        corners.append((a + b) / 2)
    for k, (_, curve, turned) in enumerate(run):
        points = curve.points.copy()
        first_end, last_end = corners[k - 1], corners[k]
        points[0], points[-1] = (last_end, first_end) if turned else (first_end, last_end)
        edge = BRepBuilderAPI_MakeEdge(
            curve_to_kernel(BSplineCurve(curve.knots, points, curve.weights))
        ).Edge()
        maker.Add(edge)
    if not maker.IsDone():
        raise BodyError("the outline's curves do not make one loop: they meet more than twice")
    t = np.linspace(0, 1, PLACES, endpoint=False)
    places = np.concatenate([curve_points(c, t)[:: -1 if turned else 1] for _, c, turned in run])
    return maker.Wire(), places


def _end(part: tuple[str, BSplineCurve, bool], end: int) -> Floats:
    _, curve, turned = part
    place: Floats = curve.points[-1 if (end == 1) != turned else 0]
    return place


def _plane_inside(wire: Any, places: Floats) -> tuple[Any, Floats]:
    middle = places.mean(axis=0)
    _, sizes, axes = np.linalg.svd(places - middle)
    normal = axes[2] * (1.0 if axes[2][np.argmax(np.abs(axes[2]))] > 0 else -1.0)
    off = np.abs((places - middle) @ normal)
    if sizes[1] < 1e-6 * max(sizes[0], 1e-300):
        raise BodyError("the outline encloses nothing: it is a line", middle)
    size = float(np.ptp(places, axis=0).max())
    if off.max() > max(FLAT * size, 1e-6):
        worst = int(np.argmax(off))
        raise BodyError(
            f"the outline is not flat, by {off[worst]:.3f} mm: project it onto a plane first",
            places[worst],
        )
    plane = gp_Pln(gp_Pnt(*map(float, middle)), gp_Dir(*map(float, normal)))
    maker = BRepBuilderAPI_MakeFace(plane, TopoDS.Wire(wire), True)
    if not maker.IsDone():
        raise BodyError("the outline crosses itself, or does not close", middle)
    return TopoDS.Face(maker.Face()), normal


def _prism(face: Any, way: Floats, low: float, high: float, name: str) -> Named:
    move = gp_Trsf()
    move.SetTranslation(gp_Vec(*map(float, low * way)))
    start = BRepBuilderAPI_Transform(face, move, True).Shape()
    builder = BRepPrimAPI_MakePrism(start, gp_Vec(*map(float, (high - low) * way)))
    made = Named(faced_outward(parts(builder.Shape(), SOLID)[0]))
    return made.filled(name)


def _up_to(
    face: Any, places: Floats, way: Floats, until: Sequence[Named], taken: Taken, name: str
) -> Named:
    """Return the stock from the outline's plane, or between two surfaces, up to them."""
    boxes = [box_of(each.shape) for each in until if size_of(each.shape) < 1e4]
    ends = [places.min(axis=0), places.max(axis=0), *(corner for box in boxes for corner in box)]
    middle = places.mean(axis=0)
    reach = 1.5 * max(float(np.linalg.norm(end - middle)) for end in ends) + 1.0
    names = [each for each, _ in taken.all("until")]
    sides = []
    for each, called in zip(until, names, strict=True):
        hits = np.array([_hit(each.shape, place, way, reach) for place in places])
        missed = ~np.isfinite(hits)
        if missed.any():
            far = places[missed]
            worst = far[int(np.argmax(np.linalg.norm(far - middle, axis=1)))]
            share = 100 * float(missed.mean())
            raise BodyError(
                f"{called} does not cover the outline: {share:.0f} % of it sticks out, farthest"
                f" at {worst[0]:.2f}, {worst[1]:.2f}, {worst[2]:.2f}. Extend the surface", worst,
            )  # fmt: skip
        sides.append(float(np.median(hits)))
    low, high = -reach, reach
    if len(until) == 1:
        low, high = (0.0, reach) if sides[0] > 0 else (-reach, 0.0)
    stock = _prism(face, way, low, high, name)
    pieces = cut_by(stock, [each.shape for each in until], " and ".join(names))
    aim = middle + way * (sum(sides) / 2 if len(sides) == 2 else sides[0] * 1e-3)
    best = min(pieces, key=lambda piece: away_from(piece.shape, aim))
    made = Named(faced_outward(best.shape)) if parts(best.shape, SOLID) else best
    for one in parts(made.shape, FACE):
        own = best.name(one)
        made.call([one], names[0] if own in ("", "Cut") else own)
    return made


def _hit(shape: Any, place: Floats, way: Floats, reach: float) -> float:
    """Return how far along a way a line through a place meets a shape first; infinite if never."""
    line = gp_Lin(gp_Pnt(*map(float, place)), gp_Dir(*map(float, way)))
    inter = BRepIntCurveSurface_Inter()
    inter.Init(shape, line, 1e-6)
    found = []
    while inter.More():
        if abs(inter.W()) <= reach:
            found.append(inter.W())
        inter.Next()
    return float(min(found, key=abs)) if found else np.inf
