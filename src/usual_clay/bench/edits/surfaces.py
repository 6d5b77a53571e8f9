"""Edits of surfaces shaped by hand: rows, columns, degrees, and the net itself."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.live import LiveFeet, live_feet
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
    live_of_surface,
    reshaped_surface,
    retold_surface,
)
from usual_clay.job.items import Surface


def reshape_surface(
    session: Session,
    surface: Surface,
    geometry: BSplineSurface,
    words: str,
    live: LiveFeet | None = None,
) -> None:
    """Put a geometry made by hand into a surface.

    Parameters
    ----------
    live : LiveFeet, optional
        Of what judges it, on the surface as it is, where they are known.
    """
    if session.may_change(surface):
        live = live_of_surface(session.job, surface) if live is None else live
        _put(session, reshaped_surface(session.job, surface, geometry, live), words)


def retell_surface(
    session: Session,
    surface: Surface,
    geometry: BSplineSurface,
    words: str,
    turned: bool = False,
) -> None:
    """Tell the shape of a surface by another net, from the other side where it is turned."""
    if session.may_change(surface):
        _put(session, retold_surface(session.job, surface, geometry, turned), words)


def _put(session: Session, made: Surface, words: str) -> None:
    session.notes.pop(made.id, None)
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
    retell_surface(session, surface, made, f"insert a {LINE[direction]} in {surface.name}")
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
    retell_surface(session, surface, made, f"raise the degree of {surface.name}")
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

    def solved(which: Ints, weights: Floats) -> LiveFeet:
        made = pull_to_points(surface.geometry, sample.points, weights, which)
        return live_feet(made, sample.points)

    def task(*_: object) -> tuple[LiveFeet, str]:
        weights = sample.believed(foot_points(surface.geometry, sample.points).signed)
        if not rest:
            return solved(which, weights), ""
        made, free = (
            solved(each, weights) for each in (np.setdiff1d(everything, which), everything)
        )
        many = f"{len(which)} control point{'' if len(which) == 1 else 's'}"
        return made, price(f"holding {many}", made.signed, free.signed)

    def done(found: tuple[LiveFeet, str]) -> None:
        live, words = found
        now = session.job.get(surface.id, Surface)
        if now is None or now.geometry is not surface.geometry:
            return
        before = session.job.report(now)
        if before is not None:
            session.sight.before_move[now.id] = before
        reshape_surface(session, now, live.surface, f"pull {now.name} to the scan", live)
        if words:
            session.told.emit("news", sentence(words))

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
    sample, geometry = session.sources.sample(region), surface.geometry

    def task(*_: object) -> tuple[str, float] | None:
        feet = foot_points(geometry, sample.points)
        start = Start(feet.u, feet.v, sample.believed(feet.signed), geometry)
        laid = Laid(
            sample.points, start, 0.0, (1.0, 1.0), sample.noise, sample.neighbours, sample.areas
        )
        attempt = laid.attempt(geometry)
        found = {direction: best_inserts(laid, attempt, direction) for direction in "uv"}
        direction = max(found, key=lambda d: found[d][1])
        at, missed = found[direction]
        return (direction, float(at[0])) if missed > 0 else None

    def done(found: tuple[str, float] | None) -> None:
        now = session.job.get(surface.id, Surface)
        if now is None or now.geometry is not geometry:
            return
        if found is None:
            session.told.emit(
                "news", "What is left of the error is noise: no point would earn its place."
            )
        else:
            _insert_chosen(session, now, *found)

    words = f"Looking where {surface.name} needs a point"
    session.work.start(surface.id, "where", words, task, done, asked=True)


def _insert_chosen(session: Session, surface: Surface, direction: str, at: float) -> None:
    """Insert a row or column and choose it, so that it can be pulled to the scan at once."""
    made = insert_knot(surface.geometry, at, direction=direction)
    line = LINE[direction]
    retell_surface(session, surface, made, f"insert a {line} in {surface.name}")
    knots = made.knots_u if direction == "u" else made.knots_v
    sites = greville(knots, made.degrees["uv".index(direction)])
    new = int(np.argmin(np.abs(sites - at)))
    nu, nv = made.counts
    session.choice.choose_points(
        [new * nv + k for k in range(nv)] if direction == "u" else [k * nv + new for k in range(nu)]
    )
    words = f"A {line} was inserted where the error is greatest, at {direction} = {at:.3f}"
    session.told.emit("news", f"{words}; Pull to scan uses it.")


def reverse_surface(session: Session, surface: Surface, direction: str) -> None:
    """Let a surface run the other way along u or v; its normal turns to the other side."""
    made = reverse(surface.geometry, direction)
    retell_surface(session, surface, made, f"reverse {surface.name} along {direction}", turned=True)
    session.choice.choose_points(())


def swap_surface(session: Session, surface: Surface) -> None:
    """Exchange u and v, and turn u round so that the normal keeps its side."""
    made = reverse(swap_directions(surface.geometry), "u")
    retell_surface(session, surface, made, f"swap the directions of {surface.name}")
    session.choice.choose_points(())
