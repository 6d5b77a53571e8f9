"""``usual-clay points``: a point list read, cleaned, offset for a probe's ball, and written."""

from __future__ import annotations

import argparse
from pathlib import Path

from usual_clay.cli.settings import decimal
from usual_clay.core.points.ball import offset_for_ball
from usual_clay.core.points.course import suggest_slips, usual_slip_limit
from usual_clay.core.points.lay import PLANES, Laid, is_closed, lay
from usual_clay.files.errors import FileError
from usual_clay.files.points_file import PointsRead, read_points, write_points
from usual_clay.files.units import MILLIMETRES

# Of rows that were skipped, so many are named.
NAMED_ROWS = 12


def add_command(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the command to the parser."""
    points = commands.add_parser("points", help="read, clean and write a point list")
    points.add_argument("file", type=Path, help="CSV, TSV, TXT, XYZ, XLSX or ODS")
    points.add_argument("--unit", choices=list(MILLIMETRES), help="where the file does not say")
    points.add_argument("--plane", choices=list(PLANES), help="take the points onto this plane")
    points.add_argument("--ball", type=decimal, metavar="DIAMETER", help="of the probe, in mm")
    points.add_argument("--side", choices=["in", "out", "left", "right"], help="to the surface")
    points.add_argument("--drop-slips", action="store_true", help="leave bad probe points out")
    points.add_argument("--out", type=Path, required=True, help="CSV file to write, x,y,z in mm")
    points.set_defaults(command=run_points)


def run_points(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    if (options.ball is None) != (options.side is None):
        raise FileError("--ball and --side belong together: give both or neither")
    if options.out.suffix.lower() != ".csv":
        raise FileError(f"{options.out.name}: points are written as .csv")
    read = read_points(options.file, options.unit)
    laid = lay(read.points, options.plane, read.axes)
    told = [f"{len(read.points)} points read in {read.unit}", _skipped(read)]
    if laid.words:
        told.append(laid.words)
    if options.drop_slips:
        closed = is_closed(laid.space)
        slips = suggest_slips(laid.space, usual_slip_limit(laid.space, closed), closed)
        laid = Laid(laid.space[~slips], laid.axes)
        told.append(f"{slips.sum()} slips dropped")
    space = laid.space
    if options.ball is not None:
        moved = offset_for_ball(laid.flat, options.ball / 2, options.side, is_closed(laid.space))
        space = laid.space[moved.kept].copy()
        space[:, laid.axes[:2]] = moved.points
        told.append(f"moved {options.ball / 2:g} mm {options.side}")
        if moved.too_tight:
            told.append(f"{moved.too_tight} trimmed where the inside radius is too tight")
    write_points(options.out, space)
    print("; ".join(told) + ".")
    return 0


def _skipped(read: PointsRead) -> str:
    if not read.bad:
        return "no rows skipped"
    named = ", ".join(str(row.number) for row in read.bad[:NAMED_ROWS])
    more = " ..." if len(read.bad) > NAMED_ROWS else ""
    return f"{len(read.bad)} rows skipped ({named}{more}; {read.bad[0].reason})"
