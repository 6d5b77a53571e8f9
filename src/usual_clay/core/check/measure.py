"""Distances between things, and lengths, radii, areas and extents of one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.curvature import bent_over
from usual_clay.core.errors import ClayError
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives, curve_points
from usual_clay.core.spline.parts import length_of
from usual_clay.core.spline.surface import BSplineSurface

# Places along a curve, and each way on a surface, that are looked at first.
ALONG, EACH_WAY = 400, 60
# The nearest pairs of places are settled by turns, so often at most, until they move no more.
BEGUN, TURNS, STILL = 8, 200, 1e-10

Between = Literal["least", "greatest", "along x", "along y", "along z", "angle"]
Of = Literal["length", "smallest radius", "area", "along x", "along y", "along z"]


class MeasureError(ClayError):
    """Something that cannot be measured so."""


@dataclass(frozen=True)
class DistanceSettings:
    """What is measured between two things.

    Attributes
    ----------
    kind : str
        "least": between their nearest places; "greatest": how far a place of one lies from the
        other at the most; "along" an axis: from the middle of one to that of the other; "angle":
        between their directions, or the planes they lie in.
    """

    kind: Between = "least"


@dataclass(frozen=True)
class SizeSettings:
    """What is measured of one thing: "along" an axis is how far it reaches."""

    kind: Of = "length"


@dataclass(frozen=True)
class WallSettings:
    """Where a wall is measured: three numbers for each place; the thinnest counts.

    Attributes
    ----------
    at : tuple of float
        None for all over.
    """

    at: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        if len(self.at) % 3:
            raise MeasureError("places are three numbers each")


@dataclass(frozen=True, eq=False)
class Figure:
    """What was measured.

    Attributes
    ----------
    value : float
        mm, mm squared or degrees, as `unit` says.
    ends : (n, 3) array
        Between which two places, or at which one.
    """

    value: float
    unit: str
    ends: Floats

    @property
    def words(self) -> str:
        """What was measured, with its unit."""
        if not np.isfinite(self.value):
            return "straight"
        digits = 2 if self.unit == "°" else 3 if self.value < 1000 else 1
        return f"{self.value:.{digits}f} {self.unit}"


@dataclass(frozen=True, eq=False)
class Thing:
    """What is measured.

    Attributes
    ----------
    places : (n, 3) array
        Spread over it.
    nearest : callable
        Gives for points, (m, 3), the nearest places of it, (m, 3).
    direction : (3,) array or None
        Where it runs, or what it lies square to.
    """

    places: Floats
    nearest: Callable[[Floats], Floats]
    direction: Floats | None = None


def thing_of_curve(curve: BSplineCurve) -> Thing:
    places = curve_points(curve, np.linspace(*curve.domain, ALONG))
    chord = places[-1] - places[0]
    away = places - places.mean(axis=0)
    _, sizes, ways = np.linalg.svd(away, full_matrices=False)
    # A closed curve has no way that it runs: what it lies square to tells as much.
    runs = chord if np.linalg.norm(chord) > 1e-6 * sizes[0] else ways[2]
    return Thing(places, lambda points: curve_foot_points(curve, points)[1], runs)


def thing_of_surface(surface: BSplineSurface) -> Thing:
    found = bent_over(surface, np.linspace(0, 1, EACH_WAY))
    return Thing(
        found.points,
        lambda points: foot_points(surface, points).feet,
        np.average(found.normals, axis=0, weights=np.maximum(found.area, 1e-12)),
    )


def thing_of_mesh(vertices: Floats, triangles: Ints, direction: Floats | None = None) -> Thing:
    tree = MeshTree(vertices, triangles)
    return Thing(vertices, lambda points: tree.nearest(points)[2], direction)


def thing_of_points(points: Floats) -> Thing:
    tree = cKDTree(points)
    return Thing(points, lambda asked: points[tree.query(asked)[1]])


def measure_between(one: Thing, other: Thing, kind: Between) -> Figure:
    """Measure two things against each other.

    Raises
    ------
    MeasureError
        For an angle with what has no direction.
    """
    if kind == "angle":
        return _angle(one, other)
    if kind.startswith("along"):
        axis = np.eye(3)["xyz".index(kind[-1])]
        start, end = _middle(one), _middle(other)
        far = float((end - start) @ axis)
        return Figure(abs(far), "mm", np.stack([start, start + far * axis]))
    ends = _nearest(one, other) if kind == "least" else _farthest(one, other)
    return Figure(float(np.linalg.norm(ends[1] - ends[0])), "mm", ends)


def _nearest(one: Thing, other: Thing) -> Floats:
    """Return the nearest two places, (2, 3): each in turn is brought nearest to the other."""
    there = other.nearest(one.places)
    away = np.linalg.norm(there - one.places, axis=1)
    begun = np.argsort(away)[:BEGUN]
    here, there = one.places[begun], there[begun]
    for _ in range(TURNS):
        before = here
        here = one.nearest(there)
        there = other.nearest(here)
        if np.abs(here - before).max() < STILL:
            break
    best = int(np.argmin(np.linalg.norm(there - here, axis=1)))
    return np.stack([here[best], there[best]])


def _farthest(one: Thing, other: Thing) -> Floats:
    """Return the place of either that lies farthest from the other, and the nearest there."""
    pairs = []
    for each, from_ in ((one, other), (other, one)):
        feet = from_.nearest(each.places)
        at = int(np.argmax(np.linalg.norm(feet - each.places, axis=1)))
        pairs.append(np.stack([each.places[at], feet[at]]))
    return max(pairs, key=lambda pair: float(np.linalg.norm(pair[1] - pair[0])))


def _angle(one: Thing, other: Thing) -> Figure:
    ways = []
    for each in (one, other):
        size = 0.0 if each.direction is None else float(np.linalg.norm(each.direction))
        if each.direction is None or size < 1e-12:
            raise MeasureError(
                "an angle needs two things with a direction: curves, surfaces or simple shapes"
            )
        ways.append(each.direction / size)
    angle = np.arccos(min(abs(float(ways[0] @ ways[1])), 1.0))
    return Figure(float(np.degrees(angle)), "°", np.stack([_middle(one), _middle(other)]))


def _middle(thing: Thing) -> Floats:
    return np.asarray((thing.places.min(axis=0) + thing.places.max(axis=0)) / 2)


def reach_along(places: Floats, axis: int) -> Figure:
    """Measure how far places, (n, 3), reach along an axis."""
    low, high = int(places[:, axis].argmin()), int(places[:, axis].argmax())
    far = float(places[high, axis] - places[low, axis])
    end = places[low] + far * np.eye(3)[axis]
    return Figure(far, "mm", np.stack([places[low], end]))


def length_of_curve(curve: BSplineCurve) -> Figure:
    return Figure(length_of(curve), "mm", curve_points(curve, np.linspace(*curve.domain, ALONG)))


def smallest_radius(shape: BSplineCurve | BSplineSurface) -> Figure:
    """Measure the tightest bend, and where it is; infinite of what is straight or flat."""
    if isinstance(shape, BSplineCurve):
        t = np.linspace(*shape.domain, 20 * ALONG)
        places, first, second = curve_derivatives(shape, t, 2)
        speed = np.maximum(np.linalg.norm(first, axis=1), 1e-12)
        bend = np.linalg.norm(np.cross(first, second), axis=1) / speed**3
    else:
        found = bent_over(shape, np.linspace(0, 1, 4 * EACH_WAY))
        places, bend = found.points, 1 / found.smallest_radius
    at = int(np.argmax(bend))
    radius = 1 / bend[at] if bend[at] > 1e-9 else np.inf
    return Figure(float(radius), "mm", places[[at]])


def area_of_mesh(vertices: Floats, triangles: Ints) -> Figure:
    vectors = TriangleMesh(vertices, triangles).face_vectors
    area = float(np.linalg.norm(vectors, axis=1).sum()) / 2
    return Figure(area, "mm²", vertices.mean(axis=0)[None])


def area_of_surface(surface: BSplineSurface) -> Figure:
    """Measure a surface's area, by the exact surface at the middles of even cells."""
    found = bent_over(surface, (np.arange(4 * EACH_WAY) + 0.5) / (4 * EACH_WAY))
    domain = float(np.ptp(surface.knots_u) * np.ptp(surface.knots_v))
    area = float(found.area.mean()) * domain
    return Figure(area, "mm²", found.points[[len(found.points) // 2 + 2 * EACH_WAY]])
