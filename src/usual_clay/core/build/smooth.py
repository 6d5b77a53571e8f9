"""How a surface from curves leaves its borders: smooth to what lies beside."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_derivatives

# A joint may turn by so much, and step in curvature by so many times the reach's own.
TURN, STEP = np.radians(0.03), 0.02
# A surface that lies beside begins where it ends when its feet are so near to its border.
AT_BORDER = 1e-3
# It goes on from there at least at such a share of its pace.
AHEAD = 0.5
# No slope counts as slower than this share of the mean.
SLOW = 0.1


@dataclass(frozen=True, eq=False)
class Smooth:
    """What a surface has at one of its borders.

    Attributes
    ----------
    slope : (n, 3) array
        How its places move with the parameter across, which rises.
    bend : (n, 3) array or None
        How the slope changes with it, where the joint is G2.
    normal : (n, 3) array
        Of what lies beside; only what is off along it opens a joint.
    feet : (n, 3) array
        The places of what lies beside that are nearest to the border.
    counts : (n, 1) array or float
        How much each place counts; less towards corners that cannot be smooth.
    """

    slope: Floats
    bend: Floats | None
    normal: Floats
    feet: Floats
    counts: Floats | float = 1.0

    @property
    def rows(self) -> list[Floats]:
        """The derivatives that are held, from the first."""
        return [self.slope] if self.bend is None else [self.slope, self.bend]

    def rim(self, points: Floats, within: float) -> Floats:
        """Return what steps along the border that are off count along, (n - 1, 3)."""
        steps = np.linalg.norm(np.diff(points, axis=0), axis=1, keepdims=True)
        steps = np.maximum(steps, SLOW * steps.mean())
        normal = self.counts * self.normal
        middle = (normal[1:] + normal[:-1]) / 2
        return np.asarray(within / (TURN * np.maximum(steps, 1e-12)) * middle)

    def scales(self, within: float) -> list[Floats]:
        """Return what each derivative that is off by a vector counts as, mm, along the normal."""
        pace = np.linalg.norm(self.slope, axis=1, keepdims=True)
        # Towards a corner that is a pole the pace is none.
        pace = np.maximum(pace, SLOW * pace.mean() + 1e-12)
        normal = self.counts * self.normal
        made = [within / (TURN * pace) * normal]
        if self.bend is not None:
            reach = np.maximum(np.abs(np.einsum("nk,nk->n", self.bend, self.normal)), pace[:, 0])
            made.append(within / (STEP * reach[:, None]) * normal)
        return made


def smooth_to(
    points: Floats,
    slope: Floats,
    bend: Floats,
    end: int,
    beside: Sequence[BSplineSurface],
    order: int,
    most: float,
) -> Smooth | None:
    """Return a border's slope brought into the tangent planes of a surface that lies beside.

    Of the bend what stands square to it is that surface's own (G1 and G2 of two surfaces that
    share a border curve: the same tangent plane, and the same normal curvature across).

    Parameters
    ----------
    points, slope, bend : (n, 3) arrays
        Of the border, as the surface would leave it by itself.
    end : {0, 1}
        At which end of the parameter across it lies.
    order : {1, 2}
    most : float
        A surface farther from the border than this does not lie beside it, mm.
    """
    for surface in beside:
        feet = foot_points(surface, points)
        if np.abs(feet.signed).max() > most:
            continue
        derived = surface_derivatives(surface, feet.u, feet.v, 2).swapaxes(1, 2)
        ways = derived[1], derived[2]
        normal = np.cross(*ways)
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
        pace = np.linalg.norm(slope, axis=1, keepdims=True)
        flat = _ahead(in_plane(slope, normal), _outward(feet, ways), end, pace)
        flat *= pace / np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-300)
        if order < 2:
            return Smooth(flat, None, normal, derived[0])
        own = _normal_curvature(derived, ways, flat, normal)
        up = own - np.einsum("nk,nk->n", bend, normal)
        return Smooth(flat, bend + up[:, None] * normal, normal, derived[0])
    return None


def in_plane(slope: Floats, normal: Floats) -> Floats:
    """Return slopes brought into the planes square to unit normals, (n, 3) each."""
    return np.asarray(slope - np.einsum("nk,nk->n", slope, normal)[:, None] * normal)


def _outward(feet: FootPoints, ways: tuple[Floats, Floats]) -> tuple[Floats, Bools]:
    """Return the directions in which a surface ends at feet on its border, and where they are."""
    ahead, there = np.zeros_like(ways[0]), np.zeros(len(feet.u), dtype=bool)
    for t, way in ((feet.u, ways[0]), (feet.v, ways[1])):
        unit = way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-300)
        for at, sign in ((t < AT_BORDER, -1.0), (t > 1 - AT_BORDER, 1.0)):
            if at.mean() > 0.9:
                ahead[at], there = sign * unit[at], there | at
    return ahead, there


def _ahead(flat: Floats, outward: tuple[Floats, Bools], end: int, pace: Floats) -> Floats:
    """Let slopes lead on from where the other surface ends, not back over it."""
    ahead, there = outward
    ahead = ahead if end == 0 else -ahead
    lacks = np.maximum(AHEAD * pace[:, 0] - np.einsum("nk,nk->n", flat, ahead), 0.0)
    return np.asarray(flat + np.where(there, lacks, 0.0)[:, None] * ahead)


def _normal_curvature(
    derived: Floats, ways: tuple[Floats, Floats], along: Floats, normal: Floats
) -> Floats:
    """Return how a surface bends along vectors of its tangent planes, times their length squared.

    The second fundamental form (do Carmo 1976, ch. 3.3).
    """
    a, b = ways
    aa, ab, bb = (np.einsum("nk,nk->n", x, y) for x, y in ((a, a), (a, b), (b, b)))
    on_a, on_b = (np.einsum("nk,nk->n", along, x) for x in ways)
    whole = np.maximum(aa * bb - ab**2, 1e-300)
    p, q = (bb * on_a - ab * on_b) / whole, (aa * on_b - ab * on_a) / whole
    aa, ab, bb = (np.einsum("nk,nk->n", each, normal) for each in derived[3:])
    return np.asarray(p**2 * aa + 2 * p * q * ab + q**2 * bb)


def faded(grid: Floats, t: Floats, border: Border, change: Floats, reach: float) -> Floats:
    """Return a grid whose second derivative at a border is another, faded out over a reach.

    Parameters
    ----------
    t : array
        The parameters of the grid across that border.
    change : (n, 3) array
        By how much, at each place of the border.
    """
    far = t if border[1] == "0" else 1 - t
    size = 0.5 * far**2 * np.clip(1 - far / reach, 0, 1) ** 3
    if border[0] == "u":
        return np.asarray(grid + size[:, None, None] * change[None])
    return np.asarray(grid + size[None, :, None] * change[:, None])
