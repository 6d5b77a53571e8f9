"""What can be made from curves that is a curve, as a table for the task card."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from usual_clay.bench.cards.fields import Figure, Pick, Sweep
from usual_clay.bench.cards.task_kinds import AXES, MIRROR, SMOOTH, Several, Task, following
from usual_clay.core.build.combine import BridgeSettings, CopySettings, PairSettings, TwinSettings
from usual_clay.core.build.offset import OffsetSettings
from usual_clay.core.build.placed import AcrossSettings, InSurfaceSettings, LaidSettings
from usual_clay.core.spline.chain import ChainSettings

WAYS = (
    ("before", "before", "Goes on from the part before the place"),
    ("after", "after", "Goes on from the part after it"),
)


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


CURVES: dict[str, Task] = {
    "twin": following(
        "twin", TwinSettings(),
        *MIRROR,
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
}  # fmt: skip
