"""Deliver: files for others."""

from __future__ import annotations

from functools import partial

from usual_clay.bench.bench import Bench
from usual_clay.bench.command import Command
from usual_clay.bench.paper import png_of
from usual_clay.job.items import Body, Curve, Surface


def write(suffix: str, bench: Bench) -> None:
    bench.documents.deliver(suffix)


def report(bench: Bench) -> None:
    """Write a report, with the stage as it is and the ledger."""
    stage = png_of(bench.stage.large.view.image())
    bench.documents.report([("The stage as it was", stage)])


def nothing_to_write(bench: Bench) -> str:
    there = any(bench.any_of(kind) for kind in (Surface, Curve, Body))
    return "" if there else "There is nothing to write yet."


def _write(name: str, words: str, suffix: str, icon: str, also: str, key: str = "",
           fits: tuple[type[Curve] | type[Surface] | type[Body], ...] = ()) -> Command:  # fmt: skip
    return Command(name, words, partial(write, suffix), f"export save {also}", key, "Deliver",
                   icon, name.upper(), why_not=nothing_to_write, fits=fits)  # fmt: skip


EXACT = (Curve, Surface, Body)
COMMANDS = (
    _write("step", "Write STEP", ".step", "export", "exchange cad", "Ctrl+E", EXACT),
    _write("iges", "Write IGES", ".igs", "export", "exchange cad", fits=EXACT),
    _write("stl", "Write STL triangles", ".stl", "triangle", "mesh print", fits=(Surface, Body)),
    _write("obj", "Write OBJ triangles", ".obj", "triangle", "mesh"),
    _write("3mf", "Write 3MF triangles", ".3mf", "triangle", "mesh print", fits=(Body,)),
    _write("svg", "Write curves as SVG, true scale", ".svg", "export", "drawing", fits=(Curve,)),
    Command("report", "Report: a paper of the job", report, "pdf print paper summary document",
            "", "Deliver", "file-text", "Report", why_not=nothing_to_write),
    _write("csv", "Write points along curves as CSV", ".csv", "dots-nine", "coordinates"),
)  # fmt: skip
