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
        # What is chosen besides: the Shelf's actions are meant for all of it.
        self.others: frozenset[ItemId] = frozenset()
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
        """Choose an item and nothing besides; None chooses nothing."""
        if item_id == self.item:
            self.choose_besides(())
            return
        self.item, self.warned, self.others = item_id, None, frozenset()
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

    def choose_besides(self, others: Iterable[ItemId]) -> None:
        """Choose other items besides the one that is chosen."""
        wanted = frozenset(others) - {self.item}
        if self.item is not None and wanted != self.others:
            self.others, self.warned = wanted, None
            self.changed.emit()

    @property
    def every(self) -> frozenset[ItemId]:
        """All that is chosen."""
        return self.others if self.item is None else self.others | {self.item}

    def besides(self, item_id: ItemId) -> list[ItemId]:
        """Return what is meant by an item: all that is chosen with it, or it alone."""
        if item_id not in self.every or not self.others:
            return [item_id]
        return [each for each in self._shown().items if each in self.every]

    def choose_points(self, which: Iterable[int]) -> None:
        """Choose points of the chosen curve or surface."""
        self.points = frozenset(which)
        self.points_changed.emit()

    def points_left(self, count: int) -> None:
        """Leave out points that an edit, or undoing one, has taken away: so many are left."""
        if any(point >= count for point in self.points):
            self.choose_points(point for point in self.points if point < count)

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
