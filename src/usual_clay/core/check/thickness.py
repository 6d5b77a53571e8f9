"""How thick a body's wall is: straight inwards from its skin to the next."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.measure import Figure, MeasureError
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.mesh import unit

# A ray begins so far below the skin, as a share of the body's size.
BELOW = 1e-6


def wall_thickness(points: Floats, normals: Floats, skin: MeshTree) -> Floats:
    """Return how far it is through the material, mm, (n,); infinite where nothing is met.

    Parameters
    ----------
    points, normals : (n, 3) arrays
        On the skin; the normals point out of the material.
    skin : MeshTree
    """
    start = BELOW * float(np.ptp(points, axis=0).max())
    _, distance = skin.first_hits(points - start * normals, -normals)
    return np.asarray(distance + start)


def thinnest_wall(vertices: Floats, triangles: Ints, places: Floats) -> Figure:
    """Measure a wall straight through, from the skin nearest to places to the next.

    Parameters
    ----------
    places : (n, 3) array
        The thinnest of them counts; none for the middle of each triangle.

    Raises
    ------
    MeasureError
        Where nothing lies behind any of them.
    """
    tree, corners = MeshTree(vertices, triangles), vertices[triangles]
    feet, which = corners.mean(axis=1), np.arange(len(triangles))
    if len(places):
        _, which, feet = tree.nearest(places)
    normals = unit(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[which])
    thick = wall_thickness(feet, normals, tree)
    at = int(np.argmin(thick))
    if not np.isfinite(thick[at]):
        raise MeasureError(
            "nothing lies behind there: a wall is told of bodies and scans with two sides that"
            " face outward"
        )
    return Figure(float(thick[at]), "mm", np.stack([feet[at], feet[at] - thick[at] * normals[at]]))
