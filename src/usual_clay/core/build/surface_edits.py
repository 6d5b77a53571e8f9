"""Edits of a whole surface: longer, parted, its borders, its symmetry, its spacing, its joints."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.combine import mirrored
from usual_clay.core.fit.parameterize.mirror import Mirror
from usual_clay.core.fit.patch.meet import Continuity
from usual_clay.core.fit.solve.system import Space
from usual_clay.core.scan.mesh import unit
from usual_clay.core.spline.basis import SplineError, greville
from usual_clay.core.spline.boundary import (
    BORDERS,
    Border,
    Edge,
    border_rows,
    edge_of,
    join_ratio,
    knots_across,
    rows_inward,
    runs_along,
    with_knots,
)
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.four_borders import make_compatible
from usual_clay.core.spline.knots import reverse, run_on
from usual_clay.core.spline.parts import length_of
from usual_clay.core.spline.surface import (
    BSplineSurface,
    along,
    isocurve,
    sample_parameters,
    surface_grid,
    surface_normals,
    swap_directions,
)

PER_SPAN, PLACES, ROUNDS = 8, 9, 8
# How far a control point goes to its neighbours' middle in one round of evening out.
EASE = 0.5


@dataclass(frozen=True)
class LongerSettings:
    """A surface made longer at a side, in the mean by so many mm."""

    side: Border = "u1"
    by: float = 5.0


@dataclass(frozen=True)
class PartSettings:
    """Where a surface is cut: along u or v, at the other's parameter; and what is kept."""

    cut: Literal["u", "v"] = "u"
    at: float = 0.5
    keep: Literal["both", "first", "last"] = "both"


@dataclass(frozen=True)
class BorderSettings:
    """What becomes of a border: one point (a clean pole), a straight line, or flat."""

    side: Border = "u1"
    becomes: Literal["pole", "straight", "flat"] = "flat"


@dataclass(frozen=True)
class MirrorSettings:
    """The axis of the mirror plane through the origin."""

    axis: Literal["x", "y", "z"] = "y"


@dataclass(frozen=True)
class EvenSettings:
    """How far control points are spaced out evenly, 0 to 1, within the surface."""

    share: float = 1.0


@dataclass(frozen=True)
class TurnOverSettings:
    """Which way of a surface runs backwards, so that it faces the other way."""

    along: Literal["u", "v"] = "v"


@dataclass(frozen=True)
class MatchSettings:
    """How a surface is brought to meet another.

    Attributes
    ----------
    grade : {"G0", "G1", "G2"}
    moves : {"this", "both"}
        Whether this surface alone moves, or both of them by half.
    """

    grade: Continuity = "G1"
    moves: Literal["this", "both"] = "this"


def moved_by(old: BSplineSurface, new: BSplineSurface) -> float:
    """Return the farthest that two surfaces of one domain lie apart at equal parameters, mm."""
    u = sample_parameters(old.knots_u, PER_SPAN)
    v = sample_parameters(old.knots_v, PER_SPAN)
    apart = surface_grid(old, u, v) - surface_grid(new, u, v)
    return float(np.linalg.norm(apart, axis=2).max())


def longer(surface: BSplineSurface, settings: LongerSettings) -> BSplineSurface:
    """Let a surface run on past a side as its last span does, with no control point more.

    The end knots are moved outward; the spline with these knots that is the old one on the old
    domain is found by interpolating its end polynomials, which is exact.

    Raises
    ------
    SplineError
    """
    if not settings.by > 0:
        raise SplineError("a surface is extended by more than 0 mm")
    direction, end = settings.side[0], settings.side[-1]
    if end == "0":
        turned = reverse(surface, direction)
        side: Border = "u1" if direction == "u" else "v1"
        return reverse(longer(turned, replace(settings, side=side)), direction)
    whole = _mean_length(surface, direction)
    past = settings.by / whole
    for _ in range(ROUNDS):
        made = along(surface, direction, partial(_past_its_end, past))
        grown = _mean_length(made, direction) - whole
        if abs(grown - settings.by) < 1e-6 * settings.by:
            break
        past *= settings.by / max(grown, 1e-12)
    return made


def _past_its_end(past: float, knots: Floats, coefficients: Floats) -> tuple[Floats, Floats]:
    wider, net = run_on(knots, coefficients, 0.0, past)
    return wider / wider[-1], net


def _mean_length(surface: BSplineSurface, direction: str) -> float:
    at = np.linspace(0, 1, PLACES)
    return float(np.mean([length_of(isocurve(surface, direction, float(t))) for t in at]))


def with_border(surface: BSplineSurface, settings: BorderSettings) -> BSplineSurface:
    """Close a border to a point, or make it straight or flat; the rest of the net stays.

    At a pole the next row is brought into one plane through it, so that the surface has a tangent
    plane there.
    """
    points = surface.points.copy()
    rows = border_rows(points, settings.side)
    border = rows[0]
    if settings.becomes == "straight":
        start, way = border[0].copy(), border[-1] - border[0]
        size = float(way @ way)
        if size < 1e-18:
            raise SplineError("the border begins and ends on one spot: it cannot be straight")
        rows[0] = start + np.outer((border - start) @ way / size, way)
    elif settings.becomes == "flat":
        rows[0] = _flattened(border, border.mean(axis=0))
    else:
        pole = border.mean(axis=0)
        rows[0] = pole
        rows[1] = _flattened(rows[1], pole)
    return replace(surface, points=points)


def _flattened(points: Floats, through: Floats) -> Floats:
    """Bring points onto the plane through a place that lies nearest to them."""
    own = points - through
    normal = np.linalg.svd(own, full_matrices=False)[2][-1]
    return np.asarray(points - np.outer(own @ normal, normal))


def mirrored_surface(surface: BSplineSurface, settings: MirrorSettings) -> BSplineSurface:
    """Make a surface its own mirror image: the mean of both, its knots made symmetric first.

    Raises
    ------
    SplineError
        When it does not lie across the plane.
    """
    axis = "xyz".index(settings.axis)
    tried = []
    for direction in "uv":
        mirror = Mirror(axis, direction)
        space = mirror.doubled(Space(surface.knots_u, surface.knots_v, *surface.degrees))
        fine = with_knots(surface, direction, space.knots_u if direction == "u" else space.knots_v)
        made = mirror.halved(fine)
        tried.append((moved_by(fine, made), made))
    moved, made = min(tried, key=lambda pair: pair[0])
    size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
    if moved > 0.25 * size:
        raise SplineError(
            f"the surface does not lie across {settings.axis} = 0: to be symmetric it would move"
            f" by {moved:.2f} mm"
        )
    return made


def mirror_image(surface: BSplineSurface, plane: tuple[Floats, Floats]) -> BSplineSurface:
    """Return a surface mirrored in a plane, its directions exchanged so that normals stay outward.

    Parameters
    ----------
    plane : two (3,) arrays
        A place on it and its normal.
    """
    return swap_directions(replace(surface, points=mirrored(surface.points, plane)))


@dataclass(frozen=True)
class MeetTwinSettings:
    """The plane in which a surface meets its mirror image smoothly."""

    axis: Literal["x", "y", "z"] = "y"
    at: float = 0.0


def meeting_its_twin(surface: BSplineSurface, settings: MeetTwinSettings) -> BSplineSurface:
    """Bring a surface's nearest border into a mirror plane, and square to it.

    Then the surface and its mirror image are one smooth shape: the slope across stands along the
    plane's normal, and the curvature across is the same on both sides by symmetry (G2).

    Raises
    ------
    SplineError
        Where no border lies near the plane.
    """
    axis = "xyz".index(settings.axis)
    points = surface.points.copy()
    off = {side: np.abs(border_rows(points, side)[0][..., axis] - settings.at) for side in BORDERS}
    side = min(BORDERS, key=lambda each: float(off[each].max()))
    rows = border_rows(points, side)
    leg = float(np.linalg.norm(rows[1] - rows[0], axis=1).mean())
    if off[side].max() > max(leg, 1e-12):
        raise SplineError(
            f"its nearest border, {side}, lies up to {off[side].max():.2f} mm from the plane"
            f" {settings.axis} = {settings.at:g}: it meets no twin there"
        )
    rows[0][:, axis] = settings.at
    level = [k for k in range(3) if k != axis]
    rows[1][:, level] = rows[0][:, level]
    return replace(surface, points=points)


def evenly_spaced(surface: BSplineSurface, settings: EvenSettings) -> BSplineSurface:
    """Space inner control points evenly between their neighbours, within the surface.

    Only the part of a step that is square to the surface's normal is taken, so that the shape
    moves little; borders slide along themselves.
    """
    points = surface.points.copy()
    u, v = (
        greville(surface.knots_u, surface.degrees[0]),
        greville(surface.knots_v, surface.degrees[1]),
    )
    uu, vv = np.meshgrid(u, v, indexing="ij")
    for _ in range(max(1, round(ROUNDS * settings.share))):
        normals = surface_normals(replace(surface, points=points), uu.ravel(), vv.ravel())
        normals = normals.reshape(points.shape)
        step = np.zeros_like(points)
        step[1:-1] += (points[2:] + points[:-2]) / 2 - points[1:-1]
        step[:, 1:-1] += (points[:, 2:] + points[:, :-2]) / 2 - points[:, 1:-1]
        step -= np.einsum("ijk,ijk->ij", step, normals)[..., None] * normals
        for edge, along_it in (
            (np.s_[0, :], 1),
            (np.s_[-1, :], 1),
            (np.s_[:, 0], 0),
            (np.s_[:, -1], 0),
        ):
            way = unit(np.gradient(points, axis=along_it)[edge])
            step[edge] = np.einsum("ik,ik->i", step[edge], way)[:, None] * way
        step[[0, 0, -1, -1], [0, -1, 0, -1]] = 0.0
        points += EASE * settings.share / 2 * step
    return replace(surface, points=points)


# ---- joints ----------------------------------------------------------------------------------


def matched(
    surface: BSplineSurface, other: BSplineSurface, settings: MatchSettings
) -> tuple[BSplineSurface, BSplineSurface]:
    """Bring a surface's nearest border to another's, with G0, G1 or G2.

    The rows next to the border follow from the other's derivatives with a constant ratio, which
    is that of the two as they are; all other rows stay. With "both", border and derivatives meet
    half way. Knots of either border are inserted into both, which changes no shape.

    Raises
    ------
    SplineError
        When either is rational, or they face each other the wrong way.
    """
    side, other_side, turned = nearest_sides(surface, other)
    if turned:
        other = reverse(other, runs_along(other_side))
    one, two = _on_common_knots(surface, side, other, other_side)
    first, second = edge_of(one, side), edge_of(two, other_side)
    at = np.linspace(0.05, 0.95, PLACES)
    mine, theirs = curve_points(first.first, at), curve_points(second.first, at)
    ratio = join_ratio(mine, theirs)
    if ratio <= 0 and settings.grade != "G0":
        raise SplineError(
            "the two surfaces lie on the same side of the border: one folds back over the other"
        )
    target = second
    if settings.moves == "both":
        # What both are to have, told as the other's inward derivatives.
        target = Edge(
            _mean(second.curve, first.curve, 1.0),
            _mean(second.first, first.first, -1.0 / max(ratio, 1e-9)),
            _mean(second.second, first.second, 1.0 / max(ratio, 1e-9) ** 2),
        )
        two = _with_rows(two, other_side, target, 1.0, settings.grade)
    one = _with_rows(one, side, target, -ratio, settings.grade)
    if turned:
        two = reverse(two, runs_along(other_side))
    return one, two


def nearest_sides(
    surface: BSplineSurface,
    other: BSplineSurface,
    among: tuple[Sequence[Border], Sequence[Border]] = (BORDERS, BORDERS),
) -> tuple[Border, Border, bool]:
    """Return which sides of two surfaces lie nearest, and whether they run opposite ways.

    Parameters
    ----------
    among : two sequences of borders
        Which sides of each are looked at.
    """
    at = np.linspace(0, 1, PLACES)
    best: tuple[float, Border, Border, bool] | None = None
    edges = [
        {k: curve_points(edge_of(each, k).curve, at) for k in sides}
        for each, sides in zip((surface, other), among, strict=True)
    ]
    for i, mine in edges[0].items():
        for j, theirs in edges[1].items():
            for turned in (False, True):
                run = theirs[::-1] if turned else theirs
                away = float(np.linalg.norm(mine - run, axis=1).mean())
                if best is None or away < best[0]:
                    best = (away, i, j, turned)
    assert best is not None
    return best[1], best[2], best[3]


def _on_common_knots(
    surface: BSplineSurface, side: Border, other: BSplineSurface, other_side: Border
) -> tuple[BSplineSurface, BSplineSurface]:
    edges = [edge_of(surface, side).curve, edge_of(other, other_side).curve]
    degree = max(edge.degree for edge in edges)
    if any(edge.degree != degree for edge in edges):
        raise SplineError("the borders have different degrees: raise that of the lower one first")
    knots = make_compatible(edges, degree, np.zeros(0))[0].knots
    made = [
        with_knots(each, runs_along(where), knots)
        for each, where in ((surface, side), (other, other_side))
    ]
    return made[0], made[1]


def _mean(one: BSplineCurve, other: BSplineCurve, factor: float) -> BSplineCurve:
    return replace(one, points=(one.points + factor * other.points) / 2)


def _with_rows(
    surface: BSplineSurface, side: Border, edge: Edge, factor: float, grade: Continuity
) -> BSplineSurface:
    """Return a surface whose border and next rows have an edge's place and derivatives."""
    points = surface.points.copy()
    rows = border_rows(points, side)
    knots, degree = knots_across(surface, side)
    rows[0] = edge.curve.points
    if grade == "G0":
        return replace(surface, points=points)
    first, second = factor * edge.first.points, factor**2 * edge.second.points
    rows[1], third_row = rows_inward(rows[0], first, second, knots, degree, side)
    if grade == "G2" and degree > 1 and len(rows) > 4:
        rows[2] = third_row
    return replace(surface, points=points)
