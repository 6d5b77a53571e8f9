"""A body held in the water by hand: deeper, heeled, trimmed."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.body.afloat import ClosedMesh, FloatError, axes_of
from usual_clay.core.body.floating import Afloat
from usual_clay.core.body.lying import FloatSettings, Lying, lie
from usual_clay.job.items import Body, Floating
from usual_clay.job.job import Job

# Where the water is taken hold of, and how high that stands, as shares of the body's size.
REACH, STEM = 0.54, 0.12

Hold = Literal["draft", "heel", "trim"]


@dataclass(frozen=True, eq=False)
class Held:
    """Where the water's surface is taken hold of."""

    what: Hold
    foot: Floats
    tip: Floats


def holds_of(lying: Lying) -> list[Held]:
    """Return where the water can be lifted: behind the body, at its side, and ahead of it."""
    lies = lying.afloat
    ahead, left = axes_of(lies.up)
    middle = _middle(lies)
    ways: tuple[tuple[Hold, Floats], ...] = (("draft", -ahead), ("heel", left), ("trim", ahead))
    feet = [(what, middle + REACH * lying.size * way) for what, way in ways]
    return [Held(what, foot, foot + STEM * lying.size * lies.up) for what, foot in feet]


def lifted(lying: Lying, held: Held, by: float) -> tuple[float, float, float]:
    """Return draft, heel and trim when the water is lifted by so many mm where it is held.

    The water's middle stays where only its slope is changed.
    """
    lies = lying.afloat
    if held.what == "draft":
        return lies.draft + by, lies.heel, lies.trim
    ahead, left = axes_of(lies.up)
    way = left if held.what == "heel" else ahead
    slope = math.atan2(by, REACH * lying.size)
    up = lies.up * math.cos(slope) - way * math.sin(slope)
    now = replace(lies, up=up, height=float(_middle(lies) @ up))
    return now.draft, now.heel, now.trim


def _middle(lies: Afloat) -> Floats:
    foot: Floats = lies.centre + (lies.height - lies.centre @ lies.up) * lies.up
    return foot


def held_by_hand(job: Job, item: Floating) -> Callable[[tuple[float, float, float]], Floating]:
    """Return what lets a body float at a draft, a heel and a trim, fast enough for a hand.

    Righting arms and marks stay as they were: they are worked out when the hand rests.

    Raises
    ------
    FloatError
        Where there is nothing to hold, and by what is returned for a body that is dry or all
        under water.
    """
    recipe, lying = item.recipe, item.lying
    body = None if recipe is None else job.get(recipe.roles["body"][0], Body)
    if recipe is None or lying is None or body is None or job.is_loose(item):
        raise FloatError("it is loose: tie it to a body again")
    mesh = ClosedMesh.of(body.shape.vertices, body.shape.triangles)
    settings: FloatSettings = recipe.settings

    def hold(at: tuple[float, float, float]) -> Floating:
        draft, heel, trim = (round(x, 6) for x in at)
        mine = replace(settings, by="draft", draft=draft, heel=heel, trim=trim)
        made = lie(mesh, mine, {}, before=lying)
        return replace(item, lying=made, recipe=replace(recipe, settings=mine))

    return hold


def water_level(lying: Lying, at: Floats, held: Held) -> float:
    """Return by how much the water is lifted when its hold is drawn to a place, mm."""
    return float(np.dot(at - held.tip, lying.afloat.up))
