"""Blanks: start shapes to be shaped by hand, sized to what there is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.guide import Guide, Spend, evenly_in
from usual_clay.core.build.sections import BuildError
from usual_clay.core.errors import FitError
from usual_clay.core.spline.boundary import Border

ACROSS, ALONG = 48, 49
# Control points of a ring that is round.
ROUND = 8


@dataclass(frozen=True)
class BlankSettings(Spend):
    """A start shape.

    Attributes
    ----------
    form : {"flat", "tube", "half"}
        A plane, a whole body round its axis, or the upper half of one.
    pointed : {"none", "start", "end", "both"}
        Which ends of a body close to a tip.
    axis : {"longest", "x", "y", "z"}
        Along which it runs.
    size : three float
        Along x, y and z, mm, where nothing is chosen to size it to.
    middle : three float
        Where it then stands.
    """

    nu: int = 8
    nv: int = 6
    form: Literal["flat", "tube", "half"] = "half"
    pointed: Literal["none", "start", "end", "both"] = "both"
    axis: Literal["longest", "x", "y", "z"] = "longest"
    size: tuple[float, ...] = (100.0, 30.0, 30.0)
    middle: tuple[float, ...] = (0.0, 0.0, 0.0)

    def __post_init__(self) -> None:
        super().__post_init__()
        if not (self.nu and self.nv):
            raise FitError("a blank has as many control points as you ask for: at least 4")
        if len(self.size) != 3 or not all(np.isfinite(s) and s > 0 for s in self.size):
            raise FitError("a blank's size is three lengths of more than 0 mm")
        if len(self.middle) != 3 or not np.isfinite(self.middle).all():
            raise FitError("a blank's middle has three coordinates")


def blank_guide(box: Floats | None, settings: BlankSettings) -> Guide:
    """Lay a start shape out in a box.

    Parameters
    ----------
    box : (2, 3) array or None
        The least and greatest coordinates of what it is sized to.

    Raises
    ------
    BuildError
        For a box of no length.
    """
    if box is None:
        half = np.array(settings.size) / 2
        box = np.array(settings.middle) + np.array([-half, half])
    size = box[1] - box[0]
    if not size.max() > 0:
        raise BuildError("what it is sized to is one place: choose something larger")
    along = int(np.argmax(size)) if settings.axis == "longest" else "xyz".index(settings.axis)
    # Across and up follow it in a right-handed way; a half body looks up, along z where it can.
    across, up = ((along + 1) % 3, (along + 2) % 3)
    v = evenly_in(ALONG)
    middle, half = box.mean(axis=0), np.maximum(size / 2, 1e-3 * size.max())
    if settings.form == "flat":
        thin = up if size[up] <= size[across] else across
        wide = across if thin == up else up
        u = evenly_in(ACROSS)
        grid = np.tile(middle, (ACROSS, ALONG, 1))
        grid[..., wide] += (half[wide] * (2 * u - 1))[:, None]
        grid[..., along] += half[along] * (2 * v - 1)
        return Guide((), u, v, grid)
    closed = settings.form == "tube"
    if closed and settings.nu < ROUND:
        raise BuildError(f"a tube takes {ROUND} control points or more round it")
    u = evenly_in(ACROSS, closed)
    turn = 2 * np.pi * u if closed else np.pi * u
    way, radius = _course(settings.pointed, v)
    grid = np.tile(middle, (ACROSS, ALONG, 1))
    grid[..., along] += half[along] * way
    grid[..., across] += half[across] * np.outer(np.cos(turn), radius)
    if closed:
        grid[..., up] += half[up] * np.outer(np.sin(turn), radius)
    else:
        grid[..., up] += half[up] * (2 * np.outer(np.sin(turn), radius) - 1)
    axis = np.eye(3)[along]
    poles: dict[Border, Floats] = {}
    for border, names, end in (("v0", ("start", "both"), 0), ("v1", ("end", "both"), -1)):
        if settings.pointed in names:
            poles[border] = grid[0, end]  # type: ignore[index]
    level = dict.fromkeys(poles, axis)
    return replace(Guide((), u, v, grid, "u" if closed else "", poles), level=level)


def _course(pointed: str, v: Floats) -> tuple[Floats, Floats]:
    """Return where a body's rows stand along it, from -1 to 1, and how wide they are, to 1."""
    if pointed == "both":
        return -np.cos(np.pi * v), np.sin(np.pi * v)
    if pointed == "none":
        return 2 * v - 1, np.ones_like(v)
    way, radius = 2 * np.sin(np.pi * v / 2) - 1, np.cos(np.pi * v / 2)
    return (way, radius) if pointed == "end" else (-way[::-1], radius[::-1])
