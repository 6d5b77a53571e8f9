"""Makes the demo job's files once, and keeps them in the user's cache."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

import numpy as np

from usual_clay.core.arrays import Ints
from usual_clay.core.fit.drape import DrapeSettings, drape
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import spread
from usual_clay.demo.scan import demo_scan, pose
from usual_clay.files.job_file import write_job
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.job.items import Region, Scan, Surface
from usual_clay.job.job import Job, sample_of
from usual_clay.job.recipes import Recipe
from usual_clay.job.remake import basis_of, with_drape

# Where the back is clicked to spread its region, in the lure's frame.
BACK_SEED = (50.0, 0.0, 12.0)
BACK_SPREAD = 0.3


def demo_folder() -> Path:
    """Return the folder of the demo files that this version of the program makes."""
    sources = sorted(Path(__file__).parents[1].glob("[cdfj]*/**/*.py"))
    made_by = hashlib.sha256(b"".join(source.read_bytes() for source in sources)).hexdigest()
    cache = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return cache / "usual-clay" / f"demo-{made_by[:12]}"


def demo_scan_file() -> Path:
    """Return the demo scan's PLY file, made on first use."""
    path = demo_folder() / "brackwater-lure.ply"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        mesh = demo_scan()
        write_mesh(path, mesh.vertices, mesh.triangles)
    return path


def demo_job_file() -> Path:
    """Return the finished demo job's file, made on first use."""
    path = demo_folder() / "brackwater-96.uclay"
    if not path.exists():
        write_job(path, demo_job(read_mesh(demo_scan_file())))
    return path


def back_of(mesh: TriangleMesh) -> Ints:
    """Return the vertices of the lure's back, as a click on it spreads them."""
    at = pose().to_scan(np.array([BACK_SEED]))
    seed = int(np.argmin(np.linalg.norm(mesh.vertices - at, axis=1)))
    return np.flatnonzero(spread(mesh, seed, BACK_SPREAD))


def demo_job(mesh: TriangleMesh) -> Job:
    """Return the demo job: the scan, the back chosen, and a first drape over it."""
    job = Job(name="Brackwater 96")
    scan = Scan(id=job.new_id("scan"), name="Lure scan", mesh=mesh, source="brackwater-lure.ply")
    job = job.with_item(scan)
    region = Region(id=job.new_id("region"), name="Back", scan=scan.id, vertices=back_of(mesh))
    job = job.with_item(region)
    settings = DrapeSettings(nu=14, nv=6, reach=0.1)
    made = drape(sample_of(job, region), settings)
    surface = Surface(
        id=job.new_id("surface"),
        name="Back drape",
        geometry=made.surface,
        recipe=Recipe("drape", (region.id,), settings),
    )
    return job.with_item(with_drape(surface, made, basis_of(job, surface)))
