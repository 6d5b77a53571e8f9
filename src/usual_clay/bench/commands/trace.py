"""Trace: spline curves through points, drawn, and made from other curves."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from usual_clay.bench.bench import Bench, needs
from usual_clay.bench.cards.tasks import TASKS
from usual_clay.bench.command import Command
from usual_clay.bench.commands.gather import NO_LIST, ask
from usual_clay.bench.edits import shaping
from usual_clay.bench.edits.curves import add_twin
from usual_clay.bench.edits.making import search, why_no_search
from usual_clay.bench.edits.points import add_spline, trace_in_parts
from usual_clay.bench.session import Session
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.job.edits.curves import may_hold
from usual_clay.job.items import Curve, Followed, Item, PointList, Surface
from usual_clay.job.kinds import item_kind

NO_CURVE = "Choose a curve in the Shelf first."
TASK_HINT = "What it would make is shown. <b>Enter</b> keeps it, <b>Esc</b> drops it."
needs_curve = needs(Curve, NO_CURVE)


def draw(bench: Bench) -> None:
    ask("draw", bench)
    bench.cards.get("draw").offer()


def spline(bench: Bench) -> None:
    """Let a spline follow the chosen run."""
    points = bench.chosen(PointList)
    if points is not None:
        controls = min(12, max(4, len(points.kept) // 3))
        add_spline(bench.session, points, TraceSettings(controls, knots="adaptive"))


def parts(bench: Bench) -> None:
    """Let splines follow the chosen run, parted at its corners and at ringed points."""
    points = bench.chosen(PointList)
    if points is not None:
        trace_in_parts(bench.session, points)


def to_tolerance(bench: Bench) -> None:
    """Search for the chosen surface or spline, or stop the search that runs."""
    session, item = bench.session, bench.session.choice.fitted()
    if item is None:
        return
    running = session.work.find(item.id, "search")
    if running is not None:
        session.work.cancel(running)
    else:
        search(session, item)


def nothing_to_search(bench: Bench) -> str:
    item = bench.session.choice.fitted()
    if item is None:
        return "Choose a cast surface or a spline first."
    if bench.session.work.find(item.id, "search") is not None:
        return ""
    return why_no_search(bench.session, item)


def task(kind: str, bench: Bench) -> None:
    """Show the card of something that is made from other items."""
    bench.session.hand.take(None)
    bench.cards.ask("task").offer(kind)
    bench.cards.refresh()


def nothing_for_task(kind: str, bench: Bench) -> str:
    first = TASKS[kind].takes[0]
    takes: tuple[type[Item], ...] = first.kinds
    if first.optional or any(bench.any_of(each) for each in takes):
        return ""
    if Curve in takes and TASKS[kind].alter is None and bench.any_of(Surface):
        # Edges of surfaces are taken as curves.
        return ""
    return f"There is no {' or '.join(item_kind(each).word for each in takes)} yet."


def twin(bench: Bench) -> None:
    curve = bench.chosen(Curve)
    if curve is not None:
        add_twin(bench.session, curve)


def no_holds(bench: Bench) -> str:
    curve = bench.chosen(Curve)
    if curve is None:
        return NO_CURVE
    if may_hold(curve):
        return ""
    return f"{curve.name} follows others: set it loose, then it can keep holds."


def toggle_comb(bench: Bench) -> None:
    sight = bench.session.sight
    sight.set_comb(0.0 if sight.comb_scale > 0 else 1.0)


def set_loose(bench: Bench) -> None:
    item = bench.chosen(Followed)
    if item is not None:
        bench.session.set_loose(item)


def tie_again(bench: Bench) -> None:
    """Ask what a loose item is to follow."""
    item = bench.chosen(Followed)
    if item is not None:
        bench.session.hand.take(None)
        bench.cards.ask("ties").offer(item)


def nothing_to_tie(bench: Bench) -> str:
    item = bench.chosen(Followed)
    if item is None:
        return "Choose a loose item first."
    if bench.session.job.is_loose(item) or (item.recipe is None and item.former is not None):
        return ""
    return f"{item.name} lost nothing that it follows."


def nothing_to_loosen(bench: Bench) -> str:
    item = bench.chosen(Followed)
    if item is None:
        return "Choose what follows others first."
    return "" if item.recipe is not None else f"{item.name} follows nothing."


def on_curve(edit: Callable[[Session, Curve], None], bench: Bench) -> None:
    """Do an edit on the chosen curve."""
    curve = bench.chosen(Curve)
    if curve is not None:
        edit(bench.session, curve)


def near_point(edit: Callable[[Session, Curve, int | None], None], bench: Bench) -> None:
    """Do an edit on the chosen curve, beside its chosen point."""
    curve, points = bench.chosen(Curve), bench.session.choice.points
    if curve is not None:
        edit(bench.session, curve, min(points) if points else None)


def fewer_than_two(bench: Bench) -> str:
    if bench.chosen(Curve) is None and bench.chosen(Surface) is None:
        return "Choose a curve or a surface first."
    return "" if len(bench.session.choice.points) > 1 else "Choose several points first."


def several(edit: Callable[..., None], bench: Bench, **how: object) -> None:
    """Do an edit on the chosen points of a curve or a surface."""
    item = bench.chosen(Curve) or bench.chosen(Surface)
    if item is not None:
        edit(bench.session, item, **how)


def task_command(
    kind: str,
    words: str,
    also: str = "",
    station: str = "",
    icon: str = "",
    short: str = "",
    fits: tuple[type[Item], ...] = (),
) -> Command:
    """Return the command that shows the card of a task."""
    about = TASKS[kind].about
    return Command(
        f"task {kind}",
        words,
        partial(task, kind),
        also,
        "",
        station,
        icon,
        short,
        about,
        TASK_HINT,
        why_not=partial(nothing_for_task, kind),
        fits=fits,
    )


COMMANDS = (
    Command("draw", "Draw a curve", draw, "line arc circle sketch spline pen", "C", "Trace",
            "pen-nib", "Draw"),
    Command("spline", "Spline through the chosen points", spline, "fit interpolate trace", "",
            "Trace", "activity", "Spline", "A spline that follows this run live",
            why_not=needs(PointList, NO_LIST)),
    Command("parts", "Splines in parts: between true corners and ringed points", parts,
            "fit corners split trace", short="Splines in parts",
            tip="Lean splines within tolerance, parted at true corners and at ringed points",
            why_not=needs(PointList, NO_LIST)),
    Command("tolerance of curve", "To tolerance: fewest control points of a spline", to_tolerance,
            "reduce simplify lean", "", "Trace", "target", "Tolerance",
            why_not=nothing_to_search),
    task_command("bridge", "Bridge two curves", "blend join connect", "Trace", "link", "Bridge"),
    task_command("pair", "Pair two views into space", "3d project two views", "Trace", "intersect",
          "Pair"),
    task_command("offset", "Offset a curve", "parallel distance", "Trace", "columns", "Offset",
          (Curve,)),
    task_command("slim", "Slim a curve", "simplify reduce rebuild fewer", "Trace", "leaf", "Slim",
          (Curve,)),
    task_command("fair", "Fair a curve within a band", "smooth", "Trace", "wind", "Fair", (Curve,)),
    task_command("arc", "How far is it an arc?", "circle radius line recognise", "Trace", "rainbow",
          "Arc?"),
    Command("holds", "Holds of the chosen curve", partial(ask, "holds"),
            "constraints tangent fix keep lock", "", "Trace", "push-pin", "Holds",
            "What the curve keeps while it is shaped", why_not=no_holds, fits=(Curve,)),
    task_command("extend", "Extend a curve", "longer", short="Extend"),
    task_command("split curve", "Split or trim a curve", "cut divide", short="Split",
                 fits=(Curve,)),
    task_command("chain", "Join curves that meet", "merge connect", short="Join"),
    task_command("copy", "Copy a curve along an axis", "array duplicate repeat", short="Copy"),
    task_command("across", "Set a profile across a curve", "perpendicular", short="Set across"),
    task_command("laid", "Lay a curve onto a plane, a surface or a scan", "project drop",
          short="Lay onto"),
    task_command("in surface", "Take an edge, an isocurve or a cut of a surface",
          "extract intersect section", short="Curve of it"),
    Command("twin", "Twin of the chosen curve", twin, "mirror symmetric reflect", "", "Trace",
            "copy", "Twin", "A mirrored copy in y = 0 that follows", why_not=needs_curve,
            fits=(Curve,)),
    Command("comb", "Show or hide the comb", toggle_comb, "curvature quills", "7", "Trace", "rows",
            "Comb", fits=(Curve,)),
    Command("tie again", "Tie the chosen item again", tie_again,
            "relink repair loose follow replace source", short="Tie again ...",
            tip="Let something take the place of what it lost",
            hint="<b>Enter</b> ties it to what is picked, <b>Esc</b> leaves it loose.",
            hand="ties", why_not=nothing_to_tie),
    Command("set loose", "Set the chosen item loose", set_loose, "break link detach unlink free",
            short="Set loose", tip="Stop following; it stays as it is",
            why_not=nothing_to_loosen),
    Command("insert point", "Insert a control point", partial(near_point, shaping.insert_point),
            "add knot", short="Insert point", tip="One control point more, the shape stays",
            why_not=needs_curve),
    Command("remove point", "Remove a control point", partial(near_point, shaping.remove_point),
            "delete knot", short="Remove point",
            tip="One control point less; the figure is what it costs", why_not=needs_curve),
    Command("raise degree", "Raise a curve's degree", partial(on_curve, shaping.raise_curve),
            "elevate order", short="Raise degree", tip="The shape stays", why_not=needs_curve),
    Command("lower degree", "Lower a curve's degree", partial(on_curve, shaping.lower_curve),
            "reduce order", short="Lower degree", tip="Says how far it moves",
            why_not=needs_curve),
    Command("reverse curve", "Reverse a curve", partial(on_curve, shaping.turn_round),
            "flip direction", short="Reverse", tip="Run the other way", why_not=needs_curve),
    *(Command(f"level {axis}", f"Level the chosen points in {axis}",
              partial(several, shaping.level_points, axis=k), "align flatten same",
              short=f"Level {axis}", tip=f"Give the chosen points one {axis}",
              why_not=fewer_than_two) for k, axis in enumerate("xyz")),
    Command("to a line", "Bring the chosen points onto a line",
            partial(several, shaping.flatten_points, onto="line"), "straighten align",
            short="To a line", tip="From the first to the last of the chosen points",
            why_not=fewer_than_two),
    Command("to a plane", "Bring the chosen points onto a plane",
            partial(several, shaping.flatten_points, onto="plane"), "flatten align",
            short="To a plane", tip="The plane that lies nearest to the chosen points",
            why_not=fewer_than_two),
    Command("gather in", "Gather the chosen points in", partial(several, shaping.gather_in),
            "sharpen corner pull together", short="Gather in",
            tip="Half way to their middle, to sharpen a corner", why_not=fewer_than_two),
)  # fmt: skip
