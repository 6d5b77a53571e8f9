"""Deviation: how far measured points lie from what was fitted to them, and the figures for it."""

from __future__ import annotations

from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import GeometryError

# Where the distribution of distances is kept of every candidate: each half per cent.
LEVELS = np.linspace(0.0, 1.0, 201)


class ToleranceError(GeometryError):
    """A tolerance or a coverage share that cannot be aimed at."""


@dataclass(frozen=True)
class Tolerance:
    """What every fit aims at and every figure is judged by.

    Attributes
    ----------
    deviation : float
        mm, more than 0.
    share : float
        The share of points that must lie within it, more than 0, at most 1.
    """

    deviation: float = 0.05
    share: float = 0.95

    def __post_init__(self) -> None:
        if not (np.isfinite(self.deviation) and self.deviation > 0):
            raise ToleranceError(f"the tolerance must be more than 0 mm, not {self.deviation:g}")
        if not 0 < self.share <= 1:
            raise ToleranceError(f"the share must be above 0 and at most 1, not {self.share:g}")

    def noise_floor(self, noise: float) -> float:
        """Return the distance at the share that normal noise alone makes, mm."""
        return noise * NormalDist().inv_cdf((1 + min(self.share, 0.9995)) / 2)


@dataclass(frozen=True)
class Report:
    """The figures of one set of deviations; distances in mm."""

    points: int
    within_share: float
    at_share: float
    rms: float
    p95: float
    max: float
    met: bool


def judge(signed: Floats, tolerance: Tolerance) -> Report:
    """Judge signed deviations, (n,), against a tolerance."""
    distance = np.abs(signed)
    within = float(np.mean(distance <= tolerance.deviation))
    at_share, p95 = np.quantile(distance, [tolerance.share, 0.95])
    return Report(
        points=len(signed),
        within_share=within,
        at_share=float(at_share),
        rms=float(np.sqrt(np.mean(distance**2))),
        p95=float(p95),
        max=float(distance.max()),
        met=within >= tolerance.share,
    )


def percent(share: float) -> str:
    """Return a share in words, to a tenth of a per cent."""
    return f"{round(100 * share, 1):g} %"


def distance_levels(signed: Floats) -> Floats:
    """Return the distances at the shares `LEVELS`, (201,)."""
    return np.quantile(np.abs(signed), LEVELS)


def at_share(levels: Floats, share: float) -> float:
    """Read the distance at a share from `distance_levels`."""
    return float(np.interp(share, LEVELS, levels))
