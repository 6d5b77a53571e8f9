"""By what surfaces are judged just now: from where, by which scale, and what is known of them."""

from __future__ import annotations

from typing import Any

import numpy as np

from usual_clay.bench.stage.judging import JUDGINGS, Judged, judged, scale_of
from usual_clay.bench.stage.kept import same
from usual_clay.core.arrays import Floats
from usual_clay.job.items import ItemId, Surface


class Sights:
    """How the scene's surfaces bend, kept while they stay the same."""

    def __init__(self, scene: Any) -> None:
        self._scene = scene
        self._judged: dict[ItemId, tuple[object, Judged]] = {}
        self._scale: tuple[tuple, tuple[float, float]] = ((), (0.0, 1.0))
        # From what is looked at to the eye; stripes follow it when a view comes to rest.
        self.eye = np.array([0.0, -1.0, 0.3])

    def forget(self) -> None:
        """Let go of everything that was worked out."""
        self._judged.clear()

    def judged(self, surface: Surface) -> Judged:
        """Return how a surface bends at its spots; kept while it stays the same."""
        known = self._judged.get(surface.id)
        if known is None or known[0] is not surface.geometry:
            known = (surface.geometry, judged(surface.geometry))
            self._judged[surface.id] = known
        return known[1]

    def scale(self) -> tuple[float, float]:
        """Return the ends of the scale by which all visible surfaces are judged."""
        shown = [item for item in self._scene.seen() if isinstance(item, Surface)]
        if not self._scene.shown.judging or JUDGINGS[self._scene.shown.judging].value is None:
            return 0.0, 1.0
        made_of = (self._scene.shown.judging, *(item.geometry for item in shown))
        if not same(self._scale[0], made_of):
            bent = [self.judged(item).bent for item in shown]
            self._scale = (made_of, scale_of(self._scene.shown.judging, bent))
        return self._scale[1]

    def look_from(self, sight: Floats) -> None:
        """Let what is mirrored follow the eye."""
        mirrors = self._scene.shown.judging == "stripes"
        if mirrors and np.abs(self.eye + sight).max() <= 1e-9:
            return
        self.eye = -sight
        if mirrors:
            self._scene.ready.emit()
