"""A region laid flat on its base: seen from above, along a pull, by its own map, or round."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import percent
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.frame import (
    Frame,
    even_out,
    follow_sides,
    map_stretch,
    on_rectangle,
    slope_stretch,
)
from usual_clay.core.fit.parameterize.mirror import settle_mirror
from usual_clay.core.fit.parameterize.region import (
    FEWEST,
    FREE_EDGES,
    CastSettings,
    Parameterization,
    fewest_of,
)
from usual_clay.core.fit.parameterize.sides import (
    along_better,
    along_better_than_sheet,
    bend_better,
    bends_round,
    follows_better,
    frame_of,
    turned,
    winds,
)
from usual_clay.core.scan.flat_maps import FlatError
from usual_clay.core.scan.sample import Sample

# The share of points that may face away from the base before the region counts as folded.
MOST_FACING_AWAY = 0.02
# Of more than this share its map lies better than what is seen from above.
WRAPS = 0.001
# Normals that rise no more than this from the base, the sine of 20 degrees, stand on it.
STEEP = 0.35
# A surface is fitted with no more reach than this: by the rest it runs out when it is fitted.
TIGHT = 0.02
# A span bends by no more than this when a search for a region that winds begins.
A_SPAN = float(np.pi / 4)


class FoldsOverError(FitError):
    """The region cannot be seen whole from the side of its base plane."""


def parameterize(sample: Sample, settings: CastSettings) -> Parameterization:
    """Lay a region flat on its base rectangle.

    Raises
    ------
    FitError
        When there are too few points, or they span no area.
    FoldsOverError
        When the region folds over its base plane.
    """
    needed = settings.nu * settings.nv
    if len(sample.points) < needed:
        if needed > fewest_of(settings.degree) ** 2:
            why, less = "asked for", " or fewer control points"
        else:
            why = f"that a surface of degree {settings.degree} has at the least"
            less = " or a lower degree" if settings.degree >= FEWEST else ""
        raise FitError(
            f"the region has {len(sample.points)} points, fewer than the {needed} control points"
            f" {why}: choose a larger region{less}"
        )
    if settings.closed:
        return _laid_round(sample, settings, settings.closed)
    if settings.pull:
        return _laid_along(sample, settings)
    if settings.sides == "along":
        return _wound(sample, settings)
    frame = frame_of(sample, settings.frame, settings.plane)
    up = sample.telling[1] @ frame.axes[2]
    away = float(np.mean(up < 0))
    # A tube that widens faces its base all round, and is no less of a tube.
    steep = float(np.median(up)) < STEEP
    folds = away > MOST_FACING_AWAY or steep
    if (away > WRAPS or steep) and sample.hangs_together and not settings.symmetric:
        if sample.runs_round:
            return _laid_round(sample, settings, "v")
        try:
            return _unrolled(sample, settings)
        except FoldsOverError:
            # What spikes or noise alone keep from being laid flat is seen from above.
            if folds:
                raise
    if folds:
        how = (
            f"{percent(away)} of it faces away"
            if away > MOST_FACING_AWAY
            else "most of it stands upright"
        )
        raise FoldsOverError(
            f"the region folds over its base plane: {how}."
            " Choose a smaller region, or use the four-corner patch"
        )
    if settings.sides == "best" and not settings.symmetric:
        seen = settings.frame, settings.plane
        if winds(sample, *seen) or (sample.hangs_together and along_better(sample, *seen)):
            return _wound(sample, settings)
    return _seen_from_above(sample, settings, frame)


def _seen_from_above(sample: Sample, settings: CastSettings, frame: Frame) -> Parameterization:
    """Lay a region flat on its base rectangle, between its sides where those are followed."""
    telling, normals = sample.telling
    followed = settings.sides == "follow" or (
        settings.sides == "best" and follows_better(sample, settings.frame, settings.plane)
    )
    if not followed and settings.frame == "best" and not settings.symmetric and bend_better(sample):
        frame = frame_of(sample, "bend")
    u, v = np.clip((frame.local(sample.points)[:, :2] / frame.size).T, 0.0, 1.0)
    along, across, up = (normals @ frame.axes.T).T
    u, longer = even_out(u, u[telling], slope_stretch(along, up))
    if followed:
        # Between sides that are followed, knots are better spread on the base.
        v, wider = np.clip(follow_sides(u, v), 0.0, 1.0), 1.0
    else:
        v, wider = even_out(v, v[telling], slope_stretch(across, up))
    whole, past = _reach(settings)
    size = (float(frame.size[0]) * longer * whole, float(frame.size[1]) * wider * whole)
    u, v, mirror = 0.5 + (u - 0.5) / whole, 0.5 + (v - 0.5) / whole, None
    if settings.symmetric:
        mirror, u, v = settle_mirror(u, v, "xyz".index(settings.symmetric))
    return Parameterization(size, u, v, mirror, past=(past, past, past, past))


def _reach(settings: CastSettings) -> tuple[float, float]:
    """Return how large the fitted surface is for its region, and how far it runs out then.

    Edges that are held are those of the whole surface, and must be where they are while it is
    fitted.
    """
    if settings.edges != FREE_EDGES:
        return 1 + settings.reach, 0.0
    whole = 1 + min(settings.reach, TIGHT)
    return whole, ((1 + settings.reach) / whole - 1) / 2


def _laid_along(sample: Sample, settings: CastSettings) -> Parameterization:
    """Lay a region flat along a pull: parameters are places seen along it, and stay.

    A fit at such parameters is a height over that plane, as a spline reproduces them exactly.
    """
    plane = "xyz".replace(settings.pull, "")
    _, normals = sample.telling
    frame = frame_of(sample, "locked", plane)
    whole, past = _reach(settings)
    u, v = 0.5 + ((frame.local(sample.points)[:, :2] / frame.size).T - 0.5) / whole
    mirror = None
    if settings.symmetric:
        mirror, u, v = settle_mirror(u, v, "xyz".index(settings.symmetric))
    away = float(np.mean(normals @ frame.axes[2] < 0))
    words = ""
    if away > MOST_FACING_AWAY:
        words = f"{percent(away)} of the region is undercut along {settings.pull}: it is bridged"
    size = (float(frame.size[0]) * whole, float(frame.size[1]) * whole)
    return Parameterization(
        size, u, v, mirror, fixed=True, past=(past, past, past, past), words=words
    )


def _unrolled(sample: Sample, settings: CastSettings) -> Parameterization:
    """Lay a region flat that cannot be seen whole from one side, by its own map."""
    try:
        places = sample.sheet.places
    except FlatError as error:
        if settings.sides == "best" and bends_round(sample):
            return _wound(sample, settings)
        raise FoldsOverError(
            f"the region folds over its base plane, and {error}. Choose a smaller region, or use"
            " the four-corner patch"
        ) from None
    if settings.sides == "best" and along_better_than_sheet(sample):
        return _wound(sample, settings)
    u, v, size = on_rectangle(places)
    return _mapped(sample, settings, places, (u, v), size)


def _wound(sample: Sample, settings: CastSettings) -> Parameterization:
    """Lay a region flat along its own length, however it winds."""
    if not sample.hangs_together:
        raise FitError(
            "the region winds, and loose points do not tell how they hang together: choose a region"
            " of a scan instead"
        )
    try:
        places = sample.band.places
    except FlatError as error:
        raise FoldsOverError(
            f"the region cannot be laid along its length: {error}. Choose a smaller region, or use"
            " the four-corner patch"
        ) from None
    length, width = np.ptp(places, axis=0)
    u, v = (places - places.min(axis=0)).T / ((length,), (width,))
    made = _mapped(sample, settings, places, (u, v), (float(length), float(width)))
    words = "" if settings.sides == "along" else "the region winds: it is laid along its length"
    begin = FEWEST + round(turned(places, sample.points) / A_SPAN)
    return replace(made, words=words, begin=(begin, FEWEST))


def _mapped(
    sample: Sample,
    settings: CastSettings,
    places: Floats,
    uv: tuple[Floats, Floats],
    size: tuple[float, float],
) -> Parameterization:
    """Return the parameters of points in a map, so that they advance with the length in space.

    Parameters
    ----------
    places : (n, 2) array
        In the map, mm.
    uv : two (n,) arrays
        In [0, 1], on a rectangle about them.
    size : two float
        Of the rectangle, mm.
    """
    u, v = uv
    stretch = map_stretch(sample.points, places, sample.neighbours)
    u, longer = even_out(u, u, stretch)
    if settings.sides == "follow":
        v, wider = np.clip(follow_sides(u, v), 0.0, 1.0), 1.0
    else:
        v, wider = even_out(v, v, stretch)
    whole, past = _reach(settings)
    size = size[0] * longer * whole, size[1] * wider * whole
    u, v = 0.5 + (u - 0.5) / whole, 0.5 + (v - 0.5) / whole
    return Parameterization(size, u, v, past=(past, past, past, past))


def _laid_round(sample: Sample, settings: CastSettings, closed: str) -> Parameterization:
    """Lay a tube flat; it reaches past its ends only."""
    if not sample.hangs_together:
        raise FitError(
            "loose points do not tell how they run round: close a region of a scan instead"
        )
    try:
        flat = sample.tube
    except FlatError as error:
        raise FitError(str(error)) from None
    along, across = flat.places.T
    length = float(np.ptp(along))
    whole, past = _reach(settings)
    u = 0.5 + ((along - along.min()) / length - 0.5) / whole
    v = across / flat.round
    if closed == "u":
        size = flat.round, length * whole
        return Parameterization(size, v, u, closed="u", past=(0.0, 0.0, past, past))
    size = length * whole, flat.round
    return Parameterization(size, u, v, closed="v", past=(past, past, 0.0, 0.0))
