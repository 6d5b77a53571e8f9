"""Pictures of the views in which surfaces are made from curves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.bench.gestures.look import zoom
from usual_clay.bench.still import open_demo, open_surfaces, settle
from usual_clay.bench.window import Window
from usual_clay.core.scan.mesh import unit
from usual_clay.job.items import Curve, Surface


def _named(window: Window, name: str) -> Any:
    return next(item for item in window.session.job.items.values() if item.name == name)


def _with_alone(window: Window, *names: str) -> None:
    """Open the demo job, and show these curves and surfaces alone."""
    open_surfaces(window)
    job = window.session.job
    for item in job.items.values():
        if isinstance(item, Curve | Surface):
            job = job.changed(item.id, visible=item.name in names)
    window.session.commit(job, "show some")
    window.set_station("Surface")
    settle(window)


def _begun(window: Window, kind: str, *names: str) -> None:
    """Begin a task, and click its sources."""
    window.session.choice.choose(_named(window, names[0]).id)
    window.commands.run(f"task {kind}")
    settle(window)
    for name in names[1:]:
        window.session.hand.offered.emit(_named(window, name).id)
        settle(window)


BELLY = (
    "Widest line",
    "Belly outline",
    "Widest line twin",
    "Belly arch, front",
    "Belly arch, middle",
    "Belly arch, rear",
)


def _net(window: Window) -> None:
    """The belly's net being made: arrows, and rings where curves do not quite touch."""
    _with_alone(window, *BELLY)
    window.stage.switch("scan", False)
    window.stage.fit()
    _begun(window, "net", *BELLY)


def _fill(window: Window) -> None:
    """A part of the gill plate being filled, smooth to the brow above it."""
    sides = [f"Gill side {k}" for k in (1, 2, 3, 4)]
    _with_alone(window, *sides, "Brow cast")
    _begun(window, "fill", *sides, "Brow cast")
    middle = _named(window, "Gill side 3").geometry.points.mean(axis=0)
    for pane in (window.stage.free, window.stage.side):
        x, y, _ = pane.view.project(middle[None])[0]
        zoom(pane, float(x), float(y), 8)
        pane.rest()


def _tie_again(window: Window) -> None:
    """An arch replaced: the net that followed it is offered the one that lies there now."""
    _with_alone(window, *BELLY, "Belly net")
    session, old = window.session, _named(window, "Belly arch, middle")
    job = session.job.without(old.id)
    fresh = replace(old, id=job.new_id("curve"), name="Arch drawn anew", recipe=None, made_of=None)
    lifted = replace(old.geometry, points=old.geometry.points + np.array([0.3, 0.0, -0.05]))
    session.commit(job.with_item(replace(fresh, geometry=lifted)), "draw the arch anew")
    session.choice.choose(_named(window, "Belly net").id)
    window.commands.run("tie again")


def _two_rail(window: Window) -> None:
    """The back between its widest lines, carried along them, near the scan between its arches."""
    from usual_clay.core.build.rails import TwoRailSettings
    from usual_clay.job.edits.make import add
    from usual_clay.job.items import Region

    open_surfaces(window)
    job = window.session.job
    curves = {curve.name: curve.id for curve in job.all(Curve)}
    for surface in job.all(Surface):
        job = job.changed(surface.id, visible=False)
    for name in ("Widest line", "Widest line twin", "Back arch, front", "Back arch, rear"):
        job = job.changed(curves[name], visible=True)
    job, made, _ = add(
        job,
        "two-rail",
        TwoRailSettings(),
        "Back, two-rail",
        rails=[curves["Widest line"], curves["Widest line twin"]],
        profiles=[curves["Back arch, front"], curves["Back arch, rear"]],
        near=next(job.all(Region)).id,
    )
    window.session.commit(job, "two-rail")
    window.set_station("Surface")
    window.session.choice.choose(made.id)


def _only(window: Window, *names: str) -> None:
    """Open the demo job and show these things alone, without the scan."""
    from usual_clay.job.items import Body, PointList, Shape, Surface

    open_demo(window)
    job = window.session.job
    for item in job.items.values():
        if isinstance(item, Curve | Surface | Body | PointList | Shape):
            job = job.changed(item.id, visible=item.name in names)
    window.session.commit(job, "show")
    window.stage.switch("scan", False)
    settle(window)
    window.stage.fit()
    settle(window)


def _body_gaps(window: Window) -> None:
    """Back and belly joined with a limit that leaves their gap open: the table, and a ring."""
    _only(window, "Joined")
    body = _named(window, "Joined")
    settings = replace(body.recipe.settings, gap=0.01)
    job = window.session.job.changed(body.id, recipe=replace(body.recipe, settings=settings))
    window.set_station("Body")
    window.session.commit(job, "a narrower limit")
    window.session.choice.choose(body.id)
    settle(window)
    card: Any = window.cards.card
    card.gaps.rows[1].click()


def _rounding(window: Window) -> None:
    """Edges of the slot rounded by width, seen from below."""
    _only(window, "Slot rounded")
    body = _named(window, "Slot rounded")
    window.set_station("Body")
    window.session.choice.choose(body.id)
    settle(window)
    window.stage.fly_to(np.array(body.recipe.settings.edges[:3]))
    sight, up = unit(np.array([[0.55, 0.5, 0.62], [0.0, 0.0, 1.0]]))
    pane, up = window.stage.free, unit(up - (up @ sight) * sight)
    focus = np.array([10.0, 0.0, -4.0])
    pane.move_camera(replace(pane.view.camera, focus=focus, sight=sight, up=up, height=26))
    pane.rest()


def _afloat(window: Window) -> None:
    """The lure in the water, with lead at its belly."""
    _only(window, "Lure", "Lure afloat", "Eye")
    window.set_station("Body")
    window.session.choice.choose(_named(window, "Lure afloat").id)
    settle(window)


def _stripes(window: Window) -> None:
    """Stripes over belly and back, and the table of their joints."""
    _only(window, "Belly net", "Back patch", "Tail")
    window.set_station("Check")
    window.session.choice.choose(None)
    window.commands.run("judge stripes")
    window.commands.run("joints")
    settle(window)


MADE: dict[str, Callable[[Window], None]] = {
    "net": _net,
    "fill": _fill,
    "tie-again": _tie_again,
    "two-rail": _two_rail,
    "body-gaps": _body_gaps,
    "rounding": _rounding,
    "afloat": _afloat,
    "stripes-joints": _stripes,
}
