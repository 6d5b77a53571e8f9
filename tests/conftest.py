"""What all tests share: no screen, a home of their own, and the demo data made once."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp(prefix="usual-clay-config-")

import numpy as np
import pytest

from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.demo.make import demo_job_file, demo_scan_file
from usual_clay.files.job_file import read_job
from usual_clay.files.mesh_file import read_mesh
from usual_clay.job.job import Job


@pytest.fixture(scope="session")
def scan_file() -> Path:
    return demo_scan_file()


@pytest.fixture(scope="session")
def lure(scan_file: Path) -> TriangleMesh:
    return read_mesh(scan_file)


@pytest.fixture(scope="session")
def demo_job(scan_file: Path) -> Job:
    return read_job(demo_job_file())


def height_field(
    count: int = 6000, noise: float = 0.0, seed: int = 0, size: tuple[float, float] = (60.0, 30.0)
) -> Sample:
    """Points of a gentle height field with known noise; normals all point up."""
    random = np.random.default_rng(seed)
    x, y = random.uniform(0, size[0], count), random.uniform(0, size[1], count)
    z = 2 * np.sin(x / size[0] * 4) * np.cos(y / size[1] * 2.5)
    points = np.stack([x, y, z], axis=1) + random.normal(0, 1, (count, 3)) * noise
    return Sample(points, np.tile([0.0, 0.0, 1.0], (count, 1)))


def sphere(radius: float = 10.0, rings: int = 40) -> TriangleMesh:
    """A closed sphere from a subdivided grid of angles."""
    from trimesh.creation import icosphere

    made = icosphere(subdivisions=max(2, rings // 10), radius=radius)
    return TriangleMesh(made.vertices, made.faces)


def box_mesh(size: float = 20.0, step: float = 1.0) -> TriangleMesh:
    """A cube's surface, finely divided, with sharp creases."""
    from trimesh.creation import box

    made = box(extents=(size, size, size)).subdivide_to_size(step * 1.6)
    from usual_clay.core.scan.mesh import weld

    return TriangleMesh(*weld(np.asarray(made.vertices), np.asarray(made.faces)))
