"""Check: how far it is off, and how it looks."""

from __future__ import annotations

from usual_clay.bench.bench import Bench
from usual_clay.bench.command import Command
from usual_clay.bench.commands.gather import ask
from usual_clay.bench.commands.surface import needs_surface
from usual_clay.bench.sheet import HINT


def sections(bench: Bench) -> None:
    """Cut the chosen surface and its scan, side by side."""
    ask("sections", bench)
    bench.cards.get("sections").offer()
    bench.cards.refresh()


def plain_form(bench: Bench) -> None:
    """Show surfaces as plain clay, without net, colours or scan; and back again."""
    shown = bench.stage.scene.shown
    plain = shown.scan or shown.net or shown.colours
    for name in ("scan", "net", "colours"):
        bench.stage.switch(name, not plain)
    bench.stage.switch("surfaces", True)


def on_the_scan(bench: Bench) -> None:
    """Let the scan wear the colours of deviation instead of the surface; and back again."""
    bench.stage.switch("on_scan")
    if bench.stage.scene.shown.on_scan:
        bench.stage.switch("scan", True)
        bench.stage.switch("colours", True)


COMMANDS = (
    Command("sections", "Sections through surface and scan, side by side", sections,
            "cuts slices stations cross", "", "Check", "stack", "Sections", hint=HINT,
            hand="sections", why_not=needs_surface),
    Command("deviation", "Deviation colours", lambda bench: bench.stage.switch("colours"),
            "heat map error difference colour", "4", "Check", "thermometer", "Deviation"),
    Command("deviation on the scan", "Deviation colours on the scan, not the surface", on_the_scan,
            "heat map error difference colour points", "", "Check", "thermometer", "On the scan"),
    Command("plain form", "Judge the plain form", plain_form, "clay shaded render", "5", "Check",
            "sun", "Form"),
)  # fmt: skip
