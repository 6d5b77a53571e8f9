"""A guide brought near measured points between its curves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_array, csr_array
from scipy.sparse.linalg import spsolve
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.build.guide import Guide
from usual_clay.core.scan.moving_least_squares import evened_among
from usual_clay.core.scan.sample import Sample

# Where no measured point lies within so many of their usual distances, nothing was measured.
COVERED = 4.0
# Places that would move farther than this share of the guide's size stay.
FARTHEST = 0.2


def near(guide: Guide, sample: Sample, share: float) -> Guide:
    """Move what lies between a guide's curves onto measured points, evened of their noise.

    The curves stay; where nothing was measured the move fades smoothly from what surrounds it.

    Parameters
    ----------
    share : float
        How far: 0 leaves the guide as it is, 1 brings it there.
    """
    if share <= 0:
        return guide
    nu, nv, _ = guide.grid.shape
    places = guide.grid.reshape(-1, 3)
    points, normals = sample.gathered, sample.evened_normals[~sample.scattered]
    tree = cKDTree(points)
    landed = evened_among(points, normals, tree, places)
    usual = float(np.median(tree.query(points[:: max(1, len(points) // 2000)], 2)[0][:, 1]))
    size = float(np.ptp(places, axis=0).max())
    moved = landed - places
    far = np.linalg.norm(moved, axis=1) > FARTHEST * size
    covered = (tree.query(landed)[0] <= COVERED * usual) & ~far
    fixed = _on_curves(guide).ravel()
    known = fixed | covered
    moved[fixed] = 0.0
    filled = _faded(moved, known, (nu, nv), guide.closed)
    grid = guide.grid + share * filled.reshape(nu, nv, 3)
    return replace(guide, grid=grid, whole=True)


def _on_curves(guide: Guide) -> Bools:
    """Tell which places of a guide's grid lie on its curves or are its poles."""
    on = guide.on_curves
    for border in guide.poles:
        row = on if border[0] == "u" else on.T
        row[0 if border[1] == "0" else -1] = True
    return on


def _faded(moved: Floats, known: Bools, shape: tuple[int, int], closed: str) -> Floats:
    """Fill moves in between those that are known: each the mean of its neighbours'."""
    count = shape[0] * shape[1]
    number = np.arange(count).reshape(shape)
    pairs = []
    for axis, name in ((0, "u"), (1, "v")):
        later = np.roll(number, -1, axis=axis)
        keep = slice(None) if closed == name else slice(0, -1)
        cut = (keep, slice(None)) if axis == 0 else (slice(None), keep)
        pairs.append(np.stack([number[cut].ravel(), later[cut].ravel()], axis=1))
    pair = np.concatenate(pairs)
    pair = np.concatenate([pair, pair[:, ::-1]])
    links = csr_array(coo_array((np.ones(len(pair)), pair.T), shape=(count, count)))
    if known.all() or not known.any():
        return np.where(known[:, None], moved, 0.0)
    free = ~known
    degree = np.asarray(links.sum(axis=1))
    inner = links[free]
    system = coo_array((degree[free], (np.arange(free.sum()),) * 2)).tocsr() - inner[:, free]
    made = np.where(known[:, None], moved, 0.0)
    made[free] = spsolve(system.tocsc(), inner[:, known] @ moved[known]).reshape(-1, 3)
    return made
