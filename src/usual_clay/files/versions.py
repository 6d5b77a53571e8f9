"""Another version of what was made, as if it had been scanned: for comparing the two."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import SUFFIXES
from usual_clay.files.job_file import SUFFIX, read_job
from usual_clay.files.sources import take_faces
from usual_clay.job.checking import CHORD, checked_items, triangles_of
from usual_clay.job.job import Job

# No triangle is longer than the whole over this.
DENSE, MOST_HALVED = 150, 40


def read_made(path: Path) -> Job:
    """Return the job of a file: a job's own, or the surfaces and bodies of STEP or IGES.

    Raises
    ------
    FileError
    """
    if path.suffix.lower() == SUFFIX:
        return read_job(path)
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{path.name}: checked are {', '.join((*SUFFIXES, SUFFIX))} files")
    return take_faces(Job(), path, "mm")[0]


def read_version(path: Path) -> TriangleMesh:
    """Return what another version made as if it had been scanned, evenly and dense.

    Raises
    ------
    FileError
        Also where nothing of it is shown.
    """
    # Slow to import.
    from trimesh.remesh import subdivide_to_size

    job = read_made(path)
    items = checked_items(job)
    if not items:
        raise FileError(f"{path.name} shows no surface and no body")
    mesh = triangles_of(items, CHORD * job.tolerance.deviation)
    longest = float(np.ptp(mesh.vertices, axis=0).max()) / DENSE
    return TriangleMesh(*subdivide_to_size(mesh.vertices, mesh.triangles, longest, MOST_HALVED))
