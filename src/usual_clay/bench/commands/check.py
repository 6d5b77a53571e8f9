"""Check: how far it is off, and how it looks."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from usual_clay.bench.bench import Bench
from usual_clay.bench.command import Command
from usual_clay.bench.commands.gather import ask, take
from usual_clay.bench.commands.surface import needs_surface
from usual_clay.bench.commands.trace import task_command
from usual_clay.bench.gestures.move_lamp import HINT as LAMP_HINT
from usual_clay.bench.sheet import HINT
from usual_clay.job.items import Body, Surface


def sections(bench: Bench) -> None:
    """Cut the chosen surface and its scan, side by side."""
    ask("sections", bench)
    bench.cards.get("sections").offer()
    bench.cards.refresh()


def joints(bench: Bench) -> None:
    """Measure all joints of what is visible."""
    ask("joints", bench)
    bench.cards.get("joints").offer()


def spots(bench: Bench) -> None:
    """Judge all that is visible by a scan, and list where it is out of tolerance."""
    ask("spots", bench)
    bench.cards.get("spots").offer()


def lines(bench: Bench) -> None:
    """Cut all that is visible square to each axis."""
    ask("lines", bench)
    bench.cards.get("lines").offer()


def combs(bench: Bench) -> None:
    """Cut all that is visible, with combs."""
    ask("combs", bench)
    bench.cards.get("combs").offer()


def nothing_to_check(bench: Bench) -> str:
    there = bench.any_of(Surface) or bench.any_of(Body)
    return "" if there else "There is no surface and no body to check yet."


def judge_by(name: str, bench: Bench) -> None:
    """Colour surfaces by something else than their deviation; and back again."""
    stage = bench.stage
    on = stage.scene.shown.judging != name
    if bench.session.hand.tool == "lamp":
        bench.session.hand.take(None)
    stage.scene.sights.look_from(stage.large.view.camera)
    stage.scene.shown = replace(stage.scene.shown, judging=name if on else "")
    stage.scene.ready.emit()


def move_lamp(bench: Bench) -> None:
    """Take the lamp in hand, whose lines surfaces show; and put it down again."""
    if bench.stage.scene.shown.judging != "lamp":
        judge_by("lamp", bench)
    take("lamp", bench)


def plain_form(bench: Bench) -> None:
    """Show surfaces as plain clay, without net, colours, scan or what they mirror; and back
    again."""
    shown = bench.stage.scene.shown
    plain = bool(shown.scan or shown.net or shown.colours or shown.judging)
    if shown.judging:
        judge_by(shown.judging, bench)
    for name in ("scan", "net", "colours"):
        bench.stage.switch(name, not plain)
    bench.stage.switch("surfaces", True)


def on_the_scan(bench: Bench) -> None:
    """Let the scan wear the colours of deviation instead of the surface; and back again."""
    bench.stage.switch("on_scan")
    if bench.stage.scene.shown.on_scan:
        bench.stage.switch("scan", True)
        bench.stage.switch("colours", True)


# By what surfaces are judged: name, words, other words, key, icon, and a short name.
JUDGED = (
    ("stripes", "Stripes that surfaces mirror", "zebra reflection isophotes", "9", "list-dashes",
     "Stripes"),
    ("room", "A room that surfaces mirror", "environment reflection studio shine chrome",
     "Ctrl+Alt+1", "", "Room"),
    ("lamp", "Lines of a lamp on surfaces", "highlight lines isophotes light tubes", "Ctrl+Alt+2",
     "", "Lamp lines"),
    ("gaussian", "Gaussian curvature as colours", "curvature map", "Ctrl+Alt+3", "", "Gaussian"),
    ("mean", "Mean curvature as colours", "curvature map", "0", "palette", "Curvature"),
    ("greatest", "Greatest curvature as colours", "curvature map principal", "Ctrl+Alt+4", "",
     "Greatest"),
    ("least", "Least curvature as colours", "curvature map principal", "Ctrl+Alt+5", "", "Least"),
    ("radius", "Smallest radius as colours", "cutter minimum radius tight", "Ctrl+Alt+6", "radical",
     "Radius"),
    ("walls", "Wall thickness of bodies as colours", "thin thick hollow wall ray", "Ctrl+Alt+7",
     "arrows-in-line-horizontal",
     "Walls"),
    ("draft", "Draft angle against z as colours", "undercut mould pull", "Ctrl+Alt+8", "compass",
     "Draft"),
    ("slope", "Slope to the ground as colours", "steepness overhang", "Ctrl+Alt+9", "", "Slope"),
)  # fmt: skip
COMMANDS = (
    Command("sections", "Sections through surface and scan, side by side", sections,
            "cuts slices stations cross", "", "Check", "stack", "Sections", hint=HINT,
            hand="sections", why_not=needs_surface),
    Command("deviation", "Deviation colours", lambda bench: bench.stage.switch("colours"),
            "heat map error difference colour", "4", "Check", "thermometer", "Deviation"),
    Command("deviation on the scan", "Deviation colours on the scan, not the surface", on_the_scan,
            "heat map error difference colour points", "", "Check", "thermometer", "On scan"),
    Command("joints", "Joints of all surfaces and bodies", joints,
            "continuity gap angle g1 g2 tangent curvature table edges", "", "Check", "link",
            "Joints", why_not=nothing_to_check),
    Command("spots", "Spots out of tolerance, all against the scan", spots,
            "deviation places worst inspection list", "", "Check", "crosshair", "Spots",
            why_not=nothing_to_check),
    Command("lines", "Lines plan: sections, lengthwise cuts and waterlines of all", lines,
            "contours stations drawing sheet dxf waterlines buttocks", "", "Check", "waves",
            "Lines plan", why_not=nothing_to_check),
    Command("combs", "Combs on cuts and isocurves of all", combs,
            "curvature comb section cross quills flow", "", "Check", "chart-line",
            "Combs", why_not=nothing_to_check),
    task_command("distance", "Measure the distance of two things",
                 "ruler dimension gap apart least greatest angle measure", "Check",
                 "ruler", "Distance"),
    task_command("size", "Measure one thing: length, radius, area, reach",
                 "ruler dimension long extent measure surface", "Check", "selection-all",
                 "Size"),
    task_command("wall", "Measure how thick a wall is, straight through",
                 "thickness ray thin measure", "", short="Wall"),
    *(Command(f"judge {name}", words, partial(judge_by, name), also, key,
              "Check" if icon else "", icon, short, why_not=nothing_to_check)
      for name, words, also, key, icon, short in JUDGED),
    Command("move lamp", "Move the lamp by hand", move_lamp,
            "highlight lines light turn drag isophotes", hint=LAMP_HINT, hand="lamp",
            why_not=nothing_to_check),
    Command("judge otherwise", "Judge surfaces otherwise in the smaller view",
            lambda bench: bench.stage.look_menu(),
            "side by side two looks compare second view split", why_not=nothing_to_check),
    Command("tie views", "Both views turn together, and apart again",
            lambda bench: bench.stage.tie(),
            "tie lock link synchronise cameras side by side compare"),
    Command("plain form", "Judge the plain form", plain_form, "clay shaded render", "5", "Check",
            "sun", "Form"),
)  # fmt: skip
