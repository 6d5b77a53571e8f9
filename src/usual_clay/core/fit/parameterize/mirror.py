"""Mirror symmetry of a fit: both halves of the points used, the control net exactly symmetric."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import FitError
from usual_clay.core.fit.solve.system import Space
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.four_borders import merged
from usual_clay.core.spline.surface import BSplineSurface

# Parameters of a point and of its mirror image may differ by so much from being mirrored.
MOST_AWRY = 0.06


@dataclass(frozen=True, eq=False)
class Mirror:
    """A plane square to an axis through the origin, and the direction that it turns round.

    Attributes
    ----------
    axis : int
    direction : {"u", "v"}
        The parameter t that becomes 1 - t.
    """

    axis: int
    direction: str

    def spread(self, space: Space) -> Space:
        """Return the space with knots that are their own mirror image."""
        if self.direction == "u":
            return replace(space, knots_u=(space.knots_u + 1 - space.knots_u[::-1]) / 2)
        return replace(space, knots_v=(space.knots_v + 1 - space.knots_v[::-1]) / 2)

    def doubled(self, space: Space) -> Space:
        """Return the space with the mirror images of its knots added."""
        degree = space.degree_u if self.direction == "u" else space.degree_v
        knots = space.knots_u if self.direction == "u" else space.knots_v
        inner = knots[degree + 1 : -degree - 1]
        both = merged([inner, 1 - inner[::-1]])
        whole = np.concatenate([knots[: degree + 1], both, knots[-degree - 1 :]])
        if self.direction == "u":
            return replace(space, knots_u=whole)
        return replace(space, knots_v=whole)

    def halved(self, surface: BSplineSurface) -> BSplineSurface:
        """Return a surface with the mean of its net and of the net's mirror image."""
        points = surface.points
        turned = points[::-1] if self.direction == "u" else points[:, ::-1]
        image = turned.copy()
        image[..., self.axis] *= -1
        made = (points + image) / 2
        middle = len(points) if self.direction == "u" else points.shape[1]
        if middle % 2:
            on = made[middle // 2] if self.direction == "u" else made[:, middle // 2]
            on[..., self.axis] = 0.0
        return replace(surface, points=made)


def mirrored(sample: Sample, axis: int) -> Sample:
    """Return points followed by their mirror images."""
    flip = np.ones(3)
    flip[axis] = -1
    return Sample(
        np.concatenate([sample.points, sample.points * flip]),
        np.concatenate([sample.normals, sample.normals * flip]),
        area=np.tile(sample.areas, 2),
    )


def settle_mirror(u: Floats, v: Floats, axis: int) -> tuple[Mirror, Floats, Floats]:
    """Find which parameter a mirror turns round, and make the parameters symmetric.

    Parameters
    ----------
    u, v : (2 n,) arrays
        Of points, then of their mirror images.

    Raises
    ------
    FitError
        When the region does not lie square to the plane.
    """
    half = len(u) // 2
    awry = {
        name: float(np.mean(np.abs(t[:half] + t[half:] - 1)))
        + float(np.mean(np.abs(other[:half] - other[half:])))
        for name, t, other in (("u", u, v), ("v", v, u))
    }
    direction = min(awry, key=lambda name: awry[name])
    if awry[direction] > MOST_AWRY:
        raise FitError(
            f"the region is not laid square to the plane {'xyz'[axis]} = 0: set the scan straight,"
            " or choose the frame along the axes"
        )
    turns, stays = (u, v) if direction == "u" else (v, u)
    turned = (turns[:half] + 1 - turns[half:]) / 2
    kept = (stays[:half] + stays[half:]) / 2
    turns, stays = np.concatenate([turned, 1 - turned]), np.concatenate([kept, kept])
    mirror = Mirror(axis, direction)
    return (mirror, turns, stays) if direction == "u" else (mirror, stays, turns)
