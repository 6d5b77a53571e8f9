"""The command line: the window, and the same work without one."""

from __future__ import annotations

import argparse
import json
import os
import sys
import time
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.cli_points import add_points_command
from usual_clay.cli_scan import add_scan_commands
from usual_clay.cli_trace import add_trace_command
from usual_clay.core.check.deviation import Aim, ToleranceError, judge, percent
from usual_clay.core.fit.budget import Search, front_of, knee_of, to_tolerance
from usual_clay.core.fit.drape import KNOT_RULES, Drape, DrapeSettings, drape
from usual_clay.core.fit.fairness import fairness_of
from usual_clay.core.fit.frame import FrameError
from usual_clay.core.fit.sample import Sample
from usual_clay.core.fit.system import FitError
from usual_clay.core.points.ball import BallError
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import spread
from usual_clay.files.atomic import write_text
from usual_clay.files.errors import FileError
from usual_clay.files.exchange import write_exchange
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.units import MILLIMETRES

MET, BAD_INPUT, NOT_MET = 0, 2, 3


class InputError(ValueError):
    """Something on the command line that makes no sense."""


def main(arguments: list[str] | None = None) -> int:
    """Run a command and return its exit code."""
    options = _parser().parse_args(arguments)
    try:
        return int(options.command(options))
    except (FileError, FitError, FrameError, ToleranceError, BallError, InputError) as error:
        print(f"usual-clay: {error}", file=sys.stderr)
        return BAD_INPUT


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="usual-clay", description="Lean NURBS from pictures, points and scans."
    )
    parser.set_defaults(command=_app, file=None)
    commands = parser.add_subparsers(title="commands")
    app = commands.add_parser("app", help="open the window, empty or with a job or scan")
    app.add_argument("file", nargs="?", type=Path)
    app.set_defaults(command=_app)
    demo = commands.add_parser("demo", help="open the window with the demo job")
    demo.set_defaults(command=_demo)
    shots = commands.add_parser("shots", help="write pictures of the main views")
    shots.add_argument("folder", nargs="?", type=Path, default=Path("docs/screenshots"))
    shots.set_defaults(command=_shots)
    fit = commands.add_parser("fit", help="fit a surface to a scan without a window")
    _add_fit_options(fit)
    add_points_command(commands)
    add_scan_commands(commands)
    add_trace_command(commands)
    return parser


def _add_fit_options(fit: argparse.ArgumentParser) -> None:
    fit.add_argument("scan", type=Path, help="STL, PLY or OBJ")
    fit.add_argument("--tolerance", type=float, required=True, metavar="MM")
    fit.add_argument("--share", type=float, default=0.95, help="of the points; default 0.95")
    fit.add_argument("--controls", default="auto", metavar="auto|NUxNV")
    fit.add_argument("--knots", choices=list(KNOT_RULES), default="even")
    fit.add_argument("--smooth", type=float, default=0.2, metavar="S", help="0 to 1; default 0.2")
    fit.add_argument(
        "--reach", type=float, default=40.0, metavar="P",
        help="per cent that the surface runs past its region; default 40",
    )  # fmt: skip
    fit.add_argument(
        "--region", default="all", metavar='all|"x,y,z,spread"',
        help="a point in mm near the scan, and how far to spread from it, 0 to 1",
    )  # fmt: skip
    fit.add_argument("--unit", choices=list(MILLIMETRES), default="mm", help="of the scan's file")
    fit.add_argument("--limit", type=int, default=50, help="most control points along u or v")
    fit.add_argument("--out", type=Path, required=True, help="STEP or IGES file to write")
    fit.add_argument(
        "--symmetric", choices=["x", "y", "z"], default="", metavar="PLANE",
        help="axis of the mirror plane through the origin: x, y or z",
    )  # fmt: skip
    fit.add_argument("--report", type=Path, help="JSON file to write the figures to")
    fit.add_argument(
        "--front", type=Path, metavar="OUT.csv",
        help="CSV of the best deviation for each number of control points",
    )  # fmt: skip
    fit.set_defaults(command=_fit)


def _fit(options: argparse.Namespace) -> int:
    started = time.perf_counter()
    aim = Aim(options.tolerance, options.share)
    counts = _counts(options.controls)
    settings = DrapeSettings(
        smoothness=options.smooth,
        reach=options.reach / 100,
        knots=options.knots,
        symmetric=options.symmetric,
    )
    mesh = read_mesh(options.scan, options.unit)
    chosen = _region(options.region, mesh)
    sample = Sample(mesh.vertices[chosen], mesh.vertex_normals[chosen])
    words = ""
    fitted: Drape
    if counts is None:
        found: Search = to_tolerance(sample, settings, aim, options.limit)
        fitted, words = found.drape, found.words
        if options.front is not None:
            _write_front(options.front, found, aim, sample.noise)
    elif options.front is not None:
        raise InputError("--front needs --controls auto: the search is what finds it")
    else:
        fitted = drape(sample, settings.sized(*counts))
    report = judge(fitted.feet.signed, aim)
    write_exchange(options.out, [(options.scan.stem, fitted.surface)])
    nu, nv = fitted.surface.counts
    figures: dict[str, Any] = {
        "points": report.points,
        "control_points": [nu, nv],
        "total": nu * nv,
        "within_share": report.within_share,
        "rms": report.rms,
        "p95": report.p95,
        "max": report.max,
        "noise": sample.noise,
        "knots": {"u": fitted.surface.knots_u.tolist(), "v": fitted.surface.knots_v.tolist()},
        "method": f"least squares, {options.knots} knots, foot points corrected",
        "fairness": asdict(fairness_of(sample, settings.sized(nu, nv), fitted, aim)),
        "seconds": time.perf_counter() - started,
        "met": report.met,
    }
    if options.report is not None:
        write_text(options.report, json.dumps(figures, indent=2) + "\n")
    print(
        words
        or f"{nu} × {nv} = {nu * nv} control points: {percent(aim.share)} of the points lie within"
        f" {report.at_share:.3f} mm."
    )
    return MET if report.met else NOT_MET


def _write_front(path: Path, found: Search, aim: Aim, noise: float) -> None:
    """Write the trade-off front, with the noise floor and the knee marked."""
    front = front_of(found.candidates, aim.share)
    knee = knee_of(front, aim.share)
    lines = ["control points,nu,nv,deviation [mm],knee,below noise"]
    for candidate in front:
        deviation = candidate.deviation(aim.share)
        marks = int(candidate is knee), int(deviation < aim.noise_floor(noise))
        lines.append(
            f"{candidate.total},{candidate.nu},{candidate.nv},{deviation:.6f},{marks[0]},{marks[1]}"
        )
    write_text(path, "\n".join(lines) + "\n")


def _counts(told: str) -> tuple[int, int] | None:
    if told == "auto":
        return None
    try:
        nu, nv = (int(part) for part in told.lower().replace("×", "x").split("x"))
    except ValueError:
        raise InputError(f"--controls must be auto or like 12x8, not {told!r}") from None
    return nu, nv


def _region(told: str, mesh: TriangleMesh) -> np.ndarray:
    used = np.zeros(len(mesh.vertices), dtype=bool)
    used[mesh.triangles] = True
    if told == "all":
        return np.flatnonzero(used)
    try:
        x, y, z, amount = (float(part) for part in told.split(","))
    except ValueError:
        raise InputError(f'--region must be all or like "12,0,30,0.4", not {told!r}') from None
    if not (np.isfinite([x, y, z]).all() and 0 <= amount <= 1):
        raise InputError("--region needs finite x, y, z and a spread of 0 to 1")
    distance = np.linalg.norm(mesh.vertices - [x, y, z], axis=1)
    seed = int(np.argmin(np.where(used, distance, np.inf)))
    return np.flatnonzero(spread(mesh, seed, amount) & used)


def _has_display() -> bool:
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    return bool(platform or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def _app(options: argparse.Namespace) -> int:
    if not _has_display():
        print(
            "usual-clay: there is no display to open a window on. Set DISPLAY, or write pictures"
            " of the main views with: ./run shots DIR",
            file=sys.stderr,
        )
        return BAD_INPUT
    from usual_clay.bench.start import run_window

    return run_window(options.file)


def _demo(options: argparse.Namespace) -> int:
    if _has_display():
        from usual_clay.demo.make import demo_folder, demo_job_file

        if not demo_folder().exists():
            print("Making the demo job, once ...", file=sys.stderr)
        options.file = demo_job_file()
    return _app(options)


def _shots(options: argparse.Namespace) -> int:
    from usual_clay.bench.shots import write_shots

    write_shots(options.folder)
    return MET
