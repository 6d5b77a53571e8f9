"""Normals of loose points, by what lies about each."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints

# Points about one lie in a row where they spread so little across it, as a square of its length;
# then twice as many are looked at, of which so many tell, up to so many.
THIN, MOST_EVEN, MOST_ABOUT = 0.03, 32, 1024
# So many neighbours are looked up at a time, and those of about so many points that lie in rows.
LOOKED_UP, MOST_LOOKED_AT = 4_000_000, 4_000
# Which side faces out is told by so many points, by so many about each, of which so many hang
# together; they face alike where no more than this share face away from one of those.
CHOICES, ABOUT, TOGETHER, MOST_TURNED_OVER = (3_000, 800, 200), 8, 0.98, 0.004
# An even choice is made by cubes of this part of the size, then larger ones until it is small.
FINEST, COARSER = 250, 1.25
# Spikes have no say: of those about them most are askew to them by more, as a cosine.
ASKEW = 0.7


def plane_normals(points: Floats, about: int) -> Floats:
    """Return the normal of the plane through so many points about each or more, (n, 3)."""
    tree, every, many = cKDTree(points), np.arange(len(points)), min(about, len(points))
    normals, thin = _planes(points, tree, every, many)
    rows = left = every[thin][:: 1 + int(thin.sum()) // MOST_LOOKED_AT]
    while len(left) and many < min(MOST_ABOUT, len(points)):
        many = min(2 * many, len(points))
        normals[left], thin_still = _planes(points, tree, left, many)
        left = left[thin_still]
    if len(rows) < thin.sum():
        # Of very many in rows a choice tells what those beside them are.
        beside_it = cKDTree(points[rows]).query(points[thin], workers=2)[1]
        normals[thin] = normals[rows[beside_it]]
    return normals


def _planes(points: Floats, tree: cKDTree, which: Ints, many: int) -> tuple[Floats, Bools]:
    """Return the normals of the planes through so many points about some, and which of these lie
    in a row."""
    normals, thin = np.empty((len(which), 3)), np.empty(len(which), dtype=bool)
    for part in np.array_split(np.arange(len(which)), -(-len(which) * many // LOOKED_UP)):
        near = tree.query(points[which[part]], many, workers=2)[1].reshape(len(part), -1)
        # Of many about a point an even choice tells.
        away = points[near[:, :: max(1, many // MOST_EVEN)]]
        away = away - away.mean(axis=1, keepdims=True)
        spread, axes = np.linalg.eigh(np.einsum("nki,nkj->nij", away, away))
        normals[part] = axes[:, :, 0]
        thin[part] = spread[:, 1] < THIN * spread[:, 2]
    return normals, thin


def facing_alike(points: Floats, normals: Floats, up: Floats) -> Floats | None:
    """Return normals that face as those about them do, or None where that cannot be told.

    Points may lie close in rows: an even choice of them tells, so few that rows beside are near.

    Parameters
    ----------
    points, normals : (n, 3) arrays
        mm; unit normals that face `up`.
    up : (3,) array
    """
    if len(points) <= CHOICES[-1] or not np.ptp(points, axis=0).any():
        return None
    about = cKDTree(points).query(points, ABOUT + 1, workers=2)[1][:, 1:]
    even = np.abs(np.einsum("nk,nak->na", normals, normals[about]))
    calm = np.flatnonzero(np.median(even, axis=1) > ASKEW)
    for most in (each for each in CHOICES if each < len(calm)):
        chosen = calm[_even_choice(points[calm], most)]
        if len(chosen) <= ABOUT:
            continue
        own = normals[chosen]
        about = cKDTree(points[chosen]).query(points[chosen], ABOUT + 1, workers=2)[1][:, 1:]
        links = _links(np.ones(about.size), about, len(own))
        label = connected_components(links, directed=False)[1]
        if np.bincount(label).max() < TOGETHER * len(own):
            continue
        if not _turns_over(own, about):
            return normals
        own = _turned_alike(own, about, up)
        if _turns_over(own, about):
            return None
        nearest = cKDTree(points[chosen]).query(points, workers=2)[1]
        away = np.einsum("nk,nk->n", normals, own[nearest]) < 0
        return normals * np.where(away, -1.0, 1.0)[:, None]
    return None


def _even_choice(points: Floats, most: int) -> Ints:
    """Return about so many of the points or fewer, one of each cube."""
    low = points.min(axis=0)
    cell = float(np.ptp(points, axis=0).max()) / FINEST
    while True:
        cubes = np.floor((points - low) / cell).astype(np.int64) @ np.array([1, 1 << 20, 1 << 40])
        chosen = np.unique(cubes, return_index=True)[1]
        if len(chosen) <= most:
            return chosen
        cell *= COARSER


def _links(weights: Floats, about: Ints, count: int) -> csr_array:
    start = np.repeat(np.arange(len(about)), about.shape[1])
    return csr_array((weights, (start, about.ravel())), shape=(count, count))


def _turns_over(normals: Floats, about: Ints) -> bool:
    """Tell whether too many normals face away from one of those about them."""
    away = np.einsum("nk,nak->na", normals, normals[about]) < 0
    return float(away.any(axis=1).mean()) > MOST_TURNED_OVER


def _turned_alike(normals: Floats, about: Ints, up: Floats) -> Floats:
    """Return normals turned to face as those about them do.

    Along the tree of neighbours whose normals are the most parallel (Hoppe and others 1992), from
    that on which faces `up` or down the most.
    """
    count = len(normals)
    # Nothing is as near as not to be joined at all.
    askew = 1.0 + 1e-6 - np.abs(np.einsum("nk,nak->na", normals, normals[about])).ravel()
    tree = minimum_spanning_tree(_links(askew, about, count))
    root = int(np.argmax(np.abs(normals @ up)))
    before = breadth_first_order(tree, root, directed=False)[1]
    # What hangs on nothing stays as it is.
    before = np.where(before < 0, np.arange(count), before)
    sign = np.where(np.einsum("nk,nk->n", normals, normals[before]) < 0, -1.0, 1.0)
    # Twice as far up the tree each time.
    while (before != before[before]).any():
        sign, before = sign * sign[before], before[before]
    return normals * sign[:, None]
