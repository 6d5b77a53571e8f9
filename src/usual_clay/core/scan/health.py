"""The health of a scan: what is wrong with it, counted and placed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.noise import estimate_noise

# A border as long as most of its piece is the rim of an open scan, not a hole.
RIM = 0.6


@dataclass(frozen=True, eq=False)
class Health:
    """Figures of a scan; lengths in mm.

    Attributes
    ----------
    largest_hole : float
        Its greatest extent.
    islands : int
        Pieces beside the largest.
    """

    triangles: int
    holes: int
    largest_hole: float
    islands: int
    spikes: int
    duplicated: int
    flipped: int
    edge_length: float
    noise: float
    box: Floats


def examine(mesh: TriangleMesh) -> Health:
    """Examine a scan."""
    extents = [extent for _, extent in holes(mesh)]
    return Health(
        triangles=len(mesh.triangles),
        holes=len(extents),
        largest_hole=max(extents, default=0.0),
        islands=int(pieces(mesh).max()),
        spikes=int(mesh.spikes.sum()),
        duplicated=int(duplicated(mesh).sum()),
        flipped=int(flipped(mesh).sum()),
        edge_length=mesh.edge_length,
        noise=estimate_noise(mesh.vertices),
        box=mesh.box,
    )


def pieces(mesh: TriangleMesh) -> Ints:
    """Return for each triangle the number of its connected piece, 0 for the largest, (m,)."""
    _, label = connected_components(mesh.neighbours, directed=False)
    of_triangle = label[mesh.triangles[:, 0]]
    sizes = np.bincount(of_triangle, minlength=int(label.max()) + 1)
    rank = np.empty(len(sizes), dtype=np.int64)
    rank[np.argsort(-sizes, kind="stable")] = np.arange(len(sizes))
    return rank[of_triangle]


def border(mesh: TriangleMesh) -> Ints:
    """Return the edges that only one triangle has, as it runs along them, (k, 2)."""
    directed = mesh.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
    low, high = directed.min(axis=1), directed.max(axis=1)
    keys = low * len(mesh.vertices) + high
    _, first, count = np.unique(keys, return_index=True, return_counts=True)
    return directed[first[count == 1]]


def holes(mesh: TriangleMesh) -> list[tuple[Ints, float]]:
    """Return each hole's border edges, (k, 2), and its greatest extent, mm; no rims."""
    edges = border(mesh)
    if not len(edges):
        return []
    count = len(mesh.vertices)
    graph = coo_array((np.ones(len(edges)), (edges[:, 0], edges[:, 1])), shape=(count, count))
    _, label = connected_components(graph, directed=False)
    _, piece = connected_components(mesh.neighbours, directed=False)
    of_edge = label[edges[:, 0]]
    order = np.argsort(of_edge, kind="stable")
    groups = np.split(edges[order], np.flatnonzero(np.diff(of_edge[order])) + 1)
    found = []
    for group in groups:
        extent = float(np.linalg.norm(np.ptp(mesh.vertices[group[:, 0]], axis=0)))
        own = mesh.vertices[piece == piece[group[0, 0]]]
        if extent < RIM * float(np.linalg.norm(np.ptp(own, axis=0))):
            found.append((group, extent))
    return found


def duplicated(mesh: TriangleMesh) -> Bools:
    """Mark triangles that have the corners of an earlier one, (m,)."""
    _, first = np.unique(np.sort(mesh.triangles, axis=1), axis=0, return_index=True)
    again = np.ones(len(mesh.triangles), dtype=bool)
    again[first] = False
    return again


def flipped(mesh: TriangleMesh) -> Bools:
    """Mark triangles that face the other way than most of their piece, (m,).

    Two neighbours that face alike run along their common edge in opposite directions. Patches
    that face alike are told apart first; then whole patches are turned, from the largest on.
    """
    directed = mesh.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
    owner = np.repeat(np.arange(len(mesh.triangles)), 3)
    keys = directed.min(axis=1) * len(mesh.vertices) + directed.max(axis=1)
    order = np.argsort(keys, kind="stable")
    same = np.flatnonzero(np.diff(keys[order]) == 0)
    one, other = order[same], order[same + 1]
    agree = directed[one, 0] == directed[other, 1]
    count = len(mesh.triangles)
    shape = (count, count)
    links = coo_array((np.ones(agree.sum()), (owner[one[agree]], owner[other[agree]])), shape=shape)
    _, patch = connected_components(links, directed=False)
    turned = np.zeros(int(patch.max()) + 1, dtype=np.int8)
    size = np.bincount(patch)
    against = np.unique(
        np.sort(np.stack([patch[owner[one[~agree]]], patch[owner[other[~agree]]]], axis=1), axis=1),
        axis=0,
    )
    known = np.zeros(len(turned), dtype=bool)
    for root in np.argsort(-size):
        if known[root]:
            continue
        known[root] = True
        edge = [int(root)]
        while edge:
            here = edge.pop()
            near = np.concatenate(
                [against[against[:, 0] == here, 1], against[against[:, 1] == here, 0]]
            )
            for patch_number in near[~known[near]]:
                known[patch_number] = True
                turned[patch_number] = 1 - turned[here]
                edge.append(int(patch_number))
    return turned[patch] == 1
