"""Regions of a scan as sets of vertices, and the ways to choose them.

A region is a boolean mask over the vertices. A triangle belongs to it when all its corners do.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.scan.curvature import RINGS, bend
from usual_clay.core.scan.mesh import TriangleMesh

# Holes in a fresh spread smaller than this share of it are noise, and are filled.
SMALL_GAP = 0.01


def spread(mesh: TriangleMesh, seed: int, amount: float = 0.4) -> Bools:
    """Grow a region from a vertex over what is smooth.

    It goes on while the normal has turned less than ``180 * amount`` degrees from the seed's
    and while the surface bends less than a crease does. A crease is where normals turn by more
    than 15 (amount 0) to 45 degrees (amount 1) over the distance they are smoothed over.

    Parameters
    ----------
    seed : int
        Vertex to start from.
    amount : float
        0 to 1.

    Returns
    -------
    (n,) mask
    """
    normals, curvature = bend(mesh)
    widest_turn = np.pi * float(np.clip(amount, 0.0, 1.0))
    crease = _crease(mesh, amount)
    # At 1 the turn is no limit at all.
    turned = normals @ normals[seed] < np.cos(widest_turn) if amount < 1 else False
    smooth = ~(turned | (curvature > crease))
    smooth[seed] = True
    region = island_of(mesh, smooth, seed)
    return fill_gaps(mesh, region, int(SMALL_GAP * region.sum()))


def smooth_parts(mesh: TriangleMesh, amount: float = 0.4) -> Ints:
    """Number the smooth parts that creases divide a scan into, the largest 0, (n,).

    Creases are told as `spread` tells them; what lies on one goes to the part beside it.
    """
    _, curvature = bend(mesh)
    smooth = np.flatnonzero(curvature <= _crease(mesh, amount))
    number = np.full(len(mesh.vertices), -1)
    if not len(smooth):
        return np.zeros(len(mesh.vertices), dtype=np.int64)
    _, label = connected_components(mesh.neighbours[smooth][:, smooth], directed=False)
    rank = np.empty(int(label.max()) + 1, dtype=np.int64)
    rank[np.argsort(-np.bincount(label), kind="stable")] = np.arange(len(rank))
    number[smooth] = rank[label]
    edges = np.concatenate([mesh.edges, mesh.edges[:, ::-1]])
    for _ in range(2 * RINGS):
        into = edges[(number[edges[:, 0]] >= 0) & (number[edges[:, 1]] < 0)]
        if not len(into):
            break
        number[into[:, 1]] = number[into[:, 0]]
    return number


def within_creases(mesh: TriangleMesh, chosen: Bools, amount: float = 0.4) -> Bools:
    """Keep of what is chosen the smooth part that holds most of it."""
    number = smooth_parts(mesh, amount)
    own = number[chosen & (number >= 0)]
    return chosen & (number == np.argmax(np.bincount(own))) if len(own) else chosen


def _crease(mesh: TriangleMesh, amount: float) -> float:
    """Return the curvature, 1/mm, from which a bend is a crease."""
    return float(np.radians(15 + 30 * amount) / max(RINGS * mesh.edge_length, 1e-12))


def brush(mesh_tree: cKDTree, normals: Floats, at: Floats, radius: float, facing: Floats) -> Ints:
    """Return the vertices within `radius` mm of a point that face towards `facing`."""
    near = np.array(mesh_tree.query_ball_point(at, radius), dtype=np.int64)
    return near[normals[near] @ facing > 0] if len(near) else near


def grow(mesh: TriangleMesh, region: Bools) -> Bools:
    """Add one ring of neighbours."""
    return region | (mesh.neighbours @ region.astype(float) > 0)


def shrink(mesh: TriangleMesh, region: Bools) -> Bools:
    """Take one ring of vertices away."""
    return ~grow(mesh, ~region)


def fill_gaps(mesh: TriangleMesh, region: Bools, largest: int) -> Bools:
    """Add islands of left-out vertices that count at most `largest`."""
    outside = np.flatnonzero(~region)
    if not len(outside):
        return region
    _, label = connected_components(mesh.neighbours[outside][:, outside], directed=False)
    small = np.bincount(label) <= largest
    filled = region.copy()
    filled[outside[small[label]]] = True
    # Where all is small, the outside itself is no gap.
    return region if filled.all() and not region.all() and small.all() else filled


def region_triangles(mesh: TriangleMesh, region: Bools) -> Ints:
    """Return the indices of the triangles whose corners are all in the region."""
    return np.flatnonzero(region[mesh.triangles].all(axis=1))


def region_mesh(mesh: TriangleMesh, region: Bools) -> tuple[Floats, Ints]:
    """Return the region's own vertices and triangles, numbered anew."""
    kept = mesh.triangles[region_triangles(mesh, region)]
    used, triangles = np.unique(kept, return_inverse=True)
    return mesh.vertices[used], triangles.reshape(-1, 3)


def triangles_within(mesh: TriangleMesh, vertices: Ints) -> Ints:
    """Return the triangles between chosen vertices, rising, numbered as these are."""
    place = np.full(len(mesh.vertices), -1)
    place[vertices] = np.arange(len(vertices))
    corners = place[mesh.triangles]
    return corners[(corners >= 0).all(axis=1)]


def island_of(mesh: TriangleMesh, allowed: Bools, seed: int) -> Bools:
    """Return the connected part of a mask that holds a vertex."""
    inside = np.flatnonzero(allowed)
    _, label = connected_components(mesh.neighbours[inside][:, inside], directed=False)
    region = np.zeros(len(allowed), dtype=bool)
    region[inside[label == label[np.searchsorted(inside, seed)]]] = True
    return region
