"""How the faces of a body bend, at places on them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.faces import faces_of
from usual_clay.core.check.curvature import Bent, bent, dot
from usual_clay.core.check.joints import Face
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.seeds import feet_within

# So far inside a face's surface, as a share of it, bends are taken: at a pole there are none.
INSIDE = 1e-4
# Places on a body lie no farther off its exact faces than this share of its size.
ON_FACE = 2e-3


def bent_at(
    shape: BodyShape,
    points: Floats,
    normals: Floats,
    faces: Ints,
    progress: Progress = silent,
    surfaces: Sequence[Face] | None = None,
) -> Bent:
    """Return how the exact faces of a body bend at places on them, seen from outside.

    Parameters
    ----------
    points, normals : (n, 3) arrays
        Places on the body, and the outward normals there.
    faces : (n,) integers
        The face that each lies on.
    surfaces : sequence of Face, optional
        Its faces, where they are known.
    """
    found = np.zeros((5, len(points)))
    surfaces = surfaces or faces_of("", shape)
    near = ON_FACE * float(np.ptp(points, axis=0).max())
    for number, face in enumerate(surfaces):
        progress(number / len(surfaces), "Looking how its faces bend")
        mine = np.flatnonzero(faces == number)
        if not len(mine):
            continue
        feet = feet_within(face.surface, points[mine], np.full(len(mine), near))
        u, v = (
            np.clip(t, low + INSIDE * (high - low), high - INSIDE * (high - low))
            for t, (low, high) in zip((feet.u, feet.v), face.surface.domain, strict=True)
        )
        here = bent(face.surface, u, v)
        side = np.sign(dot(here.normals, normals[mine]))
        ends = np.stack([side * here.least, side * here.greatest])
        least, greatest = ends.min(axis=0), ends.max(axis=0)
        found[:, mine] = here.gaussian, side * here.mean, least, greatest, here.area
    return Bent(points, normals, *found)
