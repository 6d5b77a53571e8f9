"""Measurements of the window: starting, opening what is large, dragging."""

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

DRAG = """
import time
from dataclasses import replace
import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication
from usual_clay.bench.shots import _fresh_window, settle
from usual_clay.bench.application import make_application
from usual_clay.core.fit.search.front import front
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.job.items import PointList
app = make_application()
window = _fresh_window()
session = window.session
s = np.linspace(0, 1, 10_000)
run = np.stack([100 * s, 0 * s, 8 * np.sin(9 * s)], axis=1)
run += np.random.default_rng(0).normal(0, 0.01, run.shape) * [1, 0, 1]
from usual_clay.bench.edits.points import add_list, add_spline
add_list(session, run, "run.csv")
add_spline(session, session.job.items[session.choice.item], TraceSettings(40))
settle(window)
window.set_station("Trace")
window.stage.look("side")
window.stage.swap()
window.cards.card.turn_to("judge")
settle(window)
pane = window.stage.side
drawn = [0.0]
for each in (window.stage.side, window.stage.free):
    def timed(moving, image=each.view.image):
        start = time.perf_counter()
        made = image(moving)
        drawn[0] += time.perf_counter() - start
        return made
    each.view.image = timed
curve = session.job.items[session.choice.item]
x, y, _ = pane.view.project(curve.geometry.points[[20]])[0]
def send(kind, dy):
    at = QPointF(x, y + dy)
    left = Qt.MouseButton.LeftButton
    QApplication.sendEvent(pane, QMouseEvent(kind, at, pane.mapToGlobal(at), left, left,
                                             Qt.KeyboardModifier.NoModifier))
send(QEvent.Type.MouseButtonPress, 0)
whole, pictures = [], []
for k in range(40):
    drawn[0] = 0.0
    start = time.perf_counter()
    send(QEvent.Type.MouseMove, 5 + k)
    QApplication.processEvents()
    whole.append(1e3 * (time.perf_counter() - start))
    pictures.append(1e3 * drawn[0])
print(*whole[5:])
print(*pictures[5:])
"""

# The same gesture on the net of a rich surface over 50,000 points of a scan.
DRAG_SURFACE = (
    DRAG[: DRAG.index("s = np.linspace")]
    + """
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.bench.edits.casts import start_cast
from usual_clay.job.items import Region, Scan
x, y = np.meshgrid(np.linspace(0, 100, 250), np.linspace(0, 60, 200), indexing="ij")
z = 6 * np.sin(x / 20) * np.cos(y / 25) + np.random.default_rng(0).normal(0, 0.02, x.shape)
mesh = TriangleMesh(np.stack([x, y, z], axis=2).reshape(-1, 3), grid_triangles(250, 200))
scan = Scan(id=session.job.new_id("scan"), name="Field", mesh=mesh)
session.commit(session.job.with_item(scan), "scan")
region = Region(id=session.job.new_id("region"), name="All", scan=scan.id,
                vertices=np.arange(len(mesh.vertices)))
session.commit(session.job.with_item(region), "region")
settle(window)
start_cast(session, region, CastSettings(30, 30, reach=0.02))
settle(window)
window.set_station("Surface")
window.cards.card.turn_to("shape")
window.stage.switch("scan", False)
settle(window)
pane = window.stage.free
"""
    + DRAG[DRAG.index("drawn = [0.0]") :].replace(
        "curve.geometry.points[[20]]", "curve.geometry.points[[14], 15]"
    )
)


STARTED = """
import time
start = time.perf_counter()
from usual_clay.demo.make import demo_job_file
from usual_clay.bench.application import make_application
app = make_application()
from usual_clay.bench.window import Window
window = Window()
window.show()
window.documents.open_file(demo_job_file())
while window.session.job.items and not window.stage.scene._portraits:
    app.processEvents()
app.processEvents()
window.stage.free.repaint()
print(time.perf_counter() - start, flush=True)
import os
os._exit(0)
"""


def starting(runs: int = 3) -> None:
    demo_job_file()
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    times = []
    for _ in range(runs):
        ran = subprocess.run(
            [sys.executable, "-c", STARTED],
            env=environment,
            capture_output=True,
            text=True,
            check=True,
        )
        times.append(float(ran.stdout.split()[-1]))
    say("from start to the demo job with its surface on the stage", times, "s", "under 4")


LARGE = """
import resource, sys, time
import numpy as np
from pathlib import Path
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from usual_clay.bench.application import make_application
from usual_clay.bench.edits.scans import add_scan
from usual_clay.bench.window import Window
from usual_clay.files.mesh_file import read_scan
app = make_application()
window = Window()
window.show()
app.processEvents()
start = time.perf_counter()
read = read_scan(Path(sys.argv[1]))
add_scan(window.session, read.mesh, "large", "mm")
app.processEvents()
window.stage.free.repaint()
opened = time.perf_counter() - start
while window.session.work.is_busy():
    app.processEvents()
    time.sleep(0.01)
pane, left = window.stage.free, Qt.MouseButton.LeftButton
window.commands.run("brush")
window.session.hand.set_brush(6)
app.processEvents()
moves = []
for step in range(40):
    kind = QEvent.Type.MouseMove if step else QEvent.Type.MouseButtonPress
    at = QPointF(pane.width() / 2 - 100 + 5 * step, pane.height() / 2 - 50 + 2 * step)
    before = time.perf_counter()
    none = Qt.KeyboardModifier.NoModifier
    app.sendEvent(pane, QMouseEvent(kind, at, pane.mapToGlobal(at), left, left, none))
    app.processEvents()
    moves.append(time.perf_counter() - before)
memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
print(opened, 1e3 * float(np.median(moves)), memory, flush=True)
import os
os._exit(0)
"""


def dragging() -> None:
    """Control points dragged in the window: of a 40-point curve, and of a 30 x 30 surface."""
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    for what, script in (("curve", DRAG), ("surface", DRAG_SURFACE)):
        ran = subprocess.run(
            [sys.executable, "-c", script],
            env=environment,
            capture_output=True,
            text=True,
            check=True,
        )
        whole, drawn = (np.array(row.split(), dtype=float) for row in ran.stdout.splitlines()[-2:])
        say(f"a move of a {what}'s control point, picture and all", list(whole), "ms", "")
        say("of it our own work, without the renderer's", list(whole - drawn), "ms", "under 16")


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
        environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
        ran = subprocess.run(
            [sys.executable, "-c", LARGE, str(path)],
            env=environment,
            capture_output=True,
            text=True,
            check=True,
        )
    opened, brush, memory = (float(word) for word in ran.stdout.split()[-3:])
    say("a million triangles, from file to picture", [opened], "s", "under 6")
    say("a move of the brush over them", [brush], "ms", "keeps up with the hand: under 33")
    say("the most memory that took", [memory], "GB", "under 1.5")
