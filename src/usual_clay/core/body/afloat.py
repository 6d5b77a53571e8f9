"""What of a closed body lies under water: triangles cut by the water's plane, all at once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import GeometryError

# Vertices no farther apart than this share of a body's size are one.
TOGETHER = 1e-7


class FloatError(GeometryError):
    """A body that cannot float, or not as asked: why, and what to do."""


@dataclass(frozen=True, eq=False)
class ClosedMesh:
    """A closed body of triangles that face outward.

    Attributes
    ----------
    vertices : (n, 3) array
        mm.
    triangles : (m, 3) integers
    """

    vertices: Floats
    triangles: Ints

    @classmethod
    def of(cls, vertices: Floats, triangles: Ints) -> ClosedMesh:
        """Return a body whose triangles share their vertices and face outward.

        Raises
        ------
        FloatError
            For one that is not closed, or holds nothing.
        """
        size = float(np.ptp(vertices, axis=0).max()) if len(vertices) else 0.0
        if not (np.isfinite(vertices).all() and size > 0):
            raise FloatError("the body is one place, or holds numbers that are not finite")
        grid = np.round(vertices / (TOGETHER * size)).astype(np.int64)
        _, first, which = np.unique(grid, axis=0, return_index=True, return_inverse=True)
        joined = which.ravel()[triangles]
        own = (joined != np.roll(joined, 1, axis=1)).all(axis=1)
        joined = joined[own]
        edges = np.sort(np.concatenate([joined[:, [0, 1]], joined[:, [1, 2]], joined[:, [2, 0]]]))
        _, times = np.unique(edges, axis=0, return_counts=True)
        if (open_ := int((times % 2).sum())) or not len(joined):
            raise FloatError(
                f"the body is open along {open_} edges of its triangles: close it, then it floats"
            )
        body = cls(vertices[first], joined)
        if body.volume < 0:
            body = cls(body.vertices, joined[:, ::-1])
        if not body.volume > 0:
            raise FloatError("the body holds nothing: its volume is 0")
        return body

    @cached_property
    def volume(self) -> float:
        """mm cubed."""
        a, b, c = (self.vertices[self.triangles[:, k]] for k in range(3))
        return float(np.einsum("nk,nk->n", a, np.cross(b, c)).sum() / 6)

    @cached_property
    def centre(self) -> Floats:
        """The middle of what it holds, (3,)."""
        high = float(self.vertices[:, 2].max()) + 1.0
        return below(self, np.array([0.0, 0.0, 1.0]), high).centre

    @cached_property
    def lowest(self) -> float:
        """The height of its lowest point as it stands upright, mm."""
        return float(self.vertices[:, 2].min())


@dataclass(frozen=True, eq=False)
class Wet:
    """What lies under water.

    Attributes
    ----------
    volume : float
        mm cubed.
    centre : (3,) array
        Of buoyancy, in the body's own frame.
    area : float
        Of the wetted surface, mm squared.
    plane : float
        The area of the water's plane within the body, mm squared.
    middle : (3,) array
        The middle of that.
    along, across : float
        Its second moments about its middle, for turns about the axis across and the axis along,
        mm to the fourth.
    """

    volume: float
    centre: Floats
    area: float
    plane: float
    middle: Floats
    along: float
    across: float


def below(body: ClosedMesh, up: Floats, height: float) -> Wet:
    """Return what of a body lies below a plane.

    Volumes are sums of tetrahedra from a place on the plane: its own cap then adds nothing
    (the divergence theorem; Mirtich 1996 for moments of polyhedra).

    Parameters
    ----------
    up : (3,) array
        Away from the water, of length 1, in the body's frame.
    height : float
        Of the water's surface along it, mm.
    """
    lift = body.vertices @ up - height
    # A vertex on the surface lies a hair below it.
    lift = np.where(np.abs(lift) < 1e-12 * max(float(np.ptp(lift)), 1e-300), -1e-300, lift)
    corners, depth = body.vertices[body.triangles], lift[body.triangles]
    under = depth < 0
    count = under.sum(axis=1)
    parts = [corners[count == 3]]
    segments = []
    for many in (1, 2):
        mine = count == many
        # The corner that is alone on its side comes first.
        first = np.argmax(under[mine] if many == 1 else ~under[mine], axis=1)
        order = (first[:, None] + np.arange(3)) % 3
        a, b, c = np.take_along_axis(corners[mine], order[..., None], axis=1).swapaxes(0, 1)
        d, e, f = np.take_along_axis(depth[mine], order, axis=1).T
        on_b = a + (d / (d - e))[:, None] * (b - a)
        on_c = a + (d / (d - f))[:, None] * (c - a)
        if many == 1:
            parts.append(np.stack([a, on_b, on_c], axis=1))
            segments.append(np.stack([on_b, on_c], axis=1))
        else:
            parts += [np.stack([on_b, b, c], axis=1), np.stack([on_b, c, on_c], axis=1)]
            segments.append(np.stack([on_c, on_b], axis=1))
    triangles = np.concatenate(parts)
    origin = height * up
    a, b, c = (triangles - origin).swapaxes(0, 1)
    six = np.einsum("nk,nk->n", a, np.cross(b, c))
    volume = float(six.sum() / 6)
    moment = np.einsum("n,nk->k", six, a + b + c) / 24
    centre = origin + (moment / volume if volume > 0 else 0.0)
    area = float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)
    return Wet(volume, centre, area, *_plane(np.concatenate(segments), up))


def axes_of(up: Floats) -> tuple[Floats, Floats]:
    """Return the level directions ahead, as near to x as can be, and to the left of it."""
    ahead = np.array([1.0, 0.0, 0.0]) - up[0] * up
    if np.linalg.norm(ahead) < 1e-6:
        ahead = np.array([0.0, 0.0, 1.0]) - up[2] * up
    ahead /= np.linalg.norm(ahead)
    return ahead, np.cross(up, ahead)


def _plane(segments: Floats, up: Floats) -> tuple[float, Floats, float, float]:
    """Return area, middle and second moments of the plane inside segments, (n, 2, 3)."""
    ahead, left = axes_of(up)
    if not len(segments):
        return 0.0, np.zeros(3), 0.0, 0.0
    shift = segments.reshape(-1, 3).mean(axis=0)
    x, y = ((segments - shift) @ way for way in (ahead, left))
    p, q, r, s = x[:, 0], y[:, 0], x[:, 1], y[:, 1]
    twice = p * s - r * q
    area = float(twice.sum() / 2)
    # Cut edges run round the body's inside the one way or the other.
    sign = -1.0 if area < 0 else 1.0
    area, twice = sign * area, sign * twice
    if not area > 0:
        return 0.0, shift, 0.0, 0.0
    mean = np.array([(twice * (p + r)).sum(), (twice * (q + s)).sum()]) / (6 * area)
    long = float((twice * (p * p + p * r + r * r)).sum() / 12 - area * mean[0] ** 2)
    wide = float((twice * (q * q + q * s + s * s)).sum() / 12 - area * mean[1] ** 2)
    return area, shift + mean[0] * ahead + mean[1] * left, long, wide
