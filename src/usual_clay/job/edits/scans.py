"""Edits of scans and what is found on them: job in, job out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Ints
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.noise import estimate_noise
from usual_clay.core.scan.section import Section, SectionSettings
from usual_clay.core.scan.shapes import ShapeFit, ShapeSettings
from usual_clay.job.edits.make import planned_as, with_result
from usual_clay.job.edits.points import named_after
from usual_clay.job.items import PointList, Region, Scan, Shape
from usual_clay.job.job import Job
from usual_clay.job.made import PointsMade

# Smooth parts of less than this share of a scan's points make no region of their own.
LEAST_PART, MOST_PARTS = 0.002, 24
# Colours for regions that come several at a time; slate, sage, ochre, heather and so on.
REGION_COLOURS = ("#7E9AA8", "#93A67C", "#C2A25A", "#A98BA8", "#6FA39B", "#B58A76", "#8D8FB5")


def with_scan(
    job: Job, mesh: TriangleMesh, source: str, unit: str, colours: np.ndarray | None = None
) -> tuple[Job, Scan]:
    """Add a scan that was read from a file."""
    job = named_after(job, source)
    stem = Path(source).stem
    scan = Scan(
        id=job.new_id("scan"),
        name=job.free_name(stem),
        mesh=mesh,
        source=source,
        unit=unit,
        colours=colours,
    )
    return job.with_item(scan), scan


def with_recognised(
    job: Job, scan: Scan, fit: ShapeFit, mask: Bools, settings: ShapeSettings
) -> tuple[Job, Shape]:
    """Add a simple shape that was grown on a scan, with its region.

    The region that grew holds more than the last fit saw: the shape is stale, and fitted once
    more.
    """
    word = fit.shape.kind.capitalize()
    region = Region(
        id=job.new_id("region"),
        name=job.free_name(f"{word} region 1"),
        scan=scan.id,
        vertices=np.flatnonzero(mask),
    )
    job = job.with_item(region)
    item = planned_as(Shape, job, "shape", settings, f"{word} 1", measured=region.id)
    shape = replace(item, geometry=fit.shape, signed=fit.signed)
    return job.with_item(shape), shape


def with_cuts(
    job: Job, scan: Scan, axis: str, stations: Sequence[float], cuts: Sequence[Sequence[Section]]
) -> tuple[Job, int]:
    """Add a point list that follows the scan for each polyline of each cut; return how many."""
    count = 0
    for station, parts in zip(stations, cuts, strict=True):
        for number, section in enumerate(parts):
            letter = f" {chr(ord('a') + number)}" if 1 < len(parts) <= 26 else ""
            settings = SectionSettings(axis, station, number)  # type: ignore[arg-type]
            name = f"{scan.name} {axis} {station:.1f}{letter}"
            item = planned_as(PointList, job, "section", settings, name, scan=scan.id)
            made = PointsMade(section.points, section.closed)
            job, _ = with_result(job, replace(item, source=scan.name), made)
            count += 1
    return job, count


def with_smooth_parts(job: Job, scan: Scan, number: Ints) -> tuple[Job, int, int]:
    """Add a region for each smooth part of a scan; return how many, and how many were too small.

    Parameters
    ----------
    number : (n,) integers
        Of each vertex which part it lies in; -1 on a crease.
    """
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
    return job, len(kept), len(sizes) - len(kept)


def with_joined(job: Job, scan: Scan, other: Scan) -> tuple[Job, Scan]:
    """Add a scan of two, so that a region may reach over both; the two are hidden."""
    count = len(scan.mesh.vertices)
    mesh = TriangleMesh(
        np.concatenate([scan.mesh.vertices, other.mesh.vertices]),
        np.concatenate([scan.mesh.triangles, other.mesh.triangles + count]),
    )
    colours = None
    if scan.colours is not None and other.colours is not None:
        colours = np.concatenate([scan.colours, other.colours])
    joined = Scan(
        id=job.new_id("scan"),
        name=job.free_name(f"{scan.name} and {other.name}"),
        mesh=mesh,
        source=f"{scan.source}, {other.source}",
        unit=scan.unit,
        colours=colours,
    )
    for part in (scan, other):
        job = job.changed(part.id, visible=False)
    return job.with_item(joined), joined


def noise_near(scan: Scan, seed: int) -> float:
    """Return the noise beside a vertex, rough enough to tell on and off a shape, mm."""
    near = cKDTree(scan.mesh.vertices).query(
        scan.mesh.vertices[seed], min(4000, len(scan.mesh.vertices))
    )[1]
    return estimate_noise(scan.mesh.vertices[near], 200)
