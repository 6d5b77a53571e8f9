"""What is timed in a window: run in a process of its own, ``python -m benchmarks.hands WHAT``."""

from __future__ import annotations

import os
import resource
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from usual_clay.bench.application import make_application
from usual_clay.bench.edits.casts import start_cast
from usual_clay.bench.edits.points import add_list, add_spline
from usual_clay.bench.edits.scans import add_scan
from usual_clay.bench.edits.surfaces import (
    add_where_needed,
    insert_line,
    remove_line,
    reverse_surface,
)
from usual_clay.bench.stage.pane import Pane
from usual_clay.bench.still import fresh_window, open_demo, settle
from usual_clay.bench.window import Window
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.demo.make import demo_job_file
from usual_clay.files.mesh_file import read_scan
from usual_clay.job.items import Curve, PointList, Region, Scan, Surface

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


def send(pane: Pane, kind: QEvent.Type, at: QPointF) -> None:
    event = QMouseEvent(kind, at, QPointF(pane.mapToGlobal(at)), LEFT, LEFT, NONE)
    QApplication.sendEvent(pane, event)


def count_drawing(window: Window) -> list[float]:
    """Return a list whose only number grows by the seconds the renderer takes."""
    drawn = [0.0]
    for pane in (window.stage.side, window.stage.free):

        def timed(moving: bool, image: Callable[..., object] = pane.view.image) -> object:
            start = time.perf_counter()
            made = image(moving)
            drawn[0] += time.perf_counter() - start
            return made

        vars(pane.view)["image"] = timed
    return drawn


def drag(window: Window, pane: Pane, place: np.ndarray) -> None:
    """Drag what is at a place; print ms of each move, then those of the renderer in it."""
    drawn = count_drawing(window)
    x, y, _ = pane.view.project(place[None])[0]
    send(pane, QEvent.Type.MouseButtonPress, QPointF(x, y))
    whole, pictures = [], []
    for k in range(40):
        drawn[0] = 0.0
        start = time.perf_counter()
        send(pane, QEvent.Type.MouseMove, QPointF(x, y + 5 + k))
        QApplication.processEvents()
        whole.append(1e3 * (time.perf_counter() - start))
        pictures.append(1e3 * drawn[0])
    print(*whole[5:])
    print(*pictures[5:])


def drag_curve(_arguments: list[str]) -> None:
    window = fresh_window()
    session = window.session
    s = np.linspace(0, 1, 10_000)
    run = np.stack([100 * s, 0 * s, 8 * np.sin(9 * s)], axis=1)
    run += np.random.default_rng(0).normal(0, 0.01, run.shape) * [1, 0, 1]
    add_list(session, run, "run.csv")
    points = session.job.get(session.choice.item, PointList)
    assert points is not None
    add_spline(session, points, TraceSettings(40))
    settle(window)
    window.set_station("Trace")
    window.stage.look("side")
    window.stage.swap()
    window.cards.card.turn_to("judge")
    settle(window)
    curve = session.job.get(session.choice.item, Curve)
    assert curve is not None
    drag(window, window.stage.side, curve.geometry.points[20])


def drag_surface(_arguments: list[str]) -> None:
    """The same gesture on the net of a rich surface over 50,000 points of a scan."""
    window = fresh_window()
    surface = cast_field(window, 250, 200)
    window.stage.switch("scan", False)
    settle(window)
    drag(window, window.stage.free, surface.geometry.points[14, 15])


def cast_field(window: Window, length: int, width: int) -> Surface:
    """Return a cast of 30 x 30 control points over a noisy scan of so many rows, to be shaped."""
    session = window.session
    x, y = np.meshgrid(np.linspace(0, 100, length), np.linspace(0, 60, width), indexing="ij")
    noise = np.random.default_rng(0).normal(0, 0.02, x.shape)
    z = 6 * np.sin(x / 20) * np.cos(y / 25) + noise
    places = np.stack([x, y, z], axis=2).reshape(-1, 3)
    mesh = TriangleMesh(places, grid_triangles(length, width))
    scan = Scan(id=session.job.new_id("scan"), name="Field", mesh=mesh)
    session.commit(session.job.with_item(scan), "scan")
    every = np.arange(len(mesh.vertices))
    region = Region(id=session.job.new_id("region"), name="All", scan=scan.id, vertices=every)
    session.commit(session.job.with_item(region), "region")
    settle(window)
    start_cast(session, region, CastSettings(30, 30, reach=0.02))
    settle(window)
    window.set_station("Surface")
    window.cards.card.turn_to("shape")
    surface = session.job.get(session.choice.item, Surface)
    assert surface is not None
    session.hand.may_shape.add(surface.id)
    return surface


def shaping(_arguments: list[str]) -> None:
    """Print for how many s the window stands still at each of several edits of a surface over half
    a million points."""
    window = fresh_window()
    surface = cast_field(window, 1000, 500)
    settle(window)
    session, pane = window.session, window.stage.free

    def cur() -> Surface:
        return session.job.the(surface.id, Surface)

    x, y, _ = pane.view.project(surface.geometry.points[14, 15][None])[0]
    send(pane, QEvent.Type.MouseButtonPress, QPointF(x, y))
    send(pane, QEvent.Type.MouseMove, QPointF(x, y + 7))
    settle(window)
    steps: list[Callable[[], object]] = [
        lambda: send(pane, QEvent.Type.MouseButtonRelease, QPointF(x, y + 7)),
        lambda: insert_line(session, cur(), "u"),
        lambda: reverse_surface(session, cur(), "u"),
        lambda: remove_line(session, cur(), "u"),
        lambda: add_where_needed(session, cur()),
    ]
    for step in steps:
        start = time.perf_counter()
        step()
        print(time.perf_counter() - start)
        settle(window)


def choosing(_arguments: list[str]) -> None:
    """Print ms of choosing, hiding and showing each visible item of the demo job."""
    window = fresh_window()
    open_demo(window)
    session, times = window.session, {"choose": [], "hide": [], "show": []}
    for item in [each for each in session.job.items.values() if each.visible][:40]:
        steps: list[tuple[str, Callable[[], object]]] = [
            ("choose", lambda item=item: session.choice.choose(item.id)),
            ("hide", lambda item=item: session.set_flag(item.id, "visible", False)),
            ("show", lambda item=item: session.set_flag(item.id, "visible", True)),
        ]
        for name, step in steps:
            start = time.perf_counter()
            step()
            QApplication.processEvents()
            times[name].append(1e3 * (time.perf_counter() - start))
            settle(window)
    for row in times.values():
        print(*row)


def turning(_arguments: list[str]) -> None:
    """Print ms of each turn of the view of the demo job: with plain shading, and with stripes."""
    window = fresh_window()
    open_demo(window)
    pane = window.stage.large
    for judging in ("plain form", "judge stripes"):
        window.commands.run(judging)
        settle(window)
        times = []
        for _ in range(20):
            start = time.perf_counter()
            camera = pane.view.camera
            pane.move_camera(camera.turned(0.06, 0.01, camera.focus))
            pane.repaint()
            QApplication.processEvents()
            times.append(1e3 * (time.perf_counter() - start))
        print(*times)


def start(arguments: list[str]) -> None:
    """Tell the seconds since a time of the machine's clock, when the command was given."""
    app = make_application()
    window = Window()
    window.show()
    window.documents.open_file(demo_job_file())
    while not window.stage.scene._portraits:
        app.processEvents()
        # As a loop of events does, it leaves the time to whoever works.
        time.sleep(0.002)
    app.processEvents()
    window.stage.free.repaint()
    print(time.monotonic() - float(arguments[0]))


def large(arguments: list[str]) -> None:
    app = make_application()
    window = Window()
    window.show()
    app.processEvents()
    began = time.perf_counter()
    read = read_scan(Path(arguments[0]))
    add_scan(window.session, read.mesh, "large", "mm")
    app.processEvents()
    window.stage.free.repaint()
    opened = time.perf_counter() - began
    settle(window)
    pane = window.stage.free
    window.commands.run("brush")
    window.session.hand.set_brush(6)
    app.processEvents()
    moves = []
    for step in range(40):
        kind = QEvent.Type.MouseMove if step else QEvent.Type.MouseButtonPress
        at = QPointF(pane.width() / 2 - 100 + 5 * step, pane.height() / 2 - 50 + 2 * step)
        before = time.perf_counter()
        send(pane, kind, at)
        app.processEvents()
        moves.append(time.perf_counter() - before)
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(opened, 1e3 * float(np.median(moves)), memory)


WHAT = {
    "curve": drag_curve,
    "surface": drag_surface,
    "shaping": shaping,
    "choosing": choosing,
    "turning": turning,
    "start": start,
    "large": large,
}

if __name__ == "__main__":
    _app = make_application()
    WHAT[sys.argv[1]](sys.argv[2:])
    sys.stdout.flush()
    # Nothing of the window is to be taken down in order.
    os._exit(0)
