"""Surface: regions chosen, surfaces cast and shaped."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from usual_clay.bench.bench import Bench, needs, needs_any
from usual_clay.bench.command import Command
from usual_clay.bench.commands.gather import NO_SCAN, ask, take_on_scan
from usual_clay.bench.commands.trace import TASK_HINT, nothing_to_search, task_command, to_tolerance
from usual_clay.bench.edits import surfaces
from usual_clay.bench.edits.casts import start_cast
from usual_clay.bench.edits.patches import solve_patches
from usual_clay.bench.edits.regions import change_region, fill_region, invert_region
from usual_clay.bench.gestures import brush, outline_select, spread
from usual_clay.bench.session import Session
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.scan.region import grow, shrink
from usual_clay.job.items import PointList, Region, Scan, Surface
from usual_clay.job.job import Job

NO_SURFACE = "Choose a surface in the Shelf first."
needs_surface = needs(Surface, NO_SURFACE)
needs_region = needs(Region, "Choose a region first: Spread or Brush one.")


def cast(bench: Bench) -> None:
    """Cast a surface over the chosen region, or over loose points."""
    region = bench.chosen(Region) or bench.chosen(PointList)
    if region is not None:
        bench.session.hand.take(None)
        start_cast(bench.session, region, CastSettings())


def nothing_to_cast(bench: Bench) -> str:
    if bench.chosen(Region) is not None or bench.chosen(PointList) is not None:
        return ""
    return "Choose a region first: Spread or Brush one."


def patch(bench: Bench) -> None:
    """Ask for the four borders of a patch."""
    bench.session.choice.choose(None)
    bench.stage.switch("scan", True)
    ask("patch", bench)
    bench.cards.get("patch").offer()


def double(bench: Bench) -> None:
    """Add a second surface like the chosen one, and choose it."""
    surface, job = bench.chosen(Surface), bench.session.job
    if surface is not None:
        name = job.free_name(f"{surface.name} 2")
        made = replace(surface, id=job.new_id("surface"), name=name, locked=False)
        bench.session.add(made, f"double {surface.name}")


def fit_again(bench: Bench) -> None:
    """Bring back what a surface was fitted by before a hand shaped it."""
    surface = bench.chosen(Surface)
    if surface is not None and (before := _fitted_before(bench, surface)) is not None:
        again = replace(before, name=surface.name, visible=surface.visible, colour=surface.colour)
        bench.session.hand.may_shape.discard(surface.id)
        bench.session.commit(bench.session.job.with_item(again), f"fit {surface.name} again")


def _fitted_before(bench: Bench, surface: Surface) -> Surface | None:
    """Return the surface as it was fitted last, if that is known and what it follows is there."""

    def fitted(job: Job) -> bool:
        known = job.get(surface.id, Surface)
        return known is not None and known.recipe is not None

    job = bench.session.history.latest(fitted)
    before = None if job is None else job.get(surface.id, Surface)
    if before is None or bench.session.job.is_loose(before):
        return None
    return before


def no_fit_again(bench: Bench) -> str:
    surface = bench.chosen(Surface)
    if surface is None:
        return needs_surface(bench)
    if surface.recipe is not None:
        return "It is fitted, or follows its curves, as it is"
    if _fitted_before(bench, surface) is None:
        return "What it was fitted by is not known in this session, or is gone: cast it anew"
    return ""


def solve_together(bench: Bench) -> None:
    surface = bench.chosen(Surface)
    if surface is not None:
        solve_patches(bench.session, surface)


def no_patch(bench: Bench) -> str:
    surface = bench.chosen(Surface)
    is_patch = surface is not None and surface.made_by(PatchSettings) is not None
    return "" if is_patch else "Choose a four-corner patch first."


def shape_scan(bench: Bench) -> None:
    """Let the scan follow a surface from how it was to how it is."""
    ask("shape scan", bench)
    bench.cards.get("shape scan").offer()


def one_surface(bench: Bench) -> str:
    if len(list(bench.session.job.all(Surface))) > 1:
        return ""
    return "It takes two surfaces, as it was and as it is: double one, and shape one of the two."


def on_surface(edit: Callable[..., None], bench: Bench, **how: object) -> None:
    """Do an edit on the chosen surface."""
    surface = bench.chosen(Surface)
    if surface is not None:
        edit(bench.session, surface, **how)


def along(edit: Callable[[Session, Surface, str], None], direction: str, bench: Bench) -> None:
    surface = bench.chosen(Surface)
    if surface is not None:
        edit(bench.session, surface, direction)


def no_points(bench: Bench) -> str:
    if bench.chosen(Surface) is None:
        return NO_SURFACE
    return "" if bench.session.choice.points else "Choose control points first."


def on_region(change: Callable[..., None], bench: Bench, *how: object) -> None:
    region = bench.chosen(Region)
    if region is not None:
        change(bench.session, region, *how)


def _line(do: str, direction: str) -> Command:
    line = surfaces.LINE[direction]
    edit = surfaces.insert_line if do == "insert" else surfaces.remove_line
    tip = "The shape stays" if do == "insert" else (
        "The one that costs least; the figure is what it costs"
    )  # fmt: skip
    return Command(f"{do} {line}", f"{do.capitalize()} a {line} of control points",
                   partial(along, edit, direction), "knot isoline",
                   short=f"{do.capitalize()} {line}",
                   tip=tip, why_not=needs_surface)  # fmt: skip


COMMANDS = (
    Command("spread", "Spread a region", partial(take_on_scan, "spread"),
            "grow select magic segment", "S", "Surface", "drop", "Spread",
            "Grow a region of the scan from a click", spread.HINT, "spread",
            needs_any(Scan, NO_SCAN), (Scan,)),
    Command("brush", "Brush a region", partial(take_on_scan, "brush"), "paint select", "B",
            "Surface", "paint-brush", "Brush", "Brush a region by hand", brush.HINT, "brush",
            needs_any(Scan, NO_SCAN), (Scan,)),
    Command("lasso", "Choose a region by a lasso", partial(take_on_scan, "lasso"), "select outline",
            "", "Surface", "scribble-loop", "Lasso", "", outline_select.HINT, "lasso",
            needs_any(Scan, NO_SCAN), (Region,)),
    Command("box", "Choose a region by a box", partial(take_on_scan, "box"), "select rectangle",
            "", "Surface", "selection", "Box", "", outline_select.HINT, "box",
            needs_any(Scan, NO_SCAN), (Region,)),
    Command("cast", "Cast a surface over the region", cast, "fit nurbs surface lay over",
            "D", "Surface", "waves", "Cast", why_not=nothing_to_cast, fits=(Region, PointList)),
    Command("patch", "Four-corner patch: draw its borders, or pick them", patch,
            "four sided fit boundary", "", "Surface", "frame-corners", "Patch",
            hint=TASK_HINT, hand="patch", why_not=needs_any(Scan, NO_SCAN)),
    Command("to tolerance", "To tolerance: fewest control points", to_tolerance,
            "reduce simplify lean optimise", "T", "Surface", "target", "Tolerance",
            "Find the fewest control points within tolerance", why_not=nothing_to_search,
            fits=(Surface,)),
    task_command("slim surface", "Slim a surface", "simplify reduce rebuild fewer", "Surface",
          "leaf",          "Slim", (Surface,)),
    task_command("loft", "Loft through sections", "skin sections blend", "Surface", "stack",
                 "Loft"),
    task_command("net", "Net through two families of curves", "network mesh of curves grid",
                 "Surface", "hash", "Net"),
    task_command("two-rail", "Two-rail: profiles along two rails", "sweep two rails rail",
                 "Surface", "equals", "Two-rail"),
    task_command("sweep", "Sweep profiles along a path", "one rail pipe along", "Surface",
                 "line-segments", "Sweep"),
    task_command("guided revolve", "Revolve a profile, guided by a rail", "lathe rotate turn",
                 "Surface", "arrow-arc-right", "Revolve"),
    task_command("tube", "Tube round a path", "pipe wire round", "Surface", "circle-dashed",
                 "Tube"),
    task_command("fill", "Fill a loop of edges", "patch hole n-sided boundary", short="Fill"),
    task_command("blend", "Blend two surfaces", "bridge join smooth g2", short="Blend"),
    task_command("extrude", "Extrude a curve", "push pull straight", short="Extrude"),
    task_command("ruled", "Ruled surface between two edges", "straight lines", short="Ruled"),
    task_command("flat", "Flat face inside curves", "planar plane cap", short="Flat"),
    task_command("blank", "Blank: a start shape to be shaped by hand", "primitive box start new",
                 short="Blank"),
    task_command("meet twin", "Let a surface meet its twin smoothly", "mirror symmetric g1 g2",
                 short="Meet its twin"),
    task_command("surface twin", "Twin of a surface", "mirror copy", short="Twin"),
    task_command("extend surface", "Extend a surface", "longer", short="Extend"),
    task_command("split surface", "Split a surface", "cut trim divide", short="Split"),
    task_command("border of surface", "Make a border a pole, straight or flat", "edge collapse",
          short="Border"),
    task_command("mirror surface", "Make a surface symmetric", "mirror", short="Symmetric"),
    task_command("even surface", "Even out a surface's control points", "relax smooth distribute",
          short="Even out"),
    task_command("turn over", "Turn a surface over", "flip reverse normals inward outward",
                 short="Turn over"),
    task_command("match surface", "Match a surface's border to another's", "join tangent",
          short="Match"),
    Command("fit again", "Fit a surface again that was shaped by hand", fit_again,
            "cast follow back refit", short="Fit again",
            tip="As it was fitted before a hand moved its control points", why_not=no_fit_again),
    Command("double", "Double the chosen surface", double, "copy duplicate", short="Double",
            tip="A second one like it, to try a change on", why_not=needs_surface),
    Command("solve together", "Solve patches that share borders together", solve_together,
            "network continuity smooth", short="Solve together",
            tip="This patch and those it shares borders with: smooth over each of them",
            why_not=no_patch),
    Command("shape scan", "Shape the scan by a surface", shape_scan, "morph deform edit mesh",
            short="Shape the scan ...", tip="The scan follows this surface's change",
            hint=TASK_HINT, hand="shape scan", why_not=one_surface),
    *(_line(do, direction) for direction in "uv" for do in ("insert", "remove")),
    Command("pull to scan", "Pull the chosen control points to the scan",
            partial(on_surface, surfaces.pull_to_scan), "fit snap", short="Pull to scan",
            tip="The chosen control points only are solved again against the scan",
            why_not=no_points),
    Command("pull the rest", "Pull all but the chosen control points to the scan",
            partial(on_surface, surfaces.pull_to_scan, rest=True), "fit snap",
            short="Pull the rest",
            tip="The chosen control points stay; all others are solved again",
            why_not=no_points),
    Command("add where needed", "Insert a row or column where the error is greatest",
            partial(on_surface, surfaces.add_where_needed), "refine knot",
            short="Add where needed", tip="A row or column where the error is greatest",
            why_not=needs_surface),
    Command("swap directions", "Exchange u and v", partial(on_surface, surfaces.swap_surface),
            "transpose", short="Swap u, v",
            tip="Exchange the directions; the normal keeps its side", why_not=needs_surface),
    *(Command(f"raise {d}", f"Raise the degree along {d}",
              partial(along, surfaces.raise_surface, d), "elevate order", short=f"Raise {d}",
              tip=f"Degree along {d}; the shape stays", why_not=needs_surface) for d in "uv"),
    *(Command(f"reverse {d}", f"Reverse a surface along {d}",
              partial(along, surfaces.reverse_surface, d), "flip normal", short=f"Reverse {d}",
              tip=f"Runs the other way along {d}; the normal turns round",
              why_not=needs_surface) for d in "uv"),
    Command("grow region", "Grow the region", lambda b: on_region(change_region, b, grow, "grow"),
            "larger expand", short="Grow", tip="Add one ring of points", why_not=needs_region),
    Command("shrink region", "Shrink the region",
            lambda b: on_region(change_region, b, shrink, "shrink"), "smaller contract",
            short="Shrink", tip="Take one ring of points away", why_not=needs_region),
    Command("fill region", "Fill the region's gaps", lambda b: on_region(fill_region, b),
            "holes close", short="Fill gaps", tip="Take in small holes", why_not=needs_region),
    Command("invert region", "Invert the region", lambda b: on_region(invert_region, b),
            "opposite rest", short="Invert", tip="Choose the rest of the scan instead",
            why_not=needs_region),
)  # fmt: skip
