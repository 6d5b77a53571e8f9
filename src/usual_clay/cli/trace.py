"""``usual-clay trace``: the leanest splines through a point list, and their report."""

from __future__ import annotations

import argparse
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from usual_clay.cli.figures import exit_code, write_report
from usual_clay.cli.make import made_or_found
from usual_clay.cli.settings import DEGREE_HELP, decimal, degree_of
from usual_clay.core.check.comb import comb_of
from usual_clay.core.check.deviation import Tolerance, judge, percent
from usual_clay.core.fit.curve.sequence import (
    PointSequence,
    TraceSettings,
    parts_of,
)
from usual_clay.core.points.lay import closes_smoothly, is_closed
from usual_clay.files.deliver import ready_to_write, write_pieces
from usual_clay.files.errors import FileError
from usual_clay.files.points_file import write_points
from usual_clay.files.sources import take_for
from usual_clay.files.svg_file import write_svg
from usual_clay.files.units import MILLIMETRES
from usual_clay.job.items import Curve, PointList
from usual_clay.job.job import Job

SUFFIXES = (".step", ".stp", ".igs", ".iges", ".svg", ".csv")
SHARP_ENDS = "Its ends meet at a sharp edge: it stays open there; --closed yes closes it."
# A closed fit is refused where the ends are farther apart than this share of the length.
OPEN_SHARE = 0.1
SAMPLES = 400


def add_command(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the command to the parser."""
    trace = commands.add_parser("trace", help="trace a point list with lean splines")
    trace.add_argument("points", type=Path, help="CSV, TSV, TXT, XYZ, XLSX or ODS")
    trace.add_argument("--tolerance", type=decimal, required=True, metavar="MM")
    trace.add_argument("--share", type=decimal, default=0.95, help="of the points; default 0.95")
    trace.add_argument("--controls", default="auto", metavar="auto|N", help="for each part")
    trace.add_argument("--knots", choices=["even", "adaptive"], default="adaptive")
    trace.add_argument("--degree", default="3", metavar="N|best", help=DEGREE_HELP)
    trace.add_argument(
        "--closed",
        nargs="?",
        const="yes",
        default="auto",
        choices=["yes", "no", "auto"],
        help="whether the last point is followed by the first; by itself, where that is smooth",
    )
    trace.add_argument(
        "--corners",
        type=decimal,
        default=0.0,
        metavar="DEG",
        help="part the run where it turns by more; default nowhere",
    )
    trace.add_argument("--unit", choices=list(MILLIMETRES), help="where the file does not say")
    trace.add_argument("--out", type=Path, required=True, help="STEP, IGES, SVG or CSV file")
    trace.add_argument("--report", type=Path, help="JSON file to write the figures to")
    trace.set_defaults(command=run_trace)


def run_trace(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    started = time.perf_counter()
    ready_to_write(options.out)
    tolerance = Tolerance(options.tolerance, options.share)
    if options.out.suffix.lower() not in SUFFIXES:
        raise FileError(f"{options.out.name}: curves are written as {', '.join(SUFFIXES)}")
    job = Job(tolerance=tolerance)
    job, (list_id,) = take_for(job, (PointList,), options.points, options.unit or "mm")
    points = job.the(list_id, PointList)
    space = points.points
    closed, told_of_ends = _closed(space, options.closed, options.corners > 0, options.points.name)
    job = job.changed(list_id, closed=closed)
    run = PointSequence(space, closed)
    settings = _settings(options)
    searched = options.controls == "auto"
    fits: list[Curve] = []
    told = []
    for part in range(len(parts_of(run, settings.corners))):
        own = replace(settings, part=part)
        roles = {"points": [list_id]}
        job, item, _, said, _ = made_or_found(job, "spline", own, roles, points.name, searched)
        fits.append(job.the(item.id, Curve))
        told.append(said)
    words = " ".join(filter(None, told))
    stem = options.points.stem
    named = [
        (f"{stem} {n}" if len(fits) > 1 else stem, fit.geometry) for n, fit in enumerate(fits, 1)
    ]
    if options.out.suffix.lower() == ".svg":
        write_svg(options.out, named, _view(space))
    elif options.out.suffix.lower() == ".csv":
        from usual_clay.core.spline.curve import curve_points

        at = np.linspace(0, 1, SAMPLES)
        write_points(options.out, np.concatenate([curve_points(curve, at) for _, curve in named]))
    else:
        told.append(write_pieces(options.out, named, tolerance.deviation / 5))
    signed = np.concatenate([fit.signed for fit in fits if fit.signed is not None])
    report = judge(signed, tolerance)
    counts = [len(curve.points) for _, curve in named]
    figures = {
        "points": report.points,
        "control_points": counts,
        "total": sum(counts),
        "within_share": report.within_share,
        "rms": report.rms,
        "p95": report.p95,
        "max": report.max,
        "noise": run.noise,
        "seconds": time.perf_counter() - started,
        "met": report.met,
        "corners": len(fits) - 1 + (1 if run.closed and len(fits) > 1 else 0),
        "inflections": sum(len(comb_of(curve).inflections) for _, curve in named),
        "segments": len(fits),
    }
    write_report(options.report, figures)
    words = words or (
        f"{sum(counts)} control points: {percent(tolerance.share)} of the points lie within"
        f" {report.at_share:.3f} mm."
    )
    print(" ".join(filter(None, [words, told_of_ends])))
    return exit_code(figures)


def _settings(options: argparse.Namespace) -> TraceSettings:
    degree, any_degree = degree_of(options.degree)
    controls = degree + 1
    if options.controls != "auto":
        try:
            controls = int(options.controls)
        except ValueError:
            raise FileError(
                f"--controls must be auto or a number, not {options.controls!r}"
            ) from None
    if not 0 <= options.corners < 180:
        raise FileError("--corners must be 0 to 180 degrees")
    corners = float(np.radians(options.corners))
    return TraceSettings(controls, degree, options.knots, corners, any_degree=any_degree)


def _closed(space: np.ndarray, wanted: str, parted: bool, name: str) -> tuple[bool, str]:
    """Tell whether the run closes, and say so where nobody asked; refuse to close an open one."""
    if wanted == "no":
        return False, ""
    if wanted == "auto":
        if closes_smoothly(space):
            return True, "Closed by itself: its ends meet smoothly."
        # A run that is parted at its corners may have one where it comes back.
        comes_back = is_closed(space)
        return comes_back and parted, SHARP_ENDS if comes_back and not parted else ""
    length = float(np.linalg.norm(np.diff(space, axis=0), axis=1).sum())
    gap = float(np.linalg.norm(space[0] - space[-1]))
    if gap > OPEN_SHARE * length:
        raise FileError(
            f"{name} does not close: its ends are {gap:.2f} mm apart on {length:.1f} mm of length"
        )
    return True, ""


def _view(space: np.ndarray) -> str:
    """Return the true view that shows most of the points."""
    least = int(np.argmin(np.ptp(space, axis=0)))
    return ("front", "side", "top")[least]
