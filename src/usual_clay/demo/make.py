"""Makes the demo job's files once, and keeps them in the user's cache."""

from __future__ import annotations

import fcntl
import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.picture.look import Look
from usual_clay.core.points.ball import BallSettings
from usual_clay.core.points.course import suggest_slips
from usual_clay.core.points.lay import lay
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import Motion, by_symmetry
from usual_clay.core.scan.region import spread
from usual_clay.core.scan.register import settle_onto
from usual_clay.core.scan.symmetry import mirror_plane
from usual_clay.demo.bodies import with_bodies
from usual_clay.demo.curves import follow, named, with_curves
from usual_clay.demo.parts import with_parts
from usual_clay.demo.pictures import PAPER, pinned, write_pictures
from usual_clay.demo.points import BALL, write_point_lists
from usual_clay.demo.scan import demo_scan, pose, true_mesh
from usual_clay.demo.surfaces import with_surfaces
from usual_clay.files.job_file import write_job
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.files.picture_file import read_picture
from usual_clay.files.points_file import read_points
from usual_clay.job.change_scan import moved
from usual_clay.job.items import Picture, PointList, Region, Scan
from usual_clay.job.job import Job

# How far a probed point may stray before it counts as a slip, mm.
SLIP_LIMIT = 0.09
# Where the back is clicked to spread its region, in the lure's frame.
BACK_SEED = (50.0, 0.0, 12.0)
BACK_SPREAD = 0.3


def demo_folder() -> Path:
    """Return the folder of the demo files that this version of the program makes."""
    sources = sorted(Path(__file__).parents[1].glob("[cdfj]*/**/*.py"))
    made_by = hashlib.sha256(b"".join(source.read_bytes() for source in sources)).hexdigest()
    cache = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return cache / "usual-clay" / f"demo-{made_by[:12]}"


@contextmanager
def _alone() -> Iterator[None]:
    """Let one process at a time make demo files; others wait, and find them made."""
    folder = demo_folder()
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def demo_scan_file() -> Path:
    """Return the demo scan's PLY file, made on first use."""
    path = demo_folder() / "brackwater-lure.ply"
    with _alone():
        if not path.exists():
            mesh = demo_scan()
            write_mesh(path, mesh.vertices, mesh.triangles)
    return path


def demo_job_file() -> Path:
    """Return the finished demo job's file, made on first use."""
    path = demo_folder() / "brackwater-96.uclay"
    scan = demo_scan_file()
    with _alone():
        if not path.exists():
            write_job(path, demo_job(read_mesh(scan)))
    return path


def back_of(mesh: TriangleMesh) -> Ints:
    """Return the vertices of the lure's back, as a click on it spreads them."""
    at = pose().to_scan(np.array([BACK_SEED]))
    seed = int(np.argmin(np.linalg.norm(mesh.vertices - at, axis=1)))
    return np.flatnonzero(spread(mesh, seed, BACK_SPREAD))


def demo_job(mesh: TriangleMesh) -> Job:
    """Return the demo job, as far as the work is done.

    The pictures are pinned and scaled by their bars, and still contradict each other. The probed
    outline is clean and moved to the surface; the scan is set straight by its symmetry and by
    that outline; its outlines, its gill plate's edge and three profiles are traced; patches are
    laid over back, belly and a gill plate; belly, tail, diving lip, hanger wire and a part of the
    gill plate are made from curves; the whole is lofted, joined to a body, cut as it was carved,
    hollowed in two halves and set afloat; its back is cast.
    """
    job = Job(name="Brackwater 96")
    scan = Scan(id=job.new_id("scan"), name="Lure scan", mesh=mesh, source="brackwater-lure.ply")
    job = job.with_item(scan)
    region = Region(id=job.new_id("region"), name="Back", scan=scan.id, vertices=back_of(mesh))
    job = job.with_item(region)
    job = _with_points(_with_pictures(job))
    job = with_parts(with_surfaces(with_curves(moved(job, scan.id, _straight(job, mesh)))))
    job = with_bodies(job)
    settings = CastSettings(nu=14, nv=6, reach=0.1)
    return follow(job, "Back cast", "cast", settings, measured=region)


def _with_pictures(job: Job) -> Job:
    """Pin the pictures; each is scaled by the bar that is printed on it."""
    for name, (path, drawn) in write_pictures(demo_folder(), true_mesh()).items():
        read = read_picture(path)
        picture = Picture(
            id=job.new_id("picture"),
            name=name.capitalize(),
            data=read.data,
            size=read.size,
            placement=pinned(name, drawn),
            visible=False,
            source=path.name,
            look=Look(opacity=0.9, clear=PAPER, margin=0.06),
        )
        job = job.with_item(picture)
    return job


def _with_points(job: Job) -> Job:
    """Bring both point lists in; take the outline's slips out and move it to the surface."""
    outline, belly = write_point_lists(demo_folder())
    run = lay(*_read(outline)).space
    slips = np.flatnonzero(suggest_slips(run, SLIP_LIMIT, closed=True))
    first = PointList(
        id=job.new_id("points"),
        name="Centre outline, probed",
        points=run,
        out=slips,
        closed=True,
        visible=False,
        source=outline.name,
    )
    job = job.with_item(first)
    job = follow(job, "Centre outline", "ball", BallSettings(BALL, "in"), points=first)
    second = named(job, PointList, "Centre outline")
    job = job.changed(second.id, visible=False, source=outline.name)
    third = PointList(
        id=job.new_id("points"),
        name="Belly line",
        points=lay(*_read(belly)).space,
        visible=False,
        source=belly.name,
    )
    return job.with_item(third)


def _read(path: Path) -> tuple[Floats, None, tuple[int, ...]]:
    read = read_points(path)
    return read.points, None, read.axes


def _straight(job: Job, mesh: TriangleMesh) -> Motion:
    """Return what sets the scan straight: its symmetry, then where the outline lies on it."""
    first = by_symmetry(mesh, mirror_plane(mesh))
    turned = TriangleMesh(first.apply(mesh.vertices), mesh.triangles)
    outline = next(points for points in job.all(PointList) if points.name == "Centre outline")
    # From the middle of the one to that of the other is near enough to settle from.
    shift = outline.points.mean(axis=0) - turned.box.mean(axis=0)
    start = Motion(np.eye(3), -shift * [1.0, 0.0, 1.0])
    return first.then(settle_onto(outline.points, turned, start).motion.inverse)
