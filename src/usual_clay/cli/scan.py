"""``usual-clay slice`` and ``usual-clay scan``: sections and health of a scan."""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.scan.health import Health, examine
from usual_clay.core.scan.mend import MendError, mend, mends_from_words
from usual_clay.core.scan.section import sections, stations_along
from usual_clay.core.scan.symmetry import mirror_plane
from usual_clay.files.atomic import write_text
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import read_mesh, write_mesh
from usual_clay.files.points_file import write_points
from usual_clay.files.units import MILLIMETRES

AXES = "xyz"


def add_command(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add both commands to the parser."""
    cut = commands.add_parser("slice", help="cut a scan into section polylines")
    cut.add_argument("scan", type=Path, help="STL, PLY or OBJ")
    cut.add_argument("--axis", choices=list(AXES), required=True, help="square to the planes")
    cut.add_argument("--count", type=int, required=True, metavar="N", help="planes, 1 to 10000")
    cut.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder to write to")
    scan = commands.add_parser("scan", help="examine a scan, and mend it")
    scan.add_argument("scan", type=Path, help="STL, PLY or OBJ")
    scan.add_argument("--mend", metavar="islands,spikes,holes:5", help="what to mend, in order")
    scan.add_argument("--out", type=Path, help="PLY or STL file for the mended scan")
    scan.add_argument("--report", type=Path, required=True, help="JSON file to write")
    for command, run in ((cut, run_slice), (scan, run_scan)):
        command.add_argument("--unit", choices=list(MILLIMETRES), default="mm")
        command.set_defaults(command=run)


def run_slice(options: argparse.Namespace) -> int:
    """Write one CSV for each section polyline, and what they are."""
    if not 1 <= options.count <= 10_000:
        raise FileError(f"--count must be 1 to 10000, not {options.count}")
    mesh = read_mesh(options.scan, options.unit)
    axis = AXES.index(options.axis)
    try:
        options.out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"{options.out} cannot be made: {error.strerror}") from error
    told = []
    for number, station in enumerate(stations_along(mesh, axis, options.count), start=1):
        for part, section in enumerate(sections(mesh, np.eye(3)[axis] * station, np.eye(3)[axis])):
            name = f"station-{number:03d}-part-{part + 1}.csv"
            write_points(options.out / name, section.points)
            told.append(
                {
                    "file": name,
                    "station": float(station),
                    "points": len(section.points),
                    "closed": section.closed,
                    "length": section.length,
                }
            )
    write_text(options.out / "sections.json", json.dumps(told, indent=1) + "\n")
    print(f"{len(told)} polylines at {options.count} stations along {options.axis}.")
    return 0


def run_scan(options: argparse.Namespace) -> int:
    """Examine a scan, mend it where asked, and report on what it is then."""
    started = time.perf_counter()
    if (options.mend is None) != (options.out is None):
        raise FileError("--mend and --out belong together: give both or neither")
    try:
        wanted = mends_from_words(options.mend or "")
        mesh = read_mesh(options.scan, options.unit)
        words = []
        for kind, size in wanted:
            mended = mend(mesh, kind, size)
            mesh = mended.mesh
            words.append(mended.words)
    except MendError as error:
        raise FileError(str(error)) from error
    if options.out is not None:
        if options.out.suffix.lower() not in (".ply", ".stl"):
            raise FileError(f"{options.out.name}: scans are written as .ply or .stl")
        write_mesh(options.out, mesh.vertices, mesh.triangles)
    found = examine(mesh)
    figures = _figures(found)
    plane = mirror_plane(mesh)
    figures["symmetry"] = {
        "plane": {"normal": plane.normal.tolist(), "offset": plane.offset},
        "asymmetry": plane.asymmetry,
    }
    figures["seconds"] = time.perf_counter() - started
    write_text(options.report, json.dumps(figures, indent=2) + "\n")
    words.append(
        f"{found.triangles} triangles, {found.holes} holes, {found.islands} islands,"
        f" {found.spikes} spikes, noise {found.noise:.3f} mm"
    )
    print("; ".join(words) + ".")
    return 0


def _figures(found: Health) -> dict[str, Any]:
    return {
        "triangles": found.triangles,
        "holes": found.holes,
        "largest_hole": found.largest_hole,
        "islands": found.islands,
        "spikes": found.spikes,
        "duplicated": found.duplicated,
        "flipped": found.flipped,
        "edge_length": found.edge_length,
        "noise": found.noise,
        "bounds": found.box.tolist(),
    }
