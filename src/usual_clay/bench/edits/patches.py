"""Four-corner patches in a session: their borders, the surface inside, joints to neighbours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from usual_clay.bench.edits.casts import blank_surface
from usual_clay.bench.edits.curves import drawn_curve
from usual_clay.bench.session import Session, sentence
from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.fit.patch.meet import SAME_LINE, Continuity, edge_strays
from usual_clay.core.fit.patch.network import (
    Piece,
    Seam,
    ribbon_of,
    share_border,
    solve_together,
)
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.fit.solve.system import FitError
from usual_clay.core.spline.boundary import border_curve
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.job.items import Curve, ItemId, Scan, Surface
from usual_clay.job.job import Job, sample_of
from usual_clay.job.recipes import Recipe
from usual_clay.job.remake import is_stale

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
    recipe = Recipe("patch", (scan.id, *(curve.id for curve in borders)), settings)
    return blank_surface(job, job.free_name("Patch 1"), recipe)


def neighbour_at(job: Job, surface: Surface, side: int) -> Surface | None:
    """Return another surface with a patch's border as its edge, that does not follow from it."""
    assert surface.recipe is not None
    border = job.get(surface.recipe.sources[1 + side], Curve)
    if border is None:
        return None
    follows = downstream(job, surface.id)
    for other in job.all(Surface):
        free = other.id not in follows and other.geometry.weights is None
        if free and edge_strays(other.geometry, border.geometry) is not None:
            return other
    return None


def downstream(job: Job, item_id: ItemId) -> set[ItemId]:
    """Return an item and all that is made from it, near or far."""
    found, going = {item_id}, [item_id]
    while going:
        fresh = [item.id for item in job.followers(going.pop()) if item.id not in found]
        found.update(fresh)
        going += fresh
    return found


def set_joint(session: Session, surface: Surface, side: int, grade: Continuity) -> None:
    """Let a patch go on from its neighbour at a border; with G0 it only shares the border."""
    recipe = surface.recipe
    if recipe is None or not session.may_change(surface):
        return
    settings: PatchSettings = recipe.settings
    joints, besides = list(settings.joints), list(settings.beside)
    neighbours = [recipe.sources[5 + k] if k >= 0 else "" for k in besides]
    ribbons = tuple(ribbon for ribbon in settings.ribbons if ribbon.border != side)
    if grade == "G0":
        neighbours[side] = ""
    else:
        other = neighbour_at(session.job, surface, side)
        if other is None:
            name = session.job.items[recipe.sources[1 + side]].name
            session.told.emit(
                "trouble",
                f"No other surface has {name} as its edge: make one there"
                " first, or take that surface's edge as the border.",
            )
            session.job_changed.emit()
            return
        neighbours[side] = other.id
    joints[side] = grade
    others, beside = _listed(neighbours)
    changed = replace(settings, joints=tuple(joints), beside=beside, ribbons=ribbons)  # type: ignore[arg-type]
    whole = replace(recipe, sources=(*recipe.sources[:5], *others), settings=changed)
    session.search_words.pop(surface.id, None)
    session.change(surface, f"{grade} joint of {surface.name}", recipe=whole, candidates=())


def network_of(job: Job, surface: Surface) -> list[Surface]:
    """Return a patch and the visible patches that it shares borders with, near or far."""
    patches = [
        other
        for other in job.all(Surface)
        if other.recipe is not None
        and other.recipe.kind == "patch"
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


def solve_patches(session: Session, surface: Surface) -> None:
    """Solve a patch and those that it shares borders with together: smooth over each of them."""
    job = session.job
    network = network_of(job, surface)
    if len(network) < 2:
        session.told.emit(
            "trouble",
            f"No other visible patch shares a border with {surface.name}:"
            " show those that it is to be solved with.",
        )
        return
    if any(is_stale(job, each) or job.is_loose(each) for each in network):
        session.told.emit("trouble", "These patches are still being fitted: wait for them.")
        return

    def task(*_: object) -> list[tuple[Seam, Floats]]:
        pieces = []
        for each in network:
            sample = sample_of(job, job.measured(each))  # type: ignore[arg-type]
            weights = sample.believed(foot_points(each.geometry, sample.points).signed)
            symmetric = each.recipe.settings.symmetric  # type: ignore[union-attr]
            pieces.append(Piece(each.geometry, sample.points, weights, symmetric))
        return solve_together(pieces)

    def done(found: list[tuple[Seam, Floats]]) -> None:
        if any(session.job.items.get(each.id) is not each for each in network):
            return
        now = session.job
        for number, each in enumerate(network):
            now = now.with_item(_with_ribbons(now, each, number, network, found))
        many = f"{len(network)} patches over {len(found)} border{'s' if len(found) > 1 else ''}"
        session.commit(now, f"solve {many}")
        session.told.emit("news", f"{many} were solved together: they meet there with G1.")

    session.work.start(
        "ask", "Solving patches", task, done, failed=lambda error: session.fail(surface.id, error)
    )


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
    neighbours = [recipe.sources[5 + k] if k >= 0 else "" for k in settings.beside]
    for seam, inward in found:
        if number not in seam.pieces:
            continue
        line = border_curve(surfaces[seam.pieces[0]], seam.sides[0])
        side = next(k for k in range(4) if _runs_along(job.get(recipe.sources[1 + k], Curve), line))
        ribbons.append(ribbon_of(surfaces, seam, inward, seam.pieces[1] == number, side))
        joints[side], neighbours[side] = "G0", ""
    others, beside = _listed(neighbours)
    settings = replace(settings, joints=tuple(joints), beside=beside, ribbons=tuple(ribbons))  # type: ignore[arg-type]
    whole = Recipe("patch", (*recipe.sources[:5], *others), settings)
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


def add_patch(session: Session, job: Job, surface: Surface, words: str) -> None:
    """Keep a patch with its borders."""
    try:
        session.commit(job.with_item(surface), words)
    except FitError as error:
        session.told.emit("trouble", sentence(error))
        return
    session.fresh = surface.id
    session.choose(surface.id)
