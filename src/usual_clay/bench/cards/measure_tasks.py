"""Tasks that measure."""

from __future__ import annotations

from usual_clay.bench.cards.fields import Pick, Places
from usual_clay.bench.cards.task_kinds import Task, following
from usual_clay.core.check.measure import DistanceSettings, SizeSettings, WallSettings

ALONG = tuple((each, f"along {each}", f"Along {each} alone") for each in "xyz")

MEASURES: dict[str, Task] = {
    "distance": following(
        "distance", DistanceSettings(),
        Pick("kind", "What", (("near", "least", "The least: between their nearest places"),
                              ("far", "greatest", "The greatest that one lies off the other"),
                              *ALONG,
                              ("angle", "angle", "Between their directions, or planes"))),
    ),
    "size": following(
        "size", SizeSettings(),
        Pick("kind", "What", (("length", "length", "Of a curve"),
                              ("bend", "smallest radius", "The smallest radius, and where"),
                              ("area", "area", "Of a surface, a body or a scan"), *ALONG)),
    ),
    "wall": following(
        "wall", WallSettings(),
        Places("at", "At", "A place of its skin; the thinnest of all that are marked counts",
               "all over"),
    ),
}  # fmt: skip
