"""Outlines in a picture, finer than its pixels: by a threshold, or along a rough stroke."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Floats
from usual_clay.core.errors import GeometryError
from usual_clay.core.picture.look import border_colour, distance_to
from usual_clay.core.points.course import smooth_course

# How far from its level line an edge is looked for, pixels.
REFINED = 3.0


class OutlineError(GeometryError):
    """A picture in which no outline is found."""


@dataclass(frozen=True)
class OutlineSettings:
    """How an outline is found.

    Attributes
    ----------
    how : {"threshold", "edge"}
        Where the picture stands out from its background, or where brightness changes most
        near a stroke.
    level : float
        For the threshold: how far from the background's colour, 0 to 1; 0 finds it itself.
    stroke : tuple of (x, y)
        For the edge: the rough stroke, in pixels.
    reach : float
        How far from the stroke the edge is looked for, pixels.
    """

    how: Literal["threshold", "edge"] = "threshold"
    level: float = 0.0
    stroke: tuple[tuple[float, float], ...] = ()
    reach: float = 12.0


@dataclass(frozen=True, eq=False)
class Outline:
    """An ordered outline: (n, 2) places in pixels, and whether it is closed."""

    pixels: Floats
    closed: bool


def find_outline(pixels: np.ndarray, settings: OutlineSettings) -> Outline:
    """Find an outline in a picture, (h, w, 3 or 4) bytes.

    Raises
    ------
    OutlineError
    """
    if settings.how == "threshold":
        return silhouette(pixels, settings.level)
    return edge_along(pixels, np.array(settings.stroke).reshape(-1, 2), settings.reach)


def silhouette(pixels: np.ndarray, level: float = 0.0) -> Outline:
    """Return the outline of the largest thing that stands out from the background.

    The background is what the border shows. The level is Otsu's (1979) where none is given. The
    level line (marching squares) is then moved to the edge beside it.

    Raises
    ------
    OutlineError
    """
    from skimage.filters import threshold_otsu
    from skimage.measure import find_contours

    away = scipy.ndimage.gaussian_filter(distance_to(pixels, border_colour(pixels)), 0.7)
    if float(np.ptp(away)) < 0.02:
        raise OutlineError("nothing in the picture stands out from its background")
    level = level or float(threshold_otsu(away))
    solid = scipy.ndimage.binary_fill_holes(away > level)
    number, count = scipy.ndimage.label(solid)
    if not count:
        raise OutlineError("nothing in the picture stands out by as much as the level asks")
    largest = 1 + int(np.argmax(np.bincount(number.ravel())[1:]))
    kept = scipy.ndimage.binary_dilation(number == largest, iterations=2)
    # Inside, where the thing may be as light as its background, the level is not asked.
    inner = scipy.ndimage.binary_erosion(number == largest, iterations=2)
    field = np.where(inner, max(float(away.max()), level + 0.01), np.where(kept, away, 0.0))
    lines = find_contours(np.pad(field, 1), level)
    if not lines:
        raise OutlineError("nothing in the picture stands out by as much as the level asks")
    line = max(lines, key=lambda rows: abs(_area(rows)))[:, ::-1] - 0.5
    # A level says where the thing begins to show; its edge is where brightness changes most.
    path = _even_steps(line)
    across, away, strength = _straightened(pixels, path, REFINED, closed=True)
    shift = np.interp(
        _top_of_parabola(strength, np.argmax(strength, axis=1)), np.arange(len(away)), away
    )
    return Outline(path + shift[:, None] * across, closed=True)


def edge_along(pixels: np.ndarray, stroke: Floats, reach: float) -> Outline:
    """Return the edge that a rough stroke, (n, 2) in pixels, follows.

    The band around the stroke is laid straight; through it the cheapest way is sought over the
    strength of the edge (dynamic programming, as Mortensen and Barrett's 1995 scissors), and each
    place is set to the top of a parabola through the strengths beside it.

    Raises
    ------
    OutlineError
        When the stroke is too short or meets no edge.
    """
    from skimage.graph import route_through_array

    if len(stroke) < 2 or not np.isfinite(stroke).all():
        raise OutlineError("the stroke is too short: draw along the edge")
    closed = len(stroke) > 8 and bool(np.linalg.norm(stroke[0] - stroke[-1]) < 2 * reach)
    path = _even_steps(np.concatenate([stroke, stroke[:1]]) if closed else stroke)
    if len(path) < 8:
        raise OutlineError("the stroke is too short: draw along the edge")
    path = smooth_course(path, closed, 4 * reach)
    across, away, strength = _straightened(pixels, path, reach, closed)
    top = float(np.quantile(strength, 0.98))
    if top < 0.01:
        raise OutlineError(
            "there is no edge along the stroke: draw nearer to one, or reach farther"
        )
    cost = 1 / (0.03 + np.clip(strength / top, 0, 1))
    # A free start and end: a cheap row before the first and after the last.
    padded = np.pad(cost, ((1, 1), (0, 0)), constant_values=1e-3)
    middle = len(away) // 2
    way, _ = route_through_array(padded, (0, middle), (len(padded) - 1, middle), geometric=True)
    rows, columns = np.array(way).T
    inside = (rows > 0) & (rows < len(padded) - 1)
    place = np.zeros(len(cost), dtype=np.int64)
    place[rows[inside] - 1] = columns[inside]
    peak = _top_of_parabola(strength, place)
    shift = np.interp(peak, np.arange(len(away)), away)
    return Outline(path + shift[:, None] * across, closed)


def _straightened(
    pixels: np.ndarray, path: Floats, reach: float, closed: bool
) -> tuple[Floats, Floats, Floats]:
    """Lay the band around a path straight.

    Returns
    -------
    across : (n, 2) array
        Unit vectors square to the path.
    away : (k,) array
        Distances from it that are looked at, pixels.
    strength : (n, k) array
        Of the edge, there.
    """
    if closed:
        tangent = np.roll(path, -1, axis=0) - np.roll(path, 1, axis=0)
    else:
        tangent = np.gradient(path, axis=0)
    tangent /= np.maximum(np.linalg.norm(tangent, axis=1, keepdims=True), 1e-9)
    across = np.stack([-tangent[:, 1], tangent[:, 0]], axis=1)
    away = np.arange(-reach, reach + 0.25, 0.5)
    places = path[:, None] + away[None, :, None] * across[:, None]
    grey = pixels[..., :3].astype(np.float32).mean(axis=2) / 255
    edges = scipy.ndimage.gaussian_gradient_magnitude(grey.astype(np.float64), 1.2)
    at = (places - 0.5).transpose(2, 0, 1)[::-1]
    return across, away, scipy.ndimage.map_coordinates(edges, at, order=3, mode="nearest")


def _even_steps(line: Floats) -> Floats:
    """Return places one pixel apart along a polyline."""
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    at = np.arange(0, length[-1], 1.0)
    return np.stack([np.interp(at, length, line[:, k]) for k in range(2)], axis=1)


def _top_of_parabola(strength: Floats, place: np.ndarray) -> Floats:
    rows = np.arange(len(place))
    # The way may run beside the ridge: step up to it first.
    for _ in range(3):
        near = np.clip(place[:, None] + np.array([-1, 0, 1]), 0, strength.shape[1] - 1)
        place = near[rows, np.argmax(strength[rows[:, None], near], axis=1)]
    inner = np.clip(place, 1, strength.shape[1] - 2)
    before, here, after = (strength[rows, inner + k] for k in (-1, 0, 1))
    bend = before - 2 * here + after
    step = np.divide(before - after, 2 * bend, out=np.zeros_like(bend), where=bend < -1e-9)
    return inner + np.clip(step, -1, 1)


def _area(line: Floats) -> float:
    x, y = line.T
    return float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1)) / 2)
