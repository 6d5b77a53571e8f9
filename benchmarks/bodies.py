"""Bodies of the demo job made once more, and held against its scan."""

from __future__ import annotations

from benchmarks.timing import say, seconds
from usual_clay.core.progress import silent
from usual_clay.demo.curves import named
from usual_clay.demo.make import demo_job_file
from usual_clay.files.job_file import read_job
from usual_clay.job.edits.judging import measured
from usual_clay.job.items import Body, Scan
from usual_clay.job.remake import given_for, make

STEPS = (
    ("a slot cut", "With slot"),
    ("a hole drilled", "Lure"),
    ("a cavity taken away", "Hollow"),
    ("a half parted off", "Half 1"),
)


def bodies(runs: int = 3) -> None:
    job = read_job(demo_job_file())
    for words, name in STEPS:
        recipe = named(job, Body, name).recipe
        assert recipe is not None
        given = given_for(job, recipe)
        # The kernel is loaded by then, as it is while sources are picked.
        make(recipe, given, silent)
        times = [seconds(lambda r=recipe, g=given: make(r, g, silent)) for _ in range(runs)]
        say(f"{words}, in the demo's body", times, "s", "under 3")
    lure, scan = named(job, Body, "Lure"), named(job, Scan, "Lure scan")
    times = [seconds(lambda: measured(lure, scan.mesh, job.tolerance.deviation)) for _ in range(2)]
    say(f"a scan of {len(scan.mesh.vertices)} points held against it", times, "s", "under 5")
