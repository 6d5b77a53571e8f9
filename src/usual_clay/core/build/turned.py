"""Surfaces about an axis or a path: guided revolve, tube."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Floats, told_at
from usual_clay.core.build.guide import Guide, Line, Spend, evenly_in, rows_for
from usual_clay.core.build.rails import frames_along, kink_of
from usual_clay.core.build.sections import SAMPLES, BuildError, check_curves
from usual_clay.core.errors import FitError
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.measured import Measured

ROUND, ALONG = 48, 48
FULL = 2 * np.pi
# A profile's end nearer to the axis than this share of its reach lies on it.
ON_AXIS = 1e-4


@dataclass(frozen=True)
class RevolveSettings(Spend):
    """How a profile turns.

    Attributes
    ----------
    angle : float
        How far, radians; all the way round without one set.
    smooth_pole : bool
        Whether the surface is level across where the profile meets the axis.
    """

    angle: float = FULL
    smooth_pole: bool = True

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 < abs(self.angle) <= FULL + 1e-9:
            raise FitError("the profile turns by more than 0 and at most 360 degrees")


@dataclass(frozen=True)
class TubeSettings(Spend):
    """A tube along a path.

    Attributes
    ----------
    radii : tuple of float
        mm; one for all of it, or several, which it blends between.
    stations : tuple of float
        The shares of its length at which it has them; evenly spread without.
    ends : {"open", "flat", "round"}
        Rings, plane faces, or half balls.
    """

    radii: tuple[float, ...] = (1.0,)
    stations: tuple[float, ...] = ()
    ends: Literal["open", "flat", "round"] = "open"

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.radii or not all(np.isfinite(r) and r > 0 for r in self.radii):
            raise FitError("each radius of a tube must be more than 0 mm")
        if self.stations and (
            len(self.stations) != len(self.radii)
            or not all(0 <= at <= 1 for at in self.stations)
            or list(self.stations) != sorted(set(self.stations))
        ):
            raise FitError("stations are rising shares of the path, one for each radius")


def revolve_guide(
    profile: BSplineCurve,
    axis: tuple[Floats, Floats],
    rail: BSplineCurve | None,
    settings: RevolveSettings,
) -> Guide:
    """Turn a profile about an axis while its end follows a rail.

    The profile's end that is nearer to the rail, or farther from the axis, follows: at each angle
    the profile is scaled away from the axis, and sheared along it, so that its end lies where the
    rail has that angle; its other end stays at its height.

    Parameters
    ----------
    axis : two (3,) arrays
        A place on it and its direction.

    Raises
    ------
    BuildError
    """
    check_curves((profile,) if rail is None else (profile, rail), "curve")
    frame = _Axis(axis[0], axis[1])
    share = evenly_in(SAMPLES)
    own = frame.seen(Measured(profile).at(share))
    if own[0, 1] > own[-1, 1]:
        own = own[::-1]
    start = float(np.arctan2(np.sin(own[-1, 0]), np.cos(own[-1, 0])))
    whole = abs(settings.angle) > FULL - 1e-9
    count = ROUND if rail is None else rows_for((rail,), ROUND)
    turn = evenly_in(count, whole)
    # A whole turn runs whichever way makes it face away from the axis.
    lifts = np.diff(own[:, 2]) @ (own[1:, 1] + own[:-1, 1])
    full = np.copysign(settings.angle, lifts) if whole else settings.angle
    angle = start + full * turn
    end = np.tile(own[-1, 1:], (len(turn), 1))
    if rail is not None:
        end = frame.followed(rail, angle)
        off = float(np.linalg.norm(end[0] - own[-1, 1:]))
        if off > 0.5 * max(own[-1, 1], 1e-12):
            raise BuildError(f"the profile's end lies {off:.2f} mm from the rail: bring it there")
    grid = np.stack([_bent(own, a, e, frame) for a, e in zip(angle, end, strict=True)])
    rows = rows_for((profile,), ALONG, SAMPLES)
    keep = np.unique(np.linspace(0, SAMPLES - 1, rows).round().astype(int))
    v = share[keep]
    lines = [Line(grid[0], np.full(SAMPLES, 0.0), share)]
    fine = evenly_in(SAMPLES, whole)
    at = start + full * fine
    ends = np.tile(own[-1, 1:], (SAMPLES, 1)) if rail is None else frame.followed(rail, at)
    lines.append(Line(frame.placed(at, *ends.T), fine, np.ones(SAMPLES)))
    poles: dict[Border, Floats] = {}
    tips: tuple[tuple[Border, int], ...] = (("v0", 0), ("v1", -1))
    for border, k in tips:
        if own[k, 1] <= ON_AXIS * own[:, 1].max():
            poles[border] = frame.placed(np.zeros(1), np.zeros(1), own[[k], 2])[0]
    # Between the profile and the rail only the turning says where it runs.
    middle = [
        Line(grid[k], np.full(SAMPLES, turn[k]), share) for k in range(0, count, max(1, count // 8))
    ]
    level = dict.fromkeys(poles, frame.direction) if settings.smooth_pole else {}
    if rail is None:
        middle.append(lines.pop())
    names = ("profile",) if rail is None else ("profile", "rail")
    closed = "u" if whole else ""
    whole_guide = Guide((*lines, *middle[1:]), turn, v, grid[:, keep], closed, poles)
    return replace(whole_guide, level=level, names=names)


class _Axis:
    """Places by their angle about an axis, their distance from it and their height along it."""

    def __init__(self, place: Floats, direction: Floats) -> None:
        size = float(np.linalg.norm(direction))
        if not size > 0:
            raise BuildError("the axis has no direction")
        self.place, self.direction = place, direction / size
        other = np.eye(3)[int(np.argmin(np.abs(self.direction)))]
        self.side = np.cross(other, self.direction)
        self.side /= np.linalg.norm(self.side)
        self.up = np.cross(self.direction, self.side)

    def seen(self, points: Floats) -> Floats:
        """Return angle, distance and height, (n, 3)."""
        gap = points - self.place
        x, y = gap @ self.side, gap @ self.up
        return np.stack([np.arctan2(y, x), np.hypot(x, y), gap @ self.direction], axis=1)

    def placed(self, angle: Floats, distance: Floats, height: Floats) -> Floats:
        """Return places, (n, 3)."""
        x, y = distance * np.cos(angle), distance * np.sin(angle)
        flat = x[:, None] * self.side + y[:, None] * self.up
        return np.asarray(self.place + flat + height[:, None] * self.direction)

    def followed(self, rail: BSplineCurve, angle: Floats) -> Floats:
        """Return the distance and height of a rail at angles, (n, 2).

        Raises
        ------
        BuildError
            Where the rail runs back, or has no place at an angle.
        """
        seen = self.seen(Measured(rail).at(np.linspace(0, 1, 2000)))
        way = np.unwrap(seen[:, 0])
        if way[-1] < way[0]:
            way, seen = way[::-1], seen[::-1]
        if (np.diff(way) <= 0).mean() > 0.01:
            raise BuildError("the rail runs back about the axis: it must go round one way")
        closed = abs(way[-1] - way[0]) > FULL - 0.02
        if closed:
            angle = way[0] + (angle - way[0]) % FULL
        else:
            shift = FULL * np.round((way.mean() - np.mean(angle)) / FULL)
            angle = angle + shift
            past = max(way[0] - angle.min(), angle.max() - way[-1])
            if past > 0.02:
                raise BuildError(
                    f"the rail ends {np.degrees(past):.0f} degrees before the profile has turned:"
                    " turn it by less, or draw the rail on"
                )
        order = np.argsort(way)
        return np.stack([np.interp(angle, way[order], seen[order, k]) for k in (1, 2)], axis=1)


def _bent(own: Floats, angle: float, end: Floats, frame: _Axis) -> Floats:
    """Return a profile at an angle, its last place brought to a distance and a height."""
    angles = own[:, 0] - own[-1, 0]
    distance = own[:, 1] * end[0] / max(own[-1, 1], 1e-300)
    rise = own[-1, 2] - own[0, 2]
    near = own[:, 1] / max(own[-1, 1], 1e-300)
    if abs(rise) > 1e-6 * max(float(own[:, 1].max()), 1e-12):
        height = own[0, 2] + (own[:, 2] - own[0, 2]) * (end[1] - own[0, 2]) / rise
    else:
        height = own[:, 2] + (end[1] - own[-1, 2]) * near
    # On the axis no angle is told.
    angles = np.where(own[:, 1] > ON_AXIS * own[-1, 1], angles, 0.0)
    return frame.placed(angle + angles, distance, height)


def tube_guide(path: BSplineCurve, profile: BSplineCurve | None, settings: TubeSettings) -> Guide:
    """Lay a tube round a path, in frames that twist least.

    Raises
    ------
    BuildError
        For a path with a kink.
    """
    check_curves((path,), "path")
    way = Measured(path)
    if (kink := kink_of(way)) is not None:
        where = told_at(kink)
        raise BuildError(f"the path has a kink near {where}: round it, or make two tubes", kink)
    t = evenly_in(rows_for((path,), 3 * ALONG))
    stations = settings.stations or tuple(np.linspace(0, 1, len(settings.radii)).tolist())
    radius = np.full(len(t), settings.radii[0])
    if len(stations) > 1:
        radius = scipy.interpolate.PchipInterpolator(stations, settings.radii)(
            np.clip(t, stations[0], stations[-1])
        )
    words = _too_tight(way, t, radius)
    turn = evenly_in(ROUND, closed=True)
    shape = _ring(profile, turn)
    frames = frames_along(way, t, "square")
    grid = way.at(t)[:, None] + radius[:, None, None] * np.einsum(
        "nk,tkd->tnd", shape, frames[:, :2]
    )
    poles: dict[Border, Floats] = {}
    creases: dict[str, tuple[float, ...]] = {}
    if settings.ends != "open":
        flat = settings.ends == "flat"
        grid, t, poles, rims = _with_ends(grid, t, way, radius, frames, flat)
        creases = {"v": rims} if flat else {}
    few = max(1, len(t) // 24)
    lines = [
        Line(row, turn, np.full(ROUND, at)) for row, at in zip(grid[::few], t[::few], strict=True)
    ]
    lines += [Line(grid[:, k], np.full(len(t), turn[k]), t) for k in range(0, ROUND, ROUND // 6)]
    guide = Guide(tuple(lines), turn, t, grid.transpose(1, 0, 2), "u", poles, words=words)
    return replace(guide, creases=creases)


def _ring(profile: BSplineCurve | None, turn: Floats) -> Floats:
    """Return a closed shape of mean radius 1, flat, (n, 2)."""
    if profile is None:
        return np.stack([np.cos(FULL * turn), np.sin(FULL * turn)], axis=1)
    way = Measured(profile)
    if not way.closed:
        raise BuildError("the profile of a tube is a closed curve: this one is open")
    points = way.at(turn)
    middle = points - points.mean(axis=0)
    axes = np.linalg.svd(middle, full_matrices=False)[2]
    flat = middle @ axes[:2].T
    return flat / np.linalg.norm(flat, axis=1).mean()


def _with_ends(
    grid: Floats, t: Floats, way: Measured, radius: Floats, frames: Floats, flat: bool
) -> tuple[Floats, Floats, dict[Border, Floats], tuple[float, float]]:
    """Close a tube's ends by half balls or plane faces, which run to a pole each.

    Returns
    -------
    grid, t, poles
    rims : (float, float)
        The parameters at which the ends begin.
    """
    angle = np.linspace(0, np.pi / 2, 12)
    lift, size = (0 * angle, 1 - angle / angle[-1]) if flat else (np.sin(angle), np.cos(angle))
    rows, at = [], []
    poles: dict[Border, Floats] = {}
    ends: tuple[tuple[Border, int, float], ...] = (("v0", 0, -1.0), ("v1", -1, 1.0))
    for border, end, sign in ends:
        middle = way.at(t[[end]])[0]
        ring, ahead = grid[end] - middle, frames[end, 2]
        cap = (
            middle
            + size[1:, None, None] * ring
            + (sign * radius[end] * lift[1:, None, None] * ahead)
        )
        reach = np.concatenate([[0], np.cumsum(np.hypot(np.diff(lift), np.diff(size)))])[1:]
        rows.append(cap)
        at.append(reach * radius[end])
        poles[border] = middle + sign * radius[end] * lift[-1] * ahead
    whole = np.concatenate([rows[0][::-1], grid, rows[1]])
    along = np.concatenate([-at[0][::-1], t * way.length, way.length + at[1]])
    along = (along - along[0]) / (along[-1] - along[0])
    return whole, along, poles, (float(along[len(at[0])]), float(along[-1 - len(at[1])]))


def _too_tight(way: Measured, t: Floats, radius: Floats) -> str:
    """Say where a path bends tighter than its tube is wide."""
    first, second = curve_derivatives(way.curve, way.parameters(t), 2)[1:]
    speed = np.linalg.norm(first, axis=1)
    bend = np.linalg.norm(np.cross(first, second), axis=1) / np.maximum(speed**3, 1e-300)
    tight = bend * radius
    at = int(np.argmax(tight))
    if tight[at] < 1:
        return ""
    where = told_at(curve_points(way.curve, way.parameters(t[[at]]))[0])
    return (
        f"the path bends with a radius of {1 / bend[at]:.2f} mm near {where}: tighter than the"
        " tube,"
        f" {radius[at]:.2f} mm, which folds over itself there"
    )
