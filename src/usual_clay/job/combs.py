"""Combs of all that is visible in a job, on a plane cut or along isocurves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.body.faces import faces_of
from usual_clay.core.check.comb import CombLine
from usual_clay.core.check.cut_comb import comb_of_cut, comb_of_isocurves
from usual_clay.core.errors import ClayError
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.core.spline.tessellate import grid_triangles, tessellate
from usual_clay.job.checking import checked_items
from usual_clay.job.items import Body, Surface
from usual_clay.job.job import Job

# Steps of a knot span in which a surface is cut.
STEPS = 12
# What there is to cut of a thing: each surface, with triangles that end where it is trimmed.
Parts = list[tuple[BSplineSurface, TriangleMesh]]


class CombError(ClayError):
    """A comb that cannot be asked for so."""


@dataclass(frozen=True)
class CombSettings:
    """Where combs stand.

    Attributes
    ----------
    along : {"x", "y", "z", "u", "v"}
        Square to which axis the plane lies that cuts; or along isocurves of surfaces.
    at : float
        Where the plane lies, as a share of all that is visible.
    count : int
        How many isocurves.
    length : float
        Of the quills, as a share of their usual length; it changes nothing of the combs.
    """

    along: Literal["x", "y", "z", "u", "v"] = "x"
    at: float = 0.5
    count: int = 8
    length: float = 1.0

    def __post_init__(self) -> None:
        if not 0 <= self.at <= 1 or not 1 <= self.count <= 60 or not self.length > 0:
            raise CombError("combs stand at 0 to 1 of the whole, on 1 to 60 isocurves")


def parts_of(item: Surface | Body) -> Parts:
    """Return the surfaces of an item, each with triangles that end where it is trimmed."""
    if isinstance(item, Surface):
        grid = tessellate(item.geometry, (STEPS, STEPS))[0]
        mesh = TriangleMesh(grid.reshape(-1, 3), grid_triangles(*grid.shape[:2]))
        return [(item.geometry, mesh)]
    shape, found = item.shape, []
    for number, face in enumerate(faces_of(item.name, shape)):
        own = shape.triangles[shape.face_of == number]
        if len(own):
            found.append((face.surface, TriangleMesh(shape.vertices, own)))
    return found


def combs(job: Job, settings: CombSettings, known: dict[int, Parts]) -> list[CombLine]:
    """Return the combs of all visible surfaces and bodies.

    Parameters
    ----------
    known : dict
        What was worked out of things before, by their identity; filled.
    """
    items = checked_items(job)
    if settings.along in ("u", "v"):
        surfaces = [item.geometry for item in items if isinstance(item, Surface)]
        return [
            line
            for surface in surfaces
            for line in comb_of_isocurves(surface, settings.along, settings.count)
        ]
    for item in items:
        if id(item) not in known:
            known[id(item)] = parts_of(item)
    parts = [part for item in items for part in known[id(item)]]
    if not parts:
        return []
    axis, at = "xyz".index(settings.along), place_of(parts, settings)
    return [line for surface, mesh in parts for line in comb_of_cut(surface, mesh, axis, at)]


def place_of(parts: Parts, settings: CombSettings) -> float:
    """Return where the plane lies along its axis, mm."""
    axis = "xyz".index(settings.along)
    used = [mesh.vertices[np.unique(mesh.triangles), axis] for _, mesh in parts]
    low, high = min(float(x.min()) for x in used), max(float(x.max()) for x in used)
    # At the very ends there is nothing to cut.
    share = 0.002 + 0.996 * settings.at
    return low + share * (high - low)
