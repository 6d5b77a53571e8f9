"""The demo job's surfaces from curves: lean, near the scan, tied to their curves."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from usual_clay.core.check.edges import edge_joint
from usual_clay.core.spline.boundary import BORDERS, border_curve
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.surface import surface_points
from usual_clay.demo.make import demo_job_file
from usual_clay.demo.parts import WIRE
from usual_clay.demo.shape import signed_distance
from usual_clay.files.job_file import read_job
from usual_clay.job.items import Curve, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import stale


@pytest.fixture(scope="module")
def whole(scan_file: Path) -> Job:
    return read_job(demo_job_file())


def surface(job: Job, name: str) -> Surface:
    return next(each for each in job.all(Surface) if each.name == name)


def test_belly_tail_and_gill_plate_are_lean_and_near_the_true_lure(whole: Job) -> None:
    even = [x.ravel() for x in np.meshgrid(*[np.linspace(0.05, 0.95, 40)] * 2)]
    for name, most in (("Belly net", 70), ("Tail", 70), ("Gill plate", 60)):
        made = surface(whole, name)
        assert made.control_points <= most
        report = whole.report(made)
        assert report is not None
        assert report.met
        # The true shape, which the scan shows with noise.
        off = np.abs(signed_distance(surface_points(made.geometry, *even)))
        assert np.quantile(off, 0.9) < 0.06, name
    assert not stale(whole)
    kinds = {s.recipe.kind for s in whole.all(Surface) if s.recipe is not None}
    assert kinds >= {"net", "guided revolve", "fill", "ruled", "flat", "tube"}


def test_the_gill_plate_goes_on_from_the_brow_and_the_wire_is_round(whole: Job) -> None:
    plate, brow = surface(whole, "Gill plate").geometry, surface(whole, "Brow cast").geometry
    edge = next(c for c in whole.all(Curve) if c.name == "Gill side 3").geometry
    joint = edge_joint(brow, plate, edge)
    inner = slice(8, -8)
    assert np.degrees(joint.angle[inner]).max() < 0.25
    wire = surface(whole, "Hanger wire").geometry
    path = next(c for c in whole.all(Curve) if c.name == "Hanger path").geometry
    round_ = surface_points(wire, np.linspace(0, 1, 40), np.full(40, 0.5))
    assert curve_foot_points(path, round_)[2] == pytest.approx(WIRE, abs=0.05)
    # The lip's faces end exactly where its rim does.
    rim, face = surface(whole, "Lip rim").geometry, surface(whole, "Lip face, front").geometry
    ends = [border_curve(rim, border) for border in BORDERS]
    seen = surface_points(face, np.linspace(0, 1, 50), np.zeros(50))
    away = min(float(curve_foot_points(end, seen)[2].max()) for end in ends)
    assert away < 1e-6
