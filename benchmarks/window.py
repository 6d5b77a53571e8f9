"""Measurements of the window: starting, opening what is large, dragging, choosing."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from benchmarks.timing import say
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import cast
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.scan.sample import Sample
from usual_clay.demo.make import demo_job_file
from usual_clay.files.mesh_file import write_mesh


def in_a_window(what: str, *arguments: str) -> list[list[float]]:
    """Run one part of ``benchmarks.hands`` without a screen; return the numbers of its lines."""
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    command = [sys.executable, "-m", "benchmarks.hands", what, *arguments]
    ran = subprocess.run(command, env=environment, stdout=subprocess.PIPE, text=True, check=True)
    return [[float(word) for word in row.split()] for row in ran.stdout.splitlines()]


def starting(runs: int = 3) -> None:
    demo_job_file()
    times = [in_a_window("start", str(time.monotonic()))[-1][0] for _ in range(runs)]
    say("from start to the demo job with its surface on the stage", times, "s", "under 4")


def dragging() -> None:
    """Control points dragged in the window: of a 40-point curve, and of a 30 x 30 surface."""
    for what, aim in (("curve", ""), ("surface", "under 50")):
        whole, drawn = (np.array(row) for row in in_a_window(what)[-2:])
        say(f"a move of a {what}'s control point, picture and all", list(whole), "ms", aim)
        say("of it our own work, without the renderer's", list(whole - drawn), "ms", "under 16")


def shaping() -> None:
    """A surface of 30 x 30 over half a million points shaped: how long the window stands still."""
    edits = (
        "a dragged point kept",
        "a row more",
        "run the other way",
        "a row less",
        "where needed",
    )
    for what, times in zip(edits, in_a_window("shaping"), strict=True):
        say(f"over 500000 points, {what}", times, "s", "under 1")


def choosing() -> None:
    """Items of the demo job chosen, hidden and shown again, until the picture is there."""
    for what, times in zip(("choosing", "hiding", "showing"), in_a_window("choosing"), strict=True):
        say(f"{what} an item of the demo job", times, "ms", "under 100")


def live_surface() -> None:
    """New feet, figures and colours of a 30 x 30 surface over 50,000 points, a move at a time."""
    from usual_clay.bench.stage.colours import spot_colours
    from usual_clay.bench.stage.portrait import followed, make_portrait
    from usual_clay.core.check.deviation import judge
    from usual_clay.core.check.live import live_feet

    x, y = np.meshgrid(np.linspace(0, 100, 250), np.linspace(0, 60, 200), indexing="ij")
    z = 6 * np.sin(x / 20) * np.cos(y / 25)
    points = np.stack([x, y, z], axis=2).reshape(-1, 3)
    points[:, 2] += np.random.default_rng(0).normal(0, 0.02, len(points))
    up = np.tile([0.0, 0.0, 1.0], (len(points), 1))
    surface = cast(Sample(points, up), CastSettings(30, 30, reach=0.02)).surface
    live = live_feet(surface, points)
    tolerance, times = Tolerance(0.05), []
    portrait = make_portrait(surface, 0.01, points, live.signed)
    for k in range(30):
        net = surface.points.copy()
        net[14, 15, 2] += 0.05 * (k + 1)
        moved = replace(surface, points=net)
        start = time.perf_counter()
        live = live.follow(moved)
        judge(live.signed, tolerance)
        now = followed(portrait, moved)
        assert now is not None
        assert now.spots is not None
        portrait = now
        spot_colours(now.spots, live.signed, tolerance.deviation, 0.15)
        times.append(1e3 * (time.perf_counter() - start))
    say("a moved control point of 30 x 30: feet, figures, colours", times, "ms", "under 16")


def large_scan() -> None:
    """A million triangles: opening, brushing, memory."""
    from trimesh.creation import icosphere

    ball = icosphere(subdivisions=8, radius=40)
    share = 1_000_000 / len(ball.faces)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "large.ply"
        noise = np.random.default_rng(0).normal(0, 0.01, ball.vertices.shape)
        write_mesh(path, ball.vertices + noise, ball.faces[: round(share * len(ball.faces))])
        opened, brush, memory = in_a_window("large", str(path))[-1]
    say("a million triangles, from file to picture", [opened], "s", "under 6")
    say("a move of the brush over them", [brush], "ms", "keeps up with the hand: under 33")
    say("the most memory that took", [memory], "GB", "under 1.5")
