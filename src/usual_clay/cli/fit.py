"""`run fit`: a surface fitted to a scan without a window, by a region or inside four borders."""

from __future__ import annotations

import argparse
import json
import time
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.check.deviation import Tolerance, judge, percent
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.parameterize.region import (
    KNOT_RULES,
    CastSettings,
    Parameterization,
    Sizes,
    parameterize,
)
from usual_clay.core.fit.patch.budget import patch_to_tolerance
from usual_clay.core.fit.patch.patch import PatchSettings, lay_out, patch
from usual_clay.core.fit.search.budget import Search, to_tolerance
from usual_clay.core.fit.search.candidates import knee_of, pareto_front
from usual_clay.core.fit.search.fairness import fairness_of
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import spread, triangles_within
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.atomic import write_text
from usual_clay.files.exchange import write_exchange
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.take_in import read_splines
from usual_clay.files.units import MILLIMETRES

MET, BAD_INPUT, NOT_MET = 0, 2, 3


class InputError(ValueError):
    """Something on the command line that makes no sense."""


def add_fit_command(commands: Any) -> None:
    """Add the command to a parser."""
    fit = commands.add_parser("fit", help="fit a surface to a scan without a window")
    _add_fit_options(fit)


def _add_fit_options(fit: argparse.ArgumentParser) -> None:
    fit.add_argument("scan", type=Path, help="STL, PLY or OBJ")
    fit.add_argument("--tolerance", type=float, required=True, metavar="MM")
    fit.add_argument("--share", type=float, default=0.95, help="of the points; default 0.95")
    fit.add_argument("--controls", default="auto", metavar="auto|NUxNV")
    fit.add_argument("--knots", choices=list(KNOT_RULES), default="even")
    fit.add_argument("--smooth", type=float, default=0.3, metavar="S", help="0 to 1; default 0.3")
    fit.add_argument(
        "--reach",
        type=float,
        default=40.0,
        metavar="P",
        help="per cent that the surface runs past its region; default 40",
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


@dataclass(frozen=True)
class _Fitted:
    """What a fit came to, and what judges it."""

    cast: Cast
    sample: Sample
    base: Parameterization
    settings: Sizes
    method: str
    search: Search | None = None


def _fit(options: argparse.Namespace) -> int:
    started = time.perf_counter()
    tolerance = Tolerance(options.tolerance, options.share)
    counts = _counts(options.controls)
    if options.front is not None and counts is not None:
        raise InputError("--front needs --controls auto: the search is what finds it")
    mesh = read_mesh(options.scan, options.unit)
    made = (
        _patched(options, mesh, tolerance, counts)
        if options.borders is not None
        else _cast_region(options, mesh, tolerance, counts)
    )
    fitted, noise = made.cast, made.sample.noise
    if options.front is not None and made.search is not None:
        _write_front(options.front, made.search, tolerance, noise)
    report = judge(fitted.feet.signed, tolerance)
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
        "noise": noise,
        "knots": {"u": fitted.surface.knots_u.tolist(), "v": fitted.surface.knots_v.tolist()},
        "method": made.method,
        "fairness": asdict(
            fairness_of(
                made.sample, made.base, made.settings, fitted.surface, fitted.feet.signed, tolerance
            )
        ),
        "seconds": time.perf_counter() - started,
        "met": report.met,
    }
    if options.report is not None:
        write_text(options.report, json.dumps(figures, indent=2) + "\n")
    print(
        made.search.words
        if made.search is not None
        else f"{nu} × {nv} = {nu * nv} control points: {percent(tolerance.share)} of the points lie"
        f" within {report.at_share:.3f} mm."
    )
    return MET if report.met else NOT_MET


def _cast_region(
    options: argparse.Namespace,
    mesh: TriangleMesh,
    tolerance: Tolerance,
    counts: tuple[int, int] | None,
) -> _Fitted:
    """Cast a surface over a region of the scan."""
    settings = CastSettings(
        smoothness=options.smooth,
        reach=options.reach / 100,
        knots=options.knots,
        symmetric=options.symmetric,
        closed=options.closed,
        pull=options.pull,
    )
    chosen = _region(options.region, mesh)
    sample = Sample(
        mesh.vertices[chosen], mesh.vertex_normals[chosen], triangles_within(mesh, chosen)
    )
    search = None
    if counts is None:
        search = to_tolerance(sample, settings, tolerance, options.limit)
        made = search.cast
    else:
        made = cast(sample, settings.sized(*counts))
    base = parameterize(
        sample, CastSettings(reach=settings.reach, closed=settings.closed, pull=settings.pull)
    )
    way = f", closed in {base.closed}" if base.closed else ""
    slid = f"heights along {settings.pull}" if settings.pull else "points slid to their feet"
    method = f"least squares, {options.knots} knots, {slid}{way}"
    return _Fitted(made, sample, base, settings, method, search)


def _patched(
    options: argparse.Namespace,
    mesh: TriangleMesh,
    tolerance: Tolerance,
    counts: tuple[int, int] | None,
) -> _Fitted:
    """Fit a patch inside the four curves of a file."""
    if options.closed:
        raise InputError("a patch inside four borders does not close: leave --closed out")
    curves = [part for _, part in read_splines(options.borders) if isinstance(part, BSplineCurve)]
    if len(curves) != 4:
        raise InputError(f"{options.borders.name} holds {len(curves)} curves: a patch takes four")
    settings = PatchSettings(
        smoothness=options.smooth, knots=options.knots, symmetric=options.symmetric
    )
    alone = [None] * 4
    search = None
    if counts is None:
        search = patch_to_tolerance(mesh, curves, alone, settings, tolerance, options.limit)
        made = search.cast
    else:
        made = patch(mesh, curves, alone, settings.sized(*counts))
    ground = lay_out(mesh, curves, alone, settings)
    method = f"four-corner patch with exact borders, {options.knots} knots"
    return _Fitted(made, ground.sample, ground.base, settings, method, search)


def _write_front(path: Path, found: Search, tolerance: Tolerance, noise: float) -> None:
    """Write the trade-off front, with the noise floor and the knee marked."""
    front = pareto_front(found.candidates, tolerance.share)
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
