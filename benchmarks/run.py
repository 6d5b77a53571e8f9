"""Paired measurements, as ratios within one run. ``./run bench``, or some: ``./run bench shapes``.

Each pair is timed in turn, several times over; the median of the ratios is printed with the
least and the greatest, so that a machine that drifts does not change what is said.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from scipy.interpolate import LSQBivariateSpline, splprep
from tests.true_shapes import SHAPES, turn_of
from threadpoolctl import threadpool_limits

from benchmarks.bodies import bodies
from benchmarks.checking import checking
from benchmarks.curves import from_curves
from benchmarks.floating import floating
from benchmarks.timing import say, seconds
from benchmarks.window import (
    choosing,
    dragging,
    large_scan,
    live_surface,
    shaping,
    starting,
)
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.budget import to_tolerance
from usual_clay.core.fit.search.front import front
from usual_clay.core.fit.solve.system import Space, fit_control_points
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.demo.make import back_of, demo_scan_file
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.files.points_file import read_points

COUNT, SIDE = 200_000, 20


def fit_and_feet(runs: int = 5) -> None:
    random = np.random.default_rng(0)
    u, v = random.random((2, COUNT))
    x, y = 100 * u, 50 * v
    z = 3 * np.sin(4 * u) * np.cos(3 * v) + random.normal(0, 0.02, COUNT)
    points = np.stack([x, y, z], axis=1)
    knots = even_knots(SIDE, 3)
    space = Space(knots, knots, 3, 3)
    inner = knots[4:-4]
    against_scipy, against_fit = [], []
    for _ in range(runs):
        ours = seconds(lambda: fit_control_points(space, u, v, points, None, 1e-9, (100, 50)))
        theirs = seconds(
            lambda: [
                LSQBivariateSpline(u, v, column, inner, inner, bbox=[0, 1, 0, 1])
                for column in points.T
            ]
        )
        surface = BSplineSurface(
            knots, knots, fit_control_points(space, u, v, points, None, 1e-9, (100, 50))
        )
        feet = seconds(lambda surface=surface: foot_points(surface, points, (u, v)))
        against_scipy.append(theirs / ours)
        against_fit.append(feet / ours)
    say(
        f"{SIDE} x {SIDE} fit of {COUNT} points, times faster than SciPy",
        against_scipy,
        "x",
        "10 or more",
    )
    say("feet and signed deviation of those points, in such fits", against_fit, "", "under 3")


def search(runs: int = 3) -> None:
    mesh = read_mesh(demo_scan_file())
    chosen = back_of(mesh)
    ratios, first = [], []
    for _ in range(runs):
        sample = Sample(mesh.vertices[chosen], mesh.vertex_normals[chosen])
        _ = sample.neighbours, sample.noise
        single = seconds(lambda sample=sample: cast(sample, CastSettings()))
        whole = seconds(lambda sample=sample: to_tolerance(sample, CastSettings(), Tolerance()))
        ratios.append(whole / single)
        first.append(first_round(sample))
    say("to tolerance on the demo's back, in single casts", ratios, "", "under 20")
    say(f"first picture of a live refit, {len(chosen)} points", first, "s", "under 0.5")


def adaptive(runs: int = 5) -> None:
    """200,000 points with one narrow ridge, to tolerance, in fits of 20 x 20 control points."""
    random = np.random.default_rng(0)
    x, y = random.uniform(0, 120, COUNT), random.uniform(0, 50, COUNT)
    z = 3 * np.sin(x / 40) + 1.5 * (y / 50) ** 2 + 1.2 * np.exp(-(((x - 70) / 5.8) ** 2))
    points = np.stack([x, y, z], axis=1) + random.normal(0, 0.012, (COUNT, 3))
    knots = even_knots(SIDE, 3)
    space = Space(knots, knots, 3, 3)
    settings = CastSettings(reach=0.05, smoothness=0.1, knots="adaptive")
    ratios, fronts, counts = [], [], []
    for _ in range(runs):
        sample = Sample(points, np.tile([0.0, 0, 1], (COUNT, 1)))
        _ = sample.neighbours, sample.noise
        single = seconds(lambda: fit_control_points(space, x / 120, y / 50, points))
        fronts.append(seconds(lambda s=sample: front(s, settings, Tolerance(0.03))) / single)
        start = time.perf_counter()
        lean = to_tolerance(sample, settings, Tolerance(0.03))
        ratios.append((time.perf_counter() - start) / single)
        counts.append(float(lean.settings.nu * lean.settings.nv))
    say("adaptive to tolerance on 200000 points, in 20 x 20 fits", ratios, "x", "at most 8")
    say("its control points, where points held to parameters take 52", counts, "", "at most 52")
    say("the front round that tolerance, in 20 x 20 fits", fronts, "x", "at most 40")


def first_round(sample: Sample) -> float:
    """Return how long it takes until there is something to show."""
    start, told = time.perf_counter(), []

    def found(_made: Cast) -> None:
        told.append(time.perf_counter() - start)

    cast(sample, CastSettings(nu=12, nv=8), found=found)
    return told[0]


def tracing(runs: int = 3) -> None:
    """20,000 ordered points with a narrow bump, traced, against SciPy's smoothing spline."""
    s = np.linspace(0, 1, 20_000)
    run = np.stack([120 * s, 8 * np.sin(3 * s) + 5 * np.exp(-(((s - 0.62) / 0.03) ** 2)), 0 * s])
    run[:2] += np.random.default_rng(0).normal(0, 0.012, (2, len(s)))
    points, tolerance = run.T, Tolerance(0.03, 0.95)
    times, ratios, counts = [], [], []
    for _ in range(runs):
        times.append(
            seconds(
                lambda: trace(PointSequence(points), TraceSettings(knots="adaptive"), tolerance)
            )
        )
        ours = trace(
            PointSequence(points), TraceSettings(knots="adaptive"), tolerance
        ).settings.controls
        theirs, least = 0.0, 10**9
        # The largest smoothing that still reaches the same deviation has the fewest knots.
        for smoothing in np.geomspace(3.0, 0.9, 12) * len(s) * 2 * 0.012**2:
            start = time.perf_counter()
            tck, u = splprep(run[:2], s=smoothing)
            took = time.perf_counter() - start
            flat = np.column_stack([*tck[1], np.zeros(len(tck[0]) - 4)])
            away = curve_foot_points(BSplineCurve(tck[0], flat), points, u)[2]
            if np.quantile(away, 0.95) <= 0.03:
                theirs, least = took, len(tck[0]) - 4
                break
        ratios.append(times[-1] / theirs)
        counts.append(ours / least)
    say("20000 ordered points traced to tolerance", times, "s", "under 0.5")
    say("the same, in the time of one smoothing spline of SciPy's", ratios, "x", "")
    say("control points, as a share of SciPy's at the same deviation", counts, "", "at most 0.6")


def growth() -> None:
    """How the cost of a cast grows with its points, and the memory that each of them takes."""
    script = """
import sys, time, tracemalloc
import numpy as np
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.cast import cast
from usual_clay.core.scan.sample import Sample
count = int(sys.argv[1])
random = np.random.default_rng(0)
x, y = random.uniform(0, 100, count), random.uniform(0, 60, count)
z = 6 * np.sin(x / 20) * np.cos(y / 25) + random.normal(0, 0.02, count)
sample = Sample(np.stack([x, y, z], axis=1), np.tile([0.0, 0.0, 1.0], (count, 1)))
sample.neighbours
sample.areas, sample.scattered, sample.noise
start = time.perf_counter()
made = cast(sample, CastSettings(20, 20, reach=0.02))
took = time.perf_counter() - start
# A second time, to count what is allocated, which slows it.
tracemalloc.start()
cast(sample, CastSettings(20, 20, reach=0.02))
print(took / made.rounds, tracemalloc.get_traced_memory()[1] / count)
"""
    cost = {}
    for count in (50_000, 200_000, 2_000_000):
        ran = subprocess.run(
            [sys.executable, "-c", script, str(count)], capture_output=True, text=True, check=True
        )
        cost[count], memory = (float(word) for word in ran.stdout.split())
        say(f"memory of a cast of {count} points, for each", [memory], "B", "under 600")
    for few, many in ((50_000, 200_000), (200_000, 2_000_000)):
        ratio = cost[many] / cost[few] / (many / few)
        say(f"a round's time for a point, {many} against {few}", [ratio], "x", "at most 1")


def true_shapes() -> None:
    """Shapes of many kinds with their truth, to tolerance: against the best even fit.

    For each: control points, and as a share of even ones; rms and 95 % to the truth by area, as
    shares of the tolerance; how far normals turn over a step past the truth's, in degrees; time
    in that of one 20 x 20 fit to as many points.
    """
    knots = even_knots(SIDE, 3)
    space = Space(knots, knots, 3, 3)
    u, v = np.random.default_rng(0).random((2, 12_000))
    flat = np.stack([u, v, u * v], axis=1)
    print("shape                      points  of even  rms/tol  95/tol  turns  time  verdict")
    shares, met = [], 0
    for shape in SHAPES:
        sample, tolerance = shape.sample(), Tolerance(shape.tolerance)
        single = seconds(lambda: fit_control_points(space, u, v, flat))
        start = time.perf_counter()
        lean = to_tolerance(sample, CastSettings(knots="adaptive"), tolerance)
        took = time.perf_counter() - start
        even = to_tolerance(sample, CastSettings(), tolerance)
        surface = lean.made.surface
        count = lean.settings.nu * lean.settings.nv
        share = count / (even.settings.nu * even.settings.nv)
        off = shape.off_truth(surface) / shape.tolerance
        assert lean.report is not None
        verdict = "met" if lean.report.met else lean.words
        rms, near = np.sqrt(np.mean(off**2)), np.quantile(off, 0.95)
        turns = turn_of(surface) - shape.turn
        print(
            f"{shape.name:<26}{count:>7}{share:>9.2f}{rms:>9.2f}{near:>8.2f}{turns:>7.0f}"
            f"{took / single:>6.0f}  {verdict}",
            flush=True,
        )
        shares.append(share)
        met += lean.report.met
    say(f"{met} of {len(SHAPES)} met; control points as a share of even ones", shares, "", "")


def files(runs: int = 3) -> None:
    """A scan file to a STEP file by the command line, in single fits of SciPy's."""
    x, y = np.meshgrid(np.linspace(0, 120, 320), np.linspace(0, 50, 250), indexing="ij")
    z = 3 * np.sin(x / 40) + 1.2 * np.exp(-(((x - 70) / 5.8) ** 2))
    points = np.stack([x, y, z], axis=2).reshape(-1, 3)
    points[:, 2] += np.random.default_rng(0).normal(0, 0.012, len(points))
    random = np.random.default_rng(1)
    u, v = random.random((2, COUNT))
    inner = even_knots(SIDE, 3)[4:-4]
    ratios = []
    with tempfile.TemporaryDirectory() as folder:
        scan, out = Path(folder) / "field.ply", Path(folder) / "field.step"
        from usual_clay.core.spline.tessellate import grid_triangles

        write_mesh(scan, points, grid_triangles(320, 250))
        command = [sys.executable, "-m", "usual_clay", "fit", str(scan), "--out", str(out)]
        command += ["--knots", "adaptive", "--tolerance", "0.03", "--region", "all"]
        for _ in range(runs):
            theirs = seconds(
                lambda: [
                    LSQBivariateSpline(u, v, np.sin(k * u), inner, inner, bbox=[0, 1, 0, 1])
                    for k in (1, 2, 3)
                ]
            )
            ran = seconds(lambda: subprocess.run(command, capture_output=True, check=True))
            ratios.append(ran / theirs)
    say("scan file to STEP, 80000 points, in SciPy's fits of 200000", ratios, "x", "at most 0.5")


def many_points() -> None:
    """A million points, with a bad row among them, against NumPy's own reader of clean ones."""
    points = np.random.default_rng(0).normal(size=(1_000_000, 3))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "points.csv"
        np.savetxt(path, points, "%.4f", ",", header="x [mm],y [mm],z [mm]", comments="")
        plain = seconds(lambda: np.loadtxt(path, delimiter=",", skiprows=1))
        with path.open("a") as file:
            file.write("slip,0,0\n")
        ours = seconds(lambda: read_points(path))
    say("a million points with a bad row read", [ours], "s", "under 5")
    say("the same, in the time NumPy takes for clean ones", [ours / plain], "x", "near 1")


PARTS: dict[str, Callable[[], None]] = {
    "fit": fit_and_feet,
    "search": search,
    "adaptive": adaptive,
    "shapes": true_shapes,
    "trace": tracing,
    "curves": from_curves,
    "floating": floating,
    "checking": checking,
    "bodies": bodies,
    "drag": dragging,
    "shaping": shaping,
    "choosing": choosing,
    "live": live_surface,
    "files": files,
    "growth": growth,
    "start": starting,
    "large": large_scan,
    "many": many_points,
}

if __name__ == "__main__":
    # As the application has it: threads of linear algebra would wait for each other.
    threadpool_limits(1, "blas")
    for name in sys.argv[1:] or PARTS:
        PARTS[name]()
