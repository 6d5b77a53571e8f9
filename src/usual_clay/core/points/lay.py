"""Laying points into space, or onto one of the planes of the world's axes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats

# Axes across and up in each plane, and the axis square to it.
PLANES = {"xy": (0, 1, 2), "yz": (1, 2, 0), "zx": (2, 0, 1)}
# A run whose ends are nearer than so many of its steps is closed.
CLOSING_STEPS = 3.0


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


def is_closed(points: Floats) -> bool:
    """Tell whether a run comes back to where it began."""
    if len(points) < 8:
        return False
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    gap = float(np.linalg.norm(points[0] - points[-1]))
    return gap <= CLOSING_STEPS * float(np.median(steps))
