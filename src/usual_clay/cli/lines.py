"""``usual-clay lines``: a lines plan of a job as a flat sheet at true scale."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from usual_clay.cli.codes import MET
from usual_clay.cli.settings import InputError
from usual_clay.core.check.lines_plan import LinesSettings, sheet_of
from usual_clay.core.numbers import NumberError, read_number, read_numbers
from usual_clay.files.job_file import read_job
from usual_clay.files.sheet_file import write_sheet
from usual_clay.job.drawing import plan_of

ABOUT = """\
All visible surfaces and bodies are cut square to each axis: sections (x), lengthwise cuts (y) and
waterlines (z). A number is how many, evenly; several, parted by semicolons, are places in mm.
"""


def add_command(commands: Any) -> None:
    """Add the command to a parser."""
    one = commands.add_parser(
        "lines",
        help="a lines plan as a flat sheet: SVG, DXF or PDF",
        description=ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    one.add_argument("file", type=Path, help="a job")
    one.add_argument("--out", type=Path, required=True, metavar="OUT", help=".svg, .dxf or .pdf")
    for axis, count in zip("xyz", ("9", "3", "5"), strict=True):
        one.add_argument(f"--{axis}", default=count, metavar="N", help=f"along {axis} ({count})")
    one.set_defaults(command=run_lines)


def run_lines(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    job = read_job(options.file)
    plan = plan_of(job, _settings(options))
    sheet = sheet_of(plan)
    if options.out.suffix.lower() == ".pdf":
        from usual_clay.bench.paper import print_sheet

        print_sheet(options.out, sheet, job.name)
    else:
        write_sheet(options.out, sheet, job.name)
    width, height = sheet.size
    many = len(plan.stations)
    print(f"{options.out.name}: {many} stations, {width:.1f} x {height:.1f} mm at true scale.")
    return MET


def _settings(options: argparse.Namespace) -> LinesSettings:
    told: dict[str, Any] = {}
    for axis in "xyz":
        words = str(getattr(options, axis))
        try:
            if ";" in words:
                told[f"at_{axis}"] = tuple(read_numbers(words, "mm"))
            else:
                told[axis] = round(read_number(words))
        except NumberError as error:
            raise InputError(f"--{axis}: {error}") from None
    return LinesSettings(**told)
