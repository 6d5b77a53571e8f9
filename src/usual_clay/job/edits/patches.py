"""Four-corner patches: their borders, the surface inside, joints to neighbours: job in, job out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.fit.patch.meet import SAME_LINE, Continuity, edge_strays
from usual_clay.core.fit.patch.network import (
    Piece,
    Seam,
    ribbon_of,
    share_border,
)
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.spline.boundary import border_curve
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.job.edits.curves import drawn_curve
from usual_clay.job.edits.make import planned_as
from usual_clay.job.items import Curve, ItemId, Scan, Surface
from usual_clay.job.job import Job, JobError, sample_of
from usual_clay.job.recipe import Recipe

# Two corners at the ends of a curve, to so many mm, mean that curve.
ON_END = 1e-6


def legs_of(places: Floats, corners: Sequence[int]) -> list[Floats]:
    """Return the places of each border, from corner to corner, the last back to the first."""
    ends = [*corners, len(places)]
    ring = np.concatenate([places, places[:1]])
    return [ring[a : b + 1] for a, b in pairwise(ends)]


def bordered(job: Job, scan: Scan, legs: Sequence[Floats]) -> tuple[Job, list[Curve]]:
    """Return a job with a curve on the scan for each leg; one that is there already is taken.

    Raises
    ------
    SplineError
    """
    borders = []
    for leg in legs:
        known = _between(job, leg) if len(leg) == 2 else None
        if known is None:
            settings = DrawnSettings("through", as_places(leg), within=job.tolerance.deviation)
            known = drawn_curve(job, settings, "Border 1", scan)
            job = job.with_item(known)
        borders.append(known)
    return job, borders


def _between(job: Job, leg: Floats) -> Curve | None:
    """Return the curve that runs from one corner to the other already."""
    for curve in job.all(Curve):
        ends = curve.geometry.points[[0, -1]]
        if min(float(np.abs(e - leg).max()) for e in (ends, ends[::-1])) < ON_END:
            return curve
    return None


def new_patch(job: Job, scan: Scan, borders: Sequence[Curve], closing: float) -> Surface:
    """Return a patch that is not yet made, nor in the job; gaps up to `closing` mm are closed."""
    settings = PatchSettings(closing=closing)
    ids = [curve.id for curve in borders]
    return planned_as(Surface, job, "patch", settings, "Patch 1", scan=scan.id, borders=ids)


def border_of(job: Job, surface: Surface, number: int) -> Curve | None:
    """Return one of the four borders of a patch, as they were given, if it is still there."""
    assert surface.recipe is not None
    return job.get(surface.recipe.all("borders")[number], Curve)


def neighbours_of(recipe: Recipe) -> list[ItemId]:
    """Return for each border of a patch the id of the surface that it goes on from; "" for none."""
    others = recipe.all("beside")
    return [others[k] if k >= 0 else "" for k in recipe.settings.beside]


def with_joint(job: Job, surface: Surface, number: int, grade: Continuity) -> Job:
    """Let a patch go on from its neighbour at a border; with G0 it only shares the border.

    Raises
    ------
    JobError
        Where no other surface has that border as an edge.
    """
    recipe = surface.recipe
    assert recipe is not None
    settings: PatchSettings = recipe.settings
    neighbours, joints = neighbours_of(recipe), list(settings.joints)
    ribbons = tuple(ribbon for ribbon in settings.ribbons if ribbon.border != number)
    neighbours[number] = ""
    if grade != "G0":
        other = neighbour_at(job, surface, number)
        if other is None:
            border = job.items[recipe.all("borders")[number]].name
            raise JobError(
                f"No other surface has {border} as its edge: make one there first, or take that"
                " surface's edge as the border"
            )
        neighbours[number] = other.id
    joints[number] = grade
    others, beside = _listed(neighbours)
    changed = replace(settings, joints=tuple(joints), beside=beside, ribbons=ribbons)  # type: ignore[arg-type]
    whole = replace(recipe.with_role("beside", *others), settings=changed)
    return job.changed(surface.id, recipe=whole, candidates=())


def neighbour_at(job: Job, surface: Surface, side: int) -> Surface | None:
    """Return another surface with a patch's border as its edge, that does not follow from it."""
    border = border_of(job, surface, side)
    if border is None:
        return None
    follows = job.downstream(surface.id)
    for other in job.all(Surface):
        free = other.id not in follows and other.geometry.weights is None
        if free and edge_strays(other.geometry, border.geometry) is not None:
            return other
    return None


def network_of(job: Job, surface: Surface) -> list[Surface]:
    """Return a patch and the visible patches that it shares borders with, near or far."""
    patches = [
        other
        for other in job.all(Surface)
        if other.made_by(PatchSettings) is not None
        and not other.locked
        and (other.visible or other.id == surface.id)
    ]
    found, going = [surface], [surface]
    while going:
        now = going.pop()
        for other in patches:
            if other not in found and share_border(now.geometry, other.geometry):
                found.append(other)
                going.append(other)
    return found


def piece_of(job: Job, surface: Surface) -> Piece:
    """Return a patch as a network takes it.

    Raises
    ------
    JobError
        Where what judges it is gone.
    """
    measured, settings = job.measured(surface), surface.made_by(PatchSettings)
    if measured is None or settings is None:
        raise JobError(f"the scan of {surface.name} is gone")
    sample = sample_of(job, measured)
    weights = sample.believed(foot_points(surface.geometry, sample.points).signed)
    return Piece(surface.geometry, sample.points, weights, settings.symmetric)


def with_network(job: Job, network: Sequence[Surface], found: Sequence[tuple[Seam, Floats]]) -> Job:
    """Give patches the ribbons that they were solved for together with."""
    for number, each in enumerate(network):
        job = job.with_item(_with_ribbons(job, each, number, network, found))
    return job


def _with_ribbons(
    job: Job,
    surface: Surface,
    number: int,
    network: Sequence[Surface],
    found: Sequence[tuple[Seam, Floats]],
) -> Surface:
    """Return a patch with its ribbons in place of what it followed there."""
    recipe = surface.recipe
    assert recipe is not None
    settings: PatchSettings = recipe.settings
    ribbons, joints = [], list(settings.joints)
    surfaces = [each.geometry for each in network]
    neighbours = neighbours_of(recipe)
    for seam, inward in found:
        if number not in seam.pieces:
            continue
        line = border_curve(surfaces[seam.pieces[0]], seam.sides[0])
        side = next(k for k in range(4) if _runs_along(border_of(job, surface, k), line))
        ribbons.append(ribbon_of(surfaces, seam, inward, seam.pieces[1] == number, side))
        joints[side], neighbours[side] = "G0", ""
    others, beside = _listed(neighbours)
    settings = replace(settings, joints=tuple(joints), beside=beside, ribbons=tuple(ribbons))  # type: ignore[arg-type]
    whole = replace(recipe.with_role("beside", *others), settings=settings)
    return replace(surface, recipe=whole, candidates=())


def _runs_along(border: Curve | None, line: BSplineCurve) -> bool:
    """Tell whether a border is an edge, in either direction."""
    if border is None:
        return False
    at = np.linspace(0, 1, 9)
    feet = curve_foot_points(border.geometry, curve_points(line, at))
    ends = feet[0][[0, -1]]
    return float(feet[2].max()) < SAME_LINE and abs(float(ends[1] - ends[0])) > 0.9


def _listed(neighbours: Sequence[ItemId]) -> tuple[list[ItemId], tuple[int, ...]]:
    """Return the neighbours of four borders once each, and for each border which of them it has."""
    others = list(dict.fromkeys(name for name in neighbours if name))
    return others, tuple(others.index(name) if name else -1 for name in neighbours)
