"""Putting loose points in order along a path."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints

NEAREST = 8


def order_along_path(points: Floats, gap: float | None = None) -> list[Ints]:
    """Order points along the paths they lie on.

    The paths are the minimum spanning trees of the graph of nearest neighbours, cut at gaps; a
    point's place is its distance along the tree from the tree's far end, so that a thin cloud is
    unrolled rather than walked through to and fro.

    Parameters
    ----------
    points : (n, d) array
    gap : float, optional
        Steps longer than this, in mm, part two paths; eight times the middle distance to
        a point's second neighbour by default.

    Returns
    -------
    list of index arrays
        One for each path, the longest first. A closed path is cut at its longest step.
    """
    count = len(points)
    if count < 3:
        return [np.arange(count)]
    near = min(NEAREST, count - 1) + 1
    distance, index = cKDTree(points).query(points, near)
    distance, index = distance[:, 1:], index[:, 1:]
    limit = 8 * float(np.median(distance[:, 1])) if gap is None else gap
    rows = np.repeat(np.arange(count), near - 1)
    # Points on one spot are a step of no length, which a sparse graph would take for none.
    length = np.maximum(distance.ravel(), 1e-12)
    kept = length <= max(limit, 1e-9)
    graph = coo_array((length[kept], (rows[kept], index.ravel()[kept])), shape=(count, count))
    tree = minimum_spanning_tree(graph.tocsr())
    tree = tree + tree.T
    parts, label = connected_components(tree, directed=False)
    members = np.split(np.argsort(label, kind="stable"), np.cumsum(np.bincount(label))[:-1])
    paths = [_unrolled(tree, part) for part in members[:parts]]
    return sorted(paths, key=len, reverse=True)


def _unrolled(tree: coo_array, members: Ints) -> Ints:
    """Return one tree's points by their distance along it from its far end."""
    far, _ = _along(tree, int(members[0]))
    end = int(far[-1])
    found, distance = _along(tree, end)
    return found[np.argsort(distance, kind="stable")]


def _along(tree: coo_array, start: int) -> tuple[Ints, Floats]:
    """Return the points of a tree and their distances from one of them, the farthest last."""
    found, before = breadth_first_order(tree, start, directed=False)
    csr = tree.tocsr()
    step = np.zeros(csr.shape[0])
    children = found[1:]
    step[children] = np.asarray(csr[before[children], children]).ravel()
    depth = np.zeros(csr.shape[0])
    # Halving the way to the root makes distances of all points in a few rounds.
    ancestor = np.full(csr.shape[0], start)
    ancestor[children] = before[children]
    depth[children] = step[children]
    while (ancestor[found] != start).any():
        depth[found] += depth[ancestor[found]]
        ancestor[found] = ancestor[ancestor[found]]
    distance = depth[found]
    order = np.argsort(distance, kind="stable")
    return found[order].astype(np.int64), distance[order]
