"""A loop of edges covered by one trimmed face."""

from __future__ import annotations

from typing import Any

import numpy as np
import scipy
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
)
from OCP.BRepLib import BRepLib
from OCP.collections import Array1_gp_Pnt2d
from OCP.Geom2d import Geom2d_BSplineCurve
from OCP.gp import gp_Pnt2d
from OCP.TopoDS import TopoDS

from usual_clay.core.arrays import Floats, thinned
from usual_clay.core.body.body_shape import BodyError, BodyMade, EdgeGap
from usual_clay.core.body.kernel import distinct_knots, surface_to_kernel
from usual_clay.core.body.shapes import Named, body_of
from usual_clay.core.body.sources import Taken
from usual_clay.core.build.cover import Covered, CoverSettings, cover
from usual_clay.core.progress import Progress, stretch
from usual_clay.core.spline.surface import surface_points

# An edge on the face lies within this share of what is asked for of where it was found.
ON_FACE = 0.02


def cover_loop(settings: CoverSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Cover a loop of edges.

    Raises
    ------
    BuildError, BodyError
    """
    passed = [each.points for each in taken.geometry("points")]
    made = cover(
        tuple(taken.geometry("edges")),
        tuple(taken.geometry("beside")),
        settings,
        tuple(taken.geometry("guides")),
        np.concatenate(passed) if passed else None,
        stretch(progress, 0.0, 0.9),
    )
    progress(0.9, "Trimming")
    face = _trimmed(made, ON_FACE * settings.within)
    edges = " and ".join(name for name, _ in taken.all("edges")[:2])
    named = Named.one(face, f"{edges} covered")
    gaps = tuple(EdgeGap(gap.between, gap.gap, 0.0, gap.at, 0.0, True) for gap in made.gaps)
    return BodyMade(body_of(named), made.words, gaps)


def _trimmed(made: Covered, near: float) -> Any:
    """Return the face inside the edges, whose corners are shared."""
    surface = surface_to_kernel(made.surface)
    wire = BRepBuilderAPI_MakeWire()
    for side in made.sides:
        edge = BRepBuilderAPI_MakeEdge(_line(made, side, near), surface).Edge()
        wire.Add(edge)
    if not wire.IsDone():
        raise BodyError("the edges do not follow each other on the face: ask for a finer distance")
    builder = BRepBuilderAPI_MakeFace(surface, wire.Wire(), True)
    if not builder.IsDone():
        raise BodyError("the geometry kernel cannot trim it: do the edges cross each other?")
    face = TopoDS.Face(builder.Face())
    BRepLib.BuildCurves3d_s(face)
    return face


def _line(made: Covered, side: Floats, near: float) -> Any:
    """Return the leanest cubic in the surface's parameters through enough places of a side."""
    share = np.linspace(0, 1, len(side))
    places = surface_points(made.surface, *side.T)
    for step in (16, 8, 4, 2, 1):
        chosen = thinned(len(side), step)
        if len(chosen) < 4:
            continue
        spline = scipy.interpolate.make_interp_spline(share[chosen], side[chosen], 3)
        there = surface_points(made.surface, *np.clip(spline(share), 0, 1).T)
        if np.linalg.norm(there - places, axis=1).max() <= near:
            break
    poles = Array1_gp_Pnt2d(1, len(spline.c))
    for k, (u, v) in enumerate(spline.c.tolist(), 1):
        poles.SetValue(k, gp_Pnt2d(u, v))
    return Geom2d_BSplineCurve(poles, *distinct_knots(spline.t), 3)
