"""Laying points into space, or onto one of the planes of the world's axes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats

# Axes across and up in each plane, and the axis square to it.
PLANES = {"xy": (0, 1, 2), "yz": (1, 2, 0), "zx": (2, 0, 1)}
# A run whose ends are nearer than so many of its steps is closed.
CLOSING_STEPS = 3.0
# A run that turns by more than this, radians, where it comes back is sharp there.
SHARP = float(np.radians(35))


@dataclass(frozen=True, eq=False)
class Laid:
    """A run in space with the plane it is worked on in.

    Attributes
    ----------
    space : (n, 3) array
    axes : (int, int, int)
        Across, up, and square to the plane.
    words : str
        What was dropped to lay it there.
    """

    space: Floats
    axes: tuple[int, int, int]
    words: str = ""

    @property
    def flat(self) -> Floats:
        return self.space[:, self.axes[:2]]


def lay(points: Floats, plane: str | None = None, named: tuple[int, ...] = ()) -> Laid:
    """Lay points, (n, 2 or 3), into space or onto a plane, and say what that drops.

    Parameters
    ----------
    plane : str, optional
        A name in `PLANES`.
    named : tuple of int
        The axes that two columns are named after, where they are; they go there by name when
        the plane allows it, and otherwise across and up.
    """
    if points.shape[1] == 2:
        fitting = [axes for axes in PLANES.values() if set(axes[:2]) == set(named)]
        by_name = bool(fitting) and plane in (None, *(k for k, v in PLANES.items() if v in fitting))
        axes = fitting[0] if by_name else PLANES[plane or "xy"]
        space = np.zeros((len(points), 3))
        space[:, named if by_name else axes[:2]] = points
        return Laid(space, axes)
    if plane is None:
        # The plane is only needed for a ball: the one that the run leaves least.
        least = int(np.argmin(np.ptp(points, axis=0)))
        return Laid(points, next(axes for axes in PLANES.values() if axes[2] == least))
    axes = PLANES[plane]
    across = "xyz"[axes[2]]
    span = float(np.ptp(points[:, axes[2]]))
    space = points.copy()
    space[:, axes[2]] = 0.0
    return Laid(space, axes, f"{across} spans {span:.3g} mm and is dropped")


def closes_smoothly(points: Floats) -> bool:
    """Tell whether a run comes back to where it began and goes on there as smoothly as elsewhere.

    A run that comes back at a sharp edge, as that of a wing section does, stays open by itself: a
    smooth spline round it would hook there.
    """
    if not is_closed(points):
        return False
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    arc = np.concatenate([[0.0], np.cumsum(steps)])
    # Directions are told over some steps, so that noise does not turn them.
    reach = max(0.015 * arc[-1], min(4 * float(np.median(steps)), 0.06 * arc[-1]))
    last = len(points) - 1
    after = np.minimum(np.maximum(np.searchsorted(arc, arc + reach), np.arange(last + 1) + 1), last)
    before = np.maximum(
        np.minimum(np.searchsorted(arc, arc - reach, "right") - 1, np.arange(last + 1) - 1), 0
    )
    inner = np.flatnonzero((before < np.arange(last + 1)) & (after > np.arange(last + 1)))
    turns = _angles(points[inner] - points[before[inner]], points[after[inner]] - points[inner])
    # Where it bends more than elsewhere, it does so on both sides of where it comes back.
    near = np.minimum(arc[inner], arc[-1] - arc[inner]) < 2.5 * reach
    usual = max(float(np.median(turns)), float(np.median(turns[near])) if near.any() else 0.0)
    own = _angles(points[[last]] - points[before[[last]]], points[after[[0]]] - points[[0]])
    return float(own[0]) < SHARP + 2 * usual


def _angles(one: Floats, two: Floats) -> Floats:
    """Return the angles between vectors, (n, 3) each, radians."""
    across = np.linalg.norm(np.cross(one, two), axis=1)
    return np.arctan2(across, np.einsum("nk,nk->n", one, two))


def is_closed(points: Floats) -> bool:
    """Tell whether a run comes back to where it began."""
    if len(points) < 8:
        return False
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    gap = float(np.linalg.norm(points[0] - points[-1]))
    return gap <= CLOSING_STEPS * float(np.median(steps))
