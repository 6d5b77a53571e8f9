"""Faces joined to shells and solids, and openings closed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_Sewing,
)
from OCP.BRepFill import BRepFill_Filling
from OCP.GeomAbs import GeomAbs_Shape
from OCP.ShapeAnalysis import ShapeAnalysis_FreeBounds
from OCP.TopoDS import TopoDS, TopoDS_Shell

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade, EdgeGap, Spot
from usual_clay.core.body.crossing import crosses_itself
from usual_clay.core.body.gaps import TOUCH, gaps_between
from usual_clay.core.body.meeting import brought_together
from usual_clay.core.body.settings import CloseSettings, JoinSettings
from usual_clay.core.body.shapes import (
    EDGE,
    FACE,
    SHELL,
    WIRE,
    Named,
    along,
    body_of,
    compound,
    evenly_along,
    faced_outward,
    faces_of_edges,
    parts,
    size_of,
)
from usual_clay.core.body.sources import Taken, places_of, shape_of
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.core.spline.surface import BSplineSurface

# An opening is flat where its edges lie within this share of its size of a plane.
FLAT = 1e-4
# The least that sewing joins, mm.
LEAST = 1e-6
# What is left between borders that were brought together is joined with so much to spare.
MORE = 1.5


def join(settings: JoinSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Join faces: what touches or nearly touches, and to a solid where that closes it.

    Raises
    ------
    BodyError
        Where nothing can be joined.
    """
    for number, (name, geometry) in enumerate(taken.all("faces")):
        progress(0.1 * number / len(taken.all("faces")), "Looking at the faces")
        at = crosses_itself(geometry) if isinstance(geometry, BSplineSurface) else None
        if at is not None:
            raise BodyError(f"{name} crosses itself: mend it, or trim it before that place", at)
    sources = taken.shapes("faces")
    gaps = gaps_between(sources, settings.gap, stretch(progress, 0.1, 0.4))
    progress(0.4, "Joining")
    named, moved = _joined(taken, sources, gaps, settings.gap)
    progress(0.7, "Closing")
    shape = body_of(named)
    still = still_open(gaps, named)
    words, wanted = _told(shape, still, settings, moved)
    spots = tuple(Spot(_gap_words(gap), gap.at) for gap in still if not gap.closed)
    return BodyMade(shape, words, tuple(still), spots, wanted)


def _joined(
    taken: Taken, sources: Sequence[Named], gaps: Sequence[EdgeGap], limit: float
) -> tuple[Named, float]:
    """Return faces joined, closed where they close, and how far borders were moved for it, mm.

    Where surfaces come together by a small move they are joined so: the body has no gap then. What
    does not come so near is joined as it lies, the kernel keeping how far edges are apart.
    """
    as_they_lie = solid_where_closed(sewn(sources, limit))
    faces = taken.all("faces")
    own = [k for k, (_, each) in enumerate(faces) if isinstance(each, BSplineSurface)]
    if not any(TOUCH < gap.gap <= limit for gap in gaps) or len(own) < 2:
        return as_they_lie, 0.0
    together, moved = brought_together([faces[k][1] for k in own], limit)
    nearer = list(sources)
    for k, surface in zip(own, together, strict=True):
        nearer[k] = shape_of(faces[k][0], surface)
    left = [gap.gap for gap in gaps_between(nearer, limit, silent) if gap.gap <= limit]
    named = solid_where_closed(sewn(nearer, max(left, default=0.0) * MORE + LEAST))
    if _open_edges(named.shape) > _open_edges(as_they_lie.shape):
        return as_they_lie, 0.0
    return named, moved


def _open_edges(shape: Any) -> int:
    return sum(len(faces) == 1 for _, faces in faces_of_edges(shape))


def _told(
    shape: Any, gaps: Sequence[EdgeGap], settings: JoinSettings, moved: float
) -> tuple[str, bool]:
    left = [gap for gap in gaps if not gap.closed]
    mended = [gap for gap in gaps if gap.closed and gap.gap > TOUCH]
    words = []
    if mended:
        widest = max(gap.gap for gap in mended)
        many = "1 gap" if len(mended) == 1 else f"{len(mended)} gaps"
        how = f", by moving borders up to {moved:.3f} mm" if moved > TOUCH else ""
        words.append(f"{many} of up to {widest:.3f} mm closed{how}")
    if shape.is_solid:
        many = "a solid" if shape.solids == 1 else f"{shape.solids} solids"
        return "; ".join([f"{many} of {shape.faces} faces", *words]), True
    edges = "1 edge is" if shape.open_edges == 1 else f"{shape.open_edges} edges are"
    words.append(f"an open shell: {edges} open")
    if left:
        words.append(f"the widest gap: {_gap_words(left[0])}")
        near = [gap.gap for gap in left if np.isfinite(gap.gap)]
        if near:
            words.append(f"a limit of {max(near):.3f} mm would close what lies beside something")
    return "; ".join(words), not settings.closed


def _gap_words(gap: EdgeGap) -> str:
    if not np.isfinite(gap.gap):
        return f"{gap.between} beside it"
    return f"{gap.between}, {gap.gap:.3f} mm"


def sewn(sources: Sequence[Named], gap: float) -> Named:
    """Return shapes with their edges joined that lie no farther apart than a gap, mm.

    Raises
    ------
    BodyError
    """
    sewing = BRepBuilderAPI_Sewing(max(gap, LEAST))
    for source in sources:
        sewing.Add(source.shape)
    sewing.Perform()
    whole = sewing.SewedShape()
    if whole.IsNull() or not parts(whole, FACE):
        raise BodyError("none of these faces can be joined: they are smaller than the gap limit")
    made = Named(whole)
    for source in sources:
        for face in parts(source.shape, FACE):
            became = sewing.ModifiedSubShape(face) if sewing.IsModifiedSubShape(face) else face
            made.call(parts(became, FACE), source.name(face))
    return made.filled("Face")


def solid_where_closed(named: Named) -> Named:
    """Return a shape with its closed shells as solids, facing outward."""
    made, changed = [], False
    shells = parts(named.shape, SHELL)
    loose = _loose_faces(named, shells)
    # A face that closes in itself is a shell of its own.
    alone = [face for face in loose if is_closed(face)]
    shells += [_shell_of(face) for face in alone]
    loose = [face for face in loose if face not in alone]
    for shell in shells:
        if not is_closed(shell):
            made.append(shell)
            continue
        maker = BRepBuilderAPI_MakeSolid(TopoDS.Shell(shell))
        made.append(faced_outward(maker.Solid()) if maker.IsDone() else shell)
        changed = True
    if not changed:
        return named
    whole = made[0] if len(made) == 1 and not loose else compound([*made, *loose])
    return _renamed(named, whole)


def is_closed(shape: Any) -> bool:
    """Tell whether no face of a shape ends where no other begins."""
    return all(len(faces) > 1 for _, faces in faces_of_edges(shape))


def _shell_of(face: Any) -> Any:
    shell, builder = TopoDS_Shell(), BRep_Builder()
    builder.MakeShell(shell)
    builder.Add(shell, face)
    shell.Closed(True)
    return shell


def _loose_faces(named: Named, shells: Sequence[Any]) -> list[Any]:
    inside = Named(named.shape)
    for shell in shells:
        inside.call(parts(shell, FACE), "in a shell")
    return [face for face in parts(named.shape, FACE) if not inside.name(face)]


def _renamed(named: Named, whole: Any) -> Named:
    made = Named(whole)
    for face in parts(whole, FACE):
        made.call([face], named.name(face, "Face"))
    return made


def still_open(gaps: Sequence[EdgeGap], named: Named) -> list[EdgeGap]:
    """Return gaps as they are after joining: what the kernel joined is closed, and no more."""
    lines = [along(e, 1e-3) for e, faces in faces_of_edges(named.shape) if len(faces) == 1]
    if not lines:
        return [replace(gap, closed=True) for gap in gaps if np.isfinite(gap.gap)]
    points = np.concatenate([evenly_along(line, 200) for line in lines])
    made = []
    for gap in gaps:
        # At its ends other edges, open ones, may begin.
        away = float(np.linalg.norm(points - (gap.middle or gap.at), axis=1).min())
        is_open = away < max(1e-3, 0.02 * gap.length)
        made.append(replace(gap, closed=gap.closed and not is_open))
    return made


# ---- openings ----------------------------------------------------------------------------------


def close(settings: CloseSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Close the openings of a body, or of surfaces, by planes or calm surfaces.

    Raises
    ------
    BodyError
        Where there is no opening, or one cannot be closed so.
    """
    sources = taken.shapes("faces")
    named = sewn(sources, settings.gap)
    openings = openings_of(named)
    if not openings:
        raise BodyError("it has no opening: every edge is joined already")
    meant = _meant(openings, places_of(settings.at))
    caps, spots = [], []
    for number, wire in enumerate(meant):
        progress(0.2 + 0.5 * number / len(meant), "Closing openings")
        face, words = _cap(wire, settings.how)
        if face is None:
            line = _line_of(wire)
            spots.append(Spot(words, tuple(line.mean(axis=0))))
            continue
        caps.append(Named.one(face, "Cap" if len(meant) == 1 else f"Cap {number + 1}"))
    if not caps:
        raise BodyError(spots[0].words, spots[0].at)
    gaps = gaps_between([named, *caps], settings.gap, stretch(progress, 0.7, 0.8))
    made = solid_where_closed(sewn([named, *caps], max(settings.gap, 1e-4)))
    shape = body_of(made)
    many = "1 opening" if len(caps) == 1 else f"{len(caps)} openings"
    words = f"{many} closed" + ("" if shape.is_solid else f"; {shape.open_edges} edges are open")
    words = "; ".join([words, *(spot.words for spot in spots)])
    is_all = len(meant) == len(openings)
    return BodyMade(
        shape, words, tuple(still_open(gaps, made)), tuple(spots), shape.is_solid or not is_all
    )


def openings_of(named: Named) -> list[Any]:
    """Return the loops of a shape's open edges."""
    bounds = ShapeAnalysis_FreeBounds(named.shape)
    return parts(bounds.GetClosedWires(), WIRE)


def _line_of(wire: Any) -> Floats:
    return np.concatenate([along(edge, 1e-2) for edge in parts(wire, EDGE)])


def _meant(openings: list[Any], places: Floats) -> list[Any]:
    if not len(places):
        return openings
    lines = [_line_of(wire) for wire in openings]
    chosen = {
        int(np.argmin([np.linalg.norm(line - place, axis=1).min() for line in lines]))
        for place in places
    }
    return [openings[k] for k in sorted(chosen)]


def _cap(wire: Any, how: str) -> tuple[Any, str]:
    """Return a face inside a loop, or why there is none."""
    line = _line_of(wire)
    middle = line.mean(axis=0)
    _, _, axes = np.linalg.svd(line - middle)
    off = float(np.abs((line - middle) @ axes[2]).max())
    is_flat = off <= FLAT * size_of(wire)
    if how == "flat" and not is_flat:
        return None, f"this opening is not flat, by {off:.3f} mm: fill it"
    if is_flat and how != "fill":
        maker = BRepBuilderAPI_MakeFace(TopoDS.Wire(wire), True)
        if maker.IsDone():
            return TopoDS.Face(maker.Face()), ""
    filling = BRepFill_Filling()
    for edge in parts(wire, EDGE):
        filling.Add(edge, GeomAbs_Shape.GeomAbs_C0)
    try:
        filling.Build()
    except Exception:  # the kernel's own errors have no common base
        return None, "this opening cannot be filled: draw a surface over it, and join that"
    if not filling.IsDone():
        return None, "this opening cannot be filled: draw a surface over it, and join that"
    return TopoDS.Face(filling.Face()), ""
