"""Kills a program that saves and keeps a journal, and looks whether anything is lost.

python -m tests.kills [COUNT]
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.atomic import BEGUN, remove_leftovers
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.journal import Journal, drop, left_behind, recovered
from usual_clay.job.items import Curve, PointList
from usual_clay.job.job import Job

LARGE = 30_000


def version(number: int) -> Job:
    """Return a job that tells its number in three places."""
    points = np.full((LARGE, 3), float(number))
    line = BSplineCurve(even_knots(2, 1), np.array([[0.0, 0, 0], [number + 1.0, 0, 0]]))
    job = Job(f"job {number}").with_item(PointList(id="points-1", name="All", points=points))
    return job.with_item(Curve(id="curve-2", name="Line", geometry=line))


def is_whole(job: Job) -> bool:
    """Tell whether a job is one of the versions, not a mixture of two."""
    number = float(job.name.removeprefix("job "))
    points, line = job.the("points-1", PointList), job.the("curve-2", Curve)
    same = bool((points.points == number).all())
    return same and float(line.geometry.points[1, 0]) == number + 1


def write_for_ever(path: Path) -> None:
    """Save one version after the other, and keep a journal of them, until killed."""
    journal = Journal()
    for number in range(1, 10_000):
        job = version(number)
        journal.write(job, path)
        write_job(path, job)
        if number == 1:
            print("begun", flush=True)


def kill(count: int, seed: int = 0) -> dict[str, int]:
    """Kill so often; return how often what came out.

    Raises
    ------
    AssertionError
        Where something was lost.
    """
    chance = random.Random(seed)
    told = {"saved": 0, "journal": 0, "leftovers": 0}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "job.uclay"
        environment = os.environ | {"XDG_STATE_HOME": folder}
        os.environ["XDG_STATE_HOME"] = folder
        for number in range(count):
            if number and number % 50 == 0:
                print(f"{number} of {count}: {told}", file=sys.stderr, flush=True)
            write_job(path, version(0))
            child = subprocess.Popen(
                [sys.executable, "-m", "tests.kills", "--write", str(path)],
                stdout=subprocess.PIPE, env=environment,
            )  # fmt: skip
            assert child.stdout is not None
            child.stdout.readline()
            time.sleep(chance.random() * 0.12)
            child.send_signal(signal.SIGKILL)
            child.wait()
            assert is_whole(read_job(path)), "the job file is a mixture"
            told["saved"] += 1
            for left in left_behind():
                assert is_whole(read_job(recovered(left))), "the journal is a mixture"
                told["journal"] += 1
                drop(left)
            told["leftovers"] += len(list(path.parent.glob(f"{BEGUN}*")))
            remove_leftovers(path.parent)
            assert not list(path.parent.glob(f"{BEGUN}*")), "something was left in the folder"
    return told


if __name__ == "__main__":
    if sys.argv[1:2] == ["--write"]:
        write_for_ever(Path(sys.argv[2]))
    else:
        many = int(sys.argv[1]) if len(sys.argv) > 1 else 100
        print(f"{many} kills: {kill(many)}")
