"""Edits of point lists that the interface can make in a session."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Ints
from usual_clay.core.points.ball import BallError, Side, offset_for_ball
from usual_clay.core.points.course import suggest_slips
from usual_clay.core.points.lay import is_closed, lay
from usual_clay.core.points.order import order_along_path
from usual_clay.files.points_file import PointsRead
from usual_clay.job.items import PointList


def suggest(session: Session, points: PointList, limit: float) -> None:
    """Show which points stray from their run's course by more than a limit."""
    kept = points.kept
    marked = suggest_slips(points.points[kept], limit, points.closed)
    session.suggested = kept[marked]
    session.job_changed.emit()


def take_out(session: Session, points: PointList, which: Ints, words: str) -> None:
    """Take points out of a list, or with none named put all back."""
    if points.locked:
        session.told.emit("trouble", f"{points.name} is locked: unlock it in the Shelf first")
        return
    out = np.union1d(points.out, which) if len(which) else which
    session.suggested = out[:0]
    session.commit(session.job.changed(points.id, out=out), words)


def put_in_order(session: Session, points: PointList) -> None:
    """Order loose points along their path; where they lie on several, each gets its own list."""
    if points.locked:
        session.told.emit("trouble", f"{points.name} is locked: unlock it in the Shelf first")
        return
    loose = points.points[points.kept]
    runs = [loose[path] for path in order_along_path(loose) if len(path) > 1]
    if not runs:
        session.told.emit("trouble", f"{points.name} has too few points to lie on a path.")
        return
    none = points.out[:0]
    job = session.job.changed(points.id, points=runs[0], out=none, closed=is_closed(runs[0]))
    for run in runs[1:]:
        name = job.free_name(points.name)
        part = replace(points, id=job.new_id("points"), name=name, points=run, out=none,
                       closed=is_closed(run))  # fmt: skip
        job = job.with_item(part)
    session.commit(job, f"put {points.name} in order")
    if len(runs) > 1:
        session.told.emit("news", f"The points lie on {len(runs)} paths: each has its own list.")


def move_for_ball(session: Session, points: PointList, diameter: float, side: Side) -> None:
    """Add a list moved from the ball's centre to the surface; the old one is kept."""
    laid = lay(points.points[points.kept])
    try:
        moved = offset_for_ball(laid.flat, diameter / 2, side, points.closed)
    except BallError as error:
        session.told.emit("trouble", str(error))
        return
    space = laid.space[moved.kept].copy()
    space[:, laid.axes[:2]] = moved.points
    made = replace(
        points,
        id=session.job.new_id("points"),
        name=session.job.free_name(f"{points.name} touched"),
        points=space,
        out=points.out[:0],
    )
    session.commit(session.job.with_item(made), f"move {points.name} for its ball")
    session.choose(made.id)
    if moved.too_tight:
        session.told.emit(
            "news",
            f"{moved.too_tight} points were trimmed: there the inside radius is too tight"
            f" for a ball of {diameter:g} mm.",
        )


def add_points(session: Session, read: PointsRead, source: str, plane: str | None) -> None:
    """Add a point list that was read from a file."""
    laid = lay(read.points, plane, read.axes)
    job = session.job
    if not job.items and session.path is None:
        job = replace(job, name=Path(source).stem)
    points = PointList(
        id=job.new_id("points"),
        name=job.free_name(Path(source).stem),
        points=laid.space,
        closed=is_closed(laid.space),
        source=source,
        unit=read.unit,
    )
    session.commit(job.with_item(points), f"bring in {source}")
    session.choose(points.id)
