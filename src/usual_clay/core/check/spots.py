"""Spots: connected places of a scan that lie out of tolerance."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh

# Fewer points than this are noise, not a spot.
FEWEST = 3


@dataclass(frozen=True, eq=False)
class OutSpot:
    """One connected place out of tolerance.

    Attributes
    ----------
    vertices : (k,) integers
        Of the scan.
    area : float
        mm squared.
    greatest : float
        The greatest deviation, mm, with its sign.
    mean : float
        With its sign, mm.
    at : (3,) array
        Where it is greatest.
    """

    vertices: Ints
    area: float
    greatest: float
    mean: float
    at: Floats


def spots_of(mesh: TriangleMesh, signed: Floats, tolerance: float) -> list[OutSpot]:
    """Return the spots of a scan, the largest first.

    Parameters
    ----------
    signed : (n,) array
        The deviation of each of its vertices, mm; NaN where it is not judged.
    """
    out = np.abs(np.nan_to_num(signed)) > tolerance
    # A spot lies on one side: what is too high does not go on in what is too low.
    side = np.sign(np.nan_to_num(signed))
    a, b = np.concatenate([mesh.triangles[:, [0, 1]], mesh.triangles[:, [1, 2]],
                           mesh.triangles[:, [2, 0]]]).T  # fmt: skip
    joined = out[a] & out[b] & (side[a] == side[b])
    count = len(mesh.vertices)
    graph = coo_matrix((np.ones(int(joined.sum())), (a[joined], b[joined])), shape=(count, count))
    _, which = connected_components(graph, directed=False)
    mine = np.flatnonzero(out)
    order = mine[np.argsort(which[mine], kind="stable")]
    ends = np.flatnonzero(np.diff(which[order])) + 1
    found = []
    for group in np.split(order, ends):
        if len(group) < FEWEST:
            continue
        worst = group[int(np.argmax(np.abs(signed[group])))]
        area = float(mesh.vertex_areas[group].sum())
        found.append(
            OutSpot(np.sort(group), area, float(signed[worst]), float(signed[group].mean()),
                    mesh.vertices[worst])
        )  # fmt: skip
    return sorted(found, key=lambda spot: -spot.area)
