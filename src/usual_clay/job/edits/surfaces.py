"""Edits of surfaces shaped by hand: rows, columns, degrees, and the net itself: job in, job out."""

from __future__ import annotations

from collections import deque
from dataclasses import replace
from itertools import islice
from weakref import WeakSet

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.live import LiveFeet, live_feet
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points, homogeneous
from usual_clay.core.spline.knots import removal_residuals, remove_knot
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.edits.judging import ON_RIM
from usual_clay.job.items import Curve, Item, Surface
from usual_clay.job.job import Job, measured_points

# Along each curve that judges a surface.
PLACES = 120
# So many of the rows or columns are tried that seem to be needed least.
REMOVALS = 4


def live_of_surface(job: Job, surface: Surface) -> LiveFeet | None:
    """Return the feet of what judges a surface, for the drag that begins."""
    measured = job.measured(surface)
    points = None if measured is None else measured_points(job, measured)
    if points is None:
        places = None if surface.watches else places_of_curves(job, surface)
        return None if places is None else live_feet(surface.geometry, places)
    if surface.signed is not None:
        for feet in _latest:
            if feet.surface is surface.geometry and np.array_equal(feet.points, points):
                # One drag after the other: they lie where the last one left them.
                return replace(feet, signed=surface.signed)
    return live_feet(surface.geometry, points, surface.signed)


def away_from_curves(job: Job, surface: Surface, share: float) -> list[tuple[str, float, float]]:
    """Return how far the curves that a surface follows lie off, the farthest first.

    Returns
    -------
    list of (name, farthest, distance at the share), mm
    """
    found = []
    for curve, places in _followed(job, surface):
        off = np.abs(foot_points(surface.geometry, places).signed)
        found.append((curve.name, float(off.max()), float(np.quantile(off, share))))
    return sorted(found, key=lambda each: -each[1])


def places_of_curves(job: Job, surface: Surface) -> Floats | None:
    """Return places along the curves that a surface follows, or followed, (n, 3)."""
    along = [places for _, places in _followed(job, surface)]
    return np.concatenate(along) if along else None


def _followed(job: Job, surface: Surface) -> list[tuple[Curve, Floats]]:
    """Return the curves that a surface follows, or followed, with places along each."""
    recipe = surface.follows
    ids = dict.fromkeys(() if recipe is None else recipe.sources)
    curves = [curve for each in ids if (curve := job.get(each, Curve)) is not None]
    return [(c, curve_points(c.geometry, np.linspace(*c.geometry.domain, PLACES))) for c in curves]


# Those whose distances were only followed: what judges them is to be measured anew.
_followed_only: WeakSet[Surface] = WeakSet()
# The feet that were followed last.
_latest: deque[LiveFeet] = deque(maxlen=1)


def forget_feet() -> None:
    """Let go of the feet that were followed last, and of the points that they belong to."""
    _latest.clear()


def reshaped_surface(
    job: Job,
    surface: Surface,
    geometry: BSplineSurface,
    live: LiveFeet | None = None,
    is_part: bool = False,
) -> Surface:
    """Return a surface with a geometry made by hand: it is fitted no more, and still judged; a part
    of one by the scan that lies over it alone.

    Parameters
    ----------
    live : LiveFeet, optional
        Of what judges it: on the new geometry, or on the surface as it was. Then they are followed,
        which is far sooner done than to measure anew, and not always right: that
        `is_followed_only` tells.
    """
    made = _by_hand(job, surface, geometry)
    if is_part and (judged := _judged_within(job, made)) is not None:
        return judged
    if live is None:
        return measured_anew(job, made)
    feet = live.follow(geometry)
    _latest.append(feet)
    made = _with_feet(made, feet)
    if live.surface is not geometry:
        _followed_only.add(made)
    return made


def retold_surface(
    job: Job, surface: Surface, geometry: BSplineSurface, turned: bool = False
) -> Surface:
    """Return a surface whose shape is told by another net: what judges it lies as far off as
    before.

    Parameters
    ----------
    turned : bool
        Whether its normals face the other way now.
    """
    made, signed = _by_hand(job, surface, geometry), surface.signed
    measured = job.measured(made)
    points = None if measured is None else measured_points(job, measured)
    if signed is None or (made.watches and (points is None or len(points) != len(signed))):
        return measured_anew(job, made)
    made = replace(made, signed=-signed if turned and made.watches else signed)
    if is_followed_only(surface):
        _followed_only.add(made)
    return made


def is_followed_only(surface: Surface) -> bool:
    """Tell whether distances of what judges a surface were followed, and not measured."""
    return surface in _followed_only


def measured_anew(job: Job, surface: Surface) -> Surface:
    """Return a surface with what judges it measured, all of it."""
    feet = live_of_surface(job, replace(surface, signed=None))
    return surface if feet is None else _with_feet(surface, feet)


def all_measured(job: Job) -> Job:
    """Return a job in which what was only followed is measured, as it is to be kept."""
    for surface in [each for each in job.all(Surface) if is_followed_only(each)]:
        job = job.with_item(measured_anew(job, surface))
    return job


def is_measured_of(job: Job, followed: Job) -> bool:
    """Tell whether a job is another one in which nothing but what was followed is measured now."""
    same = job.name == followed.name and job.tolerance == followed.tolerance
    if not same or list(job.items) != list(followed.items):
        return False
    return all(
        now is old
        or (isinstance(old, Surface) and is_followed_only(old) and _is_but_measured(now, old))
        for now, old in zip(job.items.values(), followed.items.values(), strict=True)
    )


def _is_but_measured(item: Item, old: Surface) -> bool:
    return all(vars(item).get(key) is value for key, value in vars(old).items() if key != "signed")


def _by_hand(job: Job, surface: Surface, geometry: BSplineSurface) -> Surface:
    """Return a surface with a geometry made by hand, not judged yet."""
    made = replace(
        surface, geometry=geometry, recipe=None, made_of=None, former=surface.follows,
        candidates=(), signed=None,
    )  # fmt: skip
    region = job.region_of(surface)
    if surface.inside is None or region is None:
        return made
    # What judged it stays so, whatever becomes of the region that it followed.
    return replace(made, watches=region.scan, inside=region.vertices)


def _with_feet(surface: Surface, feet: LiveFeet) -> Surface:
    # To its curves it has a distance and no side.
    return replace(surface, signed=feet.signed if surface.watches else np.abs(feet.signed))


def _judged_within(job: Job, part: Surface) -> Surface | None:
    """Return a part of a surface judged by the scan that lies over it; None where there is none."""
    region = job.region_of(part)
    points = None if region is None else measured_points(job, region)
    if region is None or points is None:
        return None
    feet = foot_points(part.geometry, points)
    over = np.maximum(np.abs(feet.u - 0.5), np.abs(feet.v - 0.5)) < 0.5 - ON_RIM
    if not over.any():
        return None
    return replace(
        part, watches=region.scan, inside=region.vertices[over], signed=feet.signed[over]
    )


def neighbours_of(surface: BSplineSurface, index: int) -> list[int]:
    """Return the control points at the other ends of a control point's legs."""
    nu, nv = surface.counts
    i, j = divmod(index, nv)
    near = ((i - 1, j), (i + 1, j), (i, j - 1), (i, j + 1))
    return [a * nv + b for a, b in near if 0 <= a < nu and 0 <= b < nv]


def chosen_with(surface: BSplineSurface, index: int, pick: str) -> frozenset[int]:
    """Return what a click on a control point chooses: it alone, its row, or its column."""
    nu, nv = surface.counts
    i, j = divmod(index, nv)
    if pick == "row":
        return frozenset(i * nv + k for k in range(nv))
    if pick == "column":
        return frozenset(k * nv + j for k in range(nu))
    return frozenset((index,))


def reach_weights(surface: BSplineSurface, which: Ints, reach: float, falloff: str) -> Floats:
    """Return how far each control point follows the chosen ones, (nu * nv,): 1 for these.

    The reach is counted in legs of the net; the falloff is round, straight or sharp.
    """
    nu, nv = surface.counts
    weights = np.zeros(nu * nv)
    weights[which] = 1.0
    if reach <= 0:
        return weights
    i, j = np.divmod(np.arange(nu * nv), nv)
    ci, cj = np.divmod(which, nv)
    away = np.hypot(i[:, None] - ci, j[:, None] - cj).min(axis=1) / (reach + 1)
    share = np.clip(1 - away, 0, 1)
    shaped = {"round": share**2 * (3 - 2 * share), "straight": share, "sharp": share**2}[falloff]
    return np.maximum(shaped, weights)


def whole_lines(surface: BSplineSurface, chosen: frozenset[int]) -> list[BSplineCurve]:
    """Return the rows and columns of a net that are chosen whole, each as the curve that it is."""
    nu, nv = surface.counts
    if len(chosen) < min(nu, nv) or max(chosen) >= nu * nv:
        return []
    mask = np.zeros(nu * nv, dtype=bool)
    mask[sorted(chosen)] = True
    net, weights = surface.points, surface.weights
    lines = []
    for along, knots, points, weight in (
        (mask.reshape(nu, nv), surface.knots_v, net, weights),
        (
            mask.reshape(nu, nv).T,
            surface.knots_u,
            net.swapaxes(0, 1),
            None if weights is None else weights.T,
        ),
    ):
        for k in np.flatnonzero(along.all(axis=1)):
            lines.append(BSplineCurve(knots, points[k], None if weight is None else weight[k]))
    return lines


def line_removal(surface: Surface, direction: str) -> tuple[BSplineSurface, float] | None:
    """Return a surface with the row or column less that costs least, and what that costs, mm."""
    geometry = surface.geometry
    knots = geometry.knots_u if direction == "u" else geometry.knots_v
    degree = geometry.degrees[0 if direction == "u" else 1]
    inner = knots[degree + 1 : -degree - 1]
    if not len(inner):
        return None
    rows = homogeneous(geometry.points, geometry.weights)
    rows = rows if direction == "u" else rows.transpose(1, 0, 2)
    quick = removal_residuals(knots, rows.reshape(len(rows), -1))
    # The quick measure tells which few it may be; each of these is tried.
    few = dict.fromkeys(inner[np.argsort(quick, kind="stable")].tolist())
    tried = (remove_knot(geometry, t, direction) for t in islice(few, REMOVALS))
    return min(tried, key=lambda pair: pair[1])
