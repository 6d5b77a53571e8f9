"""The lure's surfaces from curves: belly, tail, diving lip, hanger wire, a part of a gill plate."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats, as_places
from usual_clay.core.build.fill import FillSettings, FlatSettings
from usual_clay.core.build.net import NetSettings
from usual_clay.core.build.straight import RuledSettings
from usual_clay.core.build.turned import RevolveSettings, TubeSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.scan.region import spread
from usual_clay.core.spline.chain import ChainSettings
from usual_clay.core.spline.curve import curve_points
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.demo.curves import follow, named
from usual_clay.demo.shape import HOLES, LENGTH, SLOT, profile
from usual_clay.demo.surfaces import REAR, arch, half_width, leanest, nearest, on_scan
from usual_clay.job.items import Curve, Region, Scan, Surface
from usual_clay.job.job import Job

# Where the belly is clicked, and where a third arch crosses it.
BELLY_SEED, MIDDLE = (60.0, 0.0, -9.5), 68.0
NEAR = 0.035
# The lip's outline: how far out of the slot, and to the side, mm; its thickness.
LIP = ((5.5, 0.0), (4.0, 4.6), (-4.0, 6.4), (-14.0, 9.0), (-21.5, 6.6), (-24.0, 0.0))
LIP_THICKNESS = 1.2
# The hanger's wire and the loop at its end, mm.
WIRE, LOOP = 0.45, 2.2
# The part of the side above the gill plate that it goes on from.
BROW = np.array([[18.6, -13.0, 3.6], [26.6, -3.0, 6.4]])
# What is filled: corners and points on the way, x and z in the side view, mm.
FILLED = (
    ((19.6, -4.5), (22.6, -4.6), (25.6, -4.5)),
    ((25.6, -4.5), (25.8, -0.2), (25.6, 4.0)),
    ((25.6, 4.0), (22.6, 4.1), (19.6, 4.0)),
    ((19.6, 4.0), (19.4, -0.2), (19.6, -4.5)),
)


def with_parts(job: Job) -> Job:
    """Make what is made from curves, tied to them, near the scan where it shows them."""
    for step in (_belly, _tail, _lip, _hanger, _gill):
        job = step(job)
    return job


def _belly(job: Job) -> Job:
    """Lay a net through widest lines, belly outline and arches, near the scan between them."""
    scan, left = named(job, Scan, "Lure scan"), named(job, Curve, "Widest line")
    clicked = nearest(scan, np.array(BELLY_SEED))
    job = _region(job, "Belly region", np.flatnonzero(spread(scan.mesh, clicked, 0.3)))
    places = curve_points(left.geometry, np.linspace(0, 1, 400))
    start = places[int(np.argmin(np.abs(places[:, 0] - MIDDLE)))]
    job = arch(job, "Belly arch, middle", float(start[0]), -1, start)
    along = ("Widest line", "Belly outline", "Widest line twin")
    across = ("Belly arch, front", "Belly arch, middle", "Belly arch, rear")
    settings = NetSettings(within=job.tolerance.deviation)
    return _hidden(
        _made(job, "Belly net", "net", settings, "Belly region", along=along, across=across)
    )


def _tail(job: Job) -> Job:
    """Turn half of the tail's outline about the lure's axis, guided by its rear arches."""
    arches = named(job, Curve, "Back arch, rear"), named(job, Curve, "Belly arch, rear")
    job = follow(job, "Tail ring", "chain", ChainSettings(most=0.2), curves=arches)
    top = curve_points(arches[0].geometry, [0.5])[0]
    _, _, _, centre = (float(part[0]) for part in profile(np.array([LENGTH - 0.5])))
    scan = named(job, Scan, "Lure scan")
    middle = scan.mesh.vertices[np.abs(scan.mesh.vertices[:, 1]) < 0.3]
    tip = middle[int(np.argmax(middle[:, 0]))] * [1, 0, 1]
    x = np.linspace(0, 1, 5)[1:-1] ** 1.5
    way = np.stack([top[0] + (tip[0] - top[0]) * x, 0 * x, centre + (top[2] - centre) * (1 - x)], 1)
    job = on_scan(job, "Tail profile", np.concatenate([[top], way, [tip]]))
    axis = np.array([[REAR - 2, 0.0, tip[2]], [LENGTH + 2, 0.0, tip[2]]])
    job = _drawn(job, "Tail axis", axis)
    job = _region(job, "Tail end", np.flatnonzero(scan.mesh.vertices[:, 0] > REAR - 0.2))
    job = _made(
        job, "Tail", "guided revolve", RevolveSettings(within=0.05), "Tail end",
        profile=("Tail profile",), axis=("Tail axis",), rail=("Tail ring",),
    )  # fmt: skip
    return _hidden(job, "Tail ring", "Tail profile", "Tail axis")


def _lip(job: Job) -> Job:
    """Make the diving lip, a plate that stands in the slot: its rim ruled, its faces flat."""
    _, _, belly, centre = (float(part[0]) for part in profile(np.array([SLOT["x"]])))
    tilt, foot = SLOT["tilt"], np.array([SLOT["x"], 0.0, centre - belly])
    along, across = (
        np.array([-np.sin(tilt), 0, np.cos(tilt)]),
        np.array([np.cos(tilt), 0, np.sin(tilt)]),
    )
    half = np.array(LIP)
    ring = np.concatenate([half, half[-2:0:-1] * [1, -1]])
    for name, side in (("front", -0.5), ("rear", 0.5)):
        places = foot + np.outer(ring[:, 0], along) + np.outer(ring[:, 1], [0.0, 1, 0])
        places = places + side * LIP_THICKNESS * across
        settings = DrawnSettings("through", as_places(np.round(places, 3)), closed=True)
        job = follow(job, f"Lip edge, {name}", "drawn", settings)
        edge = named(job, Curve, f"Lip edge, {name}")
        job = follow(job, f"Lip face, {name}", "flat", FlatSettings(within=0.02), edges=edge)
    edges = named(job, Curve, "Lip edge, front"), named(job, Curve, "Lip edge, rear")
    job = follow(job, "Lip rim", "ruled", RuledSettings(), edges=edges)
    return _hidden(job, "Lip edge, front", "Lip edge, rear")


def _hanger(job: Job) -> Job:
    """Lead a wire out of the front hanger's hole and round in a loop."""
    x = float(HOLES[0]["x"])
    _, _, belly, centre = (float(part[0]) for part in profile(np.array([x])))
    low = centre - belly
    turn = np.linspace(0, 1.72 * np.pi, 9)
    loop = np.stack(
        [x + LOOP * (1 - np.cos(turn)), 0 * turn, low - 3.0 - LOOP * np.sin(turn)], axis=1
    )
    stem = np.array([[x, 0.0, low + 5.0], [x, 0.0, low + 1.5], [x, 0.0, low - 1.5]])
    places = np.round(np.concatenate([stem, loop]), 3)
    job = follow(job, "Hanger path", "drawn", DrawnSettings("through", as_places(places)))
    path = named(job, Curve, "Hanger path")
    settings = TubeSettings(radii=(WIRE,), ends="round", within=0.04)
    return _hidden(follow(job, "Hanger wire", "tube", settings, path=path), "Hanger path")


def _gill(job: Job) -> Job:
    """Fill the gill plate's borders, near the scan, smooth to the brow above them."""
    scan = named(job, Scan, "Lure scan")
    places = scan.mesh.vertices
    job = _region(
        job, "Brow", np.flatnonzero(((places > BROW[0]) & (places < BROW[1])).all(axis=1))
    )
    brow = named(job, Region, "Brow")
    job = leanest(job, "cast", CastSettings(reach=0.02), "Brow cast", measured=brow.id)
    edges = []
    for number, leg in enumerate(FILLED, start=1):
        near = np.array([[x, -half_width(x, z), z] for x, z in leg])
        job = on_scan(job, f"Gill side {number}", near)
        edges.append(named(job, Curve, f"Gill side {number}"))
    corners = np.concatenate([curve_points(edge.geometry, np.linspace(0, 1, 40)) for edge in edges])
    low, high = corners.min(axis=0) - 0.3, corners.max(axis=0) + 0.3
    job = _region(
        job, "Gill region", np.flatnonzero(((places > low) & (places < high)).all(axis=1))
    )
    job = follow(
        job, "Gill plate", "fill", FillSettings(within=NEAR, smooth=1), edges=tuple(edges),
        beside=named(job, Surface, "Brow cast"), near=named(job, Region, "Gill region"),
    )  # fmt: skip
    return _hidden(job, "Brow cast", "Gill plate")


def _region(job: Job, name: str, vertices: Any) -> Job:
    scan = named(job, Scan, "Lure scan")
    return job.with_item(
        Region(id=job.new_id("region"), name=name, scan=scan.id, vertices=vertices)
    )


def _boxed(job: Job, name: str, box: Floats) -> Job:
    places = named(job, Scan, "Lure scan").mesh.vertices
    inside = ((places > box[0]) & (places < box[1])).all(axis=1)
    return _region(job, name, np.flatnonzero(inside))


def _drawn(job: Job, name: str, points: Floats) -> Job:
    return follow(job, name, "drawn", DrawnSettings("controls", as_places(points), degree=1))


def _made(
    job: Job, name: str, kind: str, settings: Any, near: str, **roles: tuple[str, ...]
) -> Job:
    """Make a surface from curves near a region, all told by their names."""
    curves: dict[str, Any] = {
        role: tuple(named(job, Curve, each) for each in names) for role, names in roles.items()
    }
    return follow(job, name, kind, settings, near=named(job, Region, near), **curves)


def _hidden(job: Job, *names: str) -> Job:
    """Hide items, without names the one that was made last."""
    last = list(job.items.values())[-1]
    for item in list(job.items.values()):
        if (item.name in names and not isinstance(item, Region)) or (not names and item is last):
            job = job.with_item(replace(item, visible=False))
    return job
