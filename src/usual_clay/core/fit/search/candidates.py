"""Candidates: computed balances of control points against deviation, and their front."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats, frozen
from usual_clay.core.check.deviation import at_share, distance_levels
from usual_clay.core.fit.parameterize.region import Sizes
from usual_clay.core.spline.surface import BSplineSurface


@dataclass(frozen=True, eq=False)
class Candidate:
    """One computed balance of control points against deviation.

    Attributes
    ----------
    nu, nv : int
    levels : (201,) array
        Distances at the shares 0, 0.5 % ... 100 %, mm.
    surface : BSplineSurface or None
        What a search fitted to a choice of the points, for a fit to all of them to set out from.
    within : float
        The distance that was asked for, mm, where that is what is searched by; else 0.
    """

    nu: int
    nv: int
    levels: Floats
    surface: BSplineSurface | None = None
    within: float = 0.0

    def __post_init__(self) -> None:
        object.__setattr__(self, "levels", frozen(self.levels))

    @property
    def total(self) -> int:
        return self.nu * self.nv

    def deviation(self, share: float) -> float:
        return at_share(self.levels, share)


def candidate_of(settings: Sizes, signed: Floats, areas: Floats | None = None) -> Candidate:
    """Keep of a cast what Balance shows."""
    return Candidate(settings.nu, settings.nv, distance_levels(signed, areas))


def pareto_front(candidates: Sequence[Candidate], share: float) -> list[Candidate]:
    """Return the candidates that no other beats in both control points and deviation."""
    front: list[Candidate] = []
    for candidate in sorted(candidates, key=lambda c: (c.total, c.deviation(share))):
        if not front or candidate.deviation(share) < front[-1].deviation(share):
            front.append(candidate)
    return front


def knee_of(front: Sequence[Candidate], share: float) -> Candidate | None:
    """Return the candidate at the knee of a front: past it control points buy little.

    The one farthest below the straight line between the front's ends, both on logarithmic scales
    (compare Satopaa and others 2011). None for a front of fewer than three.
    """
    if len(front) < 3:
        return None
    x = np.log([candidate.total for candidate in front])
    y = np.log([max(candidate.deviation(share), 1e-12) for candidate in front])
    x, y = (x - x[0]) / (x[-1] - x[0]), (y - y[-1]) / max(y[0] - y[-1], 1e-12)
    return front[int(np.argmax(1 - x - y))]
