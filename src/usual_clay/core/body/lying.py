"""How a body floats, all of it in one value: how it lies, its figures, and its righting arms."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.body.afloat import ClosedMesh, FloatError, axes_of
from usual_clay.core.body.floating import (
    WATER,
    Afloat,
    Righted,
    RightingCurve,
    Weight,
    at_draft,
    at_rest,
    centre_of,
    righting,
    summed_up,
    turned,
)

# Sections' areas are told at so many places along.
SECTIONS = 41


@dataclass(frozen=True)
class FloatSettings:
    """How a body is to float.

    Attributes
    ----------
    by : {"weight", "draft"}
        It lies as its weight lets it, or as it is held: at a draft, a heel and a trim.
    draft : float
        mm, from its lowest point upright.
    heel, trim : float
        How far it is held turned, right side down and front down, radians.
    material : float
        Density of all that it holds, g/cm3; 0 where it weighs nothing by itself.
    mass : float
        Of all of it, g; 0 for that of its material and its weights.
    water : float
        Density, g/cm3.
    weights : tuple of float
        g, x, y and z of each added weight, one after the other.
    centre : tuple of float
        x, y, z of the middle of gravity without the weights; none for the middle of its volume.
    start : {"upright", "upside-down"}
        From where it finds how it lies.
    step : float
        Between the angles of the righting curve, radians; 0 for none.
    """

    by: Literal["weight", "draft"] = "weight"
    draft: float = 5.0
    heel: float = 0.0
    trim: float = 0.0
    material: float = 0.5
    mass: float = 0.0
    water: float = WATER
    weights: tuple[float, ...] = ()
    centre: tuple[float, ...] = ()
    start: Literal["upright", "upside-down"] = "upright"
    step: float = math.radians(10)

    def __post_init__(self) -> None:
        numbers = (
            self.draft,
            self.heel,
            self.trim,
            self.material,
            self.mass,
            self.step,
            *self.weights,
            *self.centre,
        )
        if not all(math.isfinite(x) for x in numbers) or not self.water > 0:
            raise FloatError("densities, weights and places must be finite numbers")
        if self.material < 0 or self.mass < 0:
            raise FloatError("nothing weighs less than nothing")
        if len(self.weights) % 4:
            raise FloatError("a weight has four numbers: g; x; y; z")
        if len(self.centre) not in (0, 3):
            raise FloatError("a centre has three numbers: x; y; z")
        if self.step and not math.radians(0.5) <= self.step <= math.radians(90):
            raise FloatError("righting arms are told every 0.5 to 90 degrees, or not at all")

    @property
    def added(self) -> list[Weight]:
        """The weights."""
        w = self.weights
        return [Weight(w[k], (w[k + 1], w[k + 2], w[k + 3])) for k in range(0, len(w), 4)]


@dataclass(frozen=True, eq=False)
class Lying:
    """How a body floats.

    Attributes
    ----------
    afloat : Afloat
    mass : float
        g.
    body_volume : float
        mm cubed.
    waterline : (n, 2, 3) array
        Where the water's surface cuts the body: short lines.
    sections : (m, 2) array
        Along the body, mm, and the area under water there, mm squared.
    arms : tuple of Righted
    curve : RightingCurve or None
    under : mapping
        For each marked curve the angle at which a part of it goes under, radians; infinite where
        it never does.
    size : float
        The body's longest side, mm.
    """

    afloat: Afloat
    mass: float
    body_volume: float
    waterline: Floats
    sections: Floats
    arms: tuple[Righted, ...]
    curve: RightingCurve | None
    under: Mapping[str, float]
    size: float

    @property
    def words(self) -> str:
        """What came of it, in a sentence."""
        lies = self.afloat
        said = f"{lies.draft:z.2f} mm deep, GM {lies.gm():z.2f} mm"
        if self.curve is not None and self.curve.vanishes is not None:
            said += f", turns over past {np.degrees(self.curve.vanishes):.0f}°"
        return said

    @property
    def water_plane(self) -> Floats:
        """The corners of a square of the water's surface round the body, (4, 3)."""
        ahead, left = axes_of(self.afloat.up)
        reach = 0.62 * self.size
        middle = self.afloat.centre
        foot = middle + (self.afloat.height - middle @ self.afloat.up) * self.afloat.up
        return np.stack([foot + reach * (a * ahead + b * left)
                         for a, b in ((-1, 1), (1, 1), (1, -1), (-1, -1))])  # fmt: skip


def lie(
    body: ClosedMesh,
    settings: FloatSettings,
    marks: Mapping[str, Floats],
    angles: Floats | None = None,
    before: Lying | None = None,
) -> Lying:
    """Return how a body floats.

    Parameters
    ----------
    marks : mapping
        Places along curves of which it is told when they go under, by name.
    angles : (n,) array, optional
        Of the righting curve, radians, in place of those by its step.
    before : Lying, optional
        The same body floating otherwise: for a hand, its sections and arms stay as they were.

    Raises
    ------
    FloatError
        Where it cannot: it sinks, weighs nothing, or is dry at that draft.
    """
    place = np.array(settings.centre) if settings.centre else None
    mass, centre = centre_of(body, settings.material or None, settings.added, place)
    mass = settings.mass or mass
    if settings.by == "draft":
        lies = at_draft(body, settings.draft, centre, turned(settings.heel, settings.trim))
        mass = lies.wet.volume * settings.water / 1000
    else:
        up = np.array([0.0, 0.0, 1.0 if settings.start == "upright" else -1.0])
        lies = at_rest(body, mass, centre, settings.water, up)
    line = waterline(body, lies.up, lies.height)
    if before is not None:
        return replace(before, afloat=lies, mass=mass, waterline=line)
    arms: list[Righted] = []
    if angles is None and settings.step:
        angles = np.arange(0.0, math.pi + 1e-9, settings.step)
    if angles is not None:
        arms = righting(body, mass, centre, angles, settings.water, marks)
    curve = summed_up(arms) if len(arms) > 1 else None
    size = float(np.ptp(body.vertices, axis=0).max())
    along = section_areas(body, lies)
    under = under_by(marks, arms)
    return Lying(lies, mass, body.volume, line, along, tuple(arms), curve, under, size)


def under_by(marks: Iterable[str], arms: Sequence[Righted]) -> dict[str, float]:
    """Return for each marked curve the angle at which a part of it goes under, radians."""
    return {
        name: min((arm.angle for arm in arms if name in arm.under), default=math.inf)
        for name in marks
    }


def waterline(body: ClosedMesh, up: Floats, height: float) -> Floats:
    """Return where a plane cuts a body's triangles, (n, 2, 3): lines that run round it one way."""
    lift = (body.vertices @ up - height)[body.triangles]
    corners = body.vertices[body.triangles]
    count = (lift < 0).sum(axis=1)
    mine = (count == 1) | (count == 2)
    lift, corners, count = lift[mine], corners[mine], count[mine]
    alone = np.where(count[:, None] == 1, lift < 0, lift >= 0).argmax(axis=1)
    order = (alone[:, None] + np.arange(3)) % 3
    a, b, c = np.take_along_axis(corners, order[..., None], axis=1).swapaxes(0, 1)
    d, e, f = np.take_along_axis(lift, order, axis=1).T
    first = a + (d / (d - e))[:, None] * (b - a)
    second = a + (d / (d - f))[:, None] * (c - a)
    turned = (count == 2)[:, None]
    return np.stack([np.where(turned, second, first), np.where(turned, first, second)], axis=1)


def section_areas(body: ClosedMesh, lies: Afloat) -> Floats:
    """Return the area under water at places along a body, (n, 2)."""
    ahead, _ = axes_of(lies.up)
    reach = body.vertices @ ahead
    places = np.linspace(float(reach.min()), float(reach.max()), SECTIONS)
    areas = [_area_at(body, lies, ahead, float(place)) for place in places]
    return np.stack([places, np.array(areas)], axis=1)


def _area_at(body: ClosedMesh, lies: Afloat, ahead: Floats, place: float) -> float:
    """Return the area of a section under water, from its closed outline (Green's theorem).

    The outline is cut at the water's surface; its dry part adds nothing.
    """
    segments = waterline(body, ahead, place)
    y, z = segments @ np.cross(lies.up, ahead), segments @ lies.up - lies.height
    start, end = z[:, 0], z[:, 1]
    crossing = (start < 0) != (end < 0)
    t = np.where(crossing, start / np.where(crossing, start - end, 1.0), 0.0)
    at = y[:, 0] + t * (y[:, 1] - y[:, 0])
    first = np.where(crossing & (start >= 0), at, y[:, 0])
    last = np.where(crossing & (end >= 0), at, y[:, 1])
    low = (np.minimum(start, 0) + np.minimum(end, 0)) / 2
    return abs(float(((last - first) * low).sum()))
