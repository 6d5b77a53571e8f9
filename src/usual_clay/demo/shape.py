"""The lure's true shape, as a field that is negative in the wood and zero on its surface.

Lure frame, mm: x from nose (0) to tail (96), y to the left, z up; symmetric about y = 0.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from usual_clay.core.arrays import Floats

LENGTH = 96.0
BOX = np.array([[-1.5, -14.0, -18.0], [97.5, 14.0, 17.0]])

WIDEST = 0.36
HALF_WIDTH, BACK, BELLY = 12.0, 13.5, 16.5
SECTION_POWER = 2.2

MOUTH_DEPTH = 0.5
GILL_STEP = 0.6
GILL_EDGE = 0.26
EYE = {"x": 14.0, "z": 3.2, "radius": 3.6, "depth": 0.9}
SLOT = {"x": 7.0, "tilt": np.radians(24.0), "half": 0.8, "depth": 7.0}
HOLES = ({"x": 41.0, "radius": 1.25, "depth": 7.0}, {"x": 77.0, "radius": 1.25, "depth": 4.5})


def profile(x: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Return half width, height of the back, depth of the belly and centre height at x."""
    s = np.clip(x / LENGTH, 0.0, 1.0)
    nose = np.sqrt(np.maximum(1 - np.clip(1 - s / WIDEST, 0, 1) ** 2, 1e-6))
    t = np.clip((s - WIDEST) / (1 - WIDEST), 0.0, 1.0)
    end = np.sqrt(np.maximum(1 - np.clip((s - 0.94) / 0.06, 0, 1) ** 2, 1e-6))
    ease = 1.5 * t**2 - 0.5 * t**3
    width = HALF_WIDTH * nose * (1 - 0.84 * ease) * end
    back = BACK * nose * (1 - 0.76 * ease) * end
    belly = BELLY * nose * (1 - 0.82 * ease) * end
    return width, back, belly, 1.6 * t**2 - 0.8 * (1 - s) ** 2


def body(points: Floats) -> Floats:
    """Return the field of the carved body without slot, holes and eye seats."""
    x, y, z = points.T
    width, back, belly, centre = profile(x)
    height = z - centre
    half = np.where(height >= 0, back, belly)
    across, up = np.abs(y) / width, np.abs(height) / half
    radius = (across**SECTION_POWER + up**SECTION_POWER) ** (1 / SECTION_POWER)
    field = (radius - 1) * np.minimum(width, half)
    beyond = np.maximum(np.maximum(-x, x - LENGTH), 0.0)
    carving = _mouth(x, height) - _gill_plate(x, across, up, height)
    return np.where(beyond > 0, np.maximum(field, beyond), field + carving)


def mouth_at(points: Floats) -> Floats:
    """Return how deep the mouth line is carved at points, mm."""
    x, _, z = points.T
    return _mouth(x, z - profile(x)[3])


def _mouth(x: Floats, height: Floats) -> Floats:
    """Return the depth of the mouth line, a shallow groove round the nose."""
    line = height + 3.6 + 0.14 * x
    run_out = np.clip((x - 7.5) / 4.0, 0.0, 1.0)
    fade = 1 - run_out**2 * (3 - 2 * run_out)
    return MOUTH_DEPTH * fade * np.exp(-((line / 0.4) ** 2))


def _gill_plate(x: Floats, across: Floats, up: Floats, height: Floats) -> Floats:
    """Return how far the gill plate stands proud: a step at its rear edge that fades forward."""
    edge = 30.0 - 0.035 * (height + 1.0) ** 2
    side = across / (across + up + 1e-9)
    lateral = np.clip((side - 0.38) / 0.3, 0.0, 1.0)
    lateral = lateral**2 * (3 - 2 * lateral)
    ahead = edge - x
    step = 1 / (1 + np.exp(np.clip(-ahead / GILL_EDGE, -50, 50)))
    return GILL_STEP * lateral * step * np.exp(-np.maximum(ahead, 0.0) / 7.0)


def carved(points: Floats) -> Floats:
    """Return the field of the finished lure; its zero is the true surface."""
    field = body(points)
    for tool in (_slot, _eye_seats, _holes):
        field = np.maximum(field, -tool(points))
    return field


def slope_of(field: Callable[[Floats], Floats], points: Floats) -> Floats:
    """Return the gradient of a field by central differences, (n, 3)."""
    h = 1e-4
    steps = [(field(points + d) - field(points - d)) / (2 * h) for d in np.eye(3) * h]
    return np.stack(steps, axis=1)


def signed_distance(points: Floats) -> Floats:
    """Return the distance to the true surface, positive outside the wood.

    Exact to first order: the field is divided by its slope. Within 0.2 mm of the surface and
    away from edges the error is a few per cent of the distance at most.

    Parameters
    ----------
    points : (n, 3) array
        In the lure's frame, mm.
    """
    slope = np.linalg.norm(slope_of(carved, points), axis=1)
    return carved(points) / np.maximum(slope, 1e-3)


def _slot(points: Floats) -> Floats:
    x, _, z = points.T
    _, _, belly, centre = profile(np.full(1, SLOT["x"]))
    low = float(centre[0] - belly[0])
    across = (x - SLOT["x"]) * np.cos(SLOT["tilt"]) + (z - low) * np.sin(SLOT["tilt"])
    along = (z - low) * np.cos(SLOT["tilt"]) - (x - SLOT["x"]) * np.sin(SLOT["tilt"])
    return np.maximum(np.abs(across) - SLOT["half"], along - SLOT["depth"])


def _eye_seats(points: Floats) -> Floats:
    x, y, z = points.T
    width, back, _, centre = profile(np.full(1, EYE["x"]))
    up = (EYE["z"] - centre[0]) / back[0]
    side = float(width[0] * (1 - up**SECTION_POWER) ** (1 / SECTION_POWER))
    # A round-nosed tool: a ball whose cap of the wanted depth has the seat's radius.
    depth = EYE["depth"]
    ball = (EYE["radius"] ** 2 + depth**2) / (2 * depth)
    out = side - depth + ball
    return np.sqrt((x - EYE["x"]) ** 2 + (np.abs(y) - out) ** 2 + (z - EYE["z"]) ** 2) - ball


def _holes(points: Floats) -> Floats:
    x, y, z = points.T
    result = np.full(len(points), np.inf)
    for hole in HOLES:
        _, _, belly, centre = profile(np.full(1, hole["x"]))
        top = float(centre[0] - belly[0]) + hole["depth"]
        radial = np.hypot(x - hole["x"], y) - hole["radius"]
        result = np.minimum(result, np.maximum(radial, z - top))
    return result
