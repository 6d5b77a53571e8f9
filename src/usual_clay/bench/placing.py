"""What a card lets the hand move, turn or scale."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from usual_clay.core.arrays import Floats
from usual_clay.core.build.affine import PlaceSettings


@dataclass(frozen=True, eq=False)
class Placing:
    """What a card lets the hand move.

    Attributes
    ----------
    settings : PlaceSettings
        As they stand.
    stays : (3,) array
        The place that turns and scales leave where it is.
    changed : callable
        Told of other settings.
    """

    settings: PlaceSettings
    stays: Floats
    changed: Callable[[PlaceSettings], None]
