"""What is told of each face of what was made: how tightly it bends, and what a pull cannot free."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.body.bending import bent_at
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.check.curvature import bent_over
from usual_clay.core.check.joints import Face
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.job.items import Body, Surface

# A whole surface is looked at in so many places each way.
PLACES = 48
# Where in a triangle the surface under it is looked at: its middle, and halfway to its corners.
WHERE = np.array([[2, 2, 2], [4, 1, 1], [1, 4, 1], [1, 1, 4]]) / 6
# Control points lie in a plane within this share of their size; a wall is upright within this.
FLAT, UPRIGHT = 1e-9, 1e-9


class FaceFigures(NamedTuple):
    """What is told of a face.

    Attributes
    ----------
    radius : float
        The smallest, mm; infinite of a plane.
    at : (3,) array
        Where.
    undercut : float
        Which share of its area faces away from the pull.
    """

    face: Face
    radius: float
    at: Floats
    undercut: float


def face_figures(
    items: Sequence[Surface | Body], faces: Sequence[Face], pull: Floats
) -> list[FaceFigures]:
    """Return what is told of the faces of surfaces and bodies, which are `faces_in` these."""
    left = iter(faces)
    found: list[FaceFigures] = []
    for item in items:
        if isinstance(item, Surface):
            face = next(left)
            found.append(FaceFigures(face, *tightest_of(face.surface),
                                     undercut_of(face.surface, pull)))  # fmt: skip
        else:
            own = [next(left) for _ in range(item.shape.faces)]
            found += _of_body(item.shape, own, pull)
    return found


def tightest_of(surface: BSplineSurface) -> tuple[float, Floats]:
    """Return the smallest radius of a whole surface, mm, and where; poles apart."""
    found = bent_over(surface, (np.arange(PLACES) + 0.5) / PLACES)
    radius = found.smallest_radius
    worst = int(np.argmin(radius))
    return float(radius[worst]), found.points[worst]


def undercut_of(surface: BSplineSurface, pull: Floats) -> float:
    """Return which share of a whole surface's area faces away from a pull."""
    t = np.linspace(0, 1, PLACES + 1)
    grid = surface_grid(surface, *(low + t * (high - low) for low, high in surface.domain))
    cross = np.cross(grid[1:, 1:] - grid[:-1, :-1], grid[:-1, 1:] - grid[1:, :-1]).reshape(-1, 3)
    area = np.linalg.norm(cross, axis=1)
    return float(area[cross @ pull < 0].sum() / max(float(area.sum()), 1e-300))


def _of_body(shape: BodyShape, faces: Sequence[Face], pull: Floats) -> Iterator[FaceFigures]:
    """Return the figures of a body's faces: of what is left of each, seen from outside."""
    corners = shape.vertices[shape.triangles]
    points, normals = (
        np.einsum("wc,tcx->twx", WHERE, each) for each in (corners, shape.normals[shape.triangles])
    )
    away = (unit(normals.reshape(-1, 3)) @ pull < -UPRIGHT).reshape(normals.shape[:2])
    across, up = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.linalg.norm(np.cross(across, up), axis=1)
    whole, under = (
        np.bincount(shape.face_of, weights, len(faces))
        for weights in (area, area * away.mean(axis=1))
    )
    bent = np.array([not _is_flat(face.surface) for face in faces])
    radius = np.full(points.shape[:2], np.inf)
    there = bent[shape.face_of]
    if there.any():
        on = np.repeat(shape.face_of[there], len(WHERE))
        places, facing = (each[there].reshape(-1, 3) for each in (points, normals))
        found = bent_at(shape, places, facing, on, surfaces=faces)
        radius[there] = found.smallest_radius.reshape(-1, len(WHERE))
    for number, face in enumerate(faces):
        own = np.flatnonzero(shape.face_of == number)
        worst = np.unravel_index(int(np.argmin(radius[own])), (len(own), len(WHERE)))
        at = points[own[worst[0]], worst[1]]
        share = float(under[number] / max(whole[number], 1e-300))
        yield FaceFigures(face, float(radius[own].min()), at, share)


def _is_flat(surface: BSplineSurface) -> bool:
    net = surface.points.reshape(-1, 3)
    sizes = np.linalg.svd(net - net.mean(axis=0), compute_uv=False)
    return bool(sizes[-1] <= FLAT * sizes[0])
