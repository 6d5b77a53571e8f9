"""Edits of point lists that the interface can make in a session."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats, Ints, as_places
from usual_clay.core.fit.curve.sequence import CurveFit, PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import Traced, trace_parts
from usual_clay.core.points.course import suggest_slips
from usual_clay.core.points.lay import is_closed, lay
from usual_clay.core.points.order import order_along_path
from usual_clay.core.progress import Progress
from usual_clay.files.points_file import PointsRead
from usual_clay.job.items import Curve, ItemId, PointList
from usual_clay.job.recipes import KINDS, PointsMade, Recipe
from usual_clay.job.remake import basis_of

# A run that turns by more than this has a true corner, radians.
CORNER = float(np.radians(35))


def suggest(session: Session, points: PointList, limit: float) -> None:
    """Show which points stray from their run's course by more than a limit."""
    marked = suggest_slips(points.points, limit, points.closed, points.is_out)
    session.mark_points(np.flatnonzero(marked))


def take_out(session: Session, points: PointList, which: Ints, words: str) -> None:
    """Take points out of a list; all that follows it is made anew."""
    if session.may_change(points):
        session.suggested = which[:0]
        session.change(points, words, out=np.union1d(points.out, which))


def put_back(session: Session, points: PointList, which: Ints | None = None) -> None:
    """Take points into a list again; all of them where none are named."""
    if session.may_change(points):
        session.suggested = points.out[:0]
        out = points.out[:0] if which is None else np.setdiff1d(points.out, which)
        session.change(points, "put points back", out=out)


def put_in_order(session: Session, points: PointList, gap: float | None = None) -> None:
    """Order loose points along their path; where they lie on several, each gets its own list."""
    if not session.may_change(points):
        return
    loose = points.points[points.kept]
    runs = [loose[path] for path in order_along_path(loose, gap) if len(path) > 1]
    if not runs:
        session.told.emit("trouble", f"{points.name} has too few points to lie on a path.")
        return
    none = points.out[:0]
    fields: dict[str, Any] = {"out": none, "recipe": None, "made_of": None}
    job = session.job.changed(points.id, points=runs[0], closed=is_closed(runs[0]), **fields)
    for run in runs[1:]:
        name = job.free_name(points.name)
        part = replace(
            points, id=job.new_id("points"), name=name, points=run, closed=is_closed(run), **fields
        )
        job = job.with_item(part)
    session.commit(job, f"put {points.name} in order")
    if len(runs) > 1:
        session.told.emit("news", f"The points lie on {len(runs)} paths: each has its own list.")


def follow(
    session: Session,
    points: PointList,
    kind: str,
    settings: Any,
    suffix: str,
    others: tuple[ItemId, ...] = (),
) -> None:
    """Add a list that follows another one by a recipe; the other one is kept."""
    made = replace(
        points,
        id=session.job.new_id("points"),
        name=session.job.free_name(f"{points.name} {suffix}"),
        out=points.out[:0],
        recipe=Recipe(kind, (points.id, *others), settings),
        made_of=None,
    )
    basis = basis_of(session.job, made)
    assert basis is not None
    sources = session.making.sources(basis)

    def task(progress: Progress, _partial: object) -> Any:
        return KINDS[kind].make(settings, sources, None, progress, None)

    def done(result: PointsMade) -> None:
        if points.id not in session.job.items:
            return
        item = replace(made, points=result.points, closed=result.closed, made_of=basis)
        session.add(item, f"{points.name} {suffix}")
        if result.words:
            session.told.emit("news", f"{result.words}.")

    session.work.start(
        "ask",
        f"Working on {points.name}",
        task,
        done,
        failed=lambda error: session.fail(points.id, error),
    )


def add_spline(session: Session, points: PointList, settings: TraceSettings) -> None:
    """Add a spline that follows a run."""
    recipe = Recipe("spline", (points.id,), settings)

    def done(fit: CurveFit) -> None:
        if points.id not in session.job.items:
            return
        curve = Curve(
            id=session.job.new_id("curve"),
            name=session.job.free_name(f"{points.name} spline"),
            geometry=fit.curve,
            signed=fit.signed,
            recipe=recipe,
        )
        curve = replace(curve, made_of=basis_of(session.job, curve))
        session.add(curve, f"spline through {points.name}")

    run = session.making.sources_of((points.id,))
    session.work.start(
        "ask",
        f"Fitting a spline to {points.name}",
        lambda progress, _partial: KINDS["spline"].make(settings, run, None, progress, None),
        done,
        failed=lambda error: session.fail(points.id, error),
    )


def trace_in_parts(session: Session, points: PointList) -> None:
    """Add lean splines within tolerance, parted at true corners and at the ringed points."""
    cuts = as_places(points.points[session.suggested])
    settings = TraceSettings(knots="adaptive", corners=CORNER, cuts=cuts)
    run, tolerance = PointSequence(points.points[points.kept], points.closed), session.job.tolerance

    def done(parts: list[Traced]) -> None:
        if points.id not in session.job.items:
            return
        job, curve = session.job, None
        for made in parts:
            recipe = Recipe("spline", (points.id,), made.settings)
            curve = Curve(
                id=job.new_id("curve"),
                name=job.free_name(f"{points.name} spline"),
                geometry=made.fit.curve,
                signed=made.fit.signed,
                candidates=made.candidates,
                recipe=recipe,
            )
            job = job.with_item(replace(curve, made_of=basis_of(job, curve)))
        session.commit(job, f"splines through {points.name}")
        session.choose(None if curve is None else curve.id)
        counts = " + ".join(str(made.settings.controls) for made in parts)
        session.told.emit("news", f"{len(parts)} splines with {counts} control points.")

    session.work.start(
        "ask",
        f"Tracing {points.name} in parts",
        lambda progress, _partial: trace_parts(run, settings, tolerance, progress),
        done,
        failed=lambda error: session.fail(points.id, error),
    )


def add_points(session: Session, read: PointsRead, source: str, plane: str | None) -> None:
    """Add a point list that was read from a file."""
    laid = lay(read.points, plane, read.axes)
    add_list(session, laid.space, source, read.unit)


def add_list(session: Session, points: Floats, source: str, unit: str = "mm") -> None:
    """Add a point list and choose it."""
    job = session.job
    if not job.items and session.path is None:
        job = replace(job, name=Path(source).stem)
    made = PointList(
        id=job.new_id("points"),
        name=job.free_name(Path(source).stem),
        points=points,
        closed=is_closed(points),
        source=source,
        unit=unit,
    )
    session.commit(job.with_item(made), f"bring in {source}")
    session.choose(made.id)
