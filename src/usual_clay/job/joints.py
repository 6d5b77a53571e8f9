"""Which curves of a job meet a curve, and how well."""

from __future__ import annotations

import numpy as np

from usual_clay.core.check.joint import Joint, joint_at
from usual_clay.job.items import Curve
from usual_clay.job.job import Job

# Ends farther apart than this, mm, are not meant to meet.
NEAR = 0.5


def joints_of(job: Job, curve: Curve) -> list[tuple[Curve, Joint]]:
    """Return the visible curves with an end near an end of a curve, and the figures there."""
    ends = curve.geometry.points[[0, -1]]
    found = []
    for other in job.all(Curve):
        if other.id == curve.id or not other.visible:
            continue
        away = np.linalg.norm(ends[:, None] - other.geometry.points[None, [0, -1]], axis=2)
        for i, j in zip(*np.nonzero(away < NEAR), strict=True):
            at = (int(i), int(j))
            found.append((other, joint_at(curve.geometry, other.geometry, at)))
    return found
