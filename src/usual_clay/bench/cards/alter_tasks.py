"""What alters the chosen curve or surface itself, as a table for the task card."""

from __future__ import annotations

from usual_clay.bench.cards.fields import Figure, Pick, Sweep
from usual_clay.bench.cards.task_kinds import AXES, MIRROR, SIDES, Take, Task
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
    meeting_surface,
    slimmed_surface,
    split_surface,
    symmetric_surface,
    turned_over,
)
from usual_clay.core.build.surface_edits import (
    BorderSettings,
    EvenSettings,
    LongerSettings,
    MatchSettings,
    MeetTwinSettings,
    MirrorSettings,
    PartSettings,
    TurnOverSettings,
)
from usual_clay.core.fit.curve.fair import FairSettings, SlimSettings
from usual_clay.core.fit.solve.remake import SlimSurfaceSettings
from usual_clay.job.items import Curve, PointList, Surface

ALTER: dict[str, Task] = {
    "slim": Task(
        "Slim", "The same curve with fewer control points; the old one is ghosted",
        SlimSettings(), (Take("Curve"),),
        (
            Figure("controls", "Control points", "0 for as few as the tolerance allows", 0, 200, 0,
                   "", zero="fewest"),
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
            Figure("nu", "Along u", "0 for as few as the tolerance allows", 0, 200, 0, "",
                   zero="fewest"),
            Figure("nv", "Along v", "0 for as few as the tolerance allows", 0, 200, 0, "",
                   zero="fewest"),
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
    "meet twin": Task(
        "Meet its twin", "Its nearest border lies in a plane and leaves it squarely, so that the"
        " surface and its mirror image are one", MeetTwinSettings(),
        (Take("Surface", (Surface,)),), MIRROR, "let {} meet its twin", meeting_surface,
    ),
    "even surface": Task(
        "Even out", "Control points spaced evenly within the surface", EvenSettings(),
        (Take("Surface", (Surface,)),),
        (Sweep("share", "How far", "1 goes all the way", 0.05, 1, 0.05),),
        "even out {}", even_surface,
    ),
    "turn over": Task(
        "Turn over", "The same surface facing the other way", TurnOverSettings(),
        (Take("Surface", (Surface,)),),
        (Pick("along", "Backwards", (("along u", "u", "Its first way runs backwards"),
                                     ("along v", "v", "Its second way runs backwards"))),),
        "turn {} over", turned_over,
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
    "split curve": Task(
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
