"""The smooth course of an ordered run of points, and the points that leave it."""

from __future__ import annotations

import numpy as np
from scipy.linalg import lstsq, solveh_banded

from usual_clay.core.arrays import Bools, Floats, Ints

# The course bends over about so many points. Stiff, it is not drawn along by a slip of a few
# points; but it cuts tight turns.
STIFF, BENDING = 12.0, 6.0
LONGEST_SLIP = 8
# Where a run breaks off to a slip at an end, that is this share of the limit off where so many
# points inside lead to.
BREAKS_OFF, INSIDE = 0.5, 5
ROUNDS = 30
# Of points twice as far apart shape leaves at least so many times as much.
TWICE_AS_FAR = 4.0
# A point to which alone a run makes a detour has so many times that of those beside it.
DETOUR = 1.5
# A run's direction is told over one point in so many, and no more than so many either way.
DIRECTION_EACH, WIDEST = 50, 8
# Of a long run about so many places tell its noise.
TOLD_BY = 2000


def smooth_course(
    points: Floats,
    closed: bool = False,
    bending: float = BENDING,
    left_out: Bools | None = None,
) -> Floats:
    """Return the smooth course that most points of a run follow.

    Whittaker's smoother with third differences (Eilers 2003), made robust by Tukey's bisquare:
    points that leave the course lose their weight, so that a slip of several points does not
    drag it along.

    Parameters
    ----------
    points : (n, d) array
        In order along the run, about evenly spaced.
    closed : bool
        Whether the last point is followed by the first.
    bending : float
        The length, in points, below which shape is taken for noise.
    left_out : (n,) mask, optional
        Points that hold their place in the run but do not draw the course.

    Returns
    -------
    (n, d) array
        The place on the course that belongs to each point.
    """
    count = len(points)
    if count < 8:
        return points.copy()
    if closed:
        # The run is continued past both ends by itself; what is cut off again is the seam.
        margin = int(min(count, 4 * bending))
        around = np.arange(-margin, count + margin) % count
        out = None if left_out is None else left_out[around]
        return smooth_course(points[around], False, bending, out)[margin : margin + count]
    stiffness = (bending / (2 * np.pi)) ** 6
    believed = np.ones(count) if left_out is None else np.where(left_out, 1e-6, 1.0)
    kept = slice(None) if left_out is None else ~left_out
    weights = believed
    course = _whittaker(points, weights, stiffness)
    for _ in range(ROUNDS):
        away = np.linalg.norm(points - course, axis=1)
        scale = max(
            1.4826 * float(np.median(away[kept])), 1e-9 * float(np.ptp(points, axis=0).max())
        )
        inside = away < 5 * scale
        new = np.where(inside, (1 - (away / (5 * scale)) ** 2) ** 2, 0.0) * believed
        settled = float(np.abs(new - weights).max()) < 1e-3
        # A floor keeps the system definite where a whole stretch has lost its weight.
        weights = np.maximum(new, 1e-6)
        course = _whittaker(points, weights, stiffness)
        if settled:
            break
    return course


def noise_of(points: Floats) -> float:
    """Return the standard deviation of a coordinate's noise across a run, mm.

    From third divided differences, over the way along the run, of what lies across it: shape that
    is nearly a parabola over four points leaves none, however unevenly they are spaced. The median
    tells, which strays hardly move. Of sparse runs shape leaves some: the more of every other
    point, where noise would leave as much.

    Parameters
    ----------
    points : (n, 3) array
        In order.
    """
    left, wider = roughness_of(points), roughness_of(points[::2])
    shape = max(wider**2 - left**2, 0.0) / (TWICE_AS_FAR**2 - 1)
    return float(np.sqrt(max(left**2 - shape, 0.0)))


def roughness_of(points: Floats) -> float:
    """Return by how much four points in a row differ from a parabola across the run, mm.

    That is noise at the most; shape that sparse points cannot tell is in it too.
    """
    count = len(points)
    if count < 12:
        return 0.0
    wide = int(np.clip(count // DIRECTION_EACH, 1, WIDEST))
    middle = np.arange(0, count - 3, max(1, count // TOLD_BY))
    four = points[middle[:, None] + np.arange(4)]
    ahead = points[np.minimum(middle + 3 + wide, count - 1)] - points[np.maximum(middle - wide, 0)]
    ahead /= np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-300)
    some = points[:: max(1, count // TOLD_BY)]
    flat = np.linalg.svd(some - some.mean(axis=0), full_matrices=False)[2][2]
    side = np.cross(flat, ahead)
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-300)
    along = np.einsum("nik,nk->ni", four - four[:, :1], ahead)
    apart = along[:, :, None] - along[:, None] + np.eye(4)
    least = 1e-9 * float(np.abs(along).max(initial=0.0)) + 1e-300
    apart = np.where(np.abs(apart) < least, least, apart)
    share = 1 / apart.prod(axis=2)
    share /= np.linalg.norm(share, axis=1, keepdims=True)
    rest = np.einsum("ni,nik->nk", share, four)
    across = [np.einsum("nk,nk->n", rest, axis) for axis in (side, np.cross(ahead, side))]
    return max(1.4826 * float(np.median(np.abs(each))) for each in across)


def _whittaker(points: Floats, weights: Floats, stiffness: float) -> Floats:
    """Solve (W + stiffness D'D) course = W points, D the third differences, as a band."""
    count = len(points)
    pattern = np.array([-1.0, 3.0, -3.0, 1.0])
    band = np.zeros((4, count))
    for offset in range(4):
        for start in range(4 - offset):
            size = count - 3
            band[offset, start : start + size] += pattern[start] * pattern[start + offset]
    band *= stiffness
    band[0] += weights
    return np.asarray(solveh_banded(band, weights[:, None] * points, lower=True))


def suggest_slips(
    points: Floats, limit: float, closed: bool = False, left_out: Bools | None = None
) -> Bools:
    """Mark the points that leave their run's smooth course by more than `limit` mm, (n,).

    A stretch that strays for longer than a slip lasts is shape, and is looked at again against a
    course that bends more. What is left is looked at once more against a course made of the other
    points alone. Still only a suggestion: a true corner leaves the smooth course too. Points that
    are left out already hold their place in the run, and are not marked. Nor are ends that go on
    from the run smoothly: no course reaches past them.
    """
    out = np.zeros(len(points), dtype=bool) if left_out is None else left_out
    course = smooth_course(points, closed, STIFF, out)
    strays = (np.linalg.norm(points - course, axis=1) > limit) & ~out
    long = _run_lengths(strays, closed) > LONGEST_SLIP
    course = smooth_course(points, closed, left_out=out)
    freer = np.linalg.norm(points - course, axis=1) > limit
    strays = np.where(long, freer, strays) & ~out
    if not strays.any() or len(points) < 8:
        return strays
    margin = min(len(points), 40) if closed else 0
    around = np.arange(-margin, len(points) + margin) % len(points)
    weights = np.where((strays | out)[around], 1e-6, 1.0)
    freely = _whittaker(points[around], weights, (BENDING / 2 / (2 * np.pi)) ** 6)
    course = freely[margin : margin + len(points)]
    strays &= np.linalg.norm(points - course, axis=1) > limit
    return strays if closed else strays & ~_smooth_ends(points, strays, limit)


def _smooth_ends(points: Floats, strays: Bools, limit: float) -> Bools:
    """Mark the strays at either end that follow on what lies inside of them without a break.

    A parabola through the nearest points inside tells where the next one is to be, or a cubic.
    """
    smooth = np.zeros(len(points), dtype=bool)
    usual = float(np.median(np.linalg.norm(np.diff(points, axis=0), axis=1)))
    for way in (slice(None), slice(None, None, -1)):
        run, out = points[way], strays[way]
        at_end = int(np.argmin(out))
        inside = np.flatnonzero(~out)[:INSIDE]
        if not at_end or len(inside) < INSIDE:
            continue
        local = run[[at_end - 1, *inside]] - run[at_end]
        ahead = local[1] - local[-1]
        step = float(np.linalg.norm(ahead)) / (INSIDE - 1)
        if not min(step, usual) > 0:
            continue
        ahead /= np.linalg.norm(ahead)
        along = local @ ahead
        across = local - np.outer(along, ahead)
        places = np.vander(along / step, 4)
        off = min(
            float(
                np.linalg.norm(across[0] - places[0, -k:] @ lstsq(places[1:, -k:], across[1:])[0])
            )
            for k in (3, 4)
        )
        # Farther out it is the less certain, and where points lie farther apart than usual.
        if off <= BREAKS_OFF * limit * (max(along[0], step) / min(step, usual)) ** 2:
            smooth[way][:at_end] = True
    return smooth


def lone_strays(points: Floats, limit: float, closed: bool = False) -> Bools:
    """Mark the points to which alone a run makes a detour of more than `limit` mm, (n,).

    It tells strays also where points lie so far apart, or so unevenly, that there is no smooth
    course. The way there and back is to be more than twice that from the one before to the one
    behind, and more of a detour than those to the points beside it.
    """
    ring = np.concatenate([points[-1:], points, points[:1]]) if closed else points
    legs = np.linalg.norm(np.diff(ring, axis=0), axis=1)
    across = np.linalg.norm(ring[2:] - ring[:-2], axis=1)
    detour = legs[:-1] + legs[1:] - across
    beside = np.pad(detour, 1)
    out = (detour > limit) & (detour > across)
    out &= detour > DETOUR * np.maximum(beside[:-2], beside[2:])
    return out if closed else np.pad(out, 1)


def _run_lengths(marked: Bools, closed: bool) -> Ints:
    """Return for each marked point how many neighbours in a row are marked, 0 for others."""
    count = len(marked)
    shift = int(np.argmin(marked)) if closed and not marked.all() else 0
    turned = np.roll(marked, -shift)
    number = np.cumsum(np.diff(turned, prepend=False) != 0)
    lengths = np.where(turned, np.bincount(number, minlength=count + 1)[number], 0)
    return np.roll(lengths, shift)


def usual_slip_limit(points: Floats, closed: bool = False, left_out: Bools | None = None) -> float:
    """Return a limit for slips to begin with: eight times what most points stray, mm."""
    away = np.linalg.norm(points - smooth_course(points, closed, left_out=left_out), axis=1)
    away = away if left_out is None else away[~left_out]
    return float(max(8 * 1.4826 * np.median(away), 1e-9))
