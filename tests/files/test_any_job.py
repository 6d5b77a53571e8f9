"""Any job, written and read, is the same; any spline, by an exchange file too."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from tests.alike import assert_same
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.check.deviation import LEVELS, Tolerance
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.files.exchange import read_curves, read_exchange
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.step_out import write_exchange
from usual_clay.job.edits import make
from usual_clay.job.items import Curve, PointList, Region, Scan, Surface
from usual_clay.job.job import Job

LENGTHS = st.floats(-1e4, 1e4, allow_subnormal=False)
NAMES = st.text(st.characters(categories=["L", "N", "P", "S"]), min_size=1, max_size=30)
FLAGS = {
    "visible": st.booleans(),
    "locked": st.booleans(),
    "colour": st.sampled_from(["", "#7E9AA8"]),
}


def places(*shape: int) -> st.SearchStrategy[Any]:
    """Places of any size, as a seed gives them: where they lie matters to no file."""
    seeds = st.tuples(st.integers(0, 999), st.sampled_from([1e-3, 1.0, 40.0, 1e4]))
    return seeds.map(lambda s: np.random.default_rng(s[0]).uniform(-s[1], s[1], (*shape, 3)))


@st.composite
def knots(draw: Any, count: int, degree: int) -> np.ndarray:
    """Knots on [0, 1], clamped; inner ones anywhere, one of them twice where the degree allows."""
    inside = count - degree - 1
    inner = draw(st.lists(st.integers(1, 63), min_size=inside, max_size=inside, unique=True))
    if degree > 1 and inside > 1 and draw(st.booleans()):
        inner[1] = inner[0]
    ends = [0.0] * (degree + 1), [1.0] * (degree + 1)
    return np.concatenate([ends[0], np.sort(np.array(inner, dtype=float)) / 64, ends[1]])


@st.composite
def curves(draw: Any) -> BSplineCurve:
    degree = draw(st.integers(1, 5))
    count = draw(st.integers(degree + 1, degree + 6))
    weights = draw(st.none() | arrays(np.float64, count, elements=st.floats(0.1, 10)))
    return BSplineCurve(draw(knots(count, degree)), draw(places(count)), weights)


@st.composite
def surfaces(draw: Any) -> BSplineSurface:
    degrees = draw(st.tuples(st.integers(1, 4), st.integers(1, 4)))
    counts = [draw(st.integers(p + 1, p + 4)) for p in degrees]
    along = [draw(knots(n, p)) for n, p in zip(counts, degrees, strict=True)]
    return BSplineSurface(*along, draw(places(*counts)))


@st.composite
def jobs(draw: Any) -> Job:
    job = Job(tolerance=Tolerance(draw(st.floats(0.001, 1)), draw(st.floats(0.5, 1))))

    def add(kind: Any, word: str, **fields: Any) -> Any:
        nonlocal job
        common = {name: draw(values) for name, values in FLAGS.items()}
        item = kind(id=job.new_id(word), name=job.free_name(draw(NAMES)), **common, **fields)
        job = job.with_item(item)
        return item

    corner = draw(places(6))
    mesh = TriangleMesh(corner, np.array([[0, 1, 2], [2, 1, 3], [3, 4, 5]]))
    scan = add(Scan, "scan", mesh=mesh, source="a.ply", unit="mm")
    chosen = draw(st.sets(st.integers(0, 5), min_size=1))
    region = add(Region, "region", scan=scan.id, vertices=np.array(sorted(chosen)))
    run = draw(places(7))
    out = np.array(sorted(draw(st.sets(st.integers(0, 6), max_size=4))), dtype=np.int64)
    add(PointList, "points", points=run, out=out, closed=draw(st.booleans()), source="", unit="mm")
    levels = draw(arrays(np.float64, len(LEVELS), elements=st.floats(0, 5))).cumsum()
    for shape in draw(st.lists(surfaces(), max_size=2)):
        signed = draw(st.none() | arrays(np.float64, len(chosen), elements=LENGTHS))
        told = (Candidate(4, 5, levels),) if draw(st.booleans()) else ()
        add(Surface, "surface", geometry=shape, signed=signed, candidates=told, watches=region.id)
    made = [add(Curve, "curve", geometry=each) for each in draw(st.lists(curves(), max_size=3))]
    for source in made:
        if source.geometry.weights is None and draw(st.booleans()):
            twin = TwinSettings(draw(st.sampled_from("xyz")), draw(LENGTHS))
            job, _, _ = make.add(job, "twin", twin, curve=source.id)
    return job


@given(job=jobs())
@settings(max_examples=60, deadline=None)
def test_any_job_is_read_as_it_was_written(job: Job) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "any.uclay"
        write_job(path, job)
        again = read_job(path)
        assert_same(job, again)
        # Written again from what was read it is the same once more.
        write_job(path, again)
        assert_same(read_job(path), again)


@given(curve=curves(), surface=surfaces(), suffix=st.sampled_from([".step", ".igs"]))
@settings(max_examples=25, deadline=None)
def test_any_spline_goes_through_an_exchange_file(
    curve: BSplineCurve, surface: BSplineSurface, suffix: str
) -> None:
    size = max(1.0, *(float(np.abs(each.points).max()) for each in (curve, surface)))
    at = np.linspace(0, 1, 23)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"any{suffix}"
        # Shapes of no size are no shapes to an exchange file.
        if np.ptp(surface.points.reshape(-1, 3), axis=0).min() > 1e-2 * size:
            write_exchange(path, [("surface", surface)])
            (again,) = read_exchange(path)
            assert surface_grid(again, at, at) == pytest.approx(
                surface_grid(surface, at, at), abs=1e-7 * size
            )
        # IGES gives a line with a kink back in parts.
        inner = curve.knots[curve.degree + 1 : -curve.degree - 1]
        kinked = curve.degree < 2 or (curve.degree == 2 and len(set(inner)) < len(inner))
        apart = np.linalg.norm(np.diff(curve.points, axis=0), axis=1).min() > 1e-2 * size
        if apart and not (kinked and suffix == ".igs"):
            write_exchange(path, [("curve", curve)])
            (line,) = read_curves(path)
            assert curve_points(line, at) == pytest.approx(curve_points(curve, at), abs=1e-7 * size)
