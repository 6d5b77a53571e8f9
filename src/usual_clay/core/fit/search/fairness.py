"""Fairness of a cast surface: how calm it is for how near it lies."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import bends, sign_changes
from usual_clay.core.check.deviation import Tolerance, at_share, distance_levels
from usual_clay.core.fit.cast import fit_once
from usual_clay.core.fit.parameterize.region import Parameterization, Sizes
from usual_clay.core.fit.solve.system import Space, stiffness_of
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import even_knots, gram
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.knots import split
from usual_clay.core.spline.surface import BSplineSurface, sample_parameters, surface_derivatives

# The smoothest surface is looked for with so many points, and at least so many control points.
POINTS, SIDE, HALVINGS = 8_000, 24, 7
# Points whose feet lie so near to an end reach it.
AT_END = 1e-6
ISOCURVES, PER_SPAN = 9, 12
# A surface with fewer control points may bend so many times as much as that with more, and its
# isocurves may have so many inflections more in the mean.
RESTLESS, WIGGLES = 3.0, 1.0


@dataclass(frozen=True)
class Fairness:
    """How calm a surface is.

    Attributes
    ----------
    energy : float
        The thin plate's bending energy over the base, without a unit.
    against_smoothest : float or None
        The same as a multiple of that of the smoothest surface that lies as near; None where
        none was found.
    inflections : float
        Sign changes of the comb along an isocurve, in the mean.
    """

    energy: float
    against_smoothest: float | None
    inflections: float

    @property
    def times(self) -> float | None:
        """Return how many times as much as needed it bends, no less than once; None if unknown."""
        return None if self.against_smoothest is None else max(self.against_smoothest, 1.0)

    @property
    def words(self) -> str:
        """Return it in a sentence."""
        wiggles = f"{self.inflections:.1f} inflections along an isocurve."
        if self.times is None:
            return f"No calmer surface was found that lies as near; {wiggles}"
        return f"Bends {self.times:.3g} times as much as the calmest that lies as near; {wiggles}"


@dataclass(frozen=True)
class Calm:
    """How restless a surface with fewer control points may be: not much more than one with more.

    Attributes
    ----------
    energy, inflections : float
        Of the one with more.
    """

    energy: float
    inflections: float

    @classmethod
    def of(cls, surface: BSplineSurface, base: Parameterization) -> Calm:
        return cls(bending_energy(surface, base), inflections_of(surface))

    def allows(self, surface: BSplineSurface, base: Parameterization) -> bool:
        """Tell whether a surface is calm enough: fewer control points are not worth wiggles."""
        return (
            bending_energy(surface, base) <= RESTLESS * self.energy
            and inflections_of(surface) <= self.inflections + WIGGLES
        )


def fairness_of(
    sample: Sample,
    base: Parameterization,
    settings: Sizes,
    surface: BSplineSurface,
    signed: Floats,
    tolerance: Tolerance,
) -> Fairness:
    """Judge a fit by its bending energy and by its isocurves.

    The smoothest surface of equal deviation is one with many even knots and the stiffest thin
    plate (Eilers and Marx 1996) with which as many points lie as near, found by bisection.

    Parameters
    ----------
    sample : Sample
    base : Parameterization
        The sample laid flat; of a symmetric one, points and images alike.
    surface : BSplineSurface
    signed : (n,) array
        How far the sample's points lie from it, mm.
    """
    step = max(1, len(base.u) // POINTS)
    points = sample.points[::step], sample.normals[::step]
    energy = _energy_among(surface, base, foot_points(surface, points[0]))
    own = slice(0, min(len(sample.points), len(base.u)), step)
    plain = replace(base, u=base.u[own], v=base.v[own], mirror=None, least=None, held=None)
    wanted = at_share(distance_levels(signed, sample.areas), tolerance.share)
    rich = max(SIDE, *surface.counts)
    few = Sample(*points, area=sample.areas[::step])
    least = _smoothest(few, plain, settings, rich, wanted, tolerance)
    times = None if least is None else energy / max(least, 1e-300)
    return Fairness(energy, times, inflections_of(surface))


def bending_energy(surface: BSplineSurface, base: Parameterization) -> float:
    """Return the integral of |Sxx|^2 + 2 |Sxy|^2 + |Syy|^2 over the base."""
    p, q = surface.degrees
    length_u, length_v = base.size
    in_u = [gram(surface.knots_u, p, k) * length_u ** (1 - 2 * k) for k in range(3)]
    in_v = [gram(surface.knots_v, q, k) * length_v ** (1 - 2 * k) for k in range(3)]
    points = surface.points
    return float(
        sum(
            factor
            * np.einsum("ij,ikd,kl,jld->", in_u[k], points, in_v[2 - k], points, optimize=True)
            for k, factor in ((2, 1.0), (1, 2.0), (0, 1.0))
        )
    )


def _energy_among(surface: BSplineSurface, base: Parameterization, feet: FootPoints) -> float:
    """Return the bending energy where a surface has points, not where it runs out past them."""
    for direction, t in (("u", feet.u), ("v", feet.v)):
        if direction == base.closed:
            continue
        low, high = float(t.min()), float(t.max())
        if low > AT_END:
            surface, high = split(surface, low, direction)[1], (high - low) / (1 - low)
        if high < 1 - AT_END:
            surface = split(surface, high, direction)[0]
    return bending_energy(surface, base)


def _smoothest(
    sample: Sample,
    base: Parameterization,
    settings: Sizes,
    rich: int,
    wanted: float,
    tolerance: Tolerance,
) -> float | None:
    """Return the least energy with which a sample lies as near at the share, if one does."""
    side = max(min(rich, int(np.sqrt(len(sample.points) / 4))), settings.degree + 1)
    knots = even_knots(side, settings.degree)
    space = Space(knots, knots, settings.degree, settings.degree)
    start = base.begun(sample)
    best = np.inf
    low, high = 0.0, 1.0
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        surface, feet = fit_once(sample, base, space, stiffness_of(middle, base.size), start)
        start = start._replace(u=feet.u, v=feet.v, near=surface)
        if at_share(distance_levels(feet.signed, sample.areas), tolerance.share) <= wanted:
            best, low = min(best, _energy_among(surface, base, feet)), middle
        else:
            high = middle
    return best if np.isfinite(best) else None


def inflections_of(surface: BSplineSurface) -> float:
    """Return how often the comb changes its side along an isocurve, in the mean."""
    across = np.linspace(0.02, 0.98, ISOCURVES)
    found = []
    for direction, knots in (("u", surface.knots_u), ("v", surface.knots_v)):
        along = sample_parameters(knots, PER_SPAN)
        at, t = (part.ravel() for part in np.meshgrid(across, along, indexing="ij"))
        u, v = (t, at) if direction == "u" else (at, t)
        _, su, sv, suu, _, svv = surface_derivatives(surface, u, v, 2)
        first, second = (su, suu) if direction == "u" else (sv, svv)
        shape = (ISOCURVES, len(along), 3)
        curvature, _, signed = bends(first.T.reshape(shape), second.T.reshape(shape))
        sizes = np.linalg.norm(curvature, axis=2)
        found += [len(sign_changes(*curve)) for curve in zip(signed, sizes, strict=True)]
    return float(np.mean(found))
