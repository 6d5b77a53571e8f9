"""What a polished surface mirrors: stripes, a room, and the lines of a lamp far away.

By the direction of reflection and the normal alone, so that what is seen is of the shape at that
very place and never of its triangles (Klass 1980; Beier and Chen 1994).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from usual_clay.core.arrays import Floats

# How soft the edges of stripes are, and how wide a lamp's line is beside the next.
SOFT, LINE = 6.0, 14
# The room's half length, half width and half height; what it is made of, from 0 dark to 1 light.
ROOM = np.array([1.6, 1.3, 1.0])
CEILING, LIGHT, WINDOW, FRAME, FLOOR, TILE = 0.62, 1.0, 0.96, 0.18, 0.16, 0.26
LOWEST, HIGHEST = 0.3, 0.55


@dataclass(frozen=True)
class Mirror:
    """How what is mirrored is set up.

    Attributes
    ----------
    count : int
        Stripes, or a lamp's lines, in half a turn.
    along : {"z", "x", "y", "eye"}
        The axis that stripes are level to and that a lamp lies square to; or the eye's upright.
    turn : (3,) floats
        How a lamp is turned, its tubes with it: about this axis by so many radians.
    """

    count: int = 14
    along: str = "z"
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)


def mirrored(normals: Floats, eye: Floats) -> Floats:
    """Return where the eye looks by way of a mirror, unit vectors (n, 3).

    Parameters
    ----------
    normals : (n, 3) array
    eye : (3,) array
        From the surface to the eye, of length 1.
    """
    return np.asarray(2 * (normals @ eye)[:, None] * normals - eye)


def stripes(normals: Floats, eye: Floats, axis: Floats, count: int) -> Floats:
    """Return how light a mirror is, 0 to 1, (n,), in a room of stripes square to an axis."""
    height = np.arcsin(np.clip(mirrored(normals, eye) @ axis, -1.0, 1.0))
    # Their edges are a little soft, as a picture's are.
    return np.asarray(0.5 + 0.5 * np.tanh(SOFT * np.sin(height * count)))


def lamp_lines(
    normals: Floats, axis: Floats, count: int, turn: tuple[float, float, float] = (0.0, 0.0, 0.0)
) -> Floats:
    """Return how light a surface is, 0 to 1, (n,), under parallel tubes far away.

    A line lies where the normal meets a tube: it does not depend on the eye. Tubes are square to
    the axis, and one stands straight above, before the lamp as a whole is turned.
    """
    normals = Rotation.from_rotvec(turn).inv().apply(normals)
    along = np.cross(axis, [0.0, 0, 1])
    if np.linalg.norm(along) < 1e-9:
        along = np.array([1.0, 0, 0])
    along = along / np.linalg.norm(along)
    across = np.cross([0.0, 0, 1], along)
    across = across if np.linalg.norm(across) > 1e-9 else np.array([0.0, 1, 0])
    angle = np.arctan2(normals @ across, normals[:, 2])
    return np.asarray(np.cos(count * angle) ** (2 * LINE))


def room(normals: Floats, eye: Floats) -> Floats:
    """Return how light a mirror is, 0 to 1, (n,), in a room with windows and lights."""
    way = mirrored(normals, eye)
    with np.errstate(divide="ignore"):
        far = ROOM / np.abs(way)
    wall = np.argmin(far, axis=1)
    at = way * far[np.arange(len(way)), wall][:, None]
    x, y, z = at.T
    level = LOWEST + (HIGHEST - LOWEST) * (z / ROOM[2] + 1) / 2
    beside = np.where(wall == 0, y, x)
    glass = (np.abs(beside) < 0.85) & (z > -0.35) & (z < 0.7)
    bars = (np.abs(beside) < 0.035) | (np.abs(z - 0.2) < 0.03)
    walls = np.where(glass, np.where(bars, FRAME, WINDOW), level)
    tubes = (np.abs(x) < 1.2) & (np.abs(np.abs(y) - 0.45) < 0.12)
    above = np.where(tubes, LIGHT, CEILING)
    tiles = (np.floor(2.5 * x) + np.floor(2.5 * y)) % 2 == 0
    below = np.where(tiles, TILE, FLOOR)
    return np.asarray(np.where(wall < 2, walls, np.where(z > 0, above, below)))
