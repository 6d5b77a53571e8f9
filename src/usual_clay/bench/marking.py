"""Marks that a card asks for on the stage: ends of a scale bar, corners, points to align by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats, Place, as_places
from usual_clay.core.picture.placement import Plane
from usual_clay.job.items import ItemId


@dataclass(frozen=True)
class Marking:
    """What is being marked.

    Attributes
    ----------
    hint : str
        For the hint line.
    most : int
        How many marks there are at most.
    on : str or None
        The picture they lie on; None for whatever is under the cursor.
    places : tuple of (x, y, z)
    changed : callable
        Told of each change.
    joined : bool
        Whether the marks are drawn with lines between them.
    stroke : bool
        Whether a drag draws a whole stroke of places instead.
    plane : Plane or None
        Where they lie, whatever is under the cursor.
    facing : (x, y, z)
        The normal of the plane on which the last mark was set, or of the view.
    in_view : bool
        Whether a place with nothing under it is taken on the plane through the origin that faces
        the view most.
    snaps : bool
        Whether a mark is drawn to ends, middles, crossings and the like.
    typed : callable or None
        Told of the key with which a number begins.
    passing : frozenset of int, or None
        The marks that were set with Shift: points on the way between corners. None where all
        marks are alike.
    """

    hint: str
    most: int
    on: ItemId | None = None
    places: tuple[Place, ...] = ()
    changed: Callable[[Marking], None] = lambda _marking: None
    joined: bool = False
    stroke: bool = False
    plane: Plane | None = None
    in_view: bool = False
    facing: Place = (0.0, 0.0, 1.0)
    snaps: bool = False
    typed: Callable[[str], object] | None = None
    passing: frozenset[int] | None = None

    @property
    def corners(self) -> list[int]:
        """The marks that are corners."""
        return [k for k in range(len(self.places)) if k not in (self.passing or ())]

    @property
    def points(self) -> Floats:
        """The places as an array, (n, 3)."""
        return np.array(self.places, dtype=np.float64).reshape(-1, 3)

    @property
    def is_full(self) -> bool:
        return len(self.places) >= self.most

    def without_last(self) -> Marking:
        """Return the marking with its last mark taken back."""
        kept = len(self.places) - 1
        passing = None if self.passing is None else self.passing - {kept}
        return replace(self, places=self.places[:kept], passing=passing)

    def with_places(self, places: Floats) -> Marking:
        return replace(self, places=as_places(places))
