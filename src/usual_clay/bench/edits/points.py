"""Edits of point lists that the interface can make in a session."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.edits.making import start_making
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats, Ints, as_places
from usual_clay.core.errors import ClayError, sentence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import Traced, trace_parts
from usual_clay.core.points.course import suggest_slips
from usual_clay.core.points.lay import lay
from usual_clay.files.points_file import PointsRead
from usual_clay.job.edits import make
from usual_clay.job.edits.points import ordered, with_point_list, with_traced
from usual_clay.job.items import ItemId, PointList

# A run that turns by more than this has a true corner, radians.
CORNER = float(np.radians(35))


def suggest(session: Session, points: PointList, limit: float) -> None:
    """Show which points stray from their run's course by more than a limit."""
    marked = suggest_slips(points.points, limit, points.closed, points.is_out)
    session.choice.ring(np.flatnonzero(marked))


def take_out(session: Session, points: PointList, which: Ints, words: str) -> None:
    """Take points out of a list; all that follows it is made anew."""
    if session.may_change(points):
        session.choice.ringed = which[:0]
        session.change(points, words, out=np.union1d(points.out, which))


def put_back(session: Session, points: PointList, which: Ints | None = None) -> None:
    """Take points into a list again; all of them where none are named."""
    if session.may_change(points):
        session.choice.ringed = points.out[:0]
        out = points.out[:0] if which is None else np.setdiff1d(points.out, which)
        session.change(points, "put points back", out=out)


def put_in_order(session: Session, points: PointList, gap: float | None = None) -> None:
    """Order loose points along their path; where they lie on several, each gets its own list."""
    if not session.may_change(points):
        return
    try:
        job, count = ordered(session.job, points, gap)
    except ClayError as error:
        session.told.emit("trouble", sentence(error))
        return
    session.commit(job, f"put {points.name} in order")
    if count > 1:
        session.told.emit("news", f"The points lie on {count} paths: each has its own list.")


def follow(
    session: Session,
    points: PointList,
    kind: str,
    settings: Any,
    suffix: str,
    **others: tuple[ItemId, ...],
) -> None:
    """Add a list that follows another one by a recipe; the other one is kept."""
    name = f"{points.name} {suffix}"
    item = make.planned(session.job, kind, settings, name, points=points.id, **others)
    item = replace(item, source=points.source, unit=points.unit)  # type: ignore[call-arg]
    start_making(session, item, f"Working on {points.name}", name)


def add_spline(session: Session, points: PointList, settings: TraceSettings) -> None:
    """Add a spline that follows a run."""
    item = make.planned(session.job, "spline", settings, points=points.id)
    start_making(
        session, item, f"Fitting a spline to {points.name}", f"spline through {points.name}"
    )


def trace_in_parts(session: Session, points: PointList) -> None:
    """Add lean splines within tolerance, parted at true corners and at the ringed points."""
    cuts = as_places(points.points[session.choice.ringed])
    settings = TraceSettings(knots="adaptive", corners=CORNER, cuts=cuts)
    run, tolerance = PointSequence(points.points[points.kept], points.closed), session.job.tolerance

    def done(parts: list[Traced]) -> None:
        if points.id not in session.job.items:
            return
        job, curve = session.job, None
        for made in parts:
            job, curve = with_traced(job, points, made)
        session.commit(job, f"splines through {points.name}")
        session.choice.choose(None if curve is None else curve.id)
        counts = " + ".join(str(made.settings.controls) for made in parts)
        session.told.emit("news", f"{len(parts)} splines with {counts} control points.")

    session.work.start(
        points.id,
        "trace in parts",
        f"Tracing {points.name} in parts",
        lambda progress, _partial: trace_parts(run, settings, tolerance, progress),
        done,
        failed=lambda error: session.fail(points.id, error),
        asked=True,
    )


def add_points(session: Session, read: PointsRead, source: str, plane: str | None) -> None:
    """Add a point list that was read from a file."""
    laid = lay(read.points, plane, read.axes)
    add_list(session, laid.space, source, read.unit)


def add_list(session: Session, points: Floats, source: str, unit: str = "mm") -> None:
    """Add a point list and choose it."""
    job, made = with_point_list(session.job, points, source, unit)
    session.commit(job, f"bring in {source}")
    session.choice.choose(made.id)
