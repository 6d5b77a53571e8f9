"""A scan that follows a surface: what lies on the surface goes where the surface went."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    isocurve,
    surface_normals,
    surface_points,
)

BORDER_PLACES = 400


def follow_surface(
    mesh: TriangleMesh,
    inside: Ints,
    before: BSplineSurface,
    after: BSplineSurface,
    fade: float,
) -> TriangleMesh:
    """Move the part of a scan that lies on a surface as the surface was changed.

    Each vertex keeps its foot's parameters and its distance along the normal, so that small
    features ride on the new shape. Towards the surface's border the change fades out with a
    smooth step.

    Parameters
    ----------
    inside : (n,) integers
        The vertices that lie on the surface.
    before, after : BSplineSurface
        The surface as it was and as it is, on the same parameters.
    fade : float
        Over how many mm from the border it fades.

    Raises
    ------
    SplineError
        When the two have other parameters, so that nothing tells where a place went.
    """
    if before.domain != after.domain or before.counts != after.counts:
        raise SplineError(
            "the two surfaces are not one before and after a change: they have different control"
            " points. Double the surface, and shape one of the two"
        )
    points = mesh.vertices[inside]
    feet = foot_points(before, points)
    off = feet.signed[:, None]
    old = surface_points(before, feet.u, feet.v) + off * surface_normals(before, feet.u, feet.v)
    new = surface_points(after, feet.u, feet.v) + off * surface_normals(after, feet.u, feet.v)
    share = np.clip(_from_border(before, feet.feet) / max(fade, 1e-9), 0, 1)
    weight = (share**2 * (3 - 2 * share))[:, None]
    vertices = mesh.vertices.copy()
    vertices[inside] += weight * (new - old)
    return TriangleMesh(vertices, mesh.triangles)


def _from_border(surface: BSplineSurface, places: Floats) -> Floats:
    """Return how far places on a surface lie from its border, mm."""
    from usual_clay.core.spline.parts import evenly

    edges = [isocurve(surface, d, at) for d in "uv" for at in (0.0, 1.0)]
    border = np.concatenate([evenly(edge, BORDER_PLACES) for edge in edges])
    return np.asarray(cKDTree(border).query(places)[0], dtype=np.float64)
