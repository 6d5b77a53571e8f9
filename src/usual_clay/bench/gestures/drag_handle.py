"""Dragging a handle of a curve: a tangent at a through-point, or a bridge's strength."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.arrays import Floats
from usual_clay.core.build.combine import BridgeSettings, bridge, places_of
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.job.edits.shaping import handle_at, has_through, with_handle
from usual_clay.job.items import Curve
from usual_clay.job.job import Job
from usual_clay.job.remake import basis_of, source_of

GRAB = 10.0
# A through-point's handle is drawn at this share of the derivative's length.
SHOWN = 0.15


@dataclass(frozen=True, eq=False)
class Paddle:
    """A handle as it is shown: where it stands, where its paddle is, and what dragging it does."""

    foot: Floats
    tip: Floats
    change: Callable[[Job, Curve, Floats, bool], Curve]


def paddles(job: Job, curve: Curve, points: frozenset[int]) -> list[Paddle]:
    """Return the handles of a chosen curve; `points` are the chosen through-points."""
    recipe = curve.recipe
    if recipe is None or job.is_loose(curve):
        return []
    bridged = curve.made_by(BridgeSettings)
    if bridged is not None:
        first, second = (source_of(job, each) for each in recipe.sources)
        try:
            ends = places_of(bridged, first, second)
        except SplineError:
            return []
        return [
            Paddle(foot, tip, _strength(name, first, second))
            for (foot, tip), name in zip(ends, ("first_strength", "second_strength"), strict=True)
        ]
    if not has_through(curve):
        return []
    own = {handle.index for handle in recipe.settings.handles}
    made = []
    for index in sorted(points | own):
        handle = handle_at(curve, index)
        if handle is not None:
            foot = recipe.settings.array[index]
            made.append(Paddle(foot, foot + SHOWN * np.array(handle.ahead), _tangent(index)))
    return made


def _tangent(index: int) -> Callable[[Job, Curve, Floats, bool], Curve]:
    def change(job: Job, curve: Curve, tip: Floats, _both: bool) -> Curve:
        assert curve.recipe is not None
        handle = handle_at(curve, index)
        assert handle is not None
        x, y, z = ((tip - curve.recipe.settings.array[index]) / SHOWN).tolist()
        return with_handle(job, curve, replace(handle, ahead=(x, y, z)), index)

    return change


def _strength(
    name: str, first: BSplineCurve, second: BSplineCurve
) -> Callable[[Job, Curve, Floats, bool], Curve]:
    def change(job: Job, curve: Curve, tip: Floats, both: bool) -> Curve:
        assert curve.recipe is not None
        old: BridgeSettings = curve.recipe.settings
        which = 0 if name == "first_strength" else 1
        foot, was = places_of(old, first, second)[which]
        stem = was - foot
        share = float((tip - foot) @ stem) / max(float(stem @ stem), 1e-12)
        value = float(np.clip(getattr(old, name) * share, 0.05, 3.0))
        settings = replace(
            old,
            first_strength=value if both or which == 0 else old.first_strength,
            second_strength=value if both or which == 1 else old.second_strength,
        )
        recipe = replace(curve.recipe, settings=settings)
        made = replace(curve, geometry=bridge(first, second, settings), recipe=recipe)
        return replace(made, made_of=basis_of(job, made))

    return change


def paddle_under(pane: Canvas, x: float, y: float) -> Paddle | None:
    """Return the handle whose paddle is at a pixel."""
    session = pane.session
    curve = session.job.get(session.choice.item, Curve)
    if curve is None or not curve.visible or curve.locked:
        return None
    found = paddles(session.job, curve, session.choice.points)
    if not found:
        return None
    seen = pane.view.project(np.array([paddle.tip for paddle in found]))[:, :2]
    away = np.hypot(seen[:, 0] - x, seen[:, 1] - y)
    nearest = int(np.argmin(away))
    return found[nearest] if away[nearest] < GRAB * pane.devicePixelRatioF() else None


def drag_handle(pane: Canvas, paddle: Paddle) -> Gesture:
    """Move a paddle flat in the view; Shift changes both ends of a bridge."""
    session = pane.session
    curve = session.job.get(session.choice.item, Curve)
    if curve is None:
        return
    made = None
    event: Pointer | None = None
    while event is None or event.kind != "release":
        event = yield
        at = pane.view.level_with(event.x, event.y, paddle.tip)
        try:
            made = paddle.change(session.job, curve, at, event.shift)
        except SplineError:
            continue
        session.show_moved(made)
    if made is not None:
        session.commit(session.job.with_item(made), f"handle of {curve.name}")
