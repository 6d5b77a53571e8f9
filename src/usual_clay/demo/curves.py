"""The lure's curves, traced from its references as a designer would."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats, as_place, as_places
from usual_clay.core.build.combine import BridgeSettings, PairSettings, TwinSettings
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings, parts_of
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.picture.outline import OutlineSettings, find_outline
from usual_clay.core.picture.placement import to_flat, to_space
from usual_clay.core.scan.section import SectionSettings
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.demo.pictures import TOP_SHRINK
from usual_clay.demo.shape import SLOT, carved, profile
from usual_clay.files.picture_file import decode
from usual_clay.job.edits.make import add
from usual_clay.job.edits.points import with_traced
from usual_clay.job.items import Curve, Picture, PointList, Scan
from usual_clay.job.job import Job

# Where outlines end and the bridges round the tail begin; where the gill plate's step lies, mm.
SIDE_END, TOP_END = 93.5, 95.0
GILL_FRONT, GILL_REAR = 29.7, 30.8
STATIONS = (24.0, 50.0, 75.0)
GILL_HEIGHTS = (-0.9, 6.2)


def with_curves(job: Job) -> Job:
    """Trace the lure: outlines, their bridges at the tail, the gill plate's edge, profiles."""
    for step in (_centre_outline, _top_outline, _gill_edge, _profiles):
        job = step(job)
    return job


def named(job: Job, kind: type[Any], name: str) -> Any:
    """Return the item of a kind that has a name."""
    return next(item for item in job.all(kind) if item.name == name)


def follow(job: Job, name: str, kind: str, settings: Any, **roles: Any) -> Job:
    """Add an item that follows others, by the door that the window uses."""
    ids: dict[str, Any] = {
        role: [item.id for item in (taken if isinstance(taken, tuple) else (taken,))]
        for role, taken in roles.items()
    }
    return add(job, kind, settings, name, **ids)[0]


def _drawn(job: Job, name: str, points: Floats) -> Job:
    """Add a curve drawn by its control points."""
    return follow(job, name, "drawn", DrawnSettings("controls", as_places(points)))


def _traced(
    job: Job, name: str, points: PointList, settings: TraceSettings, part: float = 1.0
) -> Job:
    """Add the leanest spline that follows a list within tolerance, or a part of it."""
    run = PointSequence(points.points[points.kept], points.closed)
    near = replace(job.tolerance, deviation=part * job.tolerance.deviation)
    return with_traced(job, points, trace(run, settings, near), name)[0]


def _centre_outline(job: Job) -> Job:
    """Trace the probed outline in two halves that meet at the slot, a true corner."""
    points = named(job, PointList, "Centre outline")
    (_, back, belly, centre) = profile(np.array([SIDE_END, SLOT["x"]]))
    ends = np.stack(
        [
            [SIDE_END, 0, centre[0] + back[0]],
            [SIDE_END, 0, centre[0] - belly[0]],
            [SLOT["x"], 0, centre[1] - belly[1]],
        ]
    )
    settings = TraceSettings(knots="adaptive", cuts=tuple(as_place(end) for end in ends))
    parts = parts_of(PointSequence(points.points[points.kept], True), 0.0, settings.cuts)
    for part, run in enumerate(parts):
        if len(run.points) > len(points.kept) // 5:
            name = "Back outline" if run.points[:, 2].mean() > 0 else "Belly outline"
            # A bridge goes on from its ends.
            job = _traced(job, name, points, replace(settings, part=part), 0.6)
    halves = named(job, Curve, "Back outline"), named(job, Curve, "Belly outline")
    bridge = BridgeSettings(
        first_smooth=1, second_smooth=1, first_strength=1.7, second_strength=2.2
    )
    return follow(job, "Tail bridge, side", "bridge", bridge, first=halves[0], second=halves[1])


def _top_outline(job: Job) -> Job:
    """Trace the top picture's outline, parted at the gill plate's step, and twin it.

    The picture is too small by what its agreement with the others tells; that is undone here.
    """
    picture = named(job, Picture, "Top")
    placed = picture.placement
    mended = replace(placed, width=placed.width / TOP_SHRINK, height=placed.height / TOP_SHRINK)
    found = find_outline(decode(picture.data), OutlineSettings())
    outline = to_space(mended, to_flat(mended, picture.size, found.pixels))
    outline[:, 1] -= (outline[:, 1].max() + outline[:, 1].min()) / 2
    half = outline[outline[:, 1] > 0]
    half = half[np.argsort(np.arctan2(half[:, 1], half[:, 0] - 48))[::-1]]
    x = half[:, 0]
    nose = np.array([[half[0, 0], 0.0, 0.0]])
    front = PointSequence(np.concatenate([nose, half[x < GILL_FRONT]]), held=(True, False))
    job = _drawn(job, "Top outline, front", fit_sequence(front, TraceSettings(7)).curve.points)
    rear = PointSequence(half[(x > GILL_REAR) & (x < TOP_END)])
    lean = fit_sequence(rear, TraceSettings(7, knots="adaptive")).curve
    job = job.with_item(Curve(id=job.new_id("curve"), name="Top outline, rear", geometry=lean))
    for name in ("Top outline, front", "Top outline, rear"):
        job = follow(job, f"{name} twin", "twin", TwinSettings(), curve=named(job, Curve, name))
    rears = named(job, Curve, "Top outline, rear"), named(job, Curve, "Top outline, rear twin")
    bridge = BridgeSettings(first_at=1.0, second_at=1.0, first_strength=1.4, second_strength=1.4)
    return follow(job, "Tail bridge, top", "bridge", bridge, first=rears[0], second=rears[1])


def gill_edge(count: int = 60) -> Floats:
    """Return places on the true upper rear edge of the right gill plate, (count, 3)."""
    height = np.linspace(*GILL_HEIGHTS, count)
    x = 30.0 - 0.035 * (height + 1.0) ** 2
    _, _, _, centre = profile(x)
    low, high = np.zeros(count), np.full(count, 14.0)
    for _ in range(60):
        middle = (low + high) / 2
        inside = carved(np.stack([x, middle, height + centre], axis=1)) < 0
        low, high = np.where(inside, middle, low), np.where(inside, high, middle)
    return np.stack([x, -low, height + centre], axis=1)


def _gill_edge(job: Job) -> Job:
    """Draw the gill plate's edge in two views, and pair them into space."""
    edge = gill_edge()
    for name, flat in (("side", [1, 0, 1]), ("top", [1, 1, 0])):
        # As near as a hand sets points over a picture.
        seen = fit_sequence(
            PointSequence(edge * flat, held=(True, True)), TraceSettings(6)
        ).curve.points
        job = _drawn(job, f"Gill edge, {name}", np.round(seen, 2))
    views = named(job, Curve, "Gill edge, side"), named(job, Curve, "Gill edge, top")
    return follow(job, "Gill edge", "pair", PairSettings("x"), first=views[0], second=views[1])


def _profiles(job: Job) -> Job:
    """Slice the scan across, and trace each slice."""
    scan = named(job, Scan, "Lure scan")
    for station in STATIONS:
        name = f"Slice x = {station:g}"
        job = follow(job, name, "section", SectionSettings("x", station), scan=scan)
        points = named(job, PointList, name)
        job = job.changed(points.id, visible=False)
        job = _traced(job, f"Profile x = {station:g}", points, TraceSettings(knots="adaptive"))
    return job
