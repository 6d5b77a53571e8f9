"""``usual-clay report``: a paper of a job, without a window or a display."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from usual_clay.cli.codes import MET
from usual_clay.files.job_file import read_job


def add_command(commands: Any) -> None:
    """Add the command to a parser."""
    one = commands.add_parser("report", help="a paper of a job: PDF, HTML or JSON")
    one.add_argument("file", type=Path, help="a job")
    one.add_argument("--out", type=Path, required=True, metavar="OUT", help=".pdf, .html or .json")
    one.add_argument("--paper", choices=["A4", "Letter"], default="A4")
    one.set_defaults(command=run_report)


def run_report(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    from usual_clay.bench.paper import write_report_file

    told = write_report_file(options.out, read_job(options.file), options.paper)
    many = len(told["items"]) + len(told["bodies"])
    print(f"{options.out.name}: {many} things, {len(told['joints'])} joints.")
    return MET
