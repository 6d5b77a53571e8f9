"""How large a scan's noise is, told from what local polynomials leave."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats

# Points of a patch.
PATCH = 24
# Robust fits are made so often, and leave out what is so many standard deviations off.
REWEIGHTED, LEFT_OUT = 3, 3.5
# Where a quartic leaves less than this share of what a quadratic does, the shape bends that much.
MUCH_LESS = 0.85
# A quartic is tried on one patch in so many.
FEWER = 3
# Of no more points than these, half of them tell noise from shape: what they leave so many times as
# much of is shape, of which half as many points leave about so many times the square.
SPARSE, GROWS, GROWN = 2_000, 1.5, 16.0


def estimate_noise(points: Floats, patches: int = 1500) -> float:
    """Estimate the noise from differences to local polynomials.

    Around each of `patches` points a height function is fitted to the nearest points in their
    principal frame, without those that it leaves far off; the median of the residual variances,
    divided by the median of the chi-square distribution, leaves creases out of account. A quartic
    tells by how much less than a quadratic it leaves where it is the shape that bends. Of few
    points that would be taken for noise which bends between them: half of them leave as much noise,
    and far more of a shape.

    Parameters
    ----------
    points : (n, 3) array

    Returns
    -------
    float
        Standard deviation across the surface, mm; 0 where there are too few points to tell.
    """
    if len(points) < 2 * PATCH:
        return 0.0
    all_leave = _leave(points, patches)
    if len(points) > SPARSE:
        return all_leave
    half = np.random.default_rng(0).permutation(len(points))[: len(points) // 2]
    half_leave = _leave(points[half], patches)
    if half_leave < GROWS * all_leave:
        return all_leave
    shape = (half_leave**2 - all_leave**2) / (GROWN - 1)
    return float(np.sqrt(max(all_leave**2 - shape, 0.0)))


def _leave(points: Floats, patches: int) -> float:
    """Return the standard deviation of what local polynomials leave of points."""
    centres = points[np.linspace(0, len(points) - 1, min(patches, len(points))).astype(int)]
    _, index = cKDTree(points).query(centres, PATCH, workers=2)
    local = points[index] - points[index].mean(axis=1, keepdims=True)
    _, _, axes = np.linalg.svd(local, full_matrices=False)
    local = local @ axes.transpose(0, 2, 1)
    quadratic, quartic = _left(local, 2), _left(local[::FEWER], 4)
    return quartic if quartic < MUCH_LESS * quadratic else quadratic


def _left(local: Floats, degree: int) -> float:
    """Return the standard deviation of what polynomials leave of patches, each in its frame."""
    # Slow to import, and not needed to show a finished job.
    from scipy.special import gammaincinv

    x, y, z = np.moveaxis(local, 2, 0)
    scale = np.sqrt((x**2 + y**2).mean(axis=1, keepdims=True)) + 1e-300
    x, y = x / scale, y / scale
    powers = [(whole - j, j) for whole in range(degree + 1) for j in range(whole + 1)]
    terms = np.stack([x**i * y**j for i, j in powers], axis=2)
    inside = np.ones(z.shape, dtype=bool)
    for _ in range(REWEIGHTED):
        rest = z - _polynomial(terms, z, inside)
        # The median of all is not moved by the spikes among them.
        scale = 1.4826 * np.median(np.abs(rest), axis=1, keepdims=True)
        inside = np.abs(rest) <= LEFT_OUT * np.maximum(scale, 1e-300)
    rest = np.where(inside, z - _polynomial(terms, z, inside), 0.0)
    free = np.maximum(inside.sum(axis=1) - terms.shape[2], 1)
    variance = (rest**2).sum(axis=1) / free
    usual = float(np.median(free))
    return float(np.sqrt(np.median(variance) * usual / (2 * gammaincinv(usual / 2, 0.5))))


def _polynomial(terms: Floats, z: Floats, inside: Bools) -> Floats:
    """Return the values of least squares over some of each patch's points, at all of them."""
    held = terms * inside[:, :, None]
    square = held.transpose(0, 2, 1) @ terms + 1e-12 * np.eye(terms.shape[2])
    side = (held * z[:, :, None]).sum(axis=1)
    return np.asarray((terms @ np.linalg.solve(square, side[:, :, None]))[:, :, 0])
