"""Curves placed by something else: square to a curve, onto a plane or scan, within a surface."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.moving_least_squares import smoothed_places
from usual_clay.core.scan.section import sections
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives
from usual_clay.core.spline.make import DrawnSettings, make_curve, through_points
from usual_clay.core.spline.parts import at_length, evenly, length_of
from usual_clay.core.spline.surface import (
    BSplineSurface,
    isocurve,
    surface_box,
    surface_derivatives,
    surface_points,
)
from usual_clay.core.spline.tessellate import grid_triangles, steps_for_chord, tessellate

Axis = Literal["x", "y", "z"]
LAID_SAMPLES = 600
ON_SCAN = 240
# A leg between two points is drawn onto a scan at so many places.
LEG_PLACES = 6
# A surface is looked at as triangles that stay so near to it, as a share of its size.
# A spline is led through so many places of a cut or more.
FEWEST = 8
FINE = 2e-5
# A profile rises from its plane by no more than this share of its size.
FLAT = 1e-3
NEWTON_STEPS = 6


@dataclass(frozen=True)
class AcrossSettings:
    """How a profile is set square to a curve.

    Attributes
    ----------
    at : float
        Where on the curve.
    by : {"share", "parameter", "length"}
        A share of its length, its parameter, or a length in mm.
    anchor : {"middle", "start", "origin"}
        What of the profile lies on the curve.
    turn : float
        About the curve, radians.
    flip : bool
        Whether it faces against the curve.
    """

    at: float = 0.5
    by: Literal["share", "parameter", "length"] = "share"
    anchor: Literal["middle", "start", "origin"] = "middle"
    turn: float = 0.0
    flip: bool = False


@dataclass(frozen=True)
class LaidSettings:
    """What a curve is brought onto.

    Attributes
    ----------
    onto : {"item", "x", "y", "z"}
        The surface or scan that is the second source, or a plane square to an axis.
    at : float
        Where that plane lies, mm.
    along : {"nearest", "x", "y", "z"}
        Onto an item: to the nearest place, or parallel to an axis.
    within : float
        How near the lean spline stays, mm.
    """

    onto: Literal["item", "x", "y", "z"] = "item"
    at: float = 0.0
    along: Literal["nearest", "x", "y", "z"] = "nearest"
    within: float = 0.01


@dataclass(frozen=True)
class InSurfaceSettings:
    """A curve that lies in a surface.

    Attributes
    ----------
    kind : str
        "along u" or "along v", an isocurve; or the axis that a cutting plane is square to.
    at : float
        The other parameter; or where the plane lies, mm.
    within : float
        How near the lean spline of a cut stays, mm.
    """

    kind: Literal["along u", "along v", "x", "y", "z"] = "along u"
    at: float = 0.5
    within: float = 0.005


def set_across(profile: BSplineCurve, path: BSplineCurve, settings: AcrossSettings) -> BSplineCurve:
    """Set a flat profile square to a curve.

    The axis of the world that is nearest upright to the curve is kept upright, so that profiles
    at several stations are turned alike.

    Raises
    ------
    SplineError
        When the profile is straight or not flat, or the station is not on the curve.
    """
    t = _station(path, settings)
    place, ahead = curve_derivatives(path, [t], 1)[:, 0]
    speed = float(np.linalg.norm(ahead))
    if speed < 1e-12:
        raise SplineError("the curve has no direction there")
    ahead = ahead / speed * (-1 if settings.flip else 1)
    line = evenly(profile, 200)
    anchor = {"middle": line.mean(axis=0), "start": line[0], "origin": np.zeros(3)}
    own = _own_frame(profile, line)
    across = _frame_about(ahead)
    c, s = np.cos(settings.turn), np.sin(settings.turn)
    turn = np.array([[c, s, 0], [-s, c, 0], [0, 0, 1.0]])
    moved = (profile.points - anchor[settings.anchor]) @ own.T @ turn @ across
    return replace(profile, points=place + moved)


def _station(path: BSplineCurve, settings: AcrossSettings) -> float:
    whole = length_of(path) if settings.by == "length" else 1.0
    if not 0 <= settings.at <= whole * (1 + 1e-9):
        unit = " mm" if settings.by == "length" else ""
        raise SplineError(
            f"the station {settings.at:g}{unit} is not on it: the curve runs from 0 to"
            f" {whole:.3f}{unit}"
        )
    if settings.by == "parameter":
        return settings.at
    along = settings.at if settings.by == "length" else settings.at * length_of(path)
    return float(at_length(path, np.array([along]))[0])


def _own_frame(profile: BSplineCurve, line: Floats) -> Floats:
    """Return across, up and normal of a profile's plane, as rows."""
    _, extents, axes = np.linalg.svd(line - line.mean(axis=0), full_matrices=False)
    if extents[1] < 1e-6 * max(float(extents[0]), 1e-12):
        raise SplineError("a straight profile has no plane: give it a bend, or draw it flat")
    normal = axes[2]
    rise = np.abs((profile.points - line.mean(axis=0)) @ normal).max()
    if rise > FLAT * float(np.ptp(line, axis=0).max()):
        raise SplineError(f"the profile does not lie in a plane: it rises from it by {rise:.3f} mm")
    return _frame_about(normal * (1 if normal[np.argmax(np.abs(normal))] > 0 else -1))


def _frame_about(normal: Floats) -> Floats:
    """Return a right-handed frame about a normal, as rows, its second as upright as can be."""
    upright = np.array([0.0, 0, 1]) if abs(normal[2]) < 0.9 else np.array([0.0, 1, 0])
    up = upright - (upright @ normal) * normal
    up = up / np.linalg.norm(up)
    return np.stack([np.cross(up, normal), up, normal])


def drawn_on(settings: DrawnSettings, mesh: TriangleMesh) -> BSplineCurve:
    """Return a curve that is drawn through points and lies on a scan between them.

    The curve through the points is drawn onto the scan at a few places of each leg, and through
    these again; a lean spline of even knots then follows it, on the scan without its noise.

    Raises
    ------
    SplineError
    """
    if settings.kind != "through" or settings.closed:
        raise SplineError("on a scan a curve is drawn through points, and open")
    ends = settings.array
    line = make_curve(replace(settings, handles=()))
    near = smoothed_places(mesh, evenly(line, LEG_PLACES * (len(ends) - 1) + 1))
    near[[0, -1]] = ends[[0, -1]]
    landed = smoothed_places(mesh, evenly(through_points(near), ON_SCAN))
    landed[[0, -1]] = ends[[0, -1]]
    run = PointSequence(landed, held=(True, True))
    return trace(run, TraceSettings(knots="even"), Tolerance(settings.within, 0.999)).fit.curve


def lay_onto(
    curve: BSplineCurve, target: TriangleMesh | BSplineSurface | None, settings: LaidSettings
) -> BSplineCurve:
    """Bring a curve onto a plane, a surface or a scan.

    Onto a plane its control points are moved, which is exact; onto the others a lean spline
    follows the places where its points land.

    Raises
    ------
    SplineError
        When there is nothing to land on, or a part of the curve misses it.
    """
    if settings.onto != "item":
        points = curve.points.copy()
        points[:, "xyz".index(settings.onto)] = settings.at
        return replace(curve, points=points)
    if target is None:
        raise SplineError("choose the surface or the scan that it is laid onto")
    line = evenly(curve, LAID_SAMPLES)
    if settings.along == "nearest":
        landed = _nearest(line, target)
    else:
        landed = _along(line, target, "xyz".index(settings.along))
    return _followed(landed, settings.within)


def _nearest(line: Floats, target: TriangleMesh | BSplineSurface) -> Floats:
    if isinstance(target, TriangleMesh):
        return tree_of(target).nearest(line)[2]
    feet = foot_points(target, line)
    return surface_points(target, feet.u, feet.v)


def _along(line: Floats, target: TriangleMesh | BSplineSurface, axis: int) -> Floats:
    """Return where points land when they go along an axis, to the nearer side."""
    mesh = target if isinstance(target, TriangleMesh) else as_mesh(target)
    tree = tree_of(mesh)
    way = np.eye(3)[axis]
    ahead, back = tree.first_hits(line, way)[1], tree.first_hits(line, -way)[1]
    by = np.where(ahead <= back, ahead, -back)
    missed = ~np.isfinite(by)
    if missed.any():
        raise SplineError(
            f"along {'xyz'[axis]} the curve misses it in part: {int(missed.sum())} of {len(line)}"
            " places land nowhere"
        )
    landed = line + by[:, None] * way
    if isinstance(target, TriangleMesh):
        return landed
    # The triangles were near; the surface itself is met exactly.
    others = [k for k in range(3) if k != axis]
    return _settled(target, landed, others, line[:, others])


def _settled(surface: BSplineSurface, places: Floats, axes: list[int], wanted: Floats) -> Floats:
    """Move places on a surface until their coordinates along `axes` are as wanted (Newton)."""
    feet = foot_points(surface, places)
    u, v = feet.u, feet.v
    for _ in range(NEWTON_STEPS):
        value, du, dv = surface_derivatives(surface, u, v, 1).transpose(0, 2, 1)
        gap = wanted - value[:, axes]
        if len(axes) == 2:
            (a, c), (b, d) = du[:, axes].T, dv[:, axes].T
            det = np.where(np.abs(a * d - b * c) < 1e-14, np.inf, a * d - b * c)
            step = np.stack([d * gap[:, 0] - b * gap[:, 1], a * gap[:, 1] - c * gap[:, 0]]) / det
        else:
            slope = np.concatenate([du[:, axes], dv[:, axes]], axis=1)
            step = (slope * gap / np.maximum((slope**2).sum(axis=1, keepdims=True), 1e-14)).T
        u, v = np.clip(u + step[0], 0, 1), np.clip(v + step[1], 0, 1)
    return surface_points(surface, u, v)


def as_mesh(surface: BSplineSurface) -> TriangleMesh:
    """Return a surface as fine triangles."""
    size = float(np.ptp(surface_box(surface), axis=0).max())
    grid = tessellate(surface, steps_for_chord(surface, FINE * size))[0]
    return TriangleMesh(grid.reshape(-1, 3), grid_triangles(*grid.shape[:2]))


def in_surface(surface: BSplineSurface, settings: InSurfaceSettings) -> BSplineCurve:
    """Return an edge, an isocurve or a plane's cut of a surface.

    Raises
    ------
    SplineError
        When the parameter is outside, or the plane misses the surface.
    """
    if settings.kind.startswith("along"):
        if not 0 <= settings.at <= 1:
            raise SplineError(f"an isocurve lies at a parameter from 0 to 1, not {settings.at:g}")
        return isocurve(surface, settings.kind[-1], settings.at)
    axis = "xyz".index(settings.kind)
    normal = np.eye(3)[axis]
    cut = sections(as_mesh(surface), settings.at * normal, normal)
    if not cut:
        raise SplineError(f"the plane {settings.kind} = {settings.at:g} mm misses the surface")
    points = cut[0].points
    exact = _settled(surface, points, [axis], np.full((len(points), 1), settings.at))
    return _followed(exact, settings.within, cut[0].closed)


def _followed(line: Floats, within: float, closed: bool = False) -> BSplineCurve:
    """Return the leanest spline along points that lie in order."""
    if len(line) < FEWEST:
        # Of a straight cut there are its ends alone.
        at = np.linspace(0, len(line) - 1, FEWEST)
        line = np.stack([np.interp(at, np.arange(len(line)), x) for x in line.T], axis=1)
    if not closed and np.linalg.norm(line[0] - line[-1]) < 1e-9 * max(float(np.ptp(line)), 1e-9):
        line, closed = line[:-1], True
    run = PointSequence(line, True) if closed else PointSequence(line, held=(True, True))
    return trace(run, TraceSettings(knots="adaptive"), Tolerance(within, 0.999)).fit.curve
