"""Corners set back: where rounds meet, one smooth face in place of what the rolling ball leaves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepFill import BRepFill_Filling
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.GeomAbs import GeomAbs_Shape
from OCP.gp import gp_Pnt
from OCP.TopoDS import TopoDS

from usual_clay.core.arrays import Floats
from usual_clay.core.body.join import is_closed, sewn, solid_where_closed
from usual_clay.core.body.mass import volume_of
from usual_clay.core.body.shapes import (
    EDGE,
    FACE,
    Named,
    along,
    exact_of,
    faces_of_edges,
    parts,
    read,
    sound,
)

# So many rounds or more meet in a corner.
LEAST = 3
NAME = "Corner"
# What the ball's own face is called meanwhile.
HOLLOW = " hollow"
# The kernel's filling: degree to begin with, places along each edge, rounds; tolerances in the
# parameters, in space, in angle and in curvature; the highest degree, and the most spans.
FILLING = (3, 15, 2, False, 1e-5, 1e-4, 1e-3, 0.1, 8, 9)
# The face is sewn to its neighbours over this, mm.
SEWN = 0.01
# Ends of edges nearer than this, mm, are one corner.
SAME = 1e-4


def corners_of(body: Named, edges: Sequence[int]) -> list[tuple[Floats, int]]:
    """Return the places where three or more of some edges meet, and how many meet there.

    Parameters
    ----------
    edges : sequence of int
        Their numbers in the body.
    """
    every = list(faces_of_edges(body.shape))
    found: list[tuple[Floats, int]] = []
    for number in edges:
        line = along(every[number][0], 1e-2)
        for end in line[[0, -1]]:
            same = [k for k, (at, _) in enumerate(found) if np.linalg.norm(at - end) < SAME]
            if same:
                at, count = found[same[0]]
                found[same[0]] = at, count + 1
            else:
                found.append((end, 1))
    return [each for each in found if each[1] >= LEAST]


def set_back(
    exact: tuple[bytes, tuple[str, ...]], at: Floats, count: int, distance: float
) -> tuple[bytes, tuple[str, ...]] | None:
    """Return a rounded body with the corner of so many rounds set back; None where it cannot be.

    What lies nearer to the corner than the distance gives way to a face that goes on smoothly from
    the rounds and from the faces between them: the kernel's own filling, with tangents.
    """
    body = read(exact)
    ball = BRepPrimAPI_MakeSphere(gp_Pnt(*(float(x) for x in at)), distance).Shape()
    cut = BRepAlgoAPI_Cut(body.shape, ball)
    named = body.after(cut, cut.Shape(), HOLLOW)
    faces = parts(named.shape, FACE)
    hollow = [face for face in faces if named.name(face) == HOLLOW]
    rest = [face for face in faces if named.name(face) != HOLLOW]
    if len(hollow) != 1 or len(parts(hollow[0], EDGE)) != 2 * count:
        return None
    # The corner that the ball left is gone as a whole, or else the distance is too short.
    if len(rest) >= len(parts(body.shape, FACE)):
        return None
    corner = _filled(parts(hollow[0], EDGE), rest)
    if corner is None:
        return None
    whole = solid_where_closed(sewn([*(Named.one(f, named.name(f)) for f in rest), corner], SEWN))
    whole, valid = sound(whole)
    if not valid or not is_closed(whole.shape):
        return None
    # The face lies between what the ball took away and what was there.
    before = volume_of(body.shape)
    change, taken = abs(volume_of(whole.shape) - before), before - volume_of(named.shape)
    return exact_of(whole) if change < taken else None


def _filled(edges: Sequence[Any], rest: Sequence[Any]) -> Named | None:
    filling = BRepFill_Filling(*FILLING)
    for edge in edges:
        beside = [(own, face) for face in rest for own in parts(face, EDGE) if own.IsSame(edge)]
        if not beside:
            return None
        own, face = beside[0]
        filling.Add(TopoDS.Edge(own), TopoDS.Face(face), GeomAbs_Shape.GeomAbs_G1)
    filling.Build()
    return Named.one(TopoDS.Face(filling.Face()), NAME) if filling.IsDone() else None
