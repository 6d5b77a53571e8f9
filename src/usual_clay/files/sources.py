"""Items from files, for recipes that are made without a window: ONE ROW for each kind of item."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.points.lay import closes_smoothly, lay
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files import exchange, mesh_file, picture_file, points_file, take_in
from usual_clay.files.errors import FileError
from usual_clay.files.units import millimetres_in
from usual_clay.job.edits.pictures import Row, with_pictures
from usual_clay.job.edits.points import with_point_list
from usual_clay.job.edits.scans import with_scan
from usual_clay.job.items import Body, Curve, Item, ItemId, Region, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind

Taken = tuple[Job, list[ItemId]]
# Reads the items of one kind from a file into a job; the unit is that of a file that says none.
Take = Callable[[Job, Path, str], Taken]


def take_scan(job: Job, path: Path, unit: str) -> Taken:
    """Take a scan; one that is there already is taken again."""
    for known in job.all(Scan):
        if known.source == path.name and known.unit == unit:
            return job, [known.id]
    mesh = mesh_file.read_mesh(path, unit)
    job, scan = with_scan(job, mesh, path.name, unit)
    return job, [scan.id]


def take_region(job: Job, path: Path, unit: str) -> Taken:
    """Take the whole of a scan as a region."""
    job, (scan_id,) = take_scan(job, path, unit)
    scan = job.the(scan_id, Scan)
    used = np.zeros(len(scan.mesh.vertices), dtype=bool)
    used[scan.mesh.triangles] = True
    return with_region(job, scan, used)


def with_region(job: Job, scan: Scan, mask: np.ndarray) -> Taken:
    """Add a region of a scan by a mask of its vertices."""
    region = Region(
        id=job.new_id("region"),
        name=job.free_name(scan.name),
        scan=scan.id,
        vertices=np.flatnonzero(mask),
    )
    return job.with_item(region), [region.id]


def take_points(job: Job, path: Path, unit: str) -> Taken:
    """Take a point list from a text or a spreadsheet, or the plain points of a scan's file."""
    if path.suffix.lower() in mesh_file.SUFFIXES:
        read_scan = mesh_file.read_scan(path)
        if read_scan.points is None:
            raise FileError(f"{path.name} holds triangles: this role takes points")
        space, unit = read_scan.points * millimetres_in(unit), unit
    else:
        read = points_file.read_points(path, unit)
        space, unit = lay(read.points, None, read.axes).space, read.unit
    job, points = with_point_list(job, space, path.name, unit)
    return job.changed(points.id, closed=closes_smoothly(space)), [points.id]


def _take_splines(job: Job, path: Path, kind: type[Curve] | type[Surface], holds: type) -> Taken:
    """Take every spline of one sort of an exchange file or a drawing."""
    ids = []
    for name, part in take_in.read_splines(path):
        if isinstance(part, holds):
            own: Any = {"geometry": part}
            item = kind(id=job.new_id(item_kind(kind).name), name=job.free_name(name), **own)
            job = job.with_item(item)
            ids.append(item.id)
    return job, ids


def take_curves(job: Job, path: Path, _unit: str) -> Taken:
    """Take every curve of an exchange file or a drawing."""
    return _take_splines(job, path, Curve, BSplineCurve)


def take_surfaces(job: Job, path: Path, _unit: str) -> Taken:
    """Take every surface of an exchange file."""
    return _take_splines(job, path, Surface, BSplineSurface)


def take_faces(job: Job, path: Path, _unit: str) -> Taken:
    """Take every solid, shell and face of an exchange file; whole surfaces as surfaces."""
    ids = []
    for name, part in exchange.read_bodies(path):
        item: Item
        if isinstance(part, BSplineSurface):
            item = Surface(id=job.new_id("surface"), name=job.free_name(name), geometry=part)
        else:
            item = Body(id=job.new_id("body"), name=job.free_name(name), shape=part)
        job = job.with_item(item)
        ids.append(item.id)
    return job, ids


def take_bodies(job: Job, path: Path, unit: str) -> Taken:
    """Take every solid and shell of an exchange file."""
    taken, ids = take_faces(job, path, unit)
    return taken, [each for each in ids if isinstance(taken.items[each], Body)]


def take_picture(job: Job, path: Path, _unit: str) -> Taken:
    """Pin a picture to the side plane; its own scale is taken where the file says it."""
    from usual_clay.core.picture.placement import TRUE_PLANES

    read = picture_file.read_picture(path)
    job, picture = with_pictures(job, [(path.name, read)], Row(TRUE_PLANES["side"]))
    return job, [picture.id]


SOURCE_FILES: dict[str, Take] = {
    "scan": take_scan,
    "region": take_region,
    "points": take_points,
    "curve": take_curves,
    "surface": take_surfaces,
    "picture": take_picture,
    "body": take_bodies,
}
# Which of the kinds that a role takes a file holds, by its ending; the first that fits.
SUFFIXES: dict[str, Sequence[str]] = {
    "scan": mesh_file.SUFFIXES,
    "region": mesh_file.SUFFIXES,
    "points": (*points_file.SUFFIXES, *mesh_file.SUFFIXES),
    "curve": take_in.SUFFIXES,
    "surface": take_in.SUFFIXES,
    "picture": picture_file.SUFFIXES,
    "body": exchange.SUFFIXES,
}


def take_for(job: Job, takes: Sequence[type[Item]], path: Path, unit: str) -> Taken:
    """Take from a file what a role takes.

    Raises
    ------
    FileError
        Where the file holds none of it.
    """
    names = [item_kind(each).name for each in takes]
    suffix = path.suffix.lower()
    fitting = [name for name in names if suffix in SUFFIXES.get(name, ())]
    if not fitting:
        words = " or ".join(item_kind(each).word for each in takes)
        known = sorted({s for name in names for s in SUFFIXES.get(name, ())})
        raise FileError(
            f"{path.name}: a {words} is wanted here, from {', '.join(known) or 'the window only'}"
        )
    said = []
    if {"surface", "body"} <= set(fitting):
        # Trimmed faces are not taken for the surfaces that they lie on.
        try:
            return take_faces(job, path, unit)
        except FileError as error:
            said.append(str(error))
            fitting = [name for name in fitting if name not in ("surface", "body")]
    for name in fitting:
        try:
            taken = SOURCE_FILES[name](job, path, unit)
        except FileError as error:
            said.append(str(error))
            continue
        if taken[1]:
            return taken
        said.append(f"{path.name} holds no {name}")
    raise FileError("; ".join(dict.fromkeys(said)))
