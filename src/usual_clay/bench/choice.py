"""What is chosen: an item, and points of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from PySide6.QtCore import QObject, Signal

from usual_clay.core.arrays import Ints
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.job.items import Curve, ItemId, Region, Surface
from usual_clay.job.job import Job


class Choice(QObject):
    """Signals
    -------
    changed : another item is chosen
    points_changed : other points of it are, or others are edited
    ringed_changed : other points of a list are ringed
    """

    changed = Signal()
    points_changed = Signal()
    ringed_changed = Signal()

    def __init__(self, shown: Callable[[], Job]) -> None:
        super().__init__()
        # The job that is shown, with a gesture's proposal.
        self._shown = shown
        self.item: ItemId | None = None
        # A new item that Escape still drops.
        self.fresh: ItemId | None = None
        # An item of which it was said what would be loose without it.
        self.warned: ItemId | None = None
        self.points: frozenset[int] = frozenset()
        # Which points of a curve are edited: "control" or "through".
        self.point_kind = "control"
        # Points of a list that are ringed.
        self.ringed: Ints = np.zeros(0, dtype=np.int64)

    def choose(self, item_id: ItemId | None) -> None:
        """Choose an item; None chooses nothing."""
        if item_id == self.item:
            return
        self.item, self.warned = item_id, None
        self.ringed = np.zeros(0, dtype=np.int64)
        # Leaving a curve ends its editing.
        self.points = frozenset()
        curve = self._shown().get(item_id, Curve)
        drawn = None if curve is None else curve.made_by(DrawnSettings)
        through = drawn is not None and drawn.kind != "controls"
        self.point_kind = "through" if through else "control"
        if self.fresh != item_id:
            self.fresh = None
        self.changed.emit()

    def choose_points(self, which: Iterable[int]) -> None:
        """Choose points of the chosen curve or surface."""
        self.points = frozenset(which)
        self.points_changed.emit()

    def edit_points(self, kind: str) -> None:
        """Edit control points or through-points of the chosen curve."""
        self.point_kind, self.points = kind, frozenset()
        self.points_changed.emit()

    def ring(self, which: Ints) -> None:
        """Ring points of the chosen list."""
        self.ringed = which
        self.ringed_changed.emit()

    def surface(self) -> Surface | None:
        """Return the chosen surface as it is shown."""
        return self._shown().get(self.item, Surface)

    def curve(self) -> Curve | None:
        """Return the chosen curve as it is shown."""
        return self._shown().get(self.item, Curve)

    def fitted(self) -> Surface | Curve | None:
        """Return the chosen item if it is one that costs control points."""
        return self.surface() or self.curve()

    def region(self) -> Region | None:
        """Return the chosen region, or the one that judges a chosen surface."""
        surface = self.surface()
        return self._shown().get(self.item if surface is None else surface.watches, Region)
