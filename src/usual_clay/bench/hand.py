"""The tool in hand, and how it is set."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject, Signal

from usual_clay.bench.marking import Marking
from usual_clay.bench.placing import Placing
from usual_clay.job.items import ItemId


class Hand(QObject):
    """Signals
    -------
    changed : another tool is in hand, or its settings changed
    offered : the id of an item that was clicked while a card takes sources
    edge_offered : the same of a surface that was clicked near an edge, and which: "u0" to "v1"
    """

    changed = Signal()
    offered = Signal(str)
    edge_offered = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.tool: str | None = None
        self.marking: Marking | None = None
        # What a card lets the hand move, turn or scale.
        self.placing: Placing | None = None
        # The view in which a hand drags just now.
        self.dragging: object | None = None
        self.front_only = True
        self.stop_at_creases = False
        self.spread_amount = 0.3
        self.brush_radius = 2.0
        # The scan and the vertex that the last spread grew from.
        self.seed: tuple[ItemId, int] | None = None
        # What clicks and drags are drawn to: "things", "grid" or "nothing".
        self.snapping = "things"
        self.nudge_step = 0.1
        # What a click on a surface's net takes, and how far neighbours follow a move.
        self.pick = "point"
        # What a drag beside the points draws to choose those inside: "box" or "lasso".
        self.outline = "box"
        self.soft_reach, self.falloff = 0.0, "round"
        # Surfaces that are fitted, and whose control points a hand may move all the same.
        self.may_shape: set[ItemId] = set()

    def take(self, tool: str | None) -> None:
        """Take a tool in hand; None puts it down."""
        if tool != self.tool:
            self.tool = tool
            if tool != "mark":
                self.marking = None
            self.changed.emit()

    def mark(self, marking: Marking | None) -> None:
        """Let marks be set on the stage; None ends it."""
        self.marking = marking
        self.take(None if marking is None else "mark")
        self.changed.emit()

    @property
    def typed(self) -> Callable[[str], object] | None:
        """What is told of the key with which a number of what is marked begins."""
        return None if self.marking is None else self.marking.typed

    def set_marking(self, marking: Marking) -> None:
        """Show other marks."""
        self.marking = marking
        self.changed.emit()

    def set_pick(self, pick: str) -> None:
        """Set what a click on a surface's net takes: a point, its row, or its column."""
        self.pick = pick
        self.changed.emit()

    def set_outline(self, word: str) -> None:
        """Set what a drag draws to choose control points."""
        self.outline = word
        self.changed.emit()

    def set_soft(self, reach: float, falloff: str) -> None:
        """Set how many legs of a net follow a move, and how."""
        self.soft_reach, self.falloff = reach, falloff
        self.changed.emit()

    def set_snapping(self, word: str) -> None:
        """Set what clicks and drags are drawn to."""
        self.snapping = word
        self.changed.emit()

    def set_choosing(self, front_only: bool, stop_at_creases: bool) -> None:
        """Set what lasso, box and brush take of a scan."""
        self.front_only, self.stop_at_creases = front_only, stop_at_creases
        self.changed.emit()

    def set_brush(self, radius: float) -> None:
        self.brush_radius = float(np.clip(radius, 0.05, 500.0))
        self.changed.emit()
