"""Edits of scans and their regions that the interface can make in a session."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Bools
from usual_clay.core.scan.mend import Mended, mend
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import Motion
from usual_clay.core.scan.region import smooth_parts
from usual_clay.core.scan.sample import estimate_noise
from usual_clay.core.scan.section import SectionSettings, sections
from usual_clay.core.scan.shapes import ShapeFit, ShapeKind, ShapeSettings, fit_shape, shape_at
from usual_clay.job.change_scan import moved, with_mesh
from usual_clay.job.items import PointList, Region, Scan, Shape
from usual_clay.job.recipes import Recipe
from usual_clay.job.remake import basis_of

# Smooth parts of less than this share of a scan's points make no region of their own.
LEAST_PART, MOST_PARTS = 0.002, 24
# Colours for regions that come several at a time; slate, sage, ochre, heather and so on.
REGION_COLOURS = ("#7E9AA8", "#93A67C", "#C2A25A", "#A98BA8", "#6FA39B", "#B58A76", "#8D8FB5")


def ask(
    session: Session,
    words: str,
    task: Callable[[], Any],
    done: Callable[[Any], None],
    key: str = "ask",
) -> None:
    """Compute something in the background and hand it to `done`; the newest of a key wins.

    What a card looks up by itself has the key "look", so that it never takes the place of what
    the user asked for.
    """
    session.work.start(key, words, lambda *_: task(), done, failed=lambda e: session.fail("", e))


def mend_scan(session: Session, scan: Scan, kind: str, size: float = 0.0) -> None:
    """Mend a scan; its regions keep what is left of them."""
    if not session.may_change(scan):
        return

    def done(made: Mended) -> None:
        now = session.job.get(scan.id, Scan)
        if now is None or now.mesh is not scan.mesh:
            return
        if not made.words.startswith("0 "):
            job = with_mesh(session.job, scan.id, made.mesh, made.origin)
            session.commit(job, f"mend {scan.name}: {made.words}")
        session.told.emit("news", f"{made.words[:1].upper()}{made.words[1:]}.")

    ask(session, f"Mending {scan.name}", lambda: mend(scan.mesh, kind, size), done)


def move_scan(session: Session, scan: Scan, motion: Motion, words: str) -> None:
    """Move a scan and what was fitted to it."""
    if session.may_change(scan):
        session.commit(moved(session.job, scan.id, motion), f"set {scan.name} straight: {words}")


def recognise(session: Session, scan: Scan, seed: int, kind: ShapeKind | None = None) -> None:
    """Grow the simple shape at a vertex; add it with its region."""
    settings = ShapeSettings(kind or "best")

    def task() -> tuple[ShapeFit, Bools]:
        # The noise beside the place clicked: rough enough to tell on and off.
        noise = _noise_near(scan, seed)
        return shape_at(scan.mesh, seed, noise, settings)

    def done(found: tuple[ShapeFit, Bools]) -> None:
        fit, mask = found
        job = session.job
        if job.get(scan.id, Scan) is None:
            return
        word = fit.shape.kind.capitalize()
        region = Region(
            id=job.new_id("region"),
            name=job.free_name(f"{word} region 1"),
            scan=scan.id,
            vertices=np.flatnonzero(mask),
        )
        job = job.with_item(region)
        shape = Shape(
            id=job.new_id("shape"),
            name=job.free_name(f"{word} 1"),
            geometry=fit.shape,
            signed=fit.signed,
            recipe=Recipe("shape", (region.id,), settings),
        )
        # The region that grew holds more than the last fit saw: it is stale, and fitted once more.
        session.commit(job.with_item(shape), f"recognise a {fit.shape.kind}")
        session.choose(shape.id)

    ask(session, "Recognising a shape", task, done)


def fit_shape_to(session: Session, region: Region, kind: str) -> None:
    """Fit a simple shape to a region."""
    settings = ShapeSettings(kind)  # type: ignore[arg-type]
    sample = session.making.sample(region)

    def done(fit: ShapeFit) -> None:
        if region.id not in session.job.items:
            return
        shape = Shape(
            id=session.job.new_id("shape"),
            name=session.job.free_name(f"{region.name} {fit.shape.kind}"),
            geometry=fit.shape,
            signed=fit.signed,
            recipe=Recipe("shape", (region.id,), settings),
        )
        made_of = basis_of(session.job, shape)
        session.add(replace(shape, made_of=made_of), f"fit a {fit.shape.kind}")

    ask(session, "Fitting a shape", lambda: fit_shape(sample, settings), done)


def add_sections(session: Session, scan: Scan, axis: str, stations: Sequence[float]) -> None:
    """Cut a scan; each polyline becomes a point list that follows the scan."""
    normal = np.eye(3)["xyz".index(axis)]

    def task() -> list[list[Any]]:
        return [sections(scan.mesh, station * normal, normal) for station in stations]

    def done(cuts: list[list[Any]]) -> None:
        job, count = session.job, 0
        if job.get(scan.id, Scan) is None:
            return
        for station, parts in zip(stations, cuts, strict=True):
            for number, section in enumerate(parts):
                letter = f" {chr(ord('a') + number)}" if 1 < len(parts) <= 26 else ""
                made = PointList(
                    id=job.new_id("points"),
                    name=job.free_name(f"{scan.name} {axis} {station:.1f}{letter}"),
                    points=section.points,
                    closed=section.closed,
                    source=scan.name,
                    recipe=Recipe("section", (scan.id,), SectionSettings(axis, station, number)),  # type: ignore[arg-type]
                )
                job = job.with_item(replace(made, made_of=basis_of(job, made)))
                count += 1
        if count:
            session.commit(job, f"cut {scan.name} at {len(stations)} stations")
            session.told.emit("news", f"{count} polylines at {len(stations)} stations.")
        else:
            session.told.emit("trouble", "None of these planes cuts the scan.")

    ask(session, f"Cutting {scan.name}", task, done)


def split_at_creases(session: Session, scan: Scan) -> None:
    """Make a region of each smooth part of a scan, as a start."""

    def done(number: Any) -> None:
        job = session.job
        if job.get(scan.id, Scan) is None:
            return
        sizes = np.bincount(number[number >= 0])
        least = max(30, LEAST_PART * len(number))
        kept = [part for part in range(min(len(sizes), MOST_PARTS)) if sizes[part] >= least]
        for part in kept:
            region = Region(
                id=job.new_id("region"),
                name=job.free_name("Part 1"),
                scan=scan.id,
                vertices=np.flatnonzero(number == part),
                colour=REGION_COLOURS[part % len(REGION_COLOURS)],
            )
            job = job.with_item(region)
        session.commit(job, f"split {scan.name} at creases")
        left = len(sizes) - len(kept)
        more = f"; {left} smaller ones were left out" if left > 0 else ""
        session.told.emit("news", f"{len(kept)} smooth parts between creases{more}.")

    ask(session, "Looking for creases", lambda: smooth_parts(scan.mesh), done)


def join_scans(session: Session, scan: Scan, other: Scan) -> None:
    """Add a scan of two, so that a region may reach over both; the two are hidden."""
    count = len(scan.mesh.vertices)
    mesh = TriangleMesh(
        np.concatenate([scan.mesh.vertices, other.mesh.vertices]),
        np.concatenate([scan.mesh.triangles, other.mesh.triangles + count]),
    )
    colours = None
    if scan.colours is not None and other.colours is not None:
        colours = np.concatenate([scan.colours, other.colours])
    job = session.job
    name = job.free_name(f"{scan.name} and {other.name}")
    joined = Scan(
        id=job.new_id("scan"),
        name=name,
        mesh=mesh,
        source=f"{scan.source}, {other.source}",
        unit=scan.unit,
        colours=colours,
    )
    for part in (scan, other):
        job = job.changed(part.id, visible=False)
    session.commit(job.with_item(joined), f"join {scan.name} and {other.name}")
    session.choose(joined.id)


def combine(session: Session, region: Region, other: Region, takes_away: bool) -> None:
    """Join another region of the same scan to one, or take it away from it."""
    change = np.setdiff1d if takes_away else np.union1d
    words = f"take {other.name} from" if takes_away else f"join {other.name} to"
    session.change(
        region, f"{words} {region.name}", vertices=change(region.vertices, other.vertices)
    )


def _noise_near(scan: Scan, seed: int) -> float:
    near = cKDTree(scan.mesh.vertices).query(
        scan.mesh.vertices[seed], min(4000, len(scan.mesh.vertices))
    )[1]
    return estimate_noise(scan.mesh.vertices[near], 200)
