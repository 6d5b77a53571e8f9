"""Blocks and flat faces that tests of bodies begin with."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.body.body_shape import BodyMade, BodyShape
from usual_clay.core.body.kernel import silenced
from usual_clay.core.body.operate import operate
from usual_clay.core.body.settings import JoinSettings
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface

LONG, WIDE, TALL = 10.0, 20.0, 30.0
FOUR = even_knots(2, 1)
# So many boxes stand in a row; each is 2 mm wide, 3 mm from the next.
ROW, SIDE, APART = 40, 2.0, 3.0


def flat(a: Any, b: Any, c: Any, d: Any) -> BSplineSurface:
    """Return the flat face of four corners."""
    return BSplineSurface(FOUR, FOUR, np.array([[a, d], [b, c]], dtype=float))


def box_faces(lift: float = 0.0, sides: Iterable[int] = range(6)) -> list[tuple[str, Any]]:
    """Return the faces of a block, with its lid lifted by so much."""

    def at(x: int, y: int, z: int) -> tuple[float, float, float]:
        return x * LONG, y * WIDE, z * TALL

    faces = [
        flat(at(0, 0, 0), at(0, 1, 0), at(1, 1, 0), at(1, 0, 0)),
        flat(at(0, 0, 1), at(1, 0, 1), at(1, 1, 1), at(0, 1, 1)),
        flat(at(0, 0, 0), at(1, 0, 0), at(1, 0, 1), at(0, 0, 1)),
        flat(at(0, 1, 0), at(1, 1, 0), at(1, 1, 1), at(0, 1, 1)),
        flat(at(0, 0, 0), at(0, 1, 0), at(0, 1, 1), at(0, 0, 1)),
        flat(at(1, 0, 0), at(1, 1, 0), at(1, 1, 1), at(1, 0, 1)),
    ]
    faces[1] = replace(faces[1], points=faces[1].points + np.array([0, 0, lift]))
    names = ("floor", "lid", "front", "back", "left", "right")
    return [(names[k], faces[k]) for k in sides]


def made(kind: str, settings: Any, **roles: Any) -> BodyMade:
    """Make a body here, from named sources by role."""
    named = {role: each if isinstance(each, list) else [each] for role, each in roles.items()}
    return operate(kind, settings, named)


def block() -> tuple[str, BodyShape]:
    """Return a block of 10 x 20 x 30 mm, with its name."""
    return "Block", made("join", JoinSettings(), faces=box_faces()).shape


def line(*places: Any) -> BSplineCurve:
    """Return straight lines through places."""
    return BSplineCurve(even_knots(len(places), 1), np.array(places, dtype=float))


def square(z: float = 0.0) -> list[tuple[str, BSplineCurve]]:
    """Return the sides of a square of 6 mm, the last of which runs the other way."""
    a, b, c, d = (2, 2, z), (8, 2, z), (8, 8, z), (2, 8, z)
    return [("a", line(a, b)), ("b", line(b, c)), ("c", line(c, d)), ("d", line(a, d))]


def write_boxes(path: Path, count: int) -> None:
    """Write so many boxes of six faces each as one STEP file."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    from usual_clay.core.body.shapes import compound

    corners = (gp_Pnt(APART * (k % ROW), APART * (k // ROW), 0.0) for k in range(count))
    boxes = [BRepPrimAPI_MakeBox(at, SIDE, SIDE, SIDE).Shape() for at in corners]
    with silenced():
        writer = STEPControl_Writer()
        writer.Transfer(compound(boxes), STEPControl_StepModelType.STEPControl_AsIs)
        writer.Write(str(path))
