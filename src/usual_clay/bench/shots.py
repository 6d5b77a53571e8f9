"""Pictures of the main views, made from the demo job in the real window, without a screen."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from usual_clay.bench.still import fresh_window, open_surfaces, settle

if TYPE_CHECKING:
    from usual_clay.bench.window import Window
    from usual_clay.job.items import Item, Surface

Wanted = TypeVar("Wanted", bound="Item")


def write_shots(folder: Path, names: Sequence[str] = ()) -> None:
    """Write one PNG for each main view into a folder, or only for those that are named."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as own:
        # A user's jobs that were not saved, and recent ones, are in no picture.
        os.environ |= {"XDG_STATE_HOME": own, "XDG_CONFIG_HOME": own}
        _write(folder, names)


def _write(folder: Path, names: Sequence[str]) -> None:
    from usual_clay.bench.application import make_application
    from usual_clay.bench.shots_made import MADE
    from usual_clay.bench.start import retire

    app = make_application()
    folder.mkdir(parents=True, exist_ok=True)
    for name, arrange in {**VIEWS, **MADE}.items():
        if names and name not in names:
            continue
        window = fresh_window()
        arrange(window)
        settle(window)
        window.grab().save(str(folder / f"{name}.png"), "PNG", 0)
        retire(window)
        app.processEvents()
        print(f"{folder / name}.png")


def _empty(window: Window) -> None:
    window.set_station("Gather")


def _brush(window: Window) -> None:
    """Spread the back from a click, then hold the brush half way through a stroke."""
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    from usual_clay.bench.edits.scans import add_scan
    from usual_clay.demo.make import BACK_SEED, demo_scan_file
    from usual_clay.demo.scan import pose
    from usual_clay.files.mesh_file import read_mesh

    add_scan(window.session, read_mesh(demo_scan_file()), "brackwater-lure.ply", "mm")
    window.set_station("Surface")
    settle(window)
    window.session.choice.choose(None)
    pane = window.stage.free

    def send(kind: QEvent.Type, at: tuple[float, float], button: Qt.MouseButton) -> None:
        place = QPointF(*at)
        buttons = Qt.MouseButton.LeftButton if kind != QEvent.Type.MouseButtonRelease else button
        QApplication.sendEvent(
            pane,
            QMouseEvent(
                kind,
                place,
                pane.mapToGlobal(place),
                button,
                buttons,
                Qt.KeyboardModifier.NoModifier,
            ),
        )

    def on_screen(point: Sequence[float]) -> tuple[float, float]:
        x, y, _ = pane.view.project(pose().to_scan(np.array([point])))[0]
        return float(x), float(y)

    window.commands.run("spread")
    left = Qt.MouseButton.LeftButton
    at = on_screen(BACK_SEED)
    send(QEvent.Type.MouseButtonPress, at, left)
    send(QEvent.Type.MouseButtonRelease, at, left)
    window.commands.run("brush")
    window.session.hand.set_brush(3.0)
    settle(window)
    path = [on_screen((x, -11.0, 1.0)) for x in np.linspace(40, 62, 12)]
    send(QEvent.Type.MouseButtonPress, path[0], left)
    for place in path[1:]:
        send(QEvent.Type.MouseMove, place, left)


def _cast(window: Window) -> None:
    open_surfaces(window)


def _chosen(window: Window) -> Surface:
    surface = window.session.choice.surface()
    assert surface is not None
    return surface


def _refit(window: Window, **settings: object) -> None:
    """Fit the chosen surface by other settings."""
    from usual_clay.bench.edits.making import set_settings

    surface = _chosen(window)
    assert surface.recipe is not None
    changed = replace(surface.recipe.settings, **settings)
    set_settings(window.session, surface, changed, "settings")
    settle(window)


def _tolerance(window: Window) -> None:
    open_surfaces(window)
    _hide_curves(window)
    _refit(window, knots="adaptive")
    settle(window)
    window.commands.run("to tolerance")
    settle(window)
    window.fronts.begin()
    settle(window)
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    pane = window.stage.free
    place = QPointF(pane.width() * 0.35, pane.height() * 0.45)
    none = Qt.MouseButton.NoButton
    QApplication.sendEvent(
        pane,
        QMouseEvent(
            QEvent.Type.MouseMove,
            place,
            pane.mapToGlobal(place),
            none,
            none,
            Qt.KeyboardModifier.NoModifier,
        ),
    )


def _gather(window: Window, kind: type[Wanted], name: str = "") -> Wanted:
    """Open the demo job at Gather with one of its items shown and chosen; return the item."""
    open_surfaces(window)
    window.set_station("Gather")
    item = next(i for i in window.session.job.all(kind) if name in i.name)
    if not item.visible:
        window.session.set_flag(item.id, "visible", True)
    window.session.choice.choose(item.id)
    settle(window)
    return window.session.job.the(item.id, kind)


def _straighten(window: Window) -> None:
    from usual_clay.job.items import Scan

    _gather(window, Scan)
    window.commands.run("straighten")
    settle(window)
    window.cards.ask("straighten").turn_to("onto")


def _spline(window: Window) -> None:
    """The centre outline traced, with its comb and its Balance."""
    from usual_clay.job.items import PointList

    _gather(window, PointList, "Centre outline")
    _hide_curves(window)
    outline = next(p for p in window.session.job.all(PointList) if p.name == "Centre outline")
    window.session.choice.choose(outline.id)
    window.set_station("Trace")
    for switch in ("scan", "surfaces"):
        window.stage.switch(switch, False)
    window.commands.run("spline")
    settle(window)
    window.commands.run("to tolerance")
    settle(window)
    window.session.sight.set_comb(0.6)
    window.stage.swap()


def _hide_curves(window: Window, *but: str) -> None:
    from usual_clay.job.items import Curve

    for curve in list(window.session.job.all(Curve)):
        if curve.name not in but:
            window.session.set_flag(curve.id, "visible", False)


def _draw(window: Window) -> None:
    """A curve being drawn over the top picture by its control points."""
    from usual_clay.job.items import Picture

    _gather(window, Picture, "Top")
    _hide_curves(window)
    window.session.choice.choose(None)
    window.set_station("Trace")
    for switch in ("scan", "surfaces"):
        window.stage.switch(switch, False)
    window.stage.look("top")
    window.stage.swap()
    settle(window)
    window.commands.run("draw")
    window.session.sight.set_comb(0.5)
    places = [
        [0.9, 0, 0],
        [0.7, 6.4, 0],
        [11, 12.6, 0],
        [30, 13.2, 0],
        [56, 8.2, 0],
        [95.2, 4.2, 0],
        [95.1, 0, 0],
    ]
    marking = window.session.hand.marking
    assert marking is not None
    window.session.hand.set_marking(marking.with_places(np.array(places)))


def _shaping(window: Window) -> None:
    """A row of a lean surface, half way through a drag."""
    from usual_clay.job.edits.shaping import places_of, with_places

    open_surfaces(window)
    _hide_curves(window)
    session = window.session
    _refit(window, nu=11, nv=5, knots="adaptive")
    card: Any = window.cards.card
    card.turn_to("shape")
    session.hand.set_pick("row")
    surface = _chosen(window)
    report = session.job.report(surface)
    assert report is not None
    columns = surface.geometry.counts[1]
    row = [5 * columns + k for k in range(columns)]
    session.choice.choose_points(row)
    session.sight.before_move[surface.id] = report
    places = places_of(surface, "control").copy()
    places[row] += [0.0, 0.0, 0.22]
    session.propose(session.job.with_item(with_places(session.job, surface, "control", places)))


def _patch(window: Window) -> None:
    """A patch over the gill plate, its fourth corner just set."""
    from usual_clay.bench.gestures.look import zoom
    from usual_clay.demo.surfaces import gill_places
    from usual_clay.job.items import Scan, Surface

    open_surfaces(window)
    _hide_curves(window)
    window.set_station("Surface")
    window.session.choice.choose(None)
    for surface in window.session.job.all(Surface):
        window.session.set_flag(surface.id, "visible", False)
    window.commands.run("patch")
    settle(window)
    places, passing = gill_places(next(window.session.job.all(Scan)))
    for pane, times in ((window.stage.free, 7), (window.stage.side, 5)):
        x, y, _ = pane.view.project(places.mean(axis=0)[None])[0]
        zoom(pane, float(x), float(y), times)
        pane.rest()
    marking = window.session.hand.marking
    assert marking is not None
    window.session.hand.set_marking(replace(marking, passing=passing).with_places(places))


def _sections(window: Window) -> None:
    """The belly patch and the scan, cut at six planes."""
    from usual_clay.job.items import Surface

    open_surfaces(window)
    _hide_curves(window)
    window.set_station("Check")
    belly = next(s for s in window.session.job.all(Surface) if s.name == "Belly patch")
    window.session.choice.choose(belly.id)
    window.commands.run("sections")


def _slate(window: Window) -> None:
    """The finished cast in the dark theme."""
    from usual_clay.bench.theme.theme import SLATE, themes

    _tolerance(window)
    themes.wear(SLATE)


VIEWS: dict[str, Callable[[Window], None]] = {
    "empty-start": _empty,
    "region-brushed": _brush,
    "cast-deviation": _cast,
    "to-tolerance": _tolerance,
    "set-straight": _straighten,
    "trace-spline": _spline,
    "trace-draw": _draw,
    "shaping": _shaping,
    "patch": _patch,
    "sections": _sections,
    "slate": _slate,
}
