"""Deviation: how far measured points lie from what was fitted to them, and the figures for it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from statistics import NormalDist

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import GeometryError

# Where the distribution of distances is kept of every candidate: each half per cent.
LEVELS = np.linspace(0.0, 1.0, 201)
# So near to the noise a tolerance below it is as good as met: more points only copy noise.
AT_NOISE = 1.05


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

    def above(self, noise: float) -> Tolerance:
        """Return what a search can aim at: where noise alone lies farther off, just above that."""
        floor = self.noise_floor(noise)
        return self if self.deviation >= floor else replace(self, deviation=AT_NOISE * floor)


@dataclass(frozen=True)
class Report:
    """The figures of one set of deviations; distances in mm.

    Shares and quantiles are those of the area that the points stand for; `plain_share` counts
    points alone.
    """

    points: int
    within_share: float
    plain_share: float
    at_share: float
    rms: float
    p95: float
    max: float
    met: bool


def judge(signed: Floats, tolerance: Tolerance, areas: Floats | None = None) -> Report:
    """Judge signed deviations, (n,), against a tolerance.

    Parameters
    ----------
    areas : (n,) array, optional
        How much area each point stands for; alike where not given.
    """
    distance = np.abs(signed)
    inside = distance <= tolerance.deviation
    plain = float(np.mean(inside))
    within = plain if areas is None else float(np.average(inside, weights=areas))
    # What a share lies within is one of the distances: between them, of few points, it is not.
    at_share, p95 = np.quantile(
        distance, [tolerance.share, 0.95], method="inverted_cdf", weights=areas
    ).tolist()
    return Report(
        points=len(signed),
        within_share=within,
        plain_share=plain,
        at_share=at_share,
        rms=float(np.sqrt(np.average(distance**2, weights=areas))),
        p95=p95,
        max=float(distance.max()),
        met=at_share <= tolerance.deviation,
    )


def percent(share: float) -> str:
    """Return a share in words, to a tenth of a per cent."""
    return f"{round(100 * share, 1):g} %"


def quantiles(values: Floats, shares: Floats, weights: Floats | None = None) -> Floats:
    """Return the values at shares of the total weight; with equal ones those of `np.quantile`."""
    if weights is None:
        return np.asarray(np.quantile(values, shares))
    order = np.argsort(values)
    values, weights = values[order], weights[order]
    middles = np.cumsum(weights) - weights / 2
    middles -= middles[0]
    if middles[-1] <= 0:
        return np.full(len(shares), values[-1])
    return np.interp(shares, middles / middles[-1], values)


def distance_levels(signed: Floats, areas: Floats | None = None) -> Floats:
    """Return the distances at the shares `LEVELS`, (201,)."""
    return quantiles(np.abs(signed), LEVELS, areas)


def at_share(levels: Floats, share: float) -> float:
    """Read the distance at a share from `distance_levels`."""
    return float(np.interp(share, LEVELS, levels))
