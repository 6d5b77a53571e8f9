"""Where a fit sets out from, and the step in which points slide along the surface they are near."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from usual_clay.core.arrays import Floats, dots
from usual_clay.core.blocks import in_blocks
from usual_clay.core.check.curvature import Bent, bent, dot
from usual_clay.core.fit.solve.regular import energy_along
from usual_clay.core.fit.solve.system import (
    FixedControlPoints,
    Space,
    energy_band,
    fit_control_points,
    hold,
    lies_across,
    normal_equations,
    solved,
)
from usual_clay.core.spline.closest import FootPoints
from usual_clay.core.spline.surface import (
    BSplineSurface,
    surface_derivatives,
    swap_directions,
)

# Along the surface a point counts for no less than this, which keeps its parameters in order; for
# more where borders that do not slide must go with it.
LEAST_ALONG, LEAST_WITHIN = 0.001, 0.03
# Without knots that change meanwhile, points come to rest in fewer rounds with less.
LEAST_AT_REST = 0.0001
# Points as far off as this share of the surface's size, in the mean, do not slide; nearer ones the
# more, as the square. So many of them tell.
TOO_FAR, LOOKED_AT = 0.02, 500
# Points as far off as this share of the surface's narrower side stay at their parameters.
TOO_NARROW = 0.1
# From its home a point is held as if this share of the size were worth what they are off in the
# mean, but no more firmly than so much.
AT_HOME, MOST_HELD = 0.002, 0.03
# Parameter lines that bend within the surface as much as a quarter circle along each side cost as
# much as this share of what points are off, squared.
CALM = 0.05
# A surface may bend by so many radians, squared, in all; one that bends more costs as much less for
# it, down to one part in so many.
BENT, MOST_BENT = 300.0, 10.0
# The places of a symmetric matrix of 3 x 3 that are kept.
PLACES = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))
# A net of more control points, times those across, takes too long to solve with all coordinates
# at once.
LARGEST = 125_000


class Start(NamedTuple):
    """Where a fit sets out from.

    Attributes
    ----------
    u, v : (n,) arrays
        The points' parameters.
    weights : (n,) array
        How far each point is believed.
    near : BSplineSurface or None
        The surface on which these are the points' feet, where there is one already.
    home : (4, n) array or None
        Parameters near which points are to stay, u and v, and how firmly they are held to each,
        from 0 to 1.
    """

    u: Floats
    v: Floats
    weights: Floats
    near: BSplineSurface | None = None
    home: Floats | None = None

    def every(self, step: int) -> Start:
        """Return that of an even choice of the points."""
        home = None if self.home is None else self.home[:, ::step]
        return Start(self.u[::step], self.v[::step], self.weights[::step], self.near, home)

    def places(self, size: tuple[float, float]) -> Floats:
        """Return where the points lie on a base of that size, (n, 2), mm."""
        return np.column_stack([self.u * size[0], self.v * size[1]])


class Pulls(NamedTuple):
    """How points pull at a surface that they slide along.

    Attributes
    ----------
    matrix : (6, n) array
        How much each direction counts: the places `PLACES` of a symmetric matrix for each point.
    aims : (n, 3) array
        Where they pull to: the points, moved along the surface towards their homes.
    near : BSplineSurface
        What they slide along.
    calm : float
        How much its parameter lines resist, mm squared.
    """

    matrix: Floats
    aims: Floats
    near: BSplineSurface
    calm: float = 0.0


def may_slide(space: Space) -> bool:
    """Tell whether a space is small enough for all coordinates to be solved for at once."""
    nu, nv = space.counts
    return nu * nv * min(nu, nv) <= LARGEST


def pulls_of(start: Start, points: Floats, least: float = LEAST_ALONG) -> Pulls | None:
    """Return how points pull that have their feet on a surface; None where there is none yet.

    The squared distance to a surface that bends is, near a foot, that across it and a part
    ``d / (d + r)`` of that along it, for the distance d and the radius r of the bend (Wang,
    Pottmann and Liu 2006, there for curves). A point that has its foot on an edge lies beyond
    it, where all directions count alike.

    Parameters
    ----------
    least : float
        What the directions along the surface count for at the least.
    """
    u, v, weights, surface, home = start
    if surface is None:
        return None
    some = slice(None, None, max(1, len(u) // LOOKED_AT))
    there, size = bent(surface, u[some], v[some]), float(np.sqrt(np.prod(sides_of(surface))))
    off = _how_far_off(there, points[some], weights[some]) / max(size, 1e-300)
    calm = CALM * (off * size) ** 2 / _how_bent(there, size)
    made = Pulls(np.empty((6, len(u))), np.empty_like(points), surface, calm)
    # Damping in proportion to the squared distance, as for Gauss-Newton's method (Yamashita and
    # Fukushima 2001): with large ones, sliding far would look worth its while.
    least = max(least, min(off / TOO_FAR, 1.0) ** 2)
    if home is not None:
        home = np.concatenate([home[:2], min((off / AT_HOME) ** 2, MOST_HELD) * home[2:]])

    def pull(block: slice) -> None:
        at = u[block], v[block], None if home is None else home[:, block]
        part = Pulls(made.matrix[:, block], made.aims[block], surface)
        _pulls(surface, at, points[block], least, part)

    in_blocks(len(u), pull)
    return made


def _how_far_off(there: Bent, points: Floats, weights: Floats) -> float:
    """Return how far points are off a surface in the mean, mm.

    Across it: how far some lie past its edge tells nothing of how well it follows the others, and
    would have its lines resist the more, the more they are to run on.
    """
    away = dot(points - there.points, there.normals)
    return float(np.sqrt(np.average(away**2, weights=weights + 1e-12)))


def _how_bent(there: Bent, size: float) -> float:
    """Return how many times as much a surface bends as one whose lines should hardly bend in it.

    Where a shape bends to and fro its lines do too, and would cost more than what it misses.
    """
    squares = there.least**2 + there.greatest**2
    return float(np.clip(np.mean(squares) * size**2 / BENT, 1.0, MOST_BENT))


def sides_of(surface: BSplineSurface) -> tuple[float, float]:
    """Return about how long a surface is and how wide, mm."""
    legs = (np.linalg.norm(np.diff(surface.points, axis=k), axis=2) for k in range(2))
    along, across = legs
    return float(along.sum(axis=0).mean()), float(across.sum(axis=1).mean())


def stepped(start: Start, feet: FootPoints, surface: BSplineSurface, weights: Floats) -> Start:
    """Return a start with its points brought to their feet: only part of the way from far off.

    Against a surface that cannot follow its points yet, feet lie anywhere across it where it is
    narrow, and would twist the next one.
    """
    off = np.sqrt(np.average(feet.signed**2, weights=weights + 1e-12))
    part = 1 - min(float(off) / max(TOO_NARROW * min(sides_of(surface)), 1e-300), 1.0) ** 2
    u, v = (
        old + part * (new - old) if part < 1 else new
        for old, new in ((start.u, feet.u), (start.v, feet.v))
    )
    return Start(u, v, weights, surface, start.home)


def _pulls(
    surface: BSplineSurface,
    at: tuple[Floats, Floats, Floats | None],
    points: Floats,
    least: float,
    out: Pulls,
) -> None:
    u, v, home = at
    place, su, sv, suu, suv, svv = surface_derivatives(surface, u, v, 2)

    normal = np.cross(su, sv, axis=0)
    area = np.maximum(np.sqrt(dots(normal, normal)), 1e-300)
    normal /= area
    a, b, c = dots(su, su), dots(su, sv), dots(sv, sv)
    bends = dots(suu, normal), dots(suv, normal), dots(svv, normal)
    mean = (a * bends[2] + c * bends[0] - 2 * b * bends[1]) / (2 * area**2)
    gauss = (bends[0] * bends[2] - bends[1] ** 2) / area**2
    # The root of the sum of the squared principal curvatures.
    curvature = np.sqrt(np.maximum(4 * mean**2 - 2 * gauss, 0.0))
    bent = np.abs(dots(points.T - place, normal)) * curvature
    along = np.maximum(bent / (1 + bent), least)
    aims = points.T
    if home is not None:
        home_u, home_v, hold_u, hold_v = home
        along = np.maximum(along, np.maximum(hold_u, hold_v))
        aims = aims - su * ((home_u - u) * hold_u / along) - sv * ((home_v - v) * hold_v / along)
    (u0, u1), (v0, v1) = surface.domain
    along[(u <= u0) | (u >= u1) | (v <= v0) | (v >= v1)] = 1.0
    for k, (i, j) in enumerate(PLACES):
        out.matrix[k] = (1 - along) * normal[i] * normal[j]
    out.matrix[:3] += along
    out.aims[:] = aims.T


def pulled(pulls: Floats, vectors: Floats) -> Floats:
    """Return vectors, (n, 3), times the matrices that `pulls_of` gives."""
    x, y, z = vectors.T
    xx, yy, zz, xy, xz, yz = pulls
    rows = (xx * x + xy * y + xz * z, xy * x + yy * y + yz * z, xz * x + yz * y + zz * z)
    return np.stack(rows, axis=1)


def fit_from(
    space: Space,
    points: Floats,
    start: Start,
    pulls: Pulls | None,
    stiffness: float,
    size: tuple[float, float],
    held: FixedControlPoints | None = None,
    loads: Floats | None = None,
) -> Floats:
    """Fit control points to points from where they stand, sliding where they have pulls.

    Parameters
    ----------
    loads : (nu, nv, 3, ...) array, optional
        As for `fit_control_points`.

    Returns
    -------
    (nu, nv, 3) array, or as `loads`

    Raises
    ------
    FitError
    """
    u, v, weights = start[:3]
    if pulls is None or not may_slide(space):
        return fit_control_points(space, u, v, points, weights, stiffness, size, held, loads)
    return fit_sliding(space, u, v, pulls, weights, stiffness, size, held, loads)


def fit_sliding(
    space: Space,
    u: Floats,
    v: Floats,
    pulls: Pulls,
    weights: Floats,
    stiffness: float,
    size: tuple[float, float],
    held: FixedControlPoints | None = None,
    loads: Floats | None = None,
) -> Floats:
    """Fit control points to points with known feet, with the `pulls` that those have there.

    The same least squares as `fit_control_points`, with a matrix for each point in place of a
    weight alone, so that the three coordinates are solved for together.

    Parameters
    ----------
    loads : (nu, nv, 3, ...) array, optional
        As for `fit_control_points`.

    Returns
    -------
    (nu, nv, 3) array, or as `loads`

    Raises
    ------
    FitError
    """
    if lies_across(space):
        held = None if held is None else held.turned()
        loads = None if loads is None else loads.swapaxes(0, 1)
        pulls = pulls._replace(near=swap_directions(pulls.near))
        fitted = fit_sliding(
            space.turned(), v, u, pulls, weights, stiffness, size[::-1], held, loads
        )
        return np.ascontiguousarray(fitted.swapaxes(0, 1))
    aims = pulled(pulls.matrix, pulls.aims)
    bands, right = normal_equations(space, u, v, aims, weights, pulls.matrix)
    side = (right if loads is None else loads).reshape(3 * len(right), -1)
    total = float(weights.sum())
    bands /= total
    bands[:3] += stiffness * energy_band(space, size)
    if pulls.calm > 0:
        bands += pulls.calm * energy_along(space, size, pulls.near, PLACES)
    band, side = _interleaved(bands), side / total
    if held is not None:
        known = np.repeat(held.which.ravel(), 3)
        hold(band, side, FixedControlPoints(known, held.points.reshape(len(known), -1)))
    shape = (*space.counts, 3) if loads is None else loads.shape
    return solved(space, band, side, 3).reshape(shape)


def _interleaved(bands: Floats) -> Floats:
    """Return the lower band of all three coordinates together, from one for each of `PLACES`.

    Unknowns lie coordinate by coordinate within each control point.
    """
    _, width, count = bands.shape
    band = np.zeros((3 * width, 3 * count))
    for k, (i, j) in enumerate(PLACES):
        band[j - i :: 3, i::3] = bands[k]
        if i != j:
            band[3 + i - j :: 3, j::3][: width - 1] = bands[k, 1:]
    return band
