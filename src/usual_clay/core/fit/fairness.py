"""Fairness of a draped surface: how calm it is for how near it lies."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import comb_of
from usual_clay.core.check.deviation import Aim, at_share, distance_levels
from usual_clay.core.fit.drape import Base, Drape, DrapeSettings, fit_once, lay_flat, stiffness_of
from usual_clay.core.fit.sample import Sample
from usual_clay.core.fit.system import Space
from usual_clay.core.spline.basis import even_knots, gram
from usual_clay.core.spline.surface import BSplineSurface, isocurve

# The smoothest surface is looked for with so many points and control points.
POINTS, SIDE, HALVINGS = 8_000, 24, 7
ISOCURVES = 9


@dataclass(frozen=True)
class Fairness:
    """How calm a surface is.

    Attributes
    ----------
    energy : float
        The thin plate's bending energy over the base, without a unit.
    against_smoothest : float
        The same as a multiple of that of the smoothest surface that lies as near.
    inflections : float
        Sign changes of the comb along an isocurve, in the mean.
    """

    energy: float
    against_smoothest: float
    inflections: float


def fairness_of(sample: Sample, settings: DrapeSettings, made: Drape, aim: Aim) -> Fairness:
    """Judge a drape by its bending energy and by its isocurves.

    The smoothest surface of equal deviation is one with many even knots and the stiffest thin
    plate (Eilers and Marx 1996) with which as many points lie as near, found by bisection.
    """
    settings = replace(settings, symmetric="")
    base = lay_flat(sample, settings)
    energy = bending_energy(made.surface, base)
    least = _smoothest(sample.part(POINTS), settings, made, aim)
    return Fairness(energy, energy / max(least, 1e-300), inflections_of(made.surface))


def bending_energy(surface: BSplineSurface, base: Base) -> float:
    """Return the integral of |Sxx|^2 + 2 |Sxy|^2 + |Syy|^2 over the base."""
    p, q = surface.degrees
    length_u, length_v = base.size
    in_u = [gram(surface.knots_u, p, k) * length_u ** (1 - 2 * k) for k in range(3)]
    in_v = [gram(surface.knots_v, q, k) * length_v ** (1 - 2 * k) for k in range(3)]
    points = surface.points
    return float(sum(
        factor * np.einsum("ij,ikd,kl,jld->", in_u[k], points, in_v[2 - k], points, optimize=True)
        for k, factor in ((2, 1.0), (1, 2.0), (0, 1.0))
    ))  # fmt: skip


def _smoothest(sample: Sample, settings: DrapeSettings, made: Drape, aim: Aim) -> float:
    """Return the least energy with which as many points of a sample lie as near."""
    side = min(SIDE, int(np.sqrt(len(sample.points) / 4)))
    rich = replace(settings.sized(max(side, 4), max(side, 4)), knots="even")
    base = lay_flat(sample, rich)
    knots_u, knots_v = (even_knots(n, rich.degree) for n in (rich.nu, rich.nv))
    space = Space(knots_u, knots_v, rich.degree, rich.degree)
    wanted = at_share(distance_levels(made.feet.signed), aim.share)
    start: tuple[Floats, Floats, Floats] = (base.u, base.v, np.ones(len(sample.points)))
    best = np.inf
    low, high = 0.0, 1.0
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        stiffness = stiffness_of(replace(rich, smoothness=middle), base)
        surface, feet = fit_once(sample, base, space, stiffness, start)
        start = (feet.u, feet.v, start[2])
        if at_share(distance_levels(feet.signed), aim.share) <= wanted:
            best, low = min(best, bending_energy(surface, base)), middle
        else:
            high = middle
    return best if np.isfinite(best) else bending_energy(made.surface, base)


def inflections_of(surface: BSplineSurface) -> float:
    """Return how often the comb changes its side along an isocurve, in the mean."""
    at = np.linspace(0.02, 0.98, ISOCURVES)
    curves = [isocurve(surface, direction, float(t)) for direction in "uv" for t in at]
    return float(np.mean([len(comb_of(curve).inflections) for curve in curves]))
