"""`run fit`: a surface fitted to a scan or to points without a window, or inside four borders."""

from __future__ import annotations

import argparse
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.cli.figures import exit_code, figures_of, in_words, write_report
from usual_clay.cli.make import made_or_found
from usual_clay.cli.settings import DEGREE_HELP, InputError, decimal, degree_of
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.parameterize.frame import SIDES
from usual_clay.core.fit.parameterize.region import KNOT_RULES, CastSettings
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.fit.search.candidates import Candidate, knee_of, pareto_front
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import spread
from usual_clay.files.atomic import write_text
from usual_clay.files.deliver import ready_to_write, write_item
from usual_clay.files.sources import take_for, with_region
from usual_clay.files.units import MILLIMETRES
from usual_clay.job.items import Curve, PointList, Scan, Surface
from usual_clay.job.job import Job


def add_command(commands: Any) -> None:
    """Add the command to a parser."""
    fit = commands.add_parser("fit", help="fit a surface to a scan or to points without a window")
    _add_fit_options(fit)


def _add_fit_options(fit: argparse.ArgumentParser) -> None:
    fit.add_argument("scan", type=Path, help="STL, PLY or OBJ; or a point list")
    fit.add_argument("--tolerance", type=decimal, required=True, metavar="MM")
    fit.add_argument("--share", type=decimal, default=0.95, help="of the points; default 0.95")
    fit.add_argument("--controls", default="auto", metavar="auto|NUxNV")
    fit.add_argument("--knots", choices=list(KNOT_RULES), default="even")
    fit.add_argument("--degree", default="3", metavar="N|best", help=DEGREE_HELP)
    fit.add_argument("--smooth", type=decimal, default=0.3, metavar="S", help="0 to 1; default 0.3")
    fit.add_argument(
        "--reach",
        type=decimal,
        default=40.0,
        metavar="P",
        help="per cent that the surface runs past its region; default 40",
    )
    fit.add_argument(
        "--sides",
        choices=list(SIDES),
        default="best",
        help="whether the long sides follow the region where it tapers, or the surface runs along"
        " the region's length where that winds; default the best of these",
    )
    fit.add_argument(
        "--region",
        default="all",
        metavar='all|"x,y,z,spread"',
        help="a point in mm near the scan, and how far to spread from it, 0 to 1",
    )
    fit.add_argument("--unit", choices=list(MILLIMETRES), default="mm", help="of the scan's file")
    fit.add_argument("--limit", type=int, default=50, help="most control points along u or v")
    fit.add_argument("--out", type=Path, required=True, help="STEP or IGES file to write")
    fit.add_argument(
        "--symmetric",
        choices=["x", "y", "z"],
        default="",
        metavar="PLANE",
        help="axis of the mirror plane through the origin: x, y or z",
    )
    fit.add_argument(
        "--pull",
        choices=["x", "y", "z"],
        default="",
        help="an axis along which the surface can be drawn off a mould",
    )
    fit.add_argument(
        "--closed",
        choices=["u", "v"],
        default="",
        help="the surface runs once round in that direction, without a seam",
    )
    fit.add_argument(
        "--borders",
        type=Path,
        metavar="FILE",
        help="STEP, IGES or SVG with four curves: a patch inside them instead of a region",
    )
    fit.add_argument("--report", type=Path, help="JSON file to write the figures to")
    fit.add_argument(
        "--front",
        type=Path,
        metavar="OUT.csv",
        help="CSV of the best deviation for each number of control points",
    )
    fit.set_defaults(command=_fit)


def _fit(options: argparse.Namespace) -> int:
    started = time.perf_counter()
    ready_to_write(options.out)
    counts, degree = _counts(options.controls), degree_of(options.degree)
    if options.front is not None and counts is not None:
        raise InputError("--front needs --controls auto: the search is what finds it")
    job = Job(tolerance=Tolerance(options.tolerance, options.share))
    job, (measured,) = take_for(job, (Scan, PointList), options.scan, options.unit)
    scan = job.get(measured, Scan)
    if options.borders is not None:
        if options.closed:
            raise InputError("a patch inside four borders does not close: leave --closed out")
        if scan is None:
            raise InputError("a patch inside four borders takes a scan: leave --borders out")
        job, borders = take_for(job, (Curve,), options.borders, options.unit)
        if len(borders) != 4:
            raise InputError(
                f"{options.borders.name} holds {len(borders)} curves: a patch takes four"
            )
        kind, roles = "patch", {"scan": [measured], "borders": borders}
        settings: Any = PatchSettings(
            smoothness=options.smooth, knots=options.knots, symmetric=options.symmetric
        )
        method = f"four-corner patch with exact borders, {options.knots} knots"
    else:
        region = [measured]
        if scan is not None:
            job, region = with_region(job, scan, _region(options.region, scan.mesh))
        elif options.region != "all":
            raise InputError("--region spreads over a scan: of a point list all points are taken")
        kind, roles = "cast", {"measured": region}
        settings = _cast_settings(options, *degree)
        slid = f"heights along {options.pull}" if options.pull else "points slid to their feet"
        method = f"least squares, {options.knots} knots, {slid}"
    if counts is not None:
        settings = settings.sized(*counts)
    job, item, given, said, _ = made_or_found(
        job, kind, settings, roles, options.scan.stem, counts is None, options.limit
    )
    surface = job.the(item.id, Surface)
    figures = figures_of(job, surface, given, options.report is not None)
    if figures["closed"]:
        method += f", closed in {figures['closed']}"
    figures |= {"method": method, "seconds": time.perf_counter() - started}
    if options.front is not None:
        _write_front(options.front, surface.candidates, job.tolerance, figures["noise"])
    lost = write_item(options.out, surface, job.tolerance.deviation / 5)
    write_report(options.report, figures)
    print(" ".join(filter(None, [in_words(job, surface, figures, said), lost])))
    return exit_code(figures)


def _cast_settings(options: argparse.Namespace, degree: int, any_degree: bool) -> CastSettings:
    return CastSettings(
        smoothness=options.smooth,
        reach=options.reach / 100,
        knots=options.knots,
        sides=options.sides,
        symmetric=options.symmetric,
        degree=degree,
        any_degree=any_degree,
        closed=options.closed,
        pull=options.pull,
    )


def _write_front(
    path: Path, candidates: Sequence[Candidate], tolerance: Tolerance, noise: float
) -> None:
    """Write the trade-off front, with the noise floor and the knee marked."""
    front = pareto_front(candidates, tolerance.share)
    knee = knee_of(front, tolerance.share)
    lines = ["control points,nu,nv,deviation [mm],knee,below noise"]
    for candidate in front:
        deviation = candidate.deviation(tolerance.share)
        marks = int(candidate is knee), int(deviation < tolerance.noise_floor(noise))
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
        return used
    try:
        x, y, z, amount = (float(part) for part in told.split(","))
    except ValueError:
        raise InputError(f'--region must be all or like "12,0,30,0.4", not {told!r}') from None
    if not (np.isfinite([x, y, z]).all() and 0 <= amount <= 1):
        raise InputError("--region needs finite x, y, z and a spread of 0 to 1")
    distance = np.linalg.norm(mesh.vertices - [x, y, z], axis=1)
    seed = int(np.argmin(np.where(used, distance, np.inf)))
    return np.asarray(spread(mesh, seed, amount) & used)
