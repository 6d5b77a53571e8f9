"""Where faces end for good: edges that no other edge runs beside."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.check.joints import (
    PLACES,
    Face,
    boxes_near,
    goes_along,
    lines_of,
    runs_of,
    to_line,
)
from usual_clay.core.spline.curve import curve_points

# So many places along one edge are looked at, at most.
MOST = 2000
# What lies beside an edge, rather than over it, leans so much away from the face's normal there.
ASLANT = 0.2


@dataclass(frozen=True, eq=False)
class FreeEdges:
    """Places along edges at which faces end for good.

    Attributes
    ----------
    places : (n, 3) array
    apart : (n,) array
        How far each is from the next, mm.
    """

    places: Floats
    apart: Floats

    @classmethod
    def of(cls, faces: Sequence[Face], limit: float) -> FreeEdges:
        """Return those of faces; edges that run within a limit of another one, mm, are joined."""
        edges = [edge for face in faces for edge in face.edges]
        places, apart = [np.zeros((0, 3))], [np.zeros(0)]
        if edges:
            lines, boxes = lines_of(edges)
            every = boxes_near(boxes, np.full(len(edges), limit))
            for k, (edge, near) in enumerate(zip(edges, every, strict=True)):
                length = float(np.linalg.norm(np.diff(lines[k], axis=0), axis=1).sum())
                count = int(np.clip(length / limit, PLACES, MOST))
                along = curve_points(edge, np.linspace(*edge.domain, count))
                joined = np.zeros(count, dtype=bool)
                for other in near[near != k].tolist():
                    for run in runs_of(to_line(along, lines[other]) <= limit):
                        # At its ends others only begin.
                        if goes_along(along[run], lines[other]):
                            joined |= run
                places.append(along[~joined])
                apart.append(np.full(len(places[-1]), length / (count - 1)))
        return cls(np.concatenate(places), np.concatenate(apart))

    def beside(self, points: Floats, nearest: Floats, normals: Floats) -> Bools:
        """Tell which points lie beside the faces, past where they end, rather than over them.

        Parameters
        ----------
        nearest : (n, 3) array
            Their nearest places on the faces.
        normals : (n, 3) array
            Of the faces there, of length 1.
        """
        off = points - nearest
        across = off - (off * normals).sum(axis=1)[:, None] * normals
        aslant = np.linalg.norm(across, axis=1) > ASLANT * np.linalg.norm(off, axis=1)
        found = np.zeros(len(points), dtype=bool)
        if len(self.places) and aslant.any():
            away, which = cKDTree(self.places).query(nearest[aslant])
            found[aslant] = away <= self.apart[which]
        return found
