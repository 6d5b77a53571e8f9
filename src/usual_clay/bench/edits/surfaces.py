"""Edits of surfaces shaped by hand: rows, columns, degrees, and the net itself."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np

from usual_clay.bench.session import Session, sentence
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.live import LiveFeet, live_feet
from usual_clay.core.fit.cast import cost_of
from usual_clay.core.fit.solve.adaptive import Laid, best_inserts
from usual_clay.core.fit.solve.remake import pull_to_points
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError, greville
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.knots import insert_knot, raise_degree, remove_knot, reverse
from usual_clay.core.spline.surface import BSplineSurface, swap_directions
from usual_clay.job.items import Region, Surface
from usual_clay.job.job import Job, sample_of

# Feet this near to a border lie on it.
ON_RIM = 1e-7


def live_of_surface(job: Job, surface: Surface) -> LiveFeet | None:
    """Return the feet of what judges a surface, for the drag that begins."""
    region = job.measured(surface)
    return None if region is None else live_feet(surface.geometry, sample_of(job, region).points)


def reshaped_surface(
    job: Job, surface: Surface, geometry: BSplineSurface, live: LiveFeet | None = None
) -> Surface:
    """Return a surface with a geometry made by hand: it is fitted no more, and still judged."""
    recipe = surface.recipe
    watches = recipe.sources[0] if recipe is not None else surface.watches
    made = replace(
        surface, geometry=geometry, recipe=None, made_of=None, candidates=(), watches=watches
    )
    if live is not None:
        return replace(made, signed=live.follow(geometry).signed)
    feet = live_of_surface(job, made)
    return replace(made, signed=None if feet is None else feet.signed)


def judged_within(job: Job, surface: Surface) -> Surface:
    """Return a part of a surface judged by the scan that lies over it alone."""
    region = job.measured(surface)
    if not isinstance(region, Region):
        return surface
    feet = foot_points(surface.geometry, sample_of(job, region).points)
    over = np.maximum(np.abs(feet.u - 0.5), np.abs(feet.v - 0.5)) < 0.5 - ON_RIM
    if not over.any():
        return surface
    return replace(
        surface, watches=region.scan, inside=region.vertices[over], signed=feet.signed[over]
    )


def reshape_surface(
    session: Session, surface: Surface, geometry: BSplineSurface, words: str
) -> None:
    """Put a geometry made by hand into a surface."""
    if session.may_change(surface):
        session.search_words.pop(surface.id, None)
        made = reshaped_surface(session.job, surface, geometry)
        session.commit(session.job.with_item(made), words)


def neighbours_of(surface: BSplineSurface, index: int) -> list[int]:
    """Return the control points at the other ends of a control point's legs."""
    nu, nv = surface.counts
    i, j = divmod(index, nv)
    near = ((i - 1, j), (i + 1, j), (i, j - 1), (i, j + 1))
    return [a * nv + b for a, b in near if 0 <= a < nu and 0 <= b < nv]


def chosen_with(surface: BSplineSurface, index: int, pick: str) -> frozenset[int]:
    """Return what a click on a control point chooses: it alone, its row, or its column."""
    nu, nv = surface.counts
    i, j = divmod(index, nv)
    if pick == "row":
        return frozenset(i * nv + k for k in range(nv))
    if pick == "column":
        return frozenset(k * nv + j for k in range(nu))
    return frozenset((index,))


def reach_weights(surface: BSplineSurface, which: Ints, reach: float, falloff: str) -> Floats:
    """Return how far each control point follows the chosen ones, (nu * nv,): 1 for these.

    The reach is counted in legs of the net; the falloff is round, straight or sharp.
    """
    nu, nv = surface.counts
    weights = np.zeros(nu * nv)
    weights[which] = 1.0
    if reach <= 0:
        return weights
    i, j = np.divmod(np.arange(nu * nv), nv)
    ci, cj = np.divmod(which, nv)
    away = np.hypot(i[:, None] - ci, j[:, None] - cj).min(axis=1) / (reach + 1)
    share = np.clip(1 - away, 0, 1)
    shaped = {"round": share**2 * (3 - 2 * share), "straight": share, "sharp": share**2}[falloff]
    return np.maximum(shaped, weights)


def whole_lines(surface: BSplineSurface, chosen: frozenset[int]) -> list[BSplineCurve]:
    """Return the rows and columns of a net that are chosen whole, each as the curve that it is."""
    nu, nv = surface.counts
    if len(chosen) < min(nu, nv) or max(chosen) >= nu * nv:
        return []
    mask = np.zeros(nu * nv, dtype=bool)
    mask[sorted(chosen)] = True
    net, weights = surface.points, surface.weights
    lines = []
    for along, knots, points, weight in (
        (mask.reshape(nu, nv), surface.knots_v, net, weights),
        (
            mask.reshape(nu, nv).T,
            surface.knots_u,
            net.swapaxes(0, 1),
            None if weights is None else weights.T,
        ),
    ):
        for k in np.flatnonzero(along.all(axis=1)):
            lines.append(BSplineCurve(knots, points[k], None if weight is None else weight[k]))
    return lines


def insert_line(session: Session, surface: Surface, direction: str) -> None:
    """Insert a row or column beside the chosen points, or where spans are longest."""
    geometry = surface.geometry
    knots = geometry.knots_u if direction == "u" else geometry.knots_v
    degree = geometry.degrees[0 if direction == "u" else 1]
    breaks = np.unique(knots)
    middles = (breaks[:-1] + breaks[1:]) / 2
    t = float(middles[np.argmax(np.diff(breaks))])
    if session.control_points:
        at = divmod(min(session.control_points), geometry.counts[1])[0 if direction == "u" else 1]
        site = greville(knots, degree)[at]
        t = float(middles[np.argmin(np.abs(middles - site))])
    made = insert_knot(geometry, t, direction=direction)
    reshape_surface(session, surface, made, f"insert a {LINE[direction]} in {surface.name}")
    session.choose_points(())


LINE = {"u": "row", "v": "column"}


def line_removal(surface: Surface, direction: str) -> tuple[BSplineSurface, float] | None:
    """Return a surface with the row or column less that costs least, and what that costs, mm."""
    geometry = surface.geometry
    knots = geometry.knots_u if direction == "u" else geometry.knots_v
    degree = geometry.degrees[0 if direction == "u" else 1]
    inner = np.unique(knots[degree + 1 : -degree - 1])
    if not len(inner):
        return None
    return min(
        (remove_knot(geometry, float(t), direction) for t in inner), key=lambda pair: pair[1]
    )


def remove_line(session: Session, surface: Surface, direction: str) -> None:
    """Remove the row or column that costs least, and say how far the surface moved."""
    found = line_removal(surface, direction)
    if found is None:
        session.told.emit("trouble", f"{surface.name} has no inner {LINE[direction]} to remove.")
        return
    reshape_surface(session, surface, found[0], f"remove a {LINE[direction]} of {surface.name}")
    session.choose_points(())
    moved = f"One {LINE[direction]} less moved the surface by up to {found[1]:.4f} mm."
    session.told.emit("news", moved)


def raise_surface(session: Session, surface: Surface, direction: str) -> None:
    """Raise the degree in one direction; the shape stays."""
    if surface.geometry.degrees[0 if direction == "u" else 1] >= HIGHEST_DEGREE:
        session.told.emit("trouble", f"The degree is already {HIGHEST_DEGREE}.")
        return
    try:
        made = raise_degree(surface.geometry, direction)
    except SplineError as error:
        session.told.emit("trouble", sentence(error))
        return
    reshape_surface(session, surface, made, f"raise the degree of {surface.name}")
    session.choose_points(())


def pull_to_scan(session: Session, surface: Surface, rest: bool = False) -> None:
    """Solve the chosen control points again against what judges the surface, or all others.

    Where the chosen ones are held while the others are solved, what that costs is told.
    """
    region = session.measured(surface)
    which = np.array(sorted(session.control_points), dtype=np.int64)
    if region is None or not len(which):
        session.told.emit(
            "trouble",
            "Choose control points first."
            if region is not None
            else f"Nothing measured judges {surface.name}.",
        )
        return
    sample = session.making.sample(region)

    everything = np.arange(surface.control_points)

    def task(*_: object) -> tuple[BSplineSurface, str]:
        signed = foot_points(surface.geometry, sample.points).signed
        weights = sample.believed(signed)
        pull = partial(pull_to_points, surface.geometry, sample.points, weights)
        if not rest:
            return pull(which), ""
        made, free = pull(np.setdiff1d(everything, which)), pull(everything)
        off = [foot_points(each, sample.points).signed for each in (made, free)]
        many = f"{len(which)} control point{'' if len(which) == 1 else 's'}"
        return made, cost_of(f"holding {many}", off[0], off[1])

    def done(made: tuple[BSplineSurface, str]) -> None:
        now = session.job.get(surface.id, Surface)
        if now is surface:
            before = session.job.report(surface)
            if before is not None:
                session.before_move[surface.id] = before
            reshape_surface(session, surface, made[0], f"pull {surface.name} to the scan")
            if made[1]:
                session.told.emit("news", sentence(made[1]))

    session.work.start(
        "ask",
        f"Pulling {surface.name}",
        task,
        done,
        failed=lambda error: session.fail(surface.id, error),
    )


def add_where_needed(session: Session, surface: Surface) -> None:
    """Insert a row or column where the systematic error is greatest; the shape stays."""
    region = session.measured(surface)
    if region is None or surface.geometry.weights is not None:
        session.told.emit(
            "trouble",
            f"Nothing measured judges {surface.name}."
            if region is None
            else "A rational surface is not judged span by span.",
        )
        return
    sample = session.making.sample(region)
    geometry = surface.geometry
    feet = foot_points(geometry, sample.points)
    weights = sample.believed(feet.signed)
    start = Start(feet.u, feet.v, weights, geometry)
    laid = Laid(sample.points, start, 0.0, (1.0, 1.0), sample.noise, sample.neighbours)
    attempt = laid.attempt(geometry)
    found = {direction: best_inserts(laid, attempt, direction) for direction in "uv"}
    direction = max(found, key=lambda d: found[d][1])
    (at, missed) = found[direction]
    if missed <= 0:
        session.told.emit(
            "news", "What is left of the error is noise: no point would earn its place."
        )
        return
    made = insert_knot(geometry, float(at[0]), direction=direction)
    line = LINE[direction]
    reshape_surface(session, surface, made, f"insert a {line} in {surface.name}")
    # What is new is chosen, so that it can be pulled to the scan at once.
    knots = made.knots_u if direction == "u" else made.knots_v
    sites = greville(knots, made.degrees["uv".index(direction)])
    new = int(np.argmin(np.abs(sites - at[0])))
    nu, nv = made.counts
    session.choose_points(
        [new * nv + k for k in range(nv)] if direction == "u" else [k * nv + new for k in range(nu)]
    )
    where = f"{direction} = {at[0]:.3f}"
    words = f"A {line} was inserted where the error is greatest, at {where}"
    session.told.emit("news", f"{words}; Pull to scan uses it.")


def reverse_surface(session: Session, surface: Surface, direction: str) -> None:
    """Let a surface run the other way along u or v; its normal turns to the other side."""
    made = reverse(surface.geometry, direction)
    reshape_surface(session, surface, made, f"reverse {surface.name} along {direction}")
    session.choose_points(())


def swap_surface(session: Session, surface: Surface) -> None:
    """Exchange u and v, and turn u round so that the normal keeps its side."""
    made = reverse(swap_directions(surface.geometry), "u")
    reshape_surface(session, surface, made, f"swap the directions of {surface.name}")
    session.choose_points(())
