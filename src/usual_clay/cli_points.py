"""``usual-clay points``: a point list read, cleaned, offset for a probe's ball, and written."""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.points.ball import offset_for_ball
from usual_clay.core.points.course import suggest_slips, usual_slip_limit
from usual_clay.files.errors import FileError
from usual_clay.files.points_file import PointsRead, read_points, write_points
from usual_clay.files.units import MILLIMETRES

# Axes across and up in each plane, and the axis square to it.
PLANES = {"xy": (0, 1, 2), "yz": (1, 2, 0), "zx": (2, 0, 1)}
# Of rows that were skipped, so many are named.
NAMED_ROWS = 12
# A run whose ends are nearer than so many of its steps is closed.
CLOSING_STEPS = 3.0


def add_points_command(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the command to the parser."""
    points = commands.add_parser("points", help="read, clean and write a point list")
    points.add_argument("file", type=Path, help="CSV, TSV, TXT, XYZ, XLSX or ODS")
    points.add_argument("--unit", choices=list(MILLIMETRES), help="where the file does not say")
    points.add_argument("--plane", choices=list(PLANES), help="take the points onto this plane")
    points.add_argument("--ball", type=float, metavar="DIAMETER", help="of the probe, in mm")
    points.add_argument("--side", choices=["in", "out", "left", "right"], help="to the surface")
    points.add_argument("--drop-slips", action="store_true", help="leave bad probe points out")
    points.add_argument("--out", type=Path, required=True, help="CSV file to write, x,y,z in mm")
    points.set_defaults(command=run_points)


@dataclass(frozen=True, eq=False)
class Laid:
    """A run in space with the plane it is worked on in.

    Attributes
    ----------
    space : (n, 3) array
    axes : (int, int, int)
        Across, up, and square to the plane.
    words : str
        What was dropped to lay it there.
    """

    space: Floats
    axes: tuple[int, int, int]
    words: str = ""

    @property
    def flat(self) -> Floats:
        return self.space[:, self.axes[:2]]


def run_points(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    if (options.ball is None) != (options.side is None):
        raise FileError("--ball and --side belong together: give both or neither")
    if options.out.suffix.lower() != ".csv":
        raise FileError(f"{options.out.name}: points are written as .csv")
    read = read_points(options.file, options.unit)
    laid = lay(read.points, options.plane)
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


def lay(points: Floats, plane: str | None) -> Laid:
    """Lay points into space, or onto a plane, and say what that drops."""
    if points.shape[1] == 2:
        axes = PLANES[plane or "xy"]
        space = np.zeros((len(points), 3))
        space[:, axes[:2]] = points
        return Laid(space, axes)
    if plane is None:
        # The plane is only needed for a ball: the one that the run leaves least.
        least = int(np.argmin(np.ptp(points, axis=0)))
        return Laid(points, next(axes for axes in PLANES.values() if axes[2] == least))
    axes = PLANES[plane]
    across = "xyz"[axes[2]]
    span = float(np.ptp(points[:, axes[2]]))
    space = points.copy()
    space[:, axes[2]] = 0.0
    return Laid(space, axes, f"{across} spans {span:.3g} mm and is dropped")


def is_closed(points: Floats) -> bool:
    """Tell whether a run comes back to where it began."""
    if len(points) < 8:
        return False
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    gap = float(np.linalg.norm(points[0] - points[-1]))
    return gap <= CLOSING_STEPS * float(np.median(steps))


def _skipped(read: PointsRead) -> str:
    if not read.bad:
        return "no rows skipped"
    named = ", ".join(str(row.number) for row in read.bad[:NAMED_ROWS])
    more = " ..." if len(read.bad) > NAMED_ROWS else ""
    return f"{len(read.bad)} rows skipped ({named}{more}; {read.bad[0].reason})"
