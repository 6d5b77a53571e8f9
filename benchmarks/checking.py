"""Checks: curvature maps of many surfaces, joints of many faces, a report, a view with stripes."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from tests.solids import write_facets

from benchmarks.timing import say, seconds
from benchmarks.window import in_a_window
from usual_clay.core.check.curvature import bent_over
from usual_clay.core.check.joints import face_of_surface, find_joints
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.surface import BSplineSurface

# As many places each way as the maps on the stage have.
PLACES = 48


def sheet(row: int, column: int, count: int) -> BSplineSurface:
    """Return one of many sheets of 20 mm that lie beside each other over one wavy ground."""
    x = 20 * (row + np.linspace(0, 1, count))
    y = 20 * (column + np.linspace(0, 1, count))
    x, y = np.meshgrid(x, y, indexing="ij")
    knots = even_knots(count, 3)
    return BSplineSurface(knots, knots, np.stack([x, y, 3 * np.sin(x / 30) * np.cos(y / 25)], -1))


def checking(runs: int = 3) -> None:
    """What the Check station works out, over as much as a large job has."""
    from usual_clay.bench.paper import write_report_file
    from usual_clay.demo.make import demo_job_file
    from usual_clay.files.body_file import read_body
    from usual_clay.files.job_file import read_job

    surfaces = [sheet(0, k, 10) for k in range(50)]
    t = (np.arange(PLACES) + 0.5) / PLACES
    times = [seconds(lambda: [bent_over(each, t) for each in surfaces]) for _ in range(runs)]
    say("curvature maps of 50 surfaces of 100 control points", times, "s", "under 1")
    faces = [face_of_surface(f"{k}", sheet(k // 20, k % 20, 6)) for k in range(200)]
    times = [seconds(lambda: find_joints(faces, 0.2)) for _ in range(runs)]
    say(f"joints of 200 faces, {len(find_joints(faces, 0.2))} of them", times, "s", "under 2")
    with tempfile.TemporaryDirectory() as folder:
        many = len(write_facets(Path(folder) / "many.step").triangles)
        times = [seconds(lambda: read_body(Path(folder) / "many.step"))]
    say(f"a STEP of {many} faces read as a closed body", times, "s", "")
    job = read_job(demo_job_file())
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "report.pdf"
        times = [seconds(lambda: write_report_file(path, job, "A4"))]
    say("a report of the demo job", times, "s", "under 20")
    plain, stripes = (np.array(row) for row in in_a_window("turning"))
    say("a turn of the view with stripes, in turns of plain shading", list(stripes / plain), "x",
        "at most 2")  # fmt: skip
