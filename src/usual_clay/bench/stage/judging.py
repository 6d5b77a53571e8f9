"""How surfaces and bodies look: what they mirror, and their bends, draft and walls as colours.

Each spot of a surface is coloured by the exact surface there, never by its triangles.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from usual_clay.bench.stage.colours import as_bytes
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.blocks import in_blocks
from usual_clay.core.check.curvature import Bent, bent_over, draft_angle
from usual_clay.core.check.deviation import quantiles
from usual_clay.core.check.reflection import Mirror, lamp_lines, room, stripes
from usual_clay.core.spline.surface import BSplineSurface

# Spots each way on a surface.
SPOTS = 320
# What lies past this share of all values at either end does not set the scale.
ENDS = 0.02
UP = np.array([0.0, 0.0, 1.0])
# A radius below this is tight, a wall below that thin, until the scale is set by hand, mm.
TIGHT, THIN = 1.0, 1.0
# So many contour lines or fewer, at round figures.
CONTOURS = 12
ROUND = (1.0, 2.0, 2.5, 5.0, 10.0)
# Pixels each way of the picture that bodies mirror.
MIRROR = 1536
# How dark a contour line is.
LINE = 0.45


@dataclass(frozen=True, eq=False)
class Eye:
    """From where it is looked at: unit vectors, and how what is mirrored is set up."""

    to_eye: Floats = field(default_factory=lambda: np.array([0.0, -1.0, 0.0]))
    up: Floats = field(default_factory=lambda: UP)
    mirror: Mirror = field(default_factory=Mirror)

    @property
    def right(self) -> Floats:
        return np.cross(self.up, self.to_eye)

    @property
    def axis(self) -> Floats:
        """What stripes are level to."""
        along = self.mirror.along
        return self.up if along == "eye" else np.eye(3)["xyz".index(along)]


@dataclass(frozen=True)
class Judging:
    """One way to look.

    Attributes
    ----------
    title, unit : str
    light : callable or None
        ``light(normals, eye)``: how light a mirror is at each place, 0 to 1.
    value : callable or None
        ``value(bent)``: a number at each place of a surface.
    by_normal : callable or None
        ``by_normal(normals)``: the same where the normal is enough: of bodies too.
    signed : bool
        Whether the scale lies evenly about nothing.
    limit : float or None
        What is below it is told apart; the scale runs from there to ten times as much.
    walls : bool
        Whether it is how thick bodies are.
    """

    title: str
    unit: str = ""
    light: Callable[[Floats, Eye], Floats] | None = None
    value: Callable[[Bent], Floats] | None = None
    by_normal: Callable[[Floats], Floats] | None = None
    signed: bool = True
    limit: float | None = None
    walls: bool = False

    @property
    def moves(self) -> bool:
        """Whether it follows the eye."""
        return self.light is not None

    def of_surface(self, found: Bent) -> Floats | None:
        if self.by_normal is not None:
            return self.by_normal(found.normals)
        return None if self.value is None else self.value(found)


def _draft(normals: Floats) -> Floats:
    return np.degrees(draft_angle(normals, UP))


def _slope(normals: Floats) -> Floats:
    return np.asarray(np.degrees(np.arccos(np.clip(np.abs(normals[:, 2]), 0, 1))))


JUDGINGS: dict[str, Judging] = {
    "stripes": Judging(
        "Stripes", light=lambda n, eye: stripes(n, eye.to_eye, eye.axis, eye.mirror.count)
    ),
    "room": Judging("A room", light=lambda n, eye: room(n, eye.to_eye)),
    "lamp": Judging(
        "Lamp lines",
        light=lambda n, eye: lamp_lines(n, eye.axis, eye.mirror.count, eye.mirror.turn),
    ),
    "gaussian": Judging("Gaussian curvature", "/mm²", value=lambda found: found.gaussian),
    "mean": Judging("Mean curvature", "/mm", value=lambda found: found.mean),
    "greatest": Judging("Greatest curvature", "/mm", value=lambda found: found.greatest),
    "least": Judging("Least curvature", "/mm", value=lambda found: found.least),
    "radius": Judging(
        "Smallest radius", "mm", value=lambda found: np.minimum(found.smallest_radius, 1e6),
        signed=False, limit=TIGHT,
    ),
    "walls": Judging("Wall thickness", "mm", signed=False, limit=THIN, walls=True),
    "draft": Judging("Draft against z", "°", by_normal=_draft),
    "slope": Judging("Slope to the ground", "°", by_normal=_slope, signed=False),
}  # fmt: skip


@dataclass(frozen=True)
class Scaling:
    """How the scale of colours is set.

    Attributes
    ----------
    low, high : float or None
        By hand; None lets the values set it.
    ends : float
        The share of all values that is left out at either end.
    contours : bool
        Whether lines of equal figures are drawn.
    """

    low: float | None = None
    high: float | None = None
    ends: float = ENDS
    contours: bool = False


def bends_of(surface: BSplineSurface) -> Bent:
    """Return how a surface bends at the middles of its spots, (SPOTS x SPOTS,) rows going up."""
    return bent_over(surface, (np.arange(SPOTS) + 0.5) / SPOTS)


def scale_of(
    name: str, values: list[Floats], areas: list[Floats], scaling: Scaling
) -> tuple[float, float]:
    """Return the ends of a scale for all that is shown, by area."""
    way = JUDGINGS[name]
    if scaling.low is not None and scaling.high is not None:
        return scaling.low, scaling.high
    if way.limit is not None and not way.walls:
        return way.limit, 10 * way.limit
    every = np.concatenate([*values, np.zeros(0)])
    # Where nothing lies behind a skin there is no wall, and no figure.
    known = np.isfinite(every)
    if way.limit is not None:
        usual = float(np.median(every[known])) if known.any() else 0.0
        return way.limit, max(1.5 * usual, 2 * way.limit)
    if not known.any():
        return 0.0, 1.0
    ends = np.array([scaling.ends, 1 - scaling.ends])
    shares = np.concatenate(areas)[known]
    low, high = (float(x) for x in quantiles(every[known], ends, shares))
    if way.signed:
        most = max(abs(low), abs(high), 1e-12)
        return -most, most
    return low, max(high, low + 1e-9)


def mirror_shades(name: str, normals: Floats, eye: Eye) -> np.ndarray:
    """Return the colours of what is mirrored at places, (n, 3) bytes."""
    light = JUDGINGS[name].light
    assert light is not None
    # Bright is bright and dark is dark in both themes.
    worn = now()
    brightest = np.array(max(rgb(worn.halo), rgb(worn.ink), key=sum))
    darkest = np.array(min(rgb(worn.halo), rgb(worn.edges), key=sum))
    steps = as_bytes(darkest + np.linspace(0, 1, 256)[:, None] * (brightest - darkest))
    return np.asarray(steps[np.rint(255 * light(normals, eye)).astype(np.uint8)])


def mirror_picture(name: str, eye: Eye) -> np.ndarray:
    """Return what is mirrored by the normal alone, (MIRROR, MIRROR, 4) bytes, rows going up.

    The middle faces the eye; a normal turned away by so much of half a turn lies so far out.
    """
    t = (2 * (np.arange(MIRROR) + 0.5) / MIRROR - 1).astype(np.float32)
    ways = np.stack([eye.right, eye.up, eye.to_eye]).astype(np.float32)
    drawn = np.full((MIRROR * MIRROR, 4), 255, dtype=np.uint8)

    def draw(block: slice) -> None:
        at = np.arange(block.start, block.stop)
        x, y = t[at % MIRROR], t[at // MIRROR]
        out = np.hypot(x, y)
        angle = np.minimum(out, 1.0) * np.float32(np.pi)
        aside = np.sin(angle) / np.maximum(out, np.float32(1e-12))
        # Half the digits are enough for a picture, and far sooner worked out.
        normals: Any = np.stack([aside * x, aside * y, np.cos(angle)], axis=1) @ ways
        drawn[block, :3] = mirror_shades(name, normals, eye)

    in_blocks(len(drawn), draw)
    return drawn.reshape(MIRROR, MIRROR, 4)


def places_in_mirror(normals: Floats, eye: Eye) -> Floats:
    """Return where normals lie in that picture, (n, 2) from 0 to 1."""
    along, across = normals @ eye.right, normals @ eye.up
    angle = np.arccos(np.clip(normals @ eye.to_eye, -1, 1))
    out = angle / np.pi / np.maximum(np.hypot(along, across), 1e-12)
    return np.stack([0.5 + 0.5 * out * along, 0.5 + 0.5 * out * across], axis=1)


def shades(name: str, values: Floats, scale: tuple[float, float]) -> Floats:
    """Return the colours of values, (n, 3)."""
    low, high = scale
    worn, way = now(), JUDGINGS[name]
    middle = np.array(rgb(worn.bisque))
    share = np.clip((values - low) / (high - low), 0.0, 1.0)
    if way.signed:
        side = np.where((share > 0.5)[:, None], rgb(worn.teal), rgb(worn.plum))
        return np.asarray(middle + np.abs(2 * share - 1)[:, None] * (side - middle))
    ends = (worn.bisque, worn.teal) if way.limit is None else (worn.plum, worn.bisque)
    first, last = (np.array(rgb(each)) for each in ends)
    made = first + share[:, None] * (last - first)
    if way.limit is not None:
        # Tighter or thinner than what may be is told apart from what only comes near.
        made = np.where((values < low)[:, None], 0.55 * first, made)
    return np.asarray(made)


def contour_step(scale: tuple[float, float]) -> float:
    """Return the round step between contour lines on a scale."""
    least = (scale[1] - scale[0]) / CONTOURS
    tens = 10.0 ** np.floor(np.log10(max(least, 1e-300)))
    return float(next(tens * each for each in ROUND if tens * each >= least * (1 - 1e-9)))


def contour_levels(scale: tuple[float, float]) -> Floats:
    """Return the figures at which contour lines lie on a scale."""
    step = contour_step(scale)
    return step * np.arange(np.ceil(scale[0] / step), np.floor(scale[1] / step) + 1)


def on_contours(values: Floats, scale: tuple[float, float]) -> Bools:
    """Tell which spots of a grid, (a, b), a contour line runs through."""
    level = np.floor(np.clip(values, *scale) / contour_step(scale))
    lines = np.zeros(level.shape, dtype=bool)
    lines[1:] |= level[1:] != level[:-1]
    lines[:, 1:] |= level[:, 1:] != level[:, :-1]
    return lines


def spots_drawn(
    name: str, found: Bent, eye: Eye, scale: tuple[float, float], contours: bool
) -> np.ndarray:
    """Return the colours of a surface's spots, (SPOTS, SPOTS, 4) bytes."""
    way = JUDGINGS[name]
    drawn = np.full((SPOTS, SPOTS, 4), 255, dtype=np.uint8)
    values = way.of_surface(found)
    if way.light is not None:
        drawn[..., :3] = mirror_shades(name, found.normals, eye).reshape(SPOTS, SPOTS, 3)
        return drawn
    if values is None:
        # It tells of bodies alone.
        tint = np.tile(rgb(now().surfaces), (SPOTS * SPOTS, 1))
    else:
        tint = shades(name, values, scale)
        if contours:
            tint[on_contours(values.reshape(SPOTS, SPOTS), scale).ravel()] *= LINE
    drawn[..., :3] = as_bytes(tint).reshape(SPOTS, SPOTS, 3)
    return drawn
