"""Deliver: files for others."""

from __future__ import annotations

from functools import partial

from usual_clay.bench.bench import Bench
from usual_clay.bench.command import Command
from usual_clay.bench.commands.gather import ask
from usual_clay.bench.paper import png_of
from usual_clay.files.deliver import FORMATS
from usual_clay.job.items import Body, Curve, Item, PointList, Scan, Surface


def hand_over(suffix: str, bench: Bench) -> None:
    ask("deliver", bench)
    bench.cards.get("deliver").offer(suffix)


def again(bench: Bench) -> None:
    bench.documents.deliver_again()


def nothing_again(bench: Bench) -> str:
    return "" if bench.documents.last is not None else "Nothing was handed over yet."


def report(bench: Bench) -> None:
    """Write a report, with the stage as it is and the ledger."""
    stage = png_of(bench.stage.large.view.image())
    bench.documents.report([("The stage as it was", stage)])


def nothing_to_write(bench: Bench) -> str:
    there = any(bench.any_of(kind) for kind in (Surface, Curve, Body, Scan, PointList))
    return "" if there else "There is nothing to write yet."


def _write(suffix: str, icon: str, also: str, fits: tuple[type[Item], ...]) -> Command:
    title = FORMATS[suffix].title
    return Command(title.lower(), f"Hand over as {title}", partial(hand_over, suffix),
                   f"write export save {also}", "", "Deliver", icon, title,
                   why_not=nothing_to_write, fits=fits)  # fmt: skip


EXACT = (Curve, Surface, Body)
TRIANGLES = (Surface, Body, Scan)
COMMANDS = (
    Command("deliver", "Hand over: files for others", partial(hand_over, ""),
            "export write save deliver file", "Ctrl+E", "Deliver", "share", "Hand over",
            why_not=nothing_to_write, fits=(*EXACT, Scan, PointList)),
    Command("deliver again", "Hand over again, as it is now", again, "export repeat write more",
            "Ctrl+Shift+E", "Deliver", "arrow-clockwise", "Again", why_not=nothing_again),
    _write(".step", "export", "exchange cad", EXACT),
    _write(".igs", "export", "exchange cad igs", EXACT),
    _write(".stl", "triangle", "mesh print triangles", TRIANGLES),
    _write(".3mf", "triangle", "mesh print triangles", TRIANGLES),
    _write(".svg", "export", "drawing curves flat true scale", (Curve,)),
    Command("report", "Report: a paper of the job", report, "pdf print paper summary document",
            "", "Deliver", "file-text", "Report", why_not=nothing_to_write),
)  # fmt: skip
