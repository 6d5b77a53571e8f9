"""How thick a body's wall is: straight inwards from its skin to the next."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.closest import MeshTree

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
