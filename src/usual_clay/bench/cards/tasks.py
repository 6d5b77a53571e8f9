"""What can be made from curves, as a table: sources, settings, and how it is said.

A task that follows adds curves that follow their sources by a recipe; one that alters changes the
chosen curve itself. One card shows any of them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from PySide6.QtWidgets import QPushButton

from usual_clay.bench.cards.fields import Field, Figure, Figures, Pick, Sweep
from usual_clay.bench.command import Commands
from usual_clay.core.build.alter import (
    ArcSettings,
    ExtendSettings,
    SplitSettings,
    arcs_of,
    extended,
    faired,
    slimmed,
    split_up,
)
from usual_clay.core.build.alter_surface import (
    bordered_surface,
    even_surface,
    extended_surface,
    matched_surface,
    slimmed_surface,
    split_surface,
    symmetric_surface,
)
from usual_clay.core.build.blend import BlendSettings
from usual_clay.core.build.combine import BridgeSettings, CopySettings, PairSettings, TwinSettings
from usual_clay.core.build.fill import FillSettings
from usual_clay.core.build.loft import LoftSettings
from usual_clay.core.build.net import NetSettings
from usual_clay.core.build.offset import OffsetSettings
from usual_clay.core.build.placed import AcrossSettings, InSurfaceSettings, LaidSettings
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings
from usual_clay.core.build.surface_edits import (
    BorderSettings,
    EvenSettings,
    LongerSettings,
    MatchSettings,
    MirrorSettings,
    PartSettings,
)
from usual_clay.core.build.turned import RevolveSettings, TubeSettings
from usual_clay.core.fit.curve.fair import FairSettings, SlimSettings
from usual_clay.core.fit.solve.remake import SlimSurfaceSettings
from usual_clay.core.spline.boundary import BORDERS
from usual_clay.core.spline.chain import ChainSettings
from usual_clay.job.items import Curve, Item, PointList, Surface
from usual_clay.job.recipes import KINDS, Role

SIDES = tuple((side, side, f"The border {side}") for side in BORDERS)
AXES = tuple((axis, axis, f"The axis {axis}") for axis in "xyz")
# So many sources are offered for a role that takes any number; those past the first that is free
# are hidden.
ANY_NUMBER = 16
SMOOTH = (
    ("G0", 0, "Meets in place"), ("G1", 1, "Meets in tangent"), ("G2", 2, "Meets in curvature"),
    ("G3", 3, "Meets in the change of curvature"),
)  # fmt: skip
NEAREST = (("nearest side", "nearest", "The side that is nearest to the other surface"),)
WAYS = (
    ("before", "before", "Goes on from the part before the place"),
    ("after", "after", "Goes on from the part after it"),
)
ENDS = (
    ("free", "free", "As it comes"),
    ("square", "square", "Square to the section's plane"),
)
SPENT = (
    Sweep("scan", "Scan between", "0 follows the curves only, 1 the scan between them", 0, 1, 0.05),
    Figure("within", "Within", "How near it passes to every curve", 1e-4, 10, 4),
    Figure("nu", "Along u", "Control points; 0 for as few as that takes", 0, 120, 0, ""),
    Figure("nv", "Along v", "Control points; 0 for as few as that takes", 0, 120, 0, ""),
    Figure("degree", "Degree", "1 to 7", 1, 7, 0, ""),
)


@dataclass(frozen=True)
class Take:
    """A source that the user picks."""

    label: str
    kinds: tuple[type[Item], ...] = (Curve,)
    optional: bool = False
    role: str = ""
    any_number: bool = False


@dataclass(frozen=True)
class Several:
    """A further number that turns one result into several."""

    label: str
    tip: str
    low: float
    high: float
    start: float
    decimals: int
    unit: str
    spread: Callable[[Any, float], list[Any]]


@dataclass(frozen=True)
class Task:
    """One thing that can be made.

    Attributes
    ----------
    title, about : str
        Of a task that follows they are those of the recipe's kind.
    settings : object
        To begin with.
    takes : tuple of Take
        Of a task that follows they come from the roles of the recipe's kind.
    fields : tuple of Field
    name : str
        Of what is made; "{}" is the first source's.
    alter : callable or None
        ``alter(settings, sources)`` gives what the chosen curve becomes; None for a task that
        follows by the recipe of its name.
    several : Several or None
    hides : callable or None
        Names the fields that mean nothing at some settings.
    """

    title: str
    about: str
    settings: Any
    takes: tuple[Take, ...]
    fields: tuple[Field, ...]
    name: str
    alter: Callable[..., Any] | None = None
    several: Several | None = None
    hides: Callable[[Any], Sequence[str]] | None = None


def _copies(settings: CopySettings, count: float) -> list[CopySettings]:
    return [replace(settings, by=settings.by * (k + 1)) for k in range(int(count))]


def _stations(settings: AcrossSettings, count: float) -> list[AcrossSettings]:
    if count <= 1:
        return [settings]
    # Spread evenly from the first station to the end.
    last = 1.0 if settings.by != "length" else max(settings.at, 1.0)
    return [replace(settings, at=float(at)) for at in np.linspace(settings.at, last, int(count))]


def _both_sides(settings: OffsetSettings, other: float) -> list[OffsetSettings]:
    if other <= 0:
        return [settings]
    return [settings, replace(settings, distance=-np.sign(settings.distance) * other)]


def following(kind: str, settings: Any, *fields: Field, **more: Any) -> Task:
    """Return the task of a recipe, which its row says all of but the fields."""
    row = KINDS[kind]
    return Task(row.title, row.about, settings, takes_of(row.roles), fields, row.suffix, **more)


def takes_of(roles: Sequence[Role]) -> tuple[Take, ...]:
    """Return a source to pick for each item that a role takes."""
    takes = []
    for role in roles:
        count = role.most or max(role.least, ANY_NUMBER)
        for k in range(count):
            words = role.words if count == 1 else f"{role.words} {k + 1}"
            takes.append(Take(words, role.takes, k >= role.least, role.name, not role.most))
    return tuple(takes)


FOLLOW: dict[str, Task] = {
    "twin": following(
        "twin", TwinSettings(),
        Pick("axis", "Mirror plane", AXES), Figure("at", "Lies at", "Along that axis", -1e4, 1e4),
    ),
    "copy": following(
        "copy", CopySettings(),
        Pick("axis", "Along", AXES), Figure("by", "Step", "From one to the next", -1e4, 1e4),
        several=Several("Copies", "How many, a step apart", 1, 99, 1, 0, "", _copies),
    ),
    "bridge": following(
        "bridge", BridgeSettings(),
        Sweep("first_at", "Leaves at", "0 is the first curve's start, 1 its end", 0, 1, 0.01),
        Pick("first_way", "From the part", WAYS),
        Pick("first_smooth", "Smooth there", SMOOTH),
        Sweep("first_strength", "Strength", "Length of the tangent there", 0.1, 3, 0.02),
        Sweep("second_at", "Arrives at", "0 is the second curve's start", 0, 1, 0.01),
        Pick("second_way", "From the part", WAYS),
        Pick("second_smooth", "Smooth there", SMOOTH),
        Sweep("second_strength", "Strength", "Length of the tangent there", 0.1, 3, 0.02),
        Pick("whole", "Gives", (
            ("bridge", False, "The bridge alone"),
            ("whole", True, "What it replaces is trimmed, the rest joined to one curve"),
        )),
        hides=lambda s: [f"{end}_way" for end in ("first", "second")
                         if getattr(s, f"{end}_at") in (0.0, 1.0)],
    ),
    "pair": following(
        "pair", PairSettings(),
        Pick("axis", "Both show", AXES),
        Pick("match", "Extents", (
            ("as drawn", False, "Use the stretch that both have"),
            ("match", True, "Stretch the second to the first's extent"),
        )),
        Figure("within", "Within", "How near the lean spline stays", 1e-4, 10, 4),
    ),
    "chain": following(
        "chain", ChainSettings(),
        Figure("most", "Gaps up to", "Ends no farther apart are joined", 0, 100, 3),
    ),
    "offset": following(
        "offset", OffsetSettings(),
        Figure("distance", "Distance", "Below 0 on the other side", -1e3, 1e3, 3),
        Pick("normal", "Plane square to", AXES),
        Figure("within", "Within", "How near the spline stays to it", 1e-4, 10, 4),
        several=Several("Other side", "A second one on the other side; 0 for none", 0, 1e3, 0, 3,
                        " mm", _both_sides),
    ),
    "across": following(
        "across", AcrossSettings(),
        Figure("at", "Station", "Where on the curve", 0, 1e4, 3, ""),
        Pick("by", "Told by", (
            ("share", "share", "A share of the length, 0 to 1"),
            ("parameter", "parameter", "The curve's own parameter, 0 to 1"),
            ("mm", "length", "Length along it, in mm"),
        )),
        Pick("anchor", "On the curve", (
            ("middle", "middle", "The profile's middle"),
            ("start", "start", "The profile's start"),
            ("origin", "origin", "The origin, as the profile is drawn about it"),
        )),
        Figure("turn", "Turn", "About the curve", -360, 360, 1, "°", float(np.pi / 180)),
        Pick("flip", "Faces", (("on", False, "As the curve runs"), ("back", True, "Against it"))),
        several=Several("Stations", "How many, from there to the end", 1, 99, 1, 0, "", _stations),
    ),
    "laid": following(
        "laid", LaidSettings(),
        Pick("onto", "Lands on", (("item", "item", "The surface or scan above"),
                                  *((f"{a} plane", a, f"Square to {a}") for a in "xyz"))),
        Figure("at", "Plane at", "Where the plane lies", -1e4, 1e4),
        Pick("along", "Goes", (("nearest", "nearest", "To the nearest place"),
                               *((f"along {a}", a, f"Parallel to {a}") for a in "xyz"))),
        Figure("within", "Within", "How near the lean spline stays", 1e-4, 10, 4),
        hides=lambda s: ["at"] if s.onto == "item" else ["along", "within"],
    ),
    "in surface": following(
        "in surface", InSurfaceSettings(),
        Pick("kind", "Runs", (("along u", "along u", "An isocurve; at 0 and 1 an edge"),
                              ("along v", "along v", "An isocurve; at 0 and 1 an edge")),
             tuple((f"cut {a}", a, f"By a plane square to {a}") for a in "xyz")),
        Figure("at", "At", "The other parameter, 0 to 1; of a cut, where the plane lies in mm",
               -1e4, 1e4, 3, ""),
        Figure("within", "Within", "How near the spline of a cut stays", 1e-4, 10, 4),
        hides=lambda s: ["within"] if s.kind.startswith("along") else [],
    ),
    "loft": following(
        "loft", LoftSettings(),
        Pick("start", "Leaves the first", ENDS), Pick("stop", "Leaves the last", ENDS), *SPENT,
    ),
    "net": following(
        "net", NetSettings(),
        Figure("mend", "Mends up to", "Curves that pass no farther apart are brought together",
               0, 100, 3), *SPENT,
    ),
    "two-rail": following(
        "two-rail", TwoRailSettings(),
        Pick("height", "Height", (
            ("scaled", "scaled", "Grows with the distance of the rails"),
            ("kept", "kept", "Stays as the profile has it"),
        )), *SPENT,
    ),
    "sweep": following(
        "sweep", SweepSettings(),
        Pick("way", "Profiles stand", (
            ("square", "square", "Square to the path, with the least twist"),
            ("upright", "upright", "Square to the path, and upright"),
            ("parallel", "parallel", "Always parallel to themselves"),
        )), *SPENT,
    ),
    "guided revolve": following(
        "guided revolve", RevolveSettings(),
        Figure("angle", "Turns by", "About the axis", -360, 360, 1, "°", float(np.pi / 180)),
        Pick("smooth_pole", "At the axis", (
            ("smooth", True, "Level across where the profile meets the axis"),
            ("as drawn", False, "As the profile comes"),
        )), *SPENT,
    ),
    "tube": following(
        "tube", TubeSettings(),
        Figures("radii", "Radius", "One for all of it, or several along it, with ; between",
                " mm"),
        Pick("ends", "Ends", (("open", "open", "Open rings"), ("round", "round", "Half balls"))),
        *SPENT[1:],
    ),
    "fill": following(
        "fill", FillSettings(),
        Pick("smooth", "Beside", (("G0", 0, "Meets in place"),
                                  ("G1", 1, "Goes on smoothly from the surfaces above"))),
        Figure("mend", "Mends up to", "Ends no farther apart are brought together", 0, 100, 3),
        *SPENT,
    ),
    "blend": following(
        "blend", BlendSettings(),
        Pick("first_side", "Leaves the first", NEAREST, SIDES),
        Pick("first_smooth", "Smooth there", SMOOTH[:3]),
        Sweep("first_strength", "Strength", "How far it follows the first", 0.1, 3, 0.02),
        Pick("second_side", "Meets the second", NEAREST, SIDES),
        Pick("second_smooth", "Smooth there", SMOOTH[:3]),
        Sweep("second_strength", "Strength", "How far it follows the second", 0.1, 3, 0.02),
    ),
    "extrude": following(
        "extrude", ExtrudeSettings(),
        Pick("way", "Along", (*AXES, ("plane", "plane", "Square to the curve's own plane"))),
        Figure("length", "Length", "Below 0 the other way", -1e4, 1e4, 3),
        Pick("both", "Goes", (("one way", False, "One way"), ("both ways", True, "As far both "
                                                              "ways"))),
    ),
    "ruled": following(
        "ruled", RuledSettings(),
        Pick("turn", "Second edge", (("as matched", False, "Runs as the first does"),
                                     ("turned", True, "Runs the other way"))),
    ),
    "surface twin": following(
        "surface twin", TwinSettings(),
        Pick("axis", "Mirror plane", AXES), Figure("at", "Lies at", "Along that axis", -1e4, 1e4),
    ),
}  # fmt: skip

ALTER: dict[str, Task] = {
    "slim": Task(
        "Slim", "The same curve with fewer control points; the old one is ghosted",
        SlimSettings(), (Take("Curve"),),
        (
            Figure("controls", "Control points", "0 for as few as the tolerance allows", 0, 200, 0,
                   ""),
            Figure("degree", "Degree", "1 to 7", 1, 7, 0, ""),
            Pick("knots", "Knots", (("even", "even", "Spread evenly"),
                                    ("adaptive", "adaptive", "Closer where the shape needs them"))),
            Figure("within", "Within", "Tolerance to the old curve", 1e-4, 10, 4),
        ),
        "slim {}", slimmed,
    ),
    "slim surface": Task(
        "Slim", "The same surface with fewer control points; its deviation stands below",
        SlimSurfaceSettings(), (Take("Surface", (Surface,)),),
        (
            Figure("nu", "Along u", "0 for as few as the tolerance allows", 0, 200, 0, ""),
            Figure("nv", "Along v", "0 for as few as the tolerance allows", 0, 200, 0, ""),
            Pick("knots", "Knots", (("even", "even", "Spread evenly"),
                                    ("adaptive", "adaptive", "Closer where the shape needs them"))),
            Figure("within", "Within", "Tolerance to the old surface", 1e-4, 10, 4),
        ),
        "slim {}", slimmed_surface,
    ),
    "extend surface": Task(
        "Extend", "Longer at one side; its last spans run on", LongerSettings(),
        (Take("Surface", (Surface,)),),
        (Pick("side", "At", SIDES), Figure("by", "By", "In the mean", 1e-3, 1e4, 3)),
        "extend {}", extended_surface,
    ),
    "split surface": Task(
        "Split", "Cut along an isocurve", PartSettings(), (Take("Surface", (Surface,)),),
        (
            Pick("cut", "Cut along", (("u", "u", "At a value of v"), ("v", "v", "At one of u"))),
            Sweep("at", "At", "The other parameter", 0.01, 0.99, 0.01),
            Pick("keep", "Keep", (("both", "both", "Both parts"), ("first", "first", "The first"),
                                  ("last", "last", "The last"))),
        ),
        "split {}", split_surface,
    ),
    "border of surface": Task(
        "Border", "One border to a point, a straight line, or a plane", BorderSettings(),
        (Take("Surface", (Surface,)),),
        (
            Pick("side", "Border", SIDES),
            Pick("becomes", "Becomes", (
                ("pole", "pole", "One point; the next row lies in one plane with it"),
                ("straight", "straight", "A line from corner to corner"),
                ("flat", "flat", "It lies in its nearest plane"),
            )),
        ),
        "border of {}", bordered_surface,
    ),
    "mirror surface": Task(
        "Make symmetric", "The mean of the surface and its mirror image", MirrorSettings(),
        (Take("Surface", (Surface,)),), (Pick("axis", "Mirror plane", AXES),),
        "make {} symmetric", symmetric_surface,
    ),
    "even surface": Task(
        "Even out", "Control points spaced evenly within the surface", EvenSettings(),
        (Take("Surface", (Surface,)),),
        (Sweep("share", "How far", "1 goes all the way", 0.05, 1, 0.05),),
        "even out {}", even_surface,
    ),
    "match surface": Task(
        "Match", "Its nearest border brought to another surface's", MatchSettings(),
        (Take("This", (Surface,)), Take("To", (Surface,))),
        (
            Pick("grade", "Meets with", (("G0", "G0", "In place"), ("G1", "G1", "In tangent"),
                                         ("G2", "G2", "In curvature"))),
            Pick("moves", "Moves", (("this", "this", "This one alone"),
                                    ("both", "both", "Both meet half way"))),
        ),
        "match {}", matched_surface,
    ),
    "fair": Task(
        "Fair", "Smooth as far as a band allows; the ends and their tangents stay",
        FairSettings(), (Take("Curve"),),
        (Figure("band", "Band", "The curve does not leave it", 1e-4, 10, 4),),
        "fair {}", faired,
    ),
    "extend": Task(
        "Extend", "Longer at one end", ExtendSettings(), (Take("Curve"),),
        (
            Pick("end", "At its", (("start", 0, "Where it starts"), ("end", 1, "Where it ends"))),
            Figure("by", "By", "Length", 1e-3, 1e4, 3),
            Pick("how", "Goes on", (
                ("as it runs", "as it runs", "Its last span's own bend"),
                ("straight", "straight", "Along its tangent, G1"),
                ("round", "round", "With its last radius, G2"),
            )),
        ),
        "extend {}", extended,
    ),
    "split": Task(
        "Split and trim", "Cut at a place, and keep one part or all", SplitSettings(),
        (Take("Curve"), Take("Cut by", (Curve,), optional=True)),
        (
            Pick("rule", "Cut at", (
                ("share", "share", "A share of its length"),
                ("parameter", "parameter", "Its own parameter"),
                ("point", "point", "The chosen control point"),
            ), (
                ("extremes", "extremes", "Where it goes farthest along an axis"),
                ("crossings", "crossings", "Where the curve above crosses it in view"),
            )),
            Sweep("at", "Place", "0 is the start, 1 the end", 0, 1, 0.005),
            Pick("axis", "Axis", AXES),
            Pick("keep", "Keep", (("all", "all", "All parts"), ("first", "first", "The first"),
                                  ("last", "last", "The last"),
                                  ("longest", "longest", "The longest"))),
        ),
        "split {}", split_up,
        hides=lambda s: [*(["at"] if s.rule not in ("share", "parameter") else []),
                         *(["axis"] if s.rule != "extremes" else [])],
    ),
    "arc": Task(
        "How far is it an arc?", "The longest stretch that is a line or an arc, and lean splines"
        " for the rest", ArcSettings(), (Take("Of", (PointList, Curve)),),
        (
            Figure("within", "Within", "Tolerance", 1e-4, 10, 4),
            Pick("smooth", "The rest meets it", (("G1", 1, "In tangent"),
                                                 ("G2", 2, "In curvature"))),
        ),
        "arc of {}", arcs_of,
    ),
}  # fmt: skip
TASKS = {**FOLLOW, **ALTER}


def task_buttons(
    rows: Sequence[Sequence[tuple[str, str]]], commands: Commands
) -> list[list[QPushButton]]:
    """Return rows of buttons that each begin a task."""
    return [
        [commands.button(f"task {kind}", f"{words} ...") for kind, words in row] for row in rows
    ]
