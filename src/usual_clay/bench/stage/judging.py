"""How surfaces look: stripes that they mirror, and their curvature, draft and slope as colours.

Each spot of a surface is coloured by the exact surface there, never by its triangles.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from usual_clay.bench.stage.colours import as_bytes
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Floats
from usual_clay.core.check.curvature import Bent, bent, draft_angle
from usual_clay.core.check.deviation import quantiles
from usual_clay.core.spline.surface import BSplineSurface

# Spots each way on a surface; stripes in half a turn of what is mirrored.
SPOTS, STRIPES = 320, 14
# What lies past this share of all values at either end does not set the scale.
ENDS = 0.02
SOFT = 6.0
UP = np.array([0.0, 0.0, 1.0])
# A radius below this is tight, mm.
TIGHT = 1.0


@dataclass(frozen=True)
class Judging:
    """One way to look.

    Attributes
    ----------
    title, unit : str
    value : callable or None
        ``value(bent)``: a number at each place; None for stripes.
    signed : bool
        Whether the scale lies evenly about nothing.
    """

    title: str
    unit: str = ""
    value: Callable[[Bent], Floats] | None = None
    signed: bool = True


JUDGINGS: dict[str, Judging] = {
    "stripes": Judging("Stripes"),
    "gaussian": Judging("Gaussian curvature", "/mm²", lambda found: found.gaussian),
    "mean": Judging("Mean curvature", "/mm", lambda found: found.mean),
    "greatest": Judging("Greatest curvature", "/mm", lambda found: found.greatest),
    "least": Judging("Least curvature", "/mm", lambda found: found.least),
    "radius": Judging(
        "Smallest radius", "mm", lambda found: np.minimum(found.smallest_radius, 1e6), False
    ),
    "draft": Judging(
        "Draft against z", "°", lambda found: np.degrees(draft_angle(found.normals, UP))
    ),
    "slope": Judging(
        "Slope to the ground", "°",
        lambda found: np.degrees(np.arccos(np.clip(np.abs(found.normals[:, 2]), 0, 1))), False,
    ),
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Judged:
    """What is known of a surface's spots: how it bends there, (SPOTS x SPOTS,) rows going up."""

    bent: Bent


def judged(surface: BSplineSurface) -> Judged:
    """Return how a surface bends at the middles of its spots."""
    t = (np.arange(SPOTS) + 0.5) / SPOTS
    u, v = (x.ravel() for x in np.meshgrid(t, t, indexing="ij"))
    low_u, high_u = surface.knots_u[[0, -1]]
    low_v, high_v = surface.knots_v[[0, -1]]
    return Judged(bent(surface, low_u + u * (high_u - low_u), low_v + v * (high_v - low_v)))


def scale_of(name: str, found: list[Bent]) -> tuple[float, float]:
    """Return the ends of a scale for all surfaces, by area."""
    value = JUDGINGS[name].value
    if value is None or not found:
        return 0.0, 1.0
    every = np.concatenate([value(each) for each in found])
    areas = np.concatenate([each.area for each in found])
    if name == "radius":
        return TIGHT, 10 * TIGHT
    low, high = (float(x) for x in quantiles(every, np.array([ENDS, 1 - ENDS]), areas))
    if JUDGINGS[name].signed:
        most = max(abs(low), abs(high), 1e-12)
        return -most, most
    return low, max(high, low + 1e-9)


def stripes_of(normals: Floats, eye: Floats) -> Floats:
    """Return how light a mirror is at places, 0 or 1, in a room of level stripes.

    Parameters
    ----------
    eye : (3,) array
        From the surface to the eye, of length 1.
    """
    mirrored = 2 * (normals @ eye)[:, None] * normals - eye
    height = np.arcsin(np.clip(mirrored[:, 2], -1.0, 1.0))
    # Their edges are a little soft, as a picture's are.
    return np.asarray(0.5 + 0.5 * np.tanh(SOFT * np.sin(height * STRIPES)))


def colours_at(name: str, found: Bent, eye: Floats, scale: tuple[float, float]) -> Floats:
    """Return the colours of places, (n, 3)."""
    value = JUDGINGS[name].value
    if value is None:
        light, dark = np.array(rgb(now().halo)), np.array(rgb(now().edges))
        share = stripes_of(found.normals, eye)[:, None]
        return np.asarray(dark + share * (light - dark))
    return shades(name, value(found), scale)


def shades(name: str, values: Floats, scale: tuple[float, float]) -> Floats:
    """Return the colours of values, (n, 3)."""
    low, high = scale
    worn = now()
    middle = np.array(rgb(worn.bisque))
    share = np.clip((values - low) / (high - low), 0.0, 1.0)
    if JUDGINGS[name].signed:
        side = np.where((share > 0.5)[:, None], rgb(worn.teal), rgb(worn.plum))
        return np.asarray(middle + np.abs(2 * share - 1)[:, None] * (side - middle))
    ends = (worn.plum, worn.bisque) if name == "radius" else (worn.bisque, worn.teal)
    first, last = (np.array(rgb(each)) for each in ends)
    made = first + share[:, None] * (last - first)
    if name == "radius":
        # Tighter than what may be is told apart from what only comes near.
        made = np.where((values < low)[:, None], 0.55 * first, made)
    return np.asarray(made)


def spots_drawn(name: str, known: Judged, eye: Floats, scale: tuple[float, float]) -> np.ndarray:
    """Return the colours of a surface's spots, (SPOTS, SPOTS, 4) bytes."""
    drawn = np.full((SPOTS, SPOTS, 4), 255, dtype=np.uint8)
    drawn[..., :3] = as_bytes(colours_at(name, known.bent, eye, scale)).reshape(SPOTS, SPOTS, 3)
    return drawn
