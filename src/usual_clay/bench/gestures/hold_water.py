"""Holding a body in the water: its surface is lifted behind it, at its side, or ahead of it."""

from __future__ import annotations

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.gestures.drag_handle import handle_at_pixel
from usual_clay.bench.gestures.pointer import Gesture, Pointer
from usual_clay.core.body.afloat import FloatError
from usual_clay.core.errors import sentence
from usual_clay.job.edits.afloat import Held, held_by_hand, holds_of, lifted, water_level
from usual_clay.job.items import Floating


def hold_under(pane: Canvas, x: float, y: float) -> Held | None:
    """Return where the water of the chosen body is held at a pixel."""
    session = pane.session
    item = session.job.get(session.choice.item, Floating)
    if item is None or item.lying is None or not item.visible or item.locked:
        return None
    return handle_at_pixel(pane, holds_of(item.lying), x, y)


def hold_water(pane: Canvas, held: Held) -> Gesture:
    """Lift the water; its figures follow, and the righting arms when the hand rests."""
    session = pane.session
    item = session.job.get(session.choice.item, Floating)
    if item is None or item.lying is None:
        return
    try:
        hold = held_by_hand(session.job, item)
    except FloatError as error:
        session.told.emit("trouble", sentence(error))
        return
    made = None
    event: Pointer | None = None
    while event is None or event.kind != "release":
        event = yield
        at = pane.view.level_with(event.x, event.y, held.tip)
        try:
            made = hold(lifted(item.lying, held, water_level(item.lying, at, held)))
        except FloatError:
            # Dry, or all under water: it stays where it last floated.
            continue
        session.show_moved(made)
    if made is not None:
        session.commit(session.job.with_item(made), f"hold {item.name}")
