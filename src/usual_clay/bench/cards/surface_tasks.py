"""What can be made from curves that is a surface, as a table for the task card."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.cards.fields import Field, Figure, Figures, Pick, Sweep
from usual_clay.bench.cards.task_kinds import (
    AXES,
    MEND,
    MIRROR,
    SIDES,
    SMOOTH,
    SPENT,
    Several,
    Task,
    following,
)
from usual_clay.core.build.blank import BlankSettings
from usual_clay.core.build.blend import BlendSettings
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.crossings import families
from usual_clay.core.build.fill import FillSettings, FlatSettings
from usual_clay.core.build.loft import TIPS, LoftSettings
from usual_clay.core.build.net import NetSettings
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings
from usual_clay.core.build.turned import RevolveSettings, TubeSettings
from usual_clay.core.spline.curve import BSplineCurve

DEGREES = float(np.pi / 180)
NEAREST = (("nearest side", "nearest", "The side that is nearest to the other surface"),)
ENDS = (
    ("free", "free", "As it comes"),
    ("square", "square", "Square to the section's plane"),
    ("G1", "G1", "Goes on from the surface beside it, in tangent"),
    ("G2", "G2", "Goes on from the surface beside it, in curvature"),
)
TIPPED = (
    ("sharp tip", "sharp", "Runs on to a tip, as it comes"),
    ("round tip", "round", "Runs on to a tip that is round"),
)
BORDERS = Pick("borders", "Its borders", (
    ("within", "within", "Lie within the distance"),
    ("exact", "exact", "Are the very curves: more control points, and no gap to a neighbour"),
))  # fmt: skip


def _loft_hides(settings: LoftSettings) -> Sequence[str]:
    ends = {settings.start, settings.stop}
    return [
        *(["beside"] if not ends & {"G1", "G2"} else []),
        *(["tips"] if not ends & set(TIPS) else []),
    ]


def _families(curves: Sequence[BSplineCurve]) -> dict[str, list[int]]:
    along, across = families(tuple(curves), NetSettings().mend)
    return {"along": along, "across": across}


def _patches(settings: FillSettings, count: float) -> list[FillSettings]:
    many = int(count)
    if many < 2:
        return [settings]
    return [replace(settings, part=k + 1, of=many) for k in range(many)]


def _blank_hides(settings: BlankSettings) -> Sequence[str]:
    return ["pointed"] if settings.form == "flat" else []


def _spent(**kept: Any) -> tuple[Field, ...]:
    """Return the fields of what a surface costs, less those that are told."""
    return tuple(field for field in SPENT if kept.get(field.name, True))


SURFACES: dict[str, Task] = {
    "loft": following(
        "loft", LoftSettings(),
        Pick("start", "Leaves the first", ENDS, TIPPED),
        Pick("stop", "Leaves the last", ENDS, TIPPED), BORDERS, *SPENT,
        hides=_loft_hides,
    ),
    "net": following(
        "net", NetSettings(), MEND,
        Pick("keeps", "Gives way", (
            ("both", "both", "Both families by half"),
            ("across", "along", "The curves across; those along stay"),
            ("along", "across", "The curves along; those across stay"),
        )), BORDERS, *SPENT,
        parts=_families,
    ),
    "two-rail": following(
        "two-rail", TwoRailSettings(),
        Pick("height", "Height", (
            ("scaled", "scaled", "Grows with the distance of the rails"),
            ("kept", "kept", "Stays as the profile has it"),
        )),
        Pick("brought", "Off the rails", (
            ("both", "both", "A profile that misses its rails is moved and scaled as a whole"),
            ("moved", "moved", "Its ends are moved, and what lies between goes with them"),
            ("scaled", "scaled", "From rail to rail only: as high as it was drawn"),
        )),
        Figures("marks", "Belong together", "Shares of the rails' lengths, pair by pair, with ;"
                " between: first rail's, second rail's, and so on", optional=True),
        BORDERS, *SPENT,
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
        Figure("angle", "Turns by", "About the axis", -360, 360, 1, "°", DEGREES),
        Pick("smooth_pole", "At the axis", (
            ("smooth", True, "Level across where the profile meets the axis"),
            ("as drawn", False, "As the profile comes"),
        )), *SPENT,
    ),
    "tube": following(
        "tube", TubeSettings(),
        Figures("radii", "Radius", "One for all of it, or several along it, with ; between",
                " mm"),
        Pick("ends", "Ends", (("open", "open", "Open rings"), ("flat", "flat", "Plane faces"),
                              ("round", "round", "Half balls"))),
        *_spent(scan=False),
    ),
    "fill": following(
        "fill", FillSettings(),
        Pick("smooth", "Beside", (("G0", 0, "Meets in place"),
                                  ("G1", 1, "Goes on smoothly from the surfaces above"),
                                  ("G2", 2, "Goes on from them in curvature"))),
        BORDERS, MEND,
        Figures("middle", "Patches meet at", "x; y; z of the place where several patches meet;"
                " empty for the calmest", " mm", optional=True),
        *SPENT,
        several=Several("Patches", "1, or one for each edge, which meet in the middle", 1, 24, 1,
                        0, "", _patches),
    ),
    "blend": following(
        "blend", BlendSettings(),
        Pick("first_side", "First leaves", NEAREST, SIDES),
        Pick("first_smooth", "Smooth there", SMOOTH),
        Sweep("first_strength", "Strength", "How far it follows the first", 0.1, 3, 0.02),
        Sweep("first_end", "At its end", "Strength where that border ends; 0 for the same", 0, 3,
              0.02, zero="same"),
        Pick("second_side", "Second leaves", NEAREST, SIDES),
        Pick("second_smooth", "Smooth there", SMOOTH),
        Sweep("second_strength", "Strength", "How far it follows the second", 0.1, 3, 0.02),
        Sweep("second_end", "At its end", "Strength where that border ends; 0 for the same", 0, 3,
              0.02, zero="same"),
    ),
    "extrude": following(
        "extrude", ExtrudeSettings(),
        Pick("way", "Along", (*AXES, ("plane", "plane", "Square to the curve's own plane"))),
        Figure("length", "Length", "Below 0 the other way", -1e4, 1e4, 3),
        Pick("both", "Goes", (("one way", False, "One way"), ("both ways", True, "As far both "
                                                              "ways"))),
        Figure("taper", "Sides lean by", "Outward; inward below 0", -80, 80, 2, "°", DEGREES),
    ),
    "ruled": following(
        "ruled", RuledSettings(),
        Pick("turn", "Second edge", (("as matched", False, "Runs as the first does"),
                                     ("turned", True, "Runs the other way"))),
    ),
    "flat": following("flat", FlatSettings(), MEND, *_spent(scan=False)),
    "blank": following(
        "blank", BlankSettings(),
        Pick("form", "Form", (("half body", "half", "The upper half of a body"),
                              ("body", "tube", "A whole body round its axis"),
                              ("plane", "flat", "A plane"))),
        Pick("pointed", "Pointed at", (
            ("both", "both", "Both ends"), ("start", "start", "Its start"),
            ("end", "end", "Its end"), ("none", "none", "Neither"),
        )),
        Pick("axis", "Runs along", (("longest", "longest", "The longest way"), *AXES)),
        Figures("size", "Size", "Along x; y; z, where nothing is chosen above", " mm"),
        Figures("middle", "Middle", "x; y; z, where nothing is chosen above", " mm"),
        *_spent(scan=False, within=False),
        hides=_blank_hides,
    ),
    "surface twin": following("surface twin", TwinSettings(), *MIRROR,),
}  # fmt: skip
