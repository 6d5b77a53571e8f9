"""Edits of scans and their regions that the interface can make in a session."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from usual_clay.bench.edits.making import add_following
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Bools, Ints
from usual_clay.core.errors import sentence
from usual_clay.core.scan.mend import Mended, mend
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import Motion
from usual_clay.core.scan.region import smooth_parts
from usual_clay.core.scan.section import sections
from usual_clay.core.scan.shapes import ShapeFit, ShapeKind, ShapeSettings, shape_at
from usual_clay.job.change_scan import moved, with_mesh
from usual_clay.job.edits.scans import (
    noise_near,
    with_cuts,
    with_joined,
    with_recognised,
    with_scan,
    with_smooth_parts,
)
from usual_clay.job.items import Region, Scan


def ask(
    session: Session,
    owner: str,
    purpose: str,
    words: str,
    task: Callable[[], Any],
    done: Callable[[Any], None],
) -> None:
    """Compute what the user asked for in the background and hand it to `done`."""
    session.work.start(owner, purpose, words, lambda *_: task(), done, asked=True)


def add_scan(
    session: Session,
    mesh: TriangleMesh,
    source: str,
    unit: str,
    colours: np.ndarray | None = None,
) -> None:
    """Add a scan that was read from a file, and choose it."""
    job, scan = with_scan(session.job, mesh, source, unit, colours)
    session.commit(job, f"bring in {source}")
    session.choice.choose(scan.id)


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
        session.told.emit("news", sentence(made.words))

    ask(session, scan.id, "mend", f"Mending {scan.name}", lambda: mend(scan.mesh, kind, size), done)


def move_scan(session: Session, scan: Scan, motion: Motion, words: str) -> None:
    """Move a scan and what was fitted to it."""
    if session.may_change(scan):
        session.commit(moved(session.job, scan.id, motion), f"set {scan.name} straight: {words}")


def recognise(session: Session, scan: Scan, seed: int, kind: ShapeKind | None = None) -> None:
    """Grow the simple shape at a vertex; add it with its region."""
    settings = ShapeSettings(kind or "best")

    def task() -> tuple[ShapeFit, Bools]:
        return shape_at(scan.mesh, seed, noise_near(scan, seed), settings)

    def done(found: tuple[ShapeFit, Bools]) -> None:
        if session.job.get(scan.id, Scan) is None:
            return
        job, shape = with_recognised(session.job, scan, *found, settings)
        session.commit(job, f"recognise a {found[0].shape.kind}")
        session.choice.choose(shape.id)

    ask(session, scan.id, "recognise", "Recognising a shape", task, done)


def fit_shape_to(session: Session, region: Region, kind: str) -> None:
    """Fit a simple shape to a region."""
    settings = ShapeSettings(kind)  # type: ignore[arg-type]
    name = f"{region.name} {'shape' if kind == 'best' else kind}"
    add_following(session, "shape", settings, "Fitting a shape", name, measured=region.id)


def add_sections(session: Session, scan: Scan, axis: str, stations: Sequence[float]) -> None:
    """Cut a scan; each polyline becomes a point list that follows the scan."""
    normal = np.eye(3)["xyz".index(axis)]

    def task() -> list[list[Any]]:
        return [sections(scan.mesh, station * normal, normal) for station in stations]

    def done(cuts: list[list[Any]]) -> None:
        if session.job.get(scan.id, Scan) is None:
            return
        job, count = with_cuts(session.job, scan, axis, stations, cuts)
        if count:
            session.commit(job, f"cut {scan.name} at {len(stations)} stations")
            session.told.emit("news", f"{count} polylines at {len(stations)} stations.")
        else:
            session.told.emit("trouble", "None of these planes cuts the scan.")

    ask(session, scan.id, "slice", f"Cutting {scan.name}", task, done)


def split_at_creases(session: Session, scan: Scan) -> None:
    """Make a region of each smooth part of a scan, as a start."""

    def done(number: Any) -> None:
        if session.job.get(scan.id, Scan) is None:
            return
        job, kept, left = with_smooth_parts(session.job, scan, number)
        session.commit(job, f"split {scan.name} at creases")
        more = f"; {left} smaller ones were left out" if left > 0 else ""
        session.told.emit("news", f"{kept} smooth parts between creases{more}.")

    ask(session, scan.id, "split", "Looking for creases", lambda: smooth_parts(scan.mesh), done)


def join_scans(session: Session, scan: Scan, other: Scan) -> None:
    """Add a scan of two, and choose it."""
    job, joined = with_joined(session.job, scan, other)
    session.commit(job, f"join {scan.name} and {other.name}")
    session.choice.choose(joined.id)


# How two regions are combined: what becomes of their vertices, and the words for it.
COMBINED: dict[str, tuple[Callable[[Ints, Ints], Ints], str]] = {
    "join": (np.union1d, "join {other} to {region}"),
    "less": (np.setdiff1d, "take {other} from {region}"),
    "common": (np.intersect1d, "what {region} and {other} share"),
}


def combine(session: Session, region: Region, other: Region, how: str) -> None:
    """Join another region of the same scan to one, take it away from it, or keep what both hold."""
    change, words = COMBINED[how]
    vertices = change(region.vertices, other.vertices)
    if how == "common" and not len(vertices):
        session.told.emit("trouble", f"{region.name} and {other.name} have nothing in common.")
        return
    session.change(region, words.format(region=region.name, other=other.name), vertices=vertices)
