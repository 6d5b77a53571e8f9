"""The camera of a view as plain numbers, and the ways to move it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import TRUE_PLANES, Plane

VIEW_ANGLE = np.radians(28.0)
FIT_MARGIN = 1.16

TRUE_VIEWS = tuple(TRUE_PLANES)


@dataclass(frozen=True, eq=False)
class Camera:
    """Where a view looks from.

    Attributes
    ----------
    focus : (3,) array
        The point looked at, mm.
    sight, up : (3,) arrays
        Unit vectors.
    height : float
        What the view's height shows at the focus, mm.
    true : bool
        Parallel projection.
    """

    focus: Floats
    sight: Floats
    up: Floats
    height: float
    true: bool = False

    @cached_property
    def right(self) -> Floats:
        return np.cross(self.sight, self.up)

    @cached_property
    def distance(self) -> float:
        return float(self.height / (2 * np.tan(VIEW_ANGLE / 2)))

    @cached_property
    def position(self) -> Floats:
        return self.focus - self.sight * self.distance

    def turned(self, right: float, up: float, about: Floats) -> Camera:
        """Turn by angles round the screen's axes, about a point that stays where it is."""
        turn = _rotation(self.up, -right) @ _rotation(self.right, -up)
        sight, new_up = turn @ self.sight, turn @ self.up
        new_up -= sight * (new_up @ sight)
        focus = about + turn @ (self.focus - about)
        return replace(self, focus=focus, sight=_unit(sight), up=_unit(new_up))

    def gone_round(self, angle: float, over: bool) -> Camera:
        """Go round the focus about the upright z by an angle; and over to see from below what was
        seen from above, or the other way round."""
        turn = _rotation(np.array([0.0, 0, 1]), angle)
        sight, up = turn @ self.sight, turn @ self.up
        if over:
            sight, up = sight * [1, 1, -1], up * [-1, -1, 1]
        return replace(self, sight=sight, up=up)

    def panned(self, right: float, up: float) -> Camera:
        """Move by mm across the view."""
        return replace(self, focus=self.focus + right * self.right + up * self.up)

    def zoomed(self, factor: float, towards: Floats) -> Camera:
        """Show `factor` times the height, keeping the point `towards` under the cursor."""
        focus = towards + (self.focus - towards) * factor
        return replace(self, height=self.height * factor, focus=focus)

    def fitted(self, points: Floats, aspect: float) -> Camera:
        """Show all of the points, (n, 3), with a margin."""
        x, y, depth = (points @ axis for axis in (self.right, self.up, self.sight))
        middle = [(float(v.min()) + float(v.max())) / 2 for v in (x, y, depth)]
        focus = middle[0] * self.right + middle[1] * self.up + middle[2] * self.sight
        half_x, half_y = np.abs(x - middle[0]), np.abs(y - middle[1])
        needed = np.maximum(half_y, half_x / max(aspect, 0.1))
        height = 2 * float(needed.max())
        if not self.true:
            # What is nearer looks larger: find the distance at which every point fits.
            slope = np.tan(VIEW_ANGLE / 2)
            height = 2 * slope * float((needed / slope - (depth - middle[2])).max())
        return replace(self, focus=focus, height=max(height, 1e-3) * FIT_MARGIN)


def true_view(name: str, like: Camera | None = None) -> Camera:
    """Return one of the six true views, with another camera's focus and height."""
    return square_on(TRUE_PLANES[name], like)


def square_on(plane: Plane, like: Camera | None = None) -> Camera:
    """Return the true view that looks at a plane square-on."""
    focus = np.zeros(3) if like is None else like.focus
    height = 100.0 if like is None else like.height
    return Camera(focus, -plane.normal, np.asarray(plane.up), height, true=True)


def free_view() -> Camera:
    """Return the tilted view that a new job starts with."""
    sight = _unit(np.array([0.42, 0.80, -0.43]))
    up = _unit(np.array([0.0, 0.0, 1.0]) - sight * sight[2])
    return Camera(np.zeros(3), sight, up, 100.0)


def _unit(vector: Floats) -> Floats:
    return vector / np.linalg.norm(vector)


def _rotation(axis: Floats, angle: float) -> Floats:
    x, y, z = _unit(axis)
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.eye(3) + np.sin(angle) * cross + (1 - np.cos(angle)) * cross @ cross
