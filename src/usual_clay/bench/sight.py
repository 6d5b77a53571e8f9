"""View settings, and what is known of the chosen item besides its own figures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import CombLine
from usual_clay.core.check.deviation import Report
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.fairness import Fairness
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.items import ItemId


@dataclass(frozen=True, eq=False)
class Sign:
    """What a card draws on the stage: an arrow along a curve, or a ring.

    Attributes
    ----------
    words : str
    places : (n, 3) array
        Along the arrow; of a ring its one place.
    ring : bool
        Whether it rings something that is amiss.
    at_tip : bool
        Whether an arrow's words stand at its tip, not at its foot.
    clicked : callable or None
        What a click on it does.
    """

    words: str
    places: Floats
    ring: bool = False
    at_tip: bool = False
    clicked: Callable[[], None] | None = None


class Sight(QObject):
    """Signals
    -------
    changed : a view setting, or what a card lights up
    known_changed : more is known of the chosen item
    wanted : a place that is to be looked at
    """

    changed = Signal()
    wanted = Signal(object)
    known_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.comb_scale = 1.0
        self.comb_density = 1.0
        # What a card shows on the stage: polylines, (n, 3), or single points, (1, 3).
        self.lit: list[Floats] = []
        self.signs: list[Sign] = []
        # Combs on cuts, drawn to one scale.
        self.combs: list[CombLine] = []
        self.combs_scale = 1.0
        # Lines coloured along their length: places, and how bad it is there, past 1 too bad.
        self.graded: list[tuple[Floats, Floats]] = []
        # What a running search has found so far.
        self.found: list[Candidate] = []
        # The front of the chosen surface as far as it is computed by itself.
        self.front: list[Candidate] = []
        # How calm the chosen surface is, with the shape that this was worked out of.
        self.calm: tuple[BSplineSurface, Fairness] | None = None
        # What the conditions of the chosen surface cost, with the same.
        self.price: tuple[BSplineSurface, str] | None = None
        # How surfaces lay before the last move of the hand.
        self.before_move: dict[ItemId, Report] = {}

    def set_comb(self, scale: float, density: float | None = None) -> None:
        """Set how long the comb's quills are, 0 hides them, and how dense they stand."""
        self.comb_scale = scale
        self.comb_density = self.comb_density if density is None else density
        self.changed.emit()

    def light(self, lines: list[Floats]) -> None:
        """Show lines and points on the stage; none ends it."""
        self.lit = lines
        self.changed.emit()

    def show_combs(self, lines: list[CombLine], scale: float) -> None:
        """Show lines with their quills, all to one scale; none ends it."""
        self.combs, self.combs_scale = lines, scale
        self.changed.emit()

    def grade(self, lines: list[tuple[Floats, Floats]]) -> None:
        """Show lines by how bad it is along them; none ends it."""
        self.graded = lines
        self.changed.emit()

    def show_signs(self, signs: list[Sign]) -> None:
        """Show a card's signs on the stage; none ends it."""
        self.signs = signs
        self.changed.emit()

    def forget(self) -> None:
        """Let go of what was of the item that was chosen."""
        self.found, self.lit, self.graded = [], [], []
