"""Dragging a handle: a tangent at a through-point, the strength of a bridge or of a blend."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.arrays import Floats
from usual_clay.core.build.blend import BlendSettings, blend
from usual_clay.core.build.combine import BridgeSettings, bridge, places_of
from usual_clay.core.build.sections import BuildError
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.edits.afloat import Held, holds_of
from usual_clay.job.edits.shaping import handle_at, has_through, shaped, with_handle
from usual_clay.job.items import Curve, Floating, Followed, ItemId, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import basis_of, source_of

GRAB = 10.0
# A through-point's handle is drawn at this share of the derivative's length.
SHOWN = 0.15
# That of a blend is so many times the way from its border to the next row of control points.
ALONG = 1.5


@dataclass(frozen=True, eq=False)
class Paddle:
    """A handle as it is shown: where it stands, where its paddle is, and what dragging it does."""

    foot: Floats
    tip: Floats
    change: Callable[[Job, Any, Floats, bool], Followed]


Handle = TypeVar("Handle", Paddle, Held)


def paddles(job: Job, curve: Curve | Surface, points: frozenset[int]) -> list[Paddle]:
    """Return the handles of a chosen curve or blend; `points` are the chosen through-points."""
    recipe = curve.recipe
    if recipe is None or job.is_loose(curve):
        return []
    if isinstance(curve, Surface):
        blended = curve.made_by(BlendSettings)
        return [] if blended is None else _of_blend(curve.geometry, blended)
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


def _of_blend(surface: BSplineSurface, settings: BlendSettings) -> list[Paddle]:
    """Return the handles at the four corners of a blend, which tell how far it follows."""
    made = []
    for side, name in enumerate(("first", "second")):
        row = surface.points[:, (0, 1) if side == 0 else (-1, -2)]
        for place in (0, -1):
            foot, stem = row[place, 0], ALONG * (row[place, 1] - row[place, 0])
            if np.linalg.norm(stem) > 1e-9:
                now = settings.strengths[side][place]
                made.append(Paddle(foot, foot + stem, _blended(name, place, foot, stem, now)))
    return made


def _blended(
    name: str, place: int, foot: Floats, stem: Floats, now: float
) -> Callable[[Job, Surface, Floats, bool], Surface]:
    def change(job: Job, surface: Surface, tip: Floats, both: bool) -> Surface:
        assert surface.recipe is not None
        old: BlendSettings = surface.recipe.settings
        share = float((tip - foot) @ stem) / max(float(stem @ stem), 1e-12)
        value = round(float(np.clip(now * share, 0.05, 3.0)), 4)
        begin, end = f"{name}_strength", f"{name}_end"
        # Where it begins it is the same all along, until its end is drawn.
        values: dict[str, Any] = {begin: value, end: 0.0}
        if not both:
            values = {end if place else begin: value}
        settings = replace(old, **values)
        recipe = replace(surface.recipe, settings=settings)
        first, second = (source_of(job, recipe.all(role)[0]) for role in ("first", "second"))
        made = replace(surface, geometry=blend(first, second, settings), recipe=recipe)
        return replace(made, made_of=basis_of(job, made))

    return change


def handles_of(job: Job, chosen: ItemId | None) -> Sequence[Paddle | Held]:
    """Return the handles of a chosen surface, or of the water round a body."""
    surface, afloat = job.get(chosen, Surface), job.get(chosen, Floating)
    if surface is not None and surface.visible:
        return paddles(job, surface, frozenset())
    if afloat is not None and afloat.visible and afloat.lying is not None:
        return holds_of(afloat.lying)
    return []


def paddle_under(pane: Canvas, x: float, y: float) -> Paddle | None:
    """Return the handle whose paddle is at a pixel."""
    session = pane.session
    curve = shaped(session.job, session.choice.item)
    if curve is None or not curve.visible or curve.locked:
        return None
    return handle_at_pixel(pane, paddles(session.job, curve, session.choice.points), x, y)


def handle_at_pixel(pane: Canvas, handles: Sequence[Handle], x: float, y: float) -> Handle | None:
    """Return which of some handles has its paddle at a pixel."""
    if not handles:
        return None
    seen = pane.view.project(np.array([handle.tip for handle in handles]))[:, :2]
    away = np.hypot(seen[:, 0] - x, seen[:, 1] - y)
    nearest = int(np.argmin(away))
    return handles[nearest] if away[nearest] < GRAB * pane.devicePixelRatioF() else None


def drag_handle(pane: Canvas, paddle: Paddle) -> Gesture:
    """Move a paddle flat in the view; Shift changes both ends of a bridge, or all of a border."""
    session = pane.session
    curve = shaped(session.job, session.choice.item)
    if curve is None or not session.may_change(curve):
        return
    made = None
    event: Pointer | None = None
    while event is None or event.kind != "release":
        event = yield
        at = pane.view.level_with(event.x, event.y, paddle.tip)
        try:
            made = paddle.change(session.job, curve, at, event.shift)
        except (BuildError, SplineError):
            continue
        session.show_moved(made)
    if made is not None:
        session.commit(session.job.with_item(made), f"handle of {curve.name}")
