"""``usual-clay check``: joints, faces and deviation of a file, without a window."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.cli.codes import MET, NOT_MET
from usual_clay.cli.figures import write_report
from usual_clay.cli.settings import InputError, decimal
from usual_clay.core.check.deviation import Tolerance, percent
from usual_clay.core.check.joints import GRADES, FoundJoint, find_joints
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.units import MILLIMETRES
from usual_clay.files.versions import read_made, read_version
from usual_clay.job.checking import (
    against_scan,
    checked_items,
    faces_in,
)
from usual_clay.job.face_figures import face_figures
from usual_clay.job.items import Scan
from usual_clay.job.job import Job
from usual_clay.job.reporting import joint_row, scan_rows

MOST_SPOTS = 50
ABOUT = """\
Joints between all faces of a STEP or IGES file or a job, each by the class that it reaches; the
smallest radius and the undercut of each face; and how all of it lies against a scan. Exit 0 when
all is as wanted, 3 when not, 2 on bad input."""


def add_command(commands: Any) -> None:
    """Add the command to a parser."""
    one = commands.add_parser(
        "check", help="joints, radii and deviation of surfaces and bodies", description=ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    one.add_argument("file", type=Path, help="STEP, IGES or a job")
    one.add_argument("--scan", type=Path, help="what all of it is judged by")
    one.add_argument("--against", type=Path, metavar="FILE",
                     help="another version, a job, STEP or IGES, in place of a scan")  # fmt: skip
    one.add_argument("--unit", choices=list(MILLIMETRES), default="mm", help="of the scan")
    one.add_argument("--tolerance", type=decimal, metavar="MM")
    one.add_argument("--share", type=decimal)
    one.add_argument("--wanted", choices=GRADES[1:], default="G0", help="class of every joint")
    one.add_argument("--limit", type=decimal, default=0.2, metavar="MM",
                     help="faces no farther apart have a joint")  # fmt: skip
    one.add_argument("--pull", choices=["x", "y", "z"], default="z", help="for undercuts")
    one.add_argument("--report", type=Path, metavar="OUT.json")
    one.set_defaults(command=run_check)


def run_check(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    started = time.perf_counter()
    job = read_made(options.file)
    items = checked_items(job)
    if not items:
        raise InputError(f"{options.file.name} holds no surface and no body")
    tolerance = job.tolerance
    if options.tolerance is not None or options.share is not None:
        tolerance = Tolerance(
            options.tolerance or tolerance.deviation, options.share or tolerance.share
        )
    faces = faces_in(items)
    joints = find_joints(faces, options.limit)
    pull = np.eye(3)["xyz".index(options.pull)]
    figures: dict[str, Any] = {
        "joints": [joint_row(joint) for joint in joints],
        "faces": [
            {
                "name": each.face.name,
                "control_points": list(each.face.surface.counts),
                "degree": list(each.face.surface.degrees),
                "smallest_radius": _finite(each.radius),
                "undercut": each.undercut,
            }
            for each in face_figures(items, faces, pull)
        ],
    }
    wanted = GRADES.index(options.wanted)
    short = [joint for joint in joints if GRADES.index(joint.grade) < wanted]
    met = not short
    mesh = _scan_of(options, job)
    if mesh is not None:
        found = against_scan(items, mesh, tolerance)
        figures |= scan_rows(found, MOST_SPOTS)
        met = met and found.report.met
    figures |= {"met": met, "seconds": time.perf_counter() - started}
    write_report(options.report, figures)
    print(_in_words(figures, joints, short, options.wanted, tolerance))
    return MET if met else NOT_MET


def _scan_of(options: argparse.Namespace, job: Job) -> Any:
    if options.scan is not None and options.against is not None:
        raise InputError("it is judged by a scan or against another version, not by both")
    if options.against is not None:
        return read_version(options.against)
    if options.scan is not None:
        return read_mesh(options.scan, options.unit)
    return next((scan.mesh for scan in job.all(Scan) if scan.visible), None)


def _finite(number: float) -> float | None:
    return number if np.isfinite(number) else None


def _in_words(
    figures: dict[str, Any], joints: list[FoundJoint], short: list[FoundJoint], wanted: str,
    tolerance: Tolerance,
) -> str:  # fmt: skip
    counts = {grade: sum(joint.grade == grade for joint in joints) for grade in GRADES}
    named = ", ".join(f"{count} {grade}" for grade, count in counts.items() if count)
    words = [f"{len(figures['faces'])} faces, {len(joints)} joints{f': {named}' if named else ''}."]
    if short:
        first = short[0]
        words.append(
            f"{len(short)} fall short of {wanted}: {' and '.join(first.between)}, gap"
            f" {first.gap:.4f} mm, angle {np.degrees(first.angle):.3f}°."
        )
    if "rms" in figures:
        words.append(
            f"{percent(figures['within_share'])} of the area within {tolerance.deviation:g} mm;"
            f" {percent(tolerance.share)} within {figures['at_share']:.3f} mm;"
            f" {figures['spots_in_all']} spots out of tolerance."
        )
    return " ".join(words)
