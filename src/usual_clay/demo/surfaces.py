"""The lure's patches, laid between borders that are drawn on the scan as a designer would."""

from __future__ import annotations

from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats, as_place, as_places
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.placed import drawn_on
from usual_clay.core.fit.curve.holds import Hold, HoldSettings
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.demo.curves import follow, named
from usual_clay.demo.shape import SECTION_POWER, profile
from usual_clay.job.edits.make import planned, search, with_outcome
from usual_clay.job.items import Curve, Item, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import given_for

# Behind the front hanger's hole, as far as the tail's rounding.
FRONT, REAR = 44.0, 92.0
# Corners and points on the way of the right gill plate's borders, x and z in the side view, mm.
GILL = (
    ((19.0, -5.0), (24.0, -5.3), (28.9, -5.0)),
    ((28.9, -5.0), (29.0, 0.0), (28.2, 5.0)),
    ((28.2, 5.0), (19.0, 5.0)),
    ((19.0, 5.0), (19.0, -5.0)),
)
WITHIN = 0.035


def with_surfaces(job: Job) -> Job:
    """Lay the back, the belly, which meets it with G1 at the widest line, and a gill plate."""
    scan = named(job, Scan, "Lure scan")
    x = np.linspace(FRONT, REAR, 6)
    width, _, _, centre = profile(x)
    line = np.stack([x, width, centre], axis=1)
    job = on_scan(job, "Widest line", line)
    left = named(job, Curve, "Widest line")
    job = follow(job, "Widest line twin", "twin", TwinSettings(), curve=left)
    right = named(job, Curve, "Widest line twin")
    for name, up in (("Back", 1), ("Belly", -1)):
        ends = []
        for where, station, end in (("front", FRONT, 0), ("rear", REAR, -1)):
            job = arch(job, f"{name} arch, {where}", station, up, left.geometry.points[end])
            ends.append(named(job, Curve, f"{name} arch, {where}"))
        goes_on = [named(job, Surface, "Back patch")] if name == "Belly" else []
        job = _patch(job, f"{name} patch", scan, (left, ends[1], right, ends[0]), "y", goes_on)
    borders = []
    for number, leg in enumerate(GILL, start=1):
        places = np.array([[px, -half_width(px, pz), pz] for px, pz in leg])
        job = on_scan(job, f"Gill border {number}", places)
        borders.append(named(job, Curve, f"Gill border {number}"))
    return _patch(job, "Gill plate patch", scan, tuple(borders), "", [])


def gill_places(scan: Scan) -> tuple[Floats, frozenset[int]]:
    """Return where the gill plate's borders are clicked, and which are points on the way."""
    every = [place for leg in GILL for place in leg[:-1]]
    corners = {leg[0] for leg in GILL}
    near = np.array([[x, -half_width(x, z), z] for x, z in every])
    places = np.array([scan.mesh.vertices[nearest(scan, place)] for place in near])
    return places, frozenset(k for k, place in enumerate(every) if place not in corners)


def half_width(x: float, z: float) -> float:
    """Return about how far from the middle the side lies; the scan is near."""
    width, back, belly, centre = (float(part[0]) for part in profile(np.array([x])))
    up = (z - centre) / (back if z > centre else belly)
    return width * float((1 - abs(up) ** SECTION_POWER) ** (1 / SECTION_POWER))


def on_scan(job: Job, name: str, places: Floats) -> Job:
    """Draw a curve on the scan, its points set as well as a hand clicks."""
    scan = named(job, Scan, "Lure scan")
    clicked = np.array([scan.mesh.vertices[nearest(scan, place)] for place in places])
    # Clicks at the ends are drawn to what is there already.
    for curve in job.all(Curve):
        ends = curve.geometry.points[[0, -1]]
        for k in (0, -1):
            away = np.linalg.norm(ends - places[k], axis=1)
            # Borders of one loop meet each other alone.
            if away.min() < 1.0 and name.rpartition(" ")[0] == curve.name.rpartition(" ")[0]:
                clicked[k] = ends[int(np.argmin(away))]
    settings = DrawnSettings("through", as_places(clicked), within=WITHIN)
    job = follow(job, name, "drawn", settings, scan=scan)
    return job.changed(named(job, Curve, name).id, visible=False)


def nearest(scan: Scan, place: Floats) -> int:
    return int(np.argmin(np.linalg.norm(scan.mesh.vertices - place, axis=1)))


def arch(job: Job, name: str, station: float, up: int, start: Floats) -> Job:
    """Draw an arch across from widest line to widest line, and keep it upright at both."""
    scan = named(job, Scan, "Lure scan")
    width, back, belly, centre = (float(part[0]) for part in profile(np.array([station])))
    turn = np.linspace(0, np.pi, 7)
    across, rise = np.cos(turn), np.sin(turn)
    power = 2 / SECTION_POWER
    y = width * np.sign(across) * np.abs(across) ** power
    z = centre + up * (back if up > 0 else belly) * np.abs(rise) ** power
    places = np.stack([np.full(7, station), y, z], axis=1)
    places[0], places[-1] = start, start * [1, -1, 1]
    geometry = drawn_on(DrawnSettings("through", as_places(places), within=WITHIN), scan.mesh)
    holds = (
        Hold("fixed", 0.0, place=as_place(places[0])),
        Hold("fixed", 1.0, place=as_place(places[-1])),
        Hold("upright", 0.0),
        Hold("upright", 1.0),
    )
    settings = HoldSettings(
        as_places(geometry.points), tuple(map(float, geometry.knots)), (), holds
    )
    job = follow(job, name, "held", settings)
    return job.changed(named(job, Curve, name).id, visible=False)


def _patch(
    job: Job,
    name: str,
    scan: Scan,
    borders: tuple[Item, ...],
    symmetric: str,
    goes_on: list[Surface],
) -> Job:
    """Lay the leanest patch within tolerance; it goes on from a surface at borders 1 and 3."""
    places = (0, -1, 0, -1) if goes_on else (-1, -1, -1, -1)
    settings = PatchSettings(
        knots="adaptive",
        symmetric=symmetric,  # type: ignore[arg-type]
        joints=("G1", "G0", "G1", "G0") if goes_on else ("G0", "G0", "G0", "G0"),
        beside=places,
    )
    roles: dict[str, Any] = {
        "scan": scan.id,
        "borders": [item.id for item in borders],
        "beside": [surface.id for surface in goes_on],
    }
    job = leanest(job, "patch", settings, name, **roles)
    return job.changed(named(job, Surface, name).id, visible=False)


def leanest(job: Job, kind: str, settings: Any, name: str, **roles: Any) -> Job:
    """Add the leanest item of a kind that is within tolerance."""
    item = planned(job, kind, settings, name, **roles)
    assert item.recipe is not None
    found = search(item, given_for(job, item.recipe), job.tolerance)
    return with_outcome(job.with_item(item), item, found)
