"""What all tests share: no screen, a home of their own, and the demo data made once."""

from __future__ import annotations

import gc
import os
import tempfile
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
# Workers share two cores: threads of linear algebra would only wait for each other.
os.environ["OPENBLAS_NUM_THREADS"] = "1"
os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp(prefix="usual-clay-config-")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="usual-clay-state-")

import pytest

from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.demo.make import demo_job_file, demo_scan_file
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.mesh_file import read_mesh
from usual_clay.job.job import Job


def pytest_collection_finish() -> None:
    """Leave what all that was imported is made of out of what is looked through for garbage."""
    gc.collect()
    gc.freeze()


@pytest.fixture(scope="session")
def scan_file() -> Path:
    return demo_scan_file()


@pytest.fixture(scope="session")
def lure(scan_file: Path) -> TriangleMesh:
    return read_mesh(scan_file)


@pytest.fixture(scope="session")
def demo_job(scan_file: Path) -> Job:
    """The demo job without what is made from its curves, which has tests of its own."""
    job = read_job(demo_job_file())
    names = [item.name for item in job.items.values()]
    parts = list(job.items)[names.index("Gill plate patch") + 1 : names.index("Back cast")]
    for item_id in reversed(parts):
        job = job.without(item_id)
    return job


@pytest.fixture(scope="session")
def job_file(demo_job: Job, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("demo") / "brackwater-96.uclay"
    write_job(path, demo_job)
    return path
