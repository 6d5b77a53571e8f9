"""A curve by shares of its length."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.parts import beginning_at, lengths

# Ends nearer than this share of a curve's length are one place.
TOGETHER = 1e-6
# A curve that anywhere goes slower than this share of its mean pace nearly stands still there.
SLOWEST = 0.02


@dataclass(frozen=True, eq=False)
class Measured:
    """A curve whose places are told by shares of its length, from 0 to 1.

    Attributes
    ----------
    curve : BSplineCurve
    begins : float
        Of a closed one the share, in its own order, at which it is taken to begin.
    """

    curve: BSplineCurve
    begins: float = 0.0

    @cached_property
    def _table(self) -> tuple[Floats, Floats]:
        return lengths(self.curve)

    @property
    def length(self) -> float:
        """Its length, mm."""
        return float(self._table[1][-1])

    @cached_property
    def closed(self) -> bool:
        """Whether it ends where it begins."""
        ends = curve_points(self.curve, np.array(self.curve.domain))
        return float(np.linalg.norm(ends[1] - ends[0])) <= TOGETHER * max(self.length, 1e-12)

    def parameters(self, share: Floats) -> Floats:
        """Return the curve's parameters at shares of its length."""
        share = np.asarray(share, dtype=np.float64)
        if self.closed:
            share = share + self.begins
            share = np.where((share > 1) | (share < 0), share % 1.0, share)
        return np.asarray(self._run(share))

    @cached_property
    def _run(self) -> Callable[[Floats], Floats]:
        """Gives parameters at shares of the length: a cubic with the pace that the curve has."""
        t, along = self._table
        share = along / along[-1]
        pace = np.linalg.norm(curve_derivatives(self.curve, t, 1)[1], axis=1) / along[-1]
        if pace.min() < SLOWEST:
            # Where it stands still no cubic does.
            return lambda at: np.interp(at, share, t)
        cubic = scipy.interpolate.CubicHermiteSpline(share, t, 1 / pace)
        return lambda at: np.clip(cubic(np.clip(at, 0, 1)), t[0], t[-1])

    def at(self, share: Floats) -> Floats:
        """Return places, (n, 3)."""
        return curve_points(self.curve, self.parameters(share))

    def ahead(self, share: Floats) -> Floats:
        """Return directions, (n, 3), of length 1."""
        slope = curve_derivatives(self.curve, self.parameters(share), 1)[1]
        return np.asarray(slope / np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-300))

    def share(self, t: float) -> float:
        """Return the share of its length at a parameter."""
        return float(self.shares(np.array([t]))[0])

    def shares(self, t: Floats) -> Floats:
        """Return the shares of its length at parameters, (n,)."""
        at, along = self._table
        share = np.interp(t, at, along) / along[-1]
        return (share - self.begins) % 1.0 if self.closed else share

    def nearest(self, points: Floats) -> float:
        """Return the share at which it is nearest to any of some places."""
        t, _, away = curve_foot_points(self.curve, points)
        return self.share(float(t[int(np.argmin(away))]))

    def beginning_at(self, share: float) -> Measured:
        """Return the same closed curve, taken to begin elsewhere."""
        return replace(self, begins=(self.begins + share) % 1.0)

    def laid_anew(self) -> Measured:
        """Return it with a curve that begins where it is taken to begin."""
        return Measured(beginning_at(self.curve, float(self.parameters(np.zeros(1))[0])))

    def by_parameter(self, t: Floats) -> Floats:
        """Return places at shares of its own parameter, (n, 3)."""
        low, high = self.curve.domain
        return curve_points(self.curve, low + (high - low) * np.asarray(t, dtype=np.float64))

    def turned(self) -> Measured:
        """Return it the other way round, from the same place."""
        return Measured(reverse(self.curve), (1 - self.begins) % 1.0)
