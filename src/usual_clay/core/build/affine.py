"""Moving, turning, scaling and mirroring: what it is, as a value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import FitError

Does = Literal["move", "turn", "scale", "mirror"]
Axis = Literal["x", "y", "z"]
MOST_COPIES = 99


@dataclass(frozen=True)
class PlaceSettings:
    """How something is moved.

    Attributes
    ----------
    does : {"move", "turn", "scale", "mirror"}
    by : three float
        mm along x, y and z.
    angle : float
        Radians about the axis.
    factors : three float
        Along x, y and z.
    axis : {"x", "y", "z"}
        Turned about, or the normal of the mirror; a picked line has the say.
    about : {"middle", "origin", "place"}
        What stays where it is: the middle of what is moved, 0, or a place.
    place : three float
    copies : int
        So many copies, each moved once more than the one before; 0 moves the thing itself.
    """

    does: Does = "move"
    by: tuple[float, ...] = (0.0, 0.0, 0.0)
    angle: float = 0.0
    factors: tuple[float, ...] = (1.0, 1.0, 1.0)
    axis: Axis = "z"
    about: Literal["middle", "origin", "place"] = "middle"
    place: tuple[float, ...] = (0.0, 0.0, 0.0)
    copies: int = 0

    def __post_init__(self) -> None:
        for words, values in (("a move", self.by), ("a place", self.place)):
            if len(values) != 3 or not np.isfinite(values).all():
                raise FitError(f"{words} has three numbers: along x, y and z")
        if len(self.factors) != 3 or not all(np.isfinite(f) and f != 0 for f in self.factors):
            raise FitError("scales are three numbers, none of them 0: along x, y and z")
        if not 0 <= self.copies <= MOST_COPIES:
            raise FitError(f"there are at most {MOST_COPIES} copies")


@dataclass(frozen=True, eq=False)
class Affine:
    """A linear change and a shift: ``new = change @ old + shift``.

    Attributes
    ----------
    change : (3, 3) array
    shift : (3,) array
        mm.
    """

    change: Floats
    shift: Floats

    def apply(self, points: Floats) -> Floats:
        """Return places, (..., 3), where they come to lie."""
        return np.asarray(points @ self.change.T + self.shift)

    def then(self, after: Affine) -> Affine:
        return Affine(after.change @ self.change, after.apply(self.shift))

    @property
    def turns_over(self) -> bool:
        """Whether it turns right into left."""
        return bool(np.linalg.det(self.change) < 0)

    @property
    def size(self) -> float | None:
        """How many times as large things become, the same in all directions; None where not."""
        lengths = np.linalg.svd(self.change, compute_uv=False)
        return float(lengths[0]) if np.ptp(lengths) < 1e-9 * lengths[0] else None


def affine_of(
    settings: PlaceSettings, middle: Floats, line: tuple[Floats, Floats] | None = None
) -> Affine:
    """Return what settings do.

    Parameters
    ----------
    middle : (3,) array
        The middle of what is moved.
    line : two (3,) arrays, optional
        A place on a picked line and its direction.
    """
    stays = stays_of(settings, middle)
    axis = np.eye(3)["xyz".index(settings.axis)]
    if line is not None:
        stays, axis = line[0], line[1] / max(float(np.linalg.norm(line[1])), 1e-300)
    if settings.does == "move":
        return Affine(np.eye(3), np.array(settings.by))
    if settings.does == "turn":
        change = turn_about(axis, settings.angle)
    elif settings.does == "scale":
        change = np.diag(settings.factors)
    else:
        change = np.eye(3) - 2 * np.outer(axis, axis)
    return Affine(change, stays - change @ stays)


def stays_of(settings: PlaceSettings, middle: Floats) -> Floats:
    """Return the place that stays where it is, (3,)."""
    return {"middle": middle, "origin": np.zeros(3), "place": np.array(settings.place)}[
        settings.about
    ]


def turn_about(axis: Floats, angle: float) -> Floats:
    """Return the turn about a direction of length 1 (Rodrigues), (3, 3)."""
    x, y, z = axis
    cross = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    return np.asarray(np.eye(3) + np.sin(angle) * cross + (1 - np.cos(angle)) * cross @ cross)
