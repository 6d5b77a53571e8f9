"""Edits of surfaces shaped by hand: rows, columns, degrees, and the net itself."""

from __future__ import annotations

from functools import partial

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.errors import sentence
from usual_clay.core.fit.price import price
from usual_clay.core.fit.solve.adaptive import best_inserts
from usual_clay.core.fit.solve.laid import Laid
from usual_clay.core.fit.solve.remake import pull_to_points
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.spline.basis import HIGHEST_DEGREE, SplineError, greville
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.knots import insert_knot, raise_degree, reverse
from usual_clay.core.spline.surface import BSplineSurface, swap_directions
from usual_clay.job.edits.surfaces import (
    line_removal,
    reshaped_surface,
)
from usual_clay.job.items import Surface


def reshape_surface(
    session: Session, surface: Surface, geometry: BSplineSurface, words: str
) -> None:
    """Put a geometry made by hand into a surface."""
    if session.may_change(surface):
        session.notes.pop(surface.id, None)
        made = reshaped_surface(session.job, surface, geometry)
        session.commit(session.job.with_item(made), words)


def insert_line(session: Session, surface: Surface, direction: str) -> None:
    """Insert a row or column beside the chosen points, or where spans are longest."""
    geometry = surface.geometry
    knots = geometry.knots_u if direction == "u" else geometry.knots_v
    degree = geometry.degrees[0 if direction == "u" else 1]
    breaks = np.unique(knots)
    middles = (breaks[:-1] + breaks[1:]) / 2
    t = float(middles[np.argmax(np.diff(breaks))])
    if session.choice.points:
        at = divmod(min(session.choice.points), geometry.counts[1])[0 if direction == "u" else 1]
        site = greville(knots, degree)[at]
        t = float(middles[np.argmin(np.abs(middles - site))])
    made = insert_knot(geometry, t, direction=direction)
    reshape_surface(session, surface, made, f"insert a {LINE[direction]} in {surface.name}")
    session.choice.choose_points(())


LINE = {"u": "row", "v": "column"}


def remove_line(session: Session, surface: Surface, direction: str) -> None:
    """Remove the row or column that costs least, and say how far the surface moved."""
    found = line_removal(surface, direction)
    if found is None:
        session.told.emit("trouble", f"{surface.name} has no inner {LINE[direction]} to remove.")
        return
    reshape_surface(session, surface, found[0], f"remove a {LINE[direction]} of {surface.name}")
    session.choice.choose_points(())
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
    session.choice.choose_points(())


def pull_to_scan(session: Session, surface: Surface, rest: bool = False) -> None:
    """Solve the chosen control points again against what judges the surface, or all others.

    Where the chosen ones are held while the others are solved, what that costs is told.
    """
    region = session.shown.measured(surface)
    which = np.array(sorted(session.choice.points), dtype=np.int64)
    if region is None or not len(which):
        session.told.emit(
            "trouble",
            "Choose control points first."
            if region is not None
            else f"Nothing measured judges {surface.name}.",
        )
        return
    sample = session.sources.sample(region)

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
        return made, price(f"holding {many}", off[0], off[1])

    def done(made: tuple[BSplineSurface, str]) -> None:
        now = session.job.get(surface.id, Surface)
        if now is surface:
            before = session.job.report(surface)
            if before is not None:
                session.sight.before_move[surface.id] = before
            reshape_surface(session, surface, made[0], f"pull {surface.name} to the scan")
            if made[1]:
                session.told.emit("news", sentence(made[1]))

    session.work.start(surface.id, "pull", f"Pulling {surface.name}", task, done, asked=True)


def add_where_needed(session: Session, surface: Surface) -> None:
    """Insert a row or column where the systematic error is greatest; the shape stays."""
    region = session.shown.measured(surface)
    if region is None or surface.geometry.weights is not None:
        session.told.emit(
            "trouble",
            f"Nothing measured judges {surface.name}."
            if region is None
            else "A rational surface is not judged span by span.",
        )
        return
    sample = session.sources.sample(region)
    geometry = surface.geometry
    feet = foot_points(geometry, sample.points)
    weights = sample.believed(feet.signed)
    start = Start(feet.u, feet.v, weights, geometry)
    laid = Laid(
        sample.points, start, 0.0, (1.0, 1.0), sample.noise, sample.neighbours, sample.areas
    )
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
    session.choice.choose_points(
        [new * nv + k for k in range(nv)] if direction == "u" else [k * nv + new for k in range(nu)]
    )
    where = f"{direction} = {at[0]:.3f}"
    words = f"A {line} was inserted where the error is greatest, at {where}"
    session.told.emit("news", f"{words}; Pull to scan uses it.")


def reverse_surface(session: Session, surface: Surface, direction: str) -> None:
    """Let a surface run the other way along u or v; its normal turns to the other side."""
    made = reverse(surface.geometry, direction)
    reshape_surface(session, surface, made, f"reverse {surface.name} along {direction}")
    session.choice.choose_points(())


def swap_surface(session: Session, surface: Surface) -> None:
    """Exchange u and v, and turn u round so that the normal keeps its side."""
    made = reverse(swap_directions(surface.geometry), "u")
    reshape_surface(session, surface, made, f"swap the directions of {surface.name}")
    session.choice.choose_points(())
