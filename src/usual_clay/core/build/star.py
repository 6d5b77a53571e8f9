"""A fill in several patches: one for each corner of a loop, meeting in the middle."""

from __future__ import annotations

from functools import cached_property

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.build.guide import evenly_in
from usual_clay.core.build.plate import Plate
from usual_clay.core.build.smooth import Smooth, in_plane, smooth_to
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.surface import BSplineSurface

# Samples of an edge; how far inside it the ring lies that leads on from what lies beside, and the
# step of differences, in a loop's own circle of radius 1.
SAMPLES, RING, STEP = 48, 0.04, 1e-4


class Star:
    """A calm surface over a polygon whose sides are a loop's edges.

    Each edge takes an arc of the unit circle by its length. Over the polygon the surface is a
    sum of cubic radial functions through its edges (Duchon 1977), and through a ring that leads
    on from surfaces beside them.
    """

    def __init__(self, loop: list[Measured], middle: Floats | None) -> None:
        self.loop, self.middle = loop, middle
        length = np.array([edge.length for edge in loop])
        turn = 2 * np.pi * np.concatenate([[0.0], np.cumsum(length)[:-1]]) / length.sum()
        self.corners = np.stack([np.cos(turn), np.sin(turn)], axis=1)
        self._flat: list[Floats] = []
        self._space: list[Floats] = []
        t = evenly_in(SAMPLES)[:-1]
        for k, edge in enumerate(loop):
            self._pin(self._side(k, t), edge.at(t))
        if middle is not None:
            self._pin(np.zeros((1, 2)), middle[None])

    def _pin(self, flat: Floats, space: Floats) -> None:
        self._flat.append(flat)
        self._space.append(space)
        self.__dict__.pop("surface", None)

    @cached_property
    def surface(self) -> scipy.interpolate.RBFInterpolator:
        """Gives places in space of places in the polygon."""
        flat, space = np.concatenate(self._flat), np.concatenate(self._space)
        return scipy.interpolate.RBFInterpolator(flat, space, kernel="cubic", degree=1)

    def _side(self, k: int, share: Floats) -> Floats:
        start, stop = self.corners[k], self.corners[(k + 1) % len(self.corners)]
        return np.asarray(start + share[:, None] * (stop - start))

    def lead_on(self, beside: tuple[BSplineSurface, ...], order: int, most: float) -> None:
        """Let it leave its edges smoothly from the surfaces that lie beside them."""
        t = np.linspace(0, 1, SAMPLES // 2 + 2)[2:-2]
        rings = []
        for k, edge in enumerate(self.loop):
            flat = self._side(k, t)
            ahead = self.corners[(k + 1) % len(self.corners)] - self.corners[k]
            inward = np.array([-ahead[1], ahead[0]]) / np.linalg.norm(ahead)
            near, far = (self.surface(flat + step * RING * inward) for step in (1, 2))
            points = edge.at(t)
            bend = (far - 2 * near + points) / RING**2
            slope = (4 * near - far - 3 * points) / (2 * RING)
            made = smooth_to(points, slope, bend, 0, beside, max(order, 2), most)
            if made is not None:
                assert made.bend is not None
                ring = points + RING * made.slope + RING**2 / 2 * made.bend
                rings.append((flat + RING * inward, ring))
        for flat, ring in rings:
            self._pin(flat, ring)

    def patch(self, k: int, count: int) -> tuple[Plate, dict[Border, Floats]]:
        """Return the patch at a corner, and the normals at its inner borders.

        The corner is its place (0, 0). Its u runs along the edge that leaves the corner to that
        edge's middle, its v back along the edge before it; (1, 1) is the middle of the loop.
        """
        before = (k - 1) % len(self.loop)
        half = np.array([0.5])
        there, back = self._side(k, half)[0], self._side(before, half)[0]
        t = evenly_in(count)
        u, v = t[:, None, None], t[None, :, None]
        flat = (1 - u) * (1 - v) * self.corners[k] + u * (1 - v) * there + (1 - u) * v * back
        grid = self.surface(flat.reshape(-1, 2)).reshape(count, count, 3)
        grid[:, 0], grid[0] = self.loop[k].at(t / 2), self.loop[before].at(1 - t / 2)
        spokes: dict[Border, Floats] = {"u1": flat[-1], "v1": flat[:, -1]}
        return Plate(grid), {border: self._normals(at) for border, at in spokes.items()}

    def _normals(self, flat: Floats) -> Floats:
        steps = [
            self.surface(flat + STEP * way) - self.surface(flat - STEP * way) for way in np.eye(2)
        ]
        normal = np.cross(*steps)
        return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None])


def spokes_smooth(plate: Plate, normals: dict[Border, Floats], order: int) -> dict[Border, Smooth]:
    """Let a patch meet its neighbours in the tangent planes that they share."""
    made: dict[Border, Smooth] = {}
    for border, normal in normals.items():
        slope, bend = plate.leaves(border)
        flat = in_plane(slope, normal)
        made[border] = Smooth(flat, bend if order > 1 else None, normal, plate.row(border))
    return made
