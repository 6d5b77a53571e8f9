"""The lure as a body: lofted whole, joined, its slot, holes and seats cut, hollowed, and afloat."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.core.arrays import Bools, Floats, as_places
from usual_clay.core.body.lying import FloatSettings
from usual_clay.core.body.settings import (
    CombineSettings,
    DrillSettings,
    JoinSettings,
    PartSettings,
    RoundSettings,
)
from usual_clay.core.build.loft import LoftSettings
from usual_clay.core.check.measure import DistanceSettings, SizeSettings
from usual_clay.core.scan.shapes import ShapeSettings, SimpleShape
from usual_clay.core.spline.knots import split
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.demo.curves import follow, named
from usual_clay.demo.shape import EYE, HOLES, SLOT, body, mouth_at, profile
from usual_clay.job.edits.judging import measured, watching, with_measured
from usual_clay.job.items import Body, Curve, PointList, Region, Scan, Shape, Surface
from usual_clay.job.job import Job

# Where rings stand along the lure, mm, and through how many places each is drawn.
STATIONS, PLACES = (2.5, 8.5, 20.0, 34.0, 50.0, 65.0, 80.0, 92.0), 14
# What is farther than this from the carved body is slot, hole or seat; and how deep the mouth may
# be where the loft follows it, mm.
CLEAR, CARVED = 0.25, 0.2
COUNTS = (20, 18)
# Back and belly were brought in a little apart, on purpose.
APART = 0.05
WALL = 2.0
BALSA, LEAD = 0.16, (6.0, 38.0, 0.0, -12.0)


def with_bodies(job: Job) -> Job:
    """Make the lure's body, tied to its surfaces, judged by the scan."""
    for step in (_loft, _joined, _recognised, _cut, _halves, _afloat, _measured):
        job = step(job)
    return job


def _places(job: Job) -> Floats:
    return named(job, Scan, "Lure scan").mesh.vertices


def _region(job: Job, name: str, mask: Bools) -> Job:
    scan = named(job, Scan, "Lure scan")
    used = np.zeros(len(mask), dtype=bool)
    used[scan.mesh.triangles] = True
    vertices = np.flatnonzero(mask & used)
    made = Region(id=job.new_id("region"), name=name, scan=scan.id, vertices=vertices)
    return job.with_item(made)


def _drawn_ring(job: Job, name: str, places: Floats) -> Job:
    settings = DrawnSettings("through", as_places(np.round(places, 3)), closed=True)
    return follow(job, name, "drawn", settings)


def _loft(job: Job) -> Job:
    """Loft the whole lure near the scan, through rings and on to two round tips."""
    places = _places(job)
    plain = (np.abs(body(places)) < CLEAR) & (mouth_at(places) < CARVED)
    job = _region(job, "Whole lure", plain)
    region = named(job, Region, "Whole lure")
    mine = places[region.vertices]
    rings = []
    for x in STATIONS:
        name = f"Ring x = {x:g}"
        job = _drawn_ring(job, name, _ring(mine, x))
        rings.append(named(job, Curve, name))
    tips = []
    for name, x in (("Nose", float(mine[:, 0].min())), ("Tail end point", float(mine[:, 0].max()))):
        centre = float(profile(np.array([np.clip(x, 0.2, 95.8)]))[3][0])
        tip = PointList(
            id=job.new_id("points"), name=name, points=np.array([[x, 0, centre]]), visible=False
        )
        job = job.with_item(tip)
        tips.append(tip)
    settings = LoftSettings(
        nu=COUNTS[0], nv=COUNTS[1], start="round", stop="round", within=0.1, scan=1.0
    )
    job = follow(job, "Whole loft", "loft", settings, sections=tuple(rings), tips=tuple(tips),
                 near=region)  # fmt: skip
    return _hidden(job, "Whole loft", *(ring.name for ring in rings))


def _ring(places: Floats, x: float) -> Floats:
    """Return places round the lure at a station, each the mean of what is measured near it."""
    near = places[np.abs(places[:, 0] - x) < 0.35]
    centre = float(profile(np.array([x]))[3][0])
    angle = np.arctan2(near[:, 2] - centre, near[:, 1])
    out = np.hypot(near[:, 2] - centre, near[:, 1])
    found = []
    for k in range(PLACES):
        at = -np.pi + 2 * np.pi * (k + 0.5) / PLACES
        # The mean over a longer arc would lie inside it.
        off = np.abs((angle - at + np.pi) % (2 * np.pi) - np.pi) * out < 0.4
        if off.any():
            found.append([x, *near[off][:, 1:].mean(axis=0)])
    return np.array(found)


def _joined(job: Job) -> Job:
    """Part the loft in back and belly, bring them in a little apart, and join them."""
    whole = named(job, Surface, "Whole loft").geometry
    for name, part in zip(("Back shell", "Belly shell"), _halves_of(whole), strict=True):
        job = job.with_item(
            Surface(id=job.new_id("surface"), name=name, geometry=part, visible=False)
        )
    faces = named(job, Surface, "Back shell"), named(job, Surface, "Belly shell")
    return _hidden(follow(job, "Joined", "join", JoinSettings(gap=0.06), faces=faces), "Joined")


def _halves_of(whole: BSplineSurface) -> list[BSplineSurface]:
    """Return the upper and the lower half of a surface that runs round along u, their borders
    a little apart."""
    first = split(whole, 0.5, "u")
    upper = max(first, key=lambda part: part.points[..., 2].mean())
    lower = min(first, key=lambda part: part.points[..., 2].mean())
    halves = []
    for part, way in ((upper, APART / 2), (lower, -APART / 2)):
        points = part.points.copy()
        points[[0, -1], 1:-1, 2] += way
        halves.append(replace(part, points=points))
    return halves


def _recognised(job: Job) -> Job:
    """Recognise hanger holes, the slot's walls and floor, and the eye seats in the scan."""
    places = _places(job)
    for number, hole in enumerate(HOLES, start=1):
        _, _, belly, centre = (float(part[0]) for part in profile(np.array([hole["x"]])))
        around = np.hypot(places[:, 0] - hole["x"], places[:, 1])
        high = places[:, 2] - (centre - belly)
        wall = (
            (np.abs(around - hole["radius"]) < 0.15) & (high > 0.8) & (high < hole["depth"] - 0.4)
        )
        job = _shape(job, f"Hanger hole {number}", "cylinder", wall)
    _, _, belly, centre = (float(part[0]) for part in profile(np.array([SLOT["x"]])))
    off = places - np.array([SLOT["x"], 0.0, centre - belly])
    turn = np.array([np.cos(SLOT["tilt"]), 0.0, np.sin(SLOT["tilt"])])
    across, along = off @ turn, off @ np.array([-turn[2], 0.0, turn[0]])
    deep = (along > 1.0) & (along < SLOT["depth"] - 0.4) & (np.abs(off[:, 0]) < 8)
    for name, side in (("Slot, front", -1.0), ("Slot, rear", 1.0)):
        job = _shape(job, name, "plane", (np.abs(across - side * SLOT["half"]) < 0.12) & deep)
    bed = (np.abs(along - SLOT["depth"]) < 0.12) & (np.abs(across) < SLOT["half"] - 0.2)
    job = _shape(job, "Slot, floor", "plane", bed & (np.abs(off[:, 0]) < 8))
    inside = body(places) < -0.12
    for name, side in (("Eye seat, left", 1.0), ("Eye seat, right", -1.0)):
        round_it = np.hypot(places[:, 0] - EYE["x"], places[:, 2] - EYE["z"]) < EYE["radius"] - 0.3
        job = _shape(job, name, "sphere", inside & round_it & (side * places[:, 1] > 0))
    return job


def _shape(job: Job, name: str, kind: Any, mask: Bools) -> Job:
    job = _region(job, f"{name} wall", mask)
    near = named(job, Region, f"{name} wall")
    return _hidden(
        follow(job, name, "shape", ShapeSettings(kind), measured=near), name, f"{name} wall"
    )


def _cut(job: Job) -> Job:
    """Cut seats, slot and holes of what was recognised; round the slot's edges by width."""
    shapes: tuple[str, ...] = ("Eye seat, left", "Eye seat, right")
    job = _drilled(job, "With seats", "Joined", DrillSettings(rounded=0.05), shapes)
    shapes = ("Slot, front", "Slot, rear", "Slot, floor")
    job = _drilled(job, "With slot", "With seats", DrillSettings(rounded=0.1), shapes)
    cut = named(job, Body, "With slot")
    settings = RoundSettings(by="width", size=0.4, edges=_mouth_of(cut))
    job = _hidden(follow(job, "Slot rounded", "round", settings, body=cut), "Slot rounded")
    for number, hole in enumerate(HOLES, start=1):
        before = "Slot rounded" if number == 1 else "With hole 1"
        name = "With hole 1" if number == 1 else "Lure"
        drill = DrillSettings(rounded=0.1, depth=float(hole["depth"]))
        job = _drilled(job, name, before, drill, (f"Hanger hole {number}",))
    lure, scan = named(job, Body, "Lure"), named(job, Scan, "Lure scan")
    job = watching(job.changed(lure.id, visible=True, density=BALSA), lure, scan)
    lure = named(job, Body, "Lure")
    found = measured(lure, scan.mesh, job.tolerance.deviation)
    return with_measured(job, lure, *found)


def _drilled(job: Job, name: str, before: str, how: DrillSettings, shapes: tuple[str, ...]) -> Job:
    taken = tuple(named(job, Shape, each) for each in shapes)
    job = follow(job, name, "drill", how, body=named(job, Body, before), shapes=taken)
    return _hidden(job, name)


def _mouth_of(cut: Body) -> tuple[float, ...]:
    """Return a place on each edge where the slot's floor comes out of the sides."""
    found: list[float] = []
    shape = cut.shape
    for k, (a, b) in enumerate(shape.edge_faces):
        pair = {shape.names[a], shape.names[b]} if b >= 0 else set()
        if pair == {"Slot", "Belly shell"} and 1.4 < shape.edge_turns[k] < 1.75:
            found += shape.middle(k).tolist()
    return tuple(found)


def _halves(job: Job) -> Job:
    """Hollow it by a cavity of rings set in by the wall, and part it in two halves."""
    rings = []
    for x in STATIONS[1:-1]:
        ring = named(job, Curve, f"Ring x = {x:g}")
        middle = ring.geometry.points.mean(axis=0)
        places = np.array(ring.recipe.settings.points) - middle if ring.recipe else np.zeros((0, 3))
        size = np.linalg.norm(places, axis=1, keepdims=True)
        name = f"Cavity x = {x:g}"
        job = _drawn_ring(job, name, middle + places * (1 - WALL / size))
        rings.append(named(job, Curve, name))
    settings = LoftSettings(within=0.05, start="round", stop="round")
    job = follow(job, "Cavity skin", "loft", settings, sections=tuple(rings))
    skin = named(job, Surface, "Cavity skin")
    job = follow(job, "Cavity", "join", JoinSettings(), faces=skin)
    job = follow(job, "Hollow", "take away", CombineSettings(), body=named(job, Body, "Lure"),
                 others=named(job, Body, "Cavity"))  # fmt: skip
    middle = Shape(
        id=job.new_id("shape"), name="Middle", visible=False,
        geometry=SimpleShape("plane", np.zeros(3), np.array([0.0, 1.0, 0.0])),
    )  # fmt: skip
    job = job.with_item(middle)
    for number, name in ((1, "Half 1"), (2, "Half 2")):
        job = follow(job, name, "split", PartSettings(part=number),
                     thing=named(job, Body, "Hollow"), by=middle)  # fmt: skip
    names = (ring.name for ring in rings)
    return _hidden(job, "Cavity skin", "Cavity", "Hollow", "Half 1", "Half 2", *names)


def _afloat(job: Job) -> Job:
    """Let it float with lead at the belly, and tell when an eye goes under."""
    turn = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    ring = np.stack([EYE["x"] + 2 * np.cos(turn), 0 * turn, EYE["z"] + 2 * np.sin(turn)], axis=1)
    # On the side that heels down.
    ring[:, 1] = -9.4
    job = _drawn_ring(job, "Eye", ring)
    settings = FloatSettings(material=BALSA, weights=LEAD)
    job = follow(job, "Lure afloat", "afloat", settings, body=named(job, Body, "Lure"),
                 marks=named(job, Curve, "Eye"))  # fmt: skip
    return _hidden(job, "Eye")


def _measured(job: Job) -> Job:
    """Tell how far the hangers are apart, and how long it is."""
    holes = [named(job, Shape, f"Hanger hole {k}") for k in (1, 2)]
    job = follow(job, "Hangers apart", "distance", DistanceSettings("along x"),
                 one=holes[0], other=holes[1])  # fmt: skip
    job = follow(job, "Length", "size", SizeSettings("along x"), thing=named(job, Body, "Lure"))
    return _hidden(job, "Hangers apart", "Length")


def _hidden(job: Job, *names: str) -> Job:
    for name in names:
        item = next(item for item in job.items.values() if item.name == name)
        job = job.changed(item.id, visible=False)
    return job
