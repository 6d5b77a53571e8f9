"""How a body floats: at a draft, at its weight, how it lies, and how it rights itself."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.body.afloat import ClosedMesh, FloatError, Wet, below

WATER = 1.0
# Steps of the search for how it lies, and the tilt with which it begins, so that no unstable
# balance is kept, radians.
ROUNDS, NUDGE = 12, 2e-3
# A balance that is better by less than this share of the body's size is no better.
NEUTRAL = 1e-4
# The water is looked for to this share of what is displaced, in so many steps; the trim to so many
# radians, which changes by no more than a stride at once and goes no farther than the steepest.
EXACT, STEPS, LEVEL, STRIDE, STEEPEST = 1e-9, 60, 1e-6, 0.2, 1.5
UPRIGHT = np.array([0.0, 0.0, 1.0])


@dataclass(frozen=True)
class Weight:
    """A weight at a place: grams, and (x, y, z) in mm."""

    mass: float
    at: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Afloat:
    """A body in the water.

    Attributes
    ----------
    up : (3,) array
        Away from the water, in the body's frame.
    height : float
        Of the water's surface along it, mm.
    wet : Wet
    centre : (3,) array
        Of gravity.
    keel : (3,) array
        The place from which drafts are measured: the lowest, upright.
    """

    up: Floats
    height: float
    wet: Wet
    centre: Floats
    keel: Floats

    @property
    def draft(self) -> float:
        """How deep the lowest point of the upright body lies under water, mm."""
        return self.height - float(self.keel @ self.up)

    @property
    def heel(self) -> float:
        """How far it is turned about x, its right side down, radians."""
        return float(np.arctan2(self.up[1], self.up[2])) + 0.0

    @property
    def trim(self) -> float:
        """How far it is turned about y, its front (+x) down, radians."""
        return -float(np.arcsin(np.clip(self.up[0], -1, 1))) + 0.0

    @property
    def kb(self) -> float:
        """Height of the centre of buoyancy above the keel, mm."""
        return float((self.wet.centre - self.keel) @ self.up)

    @property
    def kg(self) -> float:
        return float((self.centre - self.keel) @ self.up)

    def bm(self, way: str = "across") -> float:
        """Return how far the metacentre lies above the centre of buoyancy, mm."""
        moment = self.wet.across if way == "across" else self.wet.along
        return moment / self.wet.volume

    def gm(self, way: str = "across") -> float:
        """Return the metacentric height, mm."""
        return self.kb + self.bm(way) - self.kg


@dataclass(frozen=True)
class Righted:
    """A body held at an angle of heel, its trim free.

    Attributes
    ----------
    angle, trim : float
        Radians.
    arm : float
        The righting arm, mm.
    draft : float
    under : tuple of str
        The marked curves of which a part is under water.
    """

    angle: float
    trim: float
    arm: float
    draft: float
    under: tuple[str, ...]


def centre_of(
    body: ClosedMesh, material: float | None, weights: Sequence[Weight], centre: Floats | None
) -> tuple[float, Floats]:
    """Return a body's mass, g, and centre of gravity.

    Parameters
    ----------
    material : float or None
        Its density, g/cm3; None where it weighs nothing by itself.
    centre : (3,) array or None
        Of the body without its weights; the middle of what it holds without one.
    """
    own = 0.0 if material is None else material * body.volume / 1000
    place = body.centre if centre is None else centre
    mass = own + sum(weight.mass for weight in weights)
    if not mass > 0:
        return 0.0, place
    moment = own * place + sum(
        (weight.mass * np.array(weight.at) for weight in weights), np.zeros(3)
    )
    return mass, moment / mass


def keel_of(body: ClosedMesh) -> Floats:
    """Return the place from which drafts are measured, (3,)."""
    box = body.vertices.min(axis=0), body.vertices.max(axis=0)
    middle = (box[0] + box[1]) / 2
    return np.array([middle[0], middle[1], body.lowest])


def turned(heel: float, trim: float) -> Floats:
    """Return the way away from the water, in the frame of a body that heels and trims.

    Parameters
    ----------
    heel, trim : float
        As of `Afloat`, radians.
    """
    flat = np.cos(trim)
    return np.array([-np.sin(trim), np.sin(heel) * flat, np.cos(heel) * flat])


def at_draft(body: ClosedMesh, draft: float, centre: Floats, up: Floats = UPRIGHT) -> Afloat:
    """Float a body at a draft, held upright or as `up` says.

    Raises
    ------
    FloatError
        For a draft at which it is dry, or all under water.
    """
    keel, reach = keel_of(body), body.vertices @ up
    height = float(keel @ up) + draft
    low, high = float(reach.min()), float(reach.max())
    if not low < height < high:
        raise FloatError(
            f"at a draft of {draft:g} mm it does not float: it is {high - low:.2f} mm tall"
        )
    return Afloat(up, height, below(body, up, height), centre, keel)


def _volume_of(body: ClosedMesh, mass: float, water: float) -> float:
    volume = 1000 * mass / water
    if not mass > 0:
        raise FloatError("it weighs nothing: give its mass, its material, or weights")
    if volume >= body.volume:
        can = body.volume * water / 1000
        raise FloatError(
            f"it sinks: it weighs {mass:.2f} g, and water under all of it carries {can:.2f} g"
        )
    return volume


def _surface(
    body: ClosedMesh, up: Floats, volume: float, near: float | None = None
) -> tuple[float, Wet]:
    """Return the height of the water at which so much is displaced.

    Newton's steps, as the water's plane says how fast the volume grows; halved where they leave
    what is known to hold the height.

    Parameters
    ----------
    near : float, optional
        About where it lies.
    """
    lift = body.vertices @ up
    low, high = float(lift.min()), float(lift.max())
    height = near if near is not None and low < near < high else (low + high) / 2
    for _ in range(STEPS):
        wet = below(body, up, height)
        off = wet.volume - volume
        if abs(off) <= EXACT * volume:
            break
        low, high = (low, height) if off > 0 else (height, high)
        height = height - off / wet.plane if wet.plane > 0 else low - 1.0
        if not low < height < high:
            height = (low + high) / 2
    return height, wet


def at_rest(
    body: ClosedMesh, mass: float, centre: Floats, water: float = WATER, start: Floats = UPRIGHT
) -> Afloat:
    """Find how a body lies: draft, heel and trim in balance, and stable.

    The potential energy, ``up . (centre of gravity - centre of buoyancy)`` at constant
    displacement, is least; its slope over the directions of `up` is the level gap between the
    two centres.

    Parameters
    ----------
    start : (3,) array
        Which way is up at first, in the body's frame.

    Raises
    ------
    FloatError
        Where it sinks.
    """
    volume = _volume_of(body, mass, water)
    size = float(np.ptp(body.vertices, axis=0).max())
    up = start / np.linalg.norm(start)

    for number in range(ROUNDS):
        first, second = _beside(up)

        def energy(tilt: Floats, up: Floats = up, a: Floats = first, b: Floats = second) -> tuple[
            float, Floats
        ]:  # fmt: skip
            way = up + tilt[0] * a + tilt[1] * b
            length = float(np.linalg.norm(way))
            way = way / length
            gap = centre - _surface(body, way, volume)[1].centre
            level = gap - float(gap @ way) * way
            return float(gap @ way) / size, np.array([level @ a, level @ b]) / (length * size)

        begin = np.full(2, NUDGE) if number == 0 else np.zeros(2)
        found = scipy.optimize.minimize(
            energy, begin, jac=True, method="BFGS", options={"gtol": 1e-9}
        )
        tilt = np.asarray(found.x)
        up = up + tilt[0] * first + tilt[1] * second
        up /= np.linalg.norm(up)
        if number and np.abs(tilt).max() < 1e-7:
            break
    begun = start / np.linalg.norm(start)
    gaps = [centre - _surface(body, way, volume)[1].centre for way in (begun, up)]
    level = gaps[0] - (gaps[0] @ begun) * begun
    if np.linalg.norm(level) < NEUTRAL * size and gaps[0] @ begun - gaps[1] @ up < NEUTRAL * size:
        # A ball lies any way: it stays as it was put in.
        up = begun
    height, wet = _surface(body, up, volume)
    return Afloat(up, height, wet, centre, keel_of(body))


def _beside(up: Floats) -> tuple[Floats, Floats]:
    other = np.eye(3)[int(np.argmin(np.abs(up)))]
    first = np.cross(other, up)
    first /= np.linalg.norm(first)
    return first, np.cross(up, first)


def _tilted(heel: float, trim: float) -> Floats:
    return np.array([-np.sin(trim), np.cos(trim) * np.sin(heel), np.cos(trim) * np.cos(heel)])


def righting(
    body: ClosedMesh,
    mass: float,
    centre: Floats,
    angles: Floats,
    water: float = WATER,
    marks: Mapping[str, Floats] | None = None,
) -> list[Righted]:
    """Return the righting arms of a body over angles of heel, its trim free at each.

    Parameters
    ----------
    angles : (n,) array
        Radians.
    marks : mapping
        Places of marked curves, (k, 3), by their names.

    Raises
    ------
    FloatError
        Where it sinks.
    """
    volume = _volume_of(body, mass, water)
    keel, found, trim = keel_of(body), [], 0.0
    height: float | None = None
    for heel in angles.tolist():
        trim, height, wet = _balanced(body, centre, volume, heel, trim, height)
        across = np.array([0.0, np.cos(heel), -np.sin(heel)])
        up = _tilted(heel, trim)
        arm = float((centre - wet.centre) @ across)
        under = tuple(
            name for name, places in (marks or {}).items() if (places @ up < height).any()
        )
        found.append(Righted(heel, trim, arm, height - float(keel @ up), under))
    return found


def _balanced(
    body: ClosedMesh, centre: Floats, volume: float, heel: float, trim: float, height: float | None
) -> tuple[float, float, Wet]:
    """Return the trim, from near one, at which nothing turns a body end over end, and its water.

    Newton's steps by the metacentric height along; where that is none, against the moment.
    """
    for _ in range(STEPS):
        up = _tilted(heel, trim)
        height, wet = _surface(body, up, volume, height)
        gap = centre - wet.centre
        slope = np.array(
            [-np.cos(trim), -np.sin(trim) * np.sin(heel), -np.sin(trim) * np.cos(heel)]
        )
        moment = float(gap @ slope)
        stiff = wet.along / wet.volume - float(gap @ up)
        step = -moment / stiff if stiff > 0 else -STRIDE * np.sign(moment)
        trim = float(np.clip(trim + np.clip(step, -STRIDE, STRIDE), -STEEPEST, STEEPEST))
        if abs(step) < LEVEL or abs(trim) == STEEPEST:
            break
    assert height is not None
    return trim, height, wet


@dataclass(frozen=True)
class RightingCurve:
    """What a righting curve says: greatest arm and where, where it vanishes, the area to there.

    Angles in radians, arms in mm, the area in mm radians; None where it does not vanish.
    """

    greatest: float
    at: float
    vanishes: float | None
    area: float


def summed_up(arms: Sequence[Righted]) -> RightingCurve:
    """Return what a righting curve says."""
    angle = np.array([each.angle for each in arms])
    arm = np.array([each.arm for each in arms])
    best = int(np.argmax(arm))
    crossed = np.flatnonzero((arm[:-1] > 0) & (arm[1:] <= 0))
    vanishes = None
    if len(crossed):
        k = int(crossed[0])
        vanishes = float(angle[k] + arm[k] / (arm[k] - arm[k + 1]) * (angle[k + 1] - angle[k]))
    end = angle[-1] if vanishes is None else vanishes
    inside = angle <= end
    x, y = np.append(angle[inside], end), np.append(arm[inside], np.interp(end, angle, arm))
    return RightingCurve(float(arm[best]), float(angle[best]), vanishes, float(np.trapezoid(y, x)))
