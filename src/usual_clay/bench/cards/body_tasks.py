"""What can be made that is a body, as a table for the task card."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from usual_clay.bench.cards.fields import Figure, Figures, Pick, Places, Sweep
from usual_clay.bench.cards.task_kinds import MEND, MIRROR, SPENT, Task, following
from usual_clay.core.body.lying import FloatSettings
from usual_clay.core.body.settings import (
    BevelSettings,
    CloseSettings,
    CombineSettings,
    DrillSettings,
    JoinSettings,
    PadSettings,
    PartSettings,
    RoundSettings,
    ShellSettings,
    ThickenSettings,
    TrimSettings,
)
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.cover import CoverSettings

DEGREES = float(np.pi / 180)
GAP = Figure("gap", "Joins up to", "Edges no farther apart than this are joined", 0, 10, 3)
ALONG = Pick("way", "Curves come", (
    ("shortest", "normal", "By the shortest way"), ("x", "x", "Along x"), ("y", "y", "Along y"),
    ("z", "z", "Along z"),
))  # fmt: skip
PUSHED = Pick("way", "Along", (
    ("square", "normal", "Square to the outline's plane"), ("x", "x", "Along x"),
    ("y", "y", "Along y"), ("z", "z", "Along z"),
))  # fmt: skip
EDGES = Places("edges", "Edges", "An edge; those that go on smoothly are taken along", "all sharp")
SHARP = Figure("sharp", "Sharp from", "Edges that turn by more are sharp", 1, 170, 0, "°", DEGREES)
KEEP = Places("keep", "Kept", "Each part that is to stay", "the largest")
NO_YES = (("no", False, "No"), ("yes", True, "Yes"))


def _pushed_hides(settings: PadSettings) -> Sequence[str]:
    return ["length", "both"] if settings.through else []


def _edges_hide(settings: RoundSettings | BevelSettings) -> Sequence[str]:
    return ["sharp"] if settings.edges else []


def _float_hides(settings: FloatSettings) -> Sequence[str]:
    return ["mass", "start"] if settings.by == "draft" else ["draft", "heel", "trim"]


def _other_wall_hides(settings: ShellSettings) -> Sequence[str]:
    return [] if settings.other else ["other_wall"]


def _pushed(through: str) -> tuple[Pick | Figure, ...]:
    return (
        PUSHED,
        Figure("length", "Length", "Below 0 the other way; none where it goes up to something",
               -1e4, 1e4, 3),
        Pick("both", "Goes", (("one way", False, "One way"), ("both ways", True, "As far both"
                                                              " ways"))),
        Pick("through", through, NO_YES),
        Figure("gap", "Ends meet within", "Ends of curves no farther apart meet", 0, 10, 3),
    )  # fmt: skip


BODIES: dict[str, Task] = {
    "join": following(
        "join", JoinSettings(), GAP,
        Pick("closed", "To be", (("a solid", True, "Told where it stays open"),
                                 ("a shell", False, "It may be open"))),
    ),
    "close": following(
        "close", CloseSettings(),
        Pick("how", "By", (("what fits", "best", "A plane where the opening is flat"),
                           ("plane", "flat", "A plane face"),
                           ("fill", "fill", "A calm surface"))),
        Places("at", "Openings", "The rim of each opening that is meant", "all"), GAP,
    ),
    "cover": following(
        "cover", CoverSettings(),
        Pick("smooth", "Beside", (("G0", 0, "Meets in place"),
                                  ("G1", 1, "Goes on smoothly from the surfaces above"))),
        MEND, *(field for field in SPENT if field.name in ("within", "degree")),
    ),
    "trim": following("trim", TrimSettings(), ALONG, KEEP),
    "split": following(
        "split", PartSettings(), ALONG,
        Figure("part", "Part alone", "From 1, the largest first; 0 for all", 0, 99, 0, "",
               zero="all"),
    ),
    "pad": following("pad", PadSettings(), *_pushed("Through all"), hides=_pushed_hides),
    "cut": following("cut", PadSettings(), *_pushed("Through all"), hides=_pushed_hides),
    "drill": following(
        "drill", DrillSettings(rounded=0.1),
        Figure("rounded", "Rounded to", "Sizes are multiples of this; 0 as recognised", 0, 10, 3),
        Figure("size", "Size", "Across; 0 for what was recognised", 0, 1000, 3,
               zero="as found"),
        Figure("depth", "Depth", "From where it enters; 0 for through all", 0, 1000, 3,
               zero="through"),
    ),
    "unite": following("unite", CombineSettings()),
    "take away": following("take away", CombineSettings(), KEEP),
    "intersect": following("intersect", CombineSettings(), KEEP),
    "mirror and unite": following("mirror and unite", TwinSettings(), *MIRROR),
    "shell": following(
        "shell", ShellSettings(),
        Figure("wall", "Wall", "How thick it is", 0.001, 1000, 3),
        Pick("outward", "Lies", (("inside", False, "Within the body as it is"),
                                 ("outside", True, "Round the body as it is"))),
        Places("open", "Left open", "Each face that is left open"),
        Places("other", "Other wall at", "Each face with another wall"),
        Figure("other_wall", "Other wall", "How thick it is there", 0.001, 1000, 3),
        hides=_other_wall_hides,
    ),
    "thicken": following(
        "thicken", ThickenSettings(),
        Figure("thickness", "Thickness", "To the side of its normal; below 0 to the other",
               -1000, 1000, 3),
        Pick("both", "Lies", (("on one side", False, "All of it"), ("on both", True, "Half and"
                                                                    " half"))),
    ),
    "round": following(
        "round", RoundSettings(),
        Pick("by", "By", (("radius", "radius", "A ball that rolls along"),
                          ("width", "width", "Its rails as far apart all along"))),
        Figure("size", "Size", "Radius, or width", 0.001, 1000, 3),
        Figure("to", "At the other end", "0 for the same", 0, 1000, 3, zero="the same"),
        EDGES, SHARP,
        Figure("setback", "Set back", "So far before a corner where three of them meet the rounds"
               " end in one smooth face; 0 for the corner that a ball leaves", 0, 1000, 3,
               zero="not"),
        hides=_edges_hide,
    ),
    "bevel": following(
        "bevel", BevelSettings(),
        Figure("size", "Size", "How far it goes back on each face", 0.001, 1000, 3),
        Figure("second", "On the other", "0 for the same", 0, 1000, 3, zero="the same"),
        EDGES, SHARP,
        hides=_edges_hide,
    ),
    "afloat": following(
        "afloat", FloatSettings(),
        Pick("by", "Floats", (("as it lies", "weight", "By its weight, in balance"),
                              ("as held", "draft", "So deep in the water, and so turned"))),
        Sweep("draft", "Draft", "From its lowest point as it stands upright", -200, 200, 0.1,
              " mm"),
        Sweep("heel", "Heel", "Its right side down", -180, 180, 0.5, "°", DEGREES),
        Sweep("trim", "Trim", "Its front down", -90, 90, 0.5, "°", DEGREES),
        Figure("material", "Material", "Density of all that it holds; 0 where its weights are all"
               " of it", 0, 25, 3, " g/cm³"),
        Figure("mass", "Mass in all", "0 for that of its material and its weights", 0, 1e6, 2,
               " g", zero="of its parts"),
        Figure("water", "Water", "Its density", 0.1, 20, 3, " g/cm³"),
        Figures("weights", "Weights", "g; x; y; z of each weight, one after the other",
                optional=True),
        Figures("centre", "Centre", "x; y; z of gravity without the weights; empty for the middle"
                " of its volume", " mm", optional=True),
        Pick("start", "Begins", (("upright", "upright", "Finds how it lies from upright"),
                                 ("upside down", "upside-down", "From upside down"))),
        Figure("step", "Arms every", "Angles of the righting curve; 0 for none", 0, 90, 1, "°",
               DEGREES, zero="none"),
        hides=_float_hides,
    ),
}  # fmt: skip
