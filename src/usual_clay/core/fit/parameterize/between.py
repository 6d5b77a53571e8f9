"""What lies between rows of loose points: places on a smooth surface through them."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import numpy as np
import scipy
from scipy.spatial import Delaunay, QhullError, cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.sample import Sample

# Of more points none lies alone; rows lie so many times as far apart as points within them.
MOST, APART = 20_000, 5.0
# Gaps are measured at so many places along the longer side. Guides lie so many to a gap, and fewer
# where there would be more than so many; where rows are very many, there are none.
PLACES, TO_A_GAP, MOST_GUIDES = 60, 4, 2_500
# Points lie one over another where more of them than this face the other way.
OVER = 0.02
# So many points about a guide lead it.
ABOUT = 60


def with_guides(sample: Sample) -> Sample:
    """Return loose points that lie in rows with guides between the rows, behind them.

    Between rows least squares alone may lead a surface anywhere. The guides lie on a thin plate
    through an even choice of the points, over the plane that fits all of them best, and count so
    little that they tell no more than what is not told by the points. Other samples are returned
    as they are.
    """
    if sample.has_mesh or sample.whole is not None or not 4 <= len(sample.points) <= MOST:
        return sample
    return sample if _wraps(sample) else _guided(sample)


def _wraps(sample: Sample) -> bool:
    """Tell whether loose points lie one over another, seen on the plane that fits all best."""
    if not sample.alike:
        return False
    across = np.linalg.svd(sample.points - sample.points.mean(axis=0), full_matrices=False)[2][2]
    away = float(np.mean(sample.normals @ across < 0))
    return min(away, 1 - away) > OVER


# Search, fit and judgement ask for the same ones; what is large is not held on to.
@lru_cache(maxsize=2)
def _guided(sample: Sample) -> Sample:
    try:
        found = _led(sample.points)
    except (QhullError, np.linalg.LinAlgError):
        # Points that hardly span an area tell of no other place.
        return sample
    if found is None:
        return sample
    guides, nearest = found
    return replace(
        sample,
        points=np.concatenate([sample.points, guides]),
        normals=np.concatenate([sample.normals, sample.normals[nearest]]),
        area=np.concatenate([sample.areas, np.ones(len(guides))]),
        guides=len(guides),
    )


def _led(points: Floats) -> tuple[Floats, Ints] | None:
    """Return guides between rows of points, (m, 3), and the point nearest to each; None where the
    points do not lie in rows."""
    middle = points.mean(axis=0)
    axes = np.linalg.svd(points - middle, full_matrices=False)[2]
    local = (points - middle) @ axes.T
    flat, height = local[:, :2], local[:, 2]
    tree, hull = cKDTree(flat), Delaunay(flat)
    spacing = float(np.median(tree.query(flat, 2, workers=2)[0][:, 1]))
    size = np.ptp(flat, axis=0)
    inside = _grid(flat, size.max() / PLACES)
    inside = inside[hull.find_simplex(inside) >= 0]
    gap = 2 * float(np.quantile(tree.query(inside, workers=2)[0], 0.9)) if len(inside) else 0.0
    pitch = max(gap / TO_A_GAP, float(np.sqrt(size[0] * size[1] / MOST_GUIDES)))
    if gap <= APART * spacing or pitch > gap / 2:
        return None
    places = _grid(flat, pitch)
    away, nearest = tree.query(places, workers=2)
    kept = (hull.find_simplex(places) >= 0) & (away > pitch / 2)
    even = np.unique(np.floor(flat / pitch), axis=0, return_index=True)[1]
    plate = scipy.interpolate.RBFInterpolator(
        flat[even], height[even], neighbors=min(ABOUT, len(even))
    )
    led = np.column_stack([places[kept], plate(places[kept])])
    return middle + led @ axes, nearest[kept]


def _grid(flat: Floats, pitch: float) -> Floats:
    """Return places so far apart over all of the points, (n, 2)."""
    low, high = flat.min(axis=0), flat.max(axis=0)
    ways = (np.arange(a + pitch / 2, b, pitch) for a, b in zip(low, high, strict=True))
    return np.stack(np.meshgrid(*ways, indexing="ij"), axis=2).reshape(-1, 2)
