"""Shapes of many kinds with their truth, as scans of regions: for tests and benchmarks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import Delaunay

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

Place = Callable[[Floats, Floats], Floats]
Inside = Callable[[Floats, Floats], Bools]

# A surface is looked at on a grid of so many places each way.
GRID = 60


@dataclass(frozen=True)
class TrueShape:
    """A surface with a plan and how it is scanned.

    Attributes
    ----------
    place : callable
        From the plan's coordinates, (n,) each, to (n, 3), mm.
    box : (low a, high a, low b, high b)
    inside : callable
        Whether plan coordinates belong to the region.
    noise, tolerance : float
        mm.
    outliers : float
        The share of points that are grossly off.
    density : callable or None
        Of the scan's points, at most 1.
    round : bool
        Whether b runs once round.
    """

    name: str
    place: Place
    box: tuple[float, float, float, float]
    inside: Inside
    noise: float = 0.01
    tolerance: float = 0.03
    outliers: float = 0.0
    density: Callable[[Floats, Floats], Floats] | None = None
    round: bool = False

    def normals(self, a: Floats, b: Floats) -> tuple[Floats, Floats]:
        """Return unit normals and the area of a unit of the plan."""
        step = 1e-5 * max(self.box[1] - self.box[0], self.box[3] - self.box[2])
        along = (self.place(a + step, b) - self.place(a - step, b)) / (2 * step)
        across = (self.place(a, b + step) - self.place(a, b - step)) / (2 * step)
        normal = np.cross(along, across)
        area = np.linalg.norm(normal, axis=1)
        return normal / area[:, None], area

    def plan(self, count: int, seed: int, even: bool = False) -> tuple[Floats, Floats]:
        """Draw plan coordinates, evenly by area times the density."""
        random = np.random.default_rng(seed)
        a0, a1, b0, b1 = self.box
        a, b = random.uniform(a0, a1, 40 * count), random.uniform(b0, b1, 40 * count)
        keep = self.inside(a, b)
        a, b = a[keep], b[keep]
        chance = self.normals(a, b)[1]
        if self.density is not None and not even:
            chance = chance * self.density(a, b)
        keep = random.random(len(a)) < chance / chance.max()
        assert keep.sum() >= count, self.name
        return a[keep][:count], b[keep][:count]

    def scan(self, count: int = 12_000, seed: int = 0) -> TriangleMesh:
        """Return a scan of the region with its noise and outliers."""
        a, b = self.plan(count, seed)
        random = np.random.default_rng(seed + 1000)
        normals, _ = self.normals(a, b)
        off = random.normal(0, self.noise, count)
        gross = random.random(count) < self.outliers
        off[gross] += (
            random.uniform(20, 150, int(gross.sum()))
            * self.noise
            * random.choice([-1, 1], int(gross.sum()))
        )
        points = self.place(a, b) + off[:, None] * normals
        return TriangleMesh(points, self._triangles(a, b))

    def _triangles(self, a: Floats, b: Floats) -> Ints:
        """Join points in the plan, laid out with equal scales, where the region is."""
        middle = np.array([(self.box[0] + self.box[1]) / 2, (self.box[2] + self.box[3]) / 2])
        step = 1e-4
        scale = [
            float(np.median(np.linalg.norm(self.place(*up) - self.place(*down), axis=1)))
            for up, down in (((a + step, b), (a - step, b)), ((a, b + step), (a, b - step)))
        ]
        flat = (np.stack([a, b], axis=1) - middle) * scale
        count, own = len(a), np.arange(len(a))
        if self.round:
            turn = (self.box[3] - self.box[2]) * scale[1]
            flat = np.concatenate([flat + np.array([0.0, k * turn]) for k in (-1, 0, 1)])
            own = np.tile(own, 3)
        joined = Delaunay(flat).simplices
        if self.round:
            middles = flat[joined].mean(axis=1)[:, 1]
            joined = joined[(middles >= -turn / 2) & (middles < turn / 2)]
        corners = flat[joined]
        centre = corners.mean(axis=1) / scale + middle
        edges = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
        keep = edges < 8 * np.median(edges) if self.density is None else np.ones(len(edges), bool)
        if not self.round:
            keep &= self.inside(*centre.T)
        (x1, y1), (x2, y2) = (corners[:, 1] - corners[:, 0]).T, (corners[:, 2] - corners[:, 0]).T
        turned = x1 * y2 - y1 * x2
        joined = np.where((turned > 0)[:, None], joined, joined[:, ::-1])
        triangles = own[joined[keep]]
        assert triangles.max() < count
        return triangles

    def sample(self, count: int = 12_000, seed: int = 0) -> Sample:
        """Return the scan's points as a region."""
        mesh = self.scan(count, seed)
        used = np.unique(mesh.triangles)
        number = np.full(len(mesh.vertices), -1)
        number[used] = np.arange(len(used))
        return Sample(mesh.vertices[used], mesh.vertex_normals[used], number[mesh.triangles])

    @cached_property
    def truth(self) -> tuple[Floats, Floats]:
        """Points of the true surface, spread by area, and its normals there."""
        a, b = self.plan(3000, 77, even=True)
        return self.place(a, b), self.normals(a, b)[0]

    def off_truth(self, surface: BSplineSurface) -> Floats:
        """Return how far the true surface lies from a fitted one, by area, mm."""
        return np.abs(foot_points(surface, self.truth[0]).signed)

    @cached_property
    def turn(self) -> float:
        """The greatest angle between normals over a step of the grid, degrees."""
        a0, a1, b0, b1 = self.box
        a, b = (np.linspace(*ends, GRID) for ends in ((a0, a1), (b0, b1)))
        at = [part.ravel() for part in np.meshgrid(a, b, indexing="ij")]
        inside = self.inside(*at)
        normals = self.normals(*at)[0]
        # Where the plan is not the shape's, there is nothing to turn.
        normals[~inside] = np.nan
        return _turns(normals.reshape(GRID, GRID, 3))


def _turns(normals: Floats) -> float:
    cosines = [
        np.einsum("abk,abk->ab", normals[1:], normals[:-1]),
        np.einsum("abk,abk->ab", normals[:, 1:], normals[:, :-1]),
    ]
    least = min(float(np.nanmin(part)) for part in cosines)
    return float(np.degrees(np.arccos(np.clip(least, -1, 1))))


def turn_of(surface: BSplineSurface) -> float:
    """Return the greatest angle between neighbouring normals over the whole domain, degrees."""
    (u0, u1), (v0, v1) = surface.domain
    u, v = np.meshgrid(np.linspace(u0, u1, GRID), np.linspace(v0, v1, GRID), indexing="ij")
    normals = surface_normals(surface, u.ravel(), v.ravel())
    return _turns(normals.reshape(GRID, GRID, 3))


def _field(height: Callable[[Floats, Floats], Floats]) -> Place:
    return lambda a, b: np.stack([a, b, height(a, b)], axis=1)


def _gentle(a: Floats, b: Floats) -> Floats:
    return 3 * np.sin(a / 25) * np.cos(b / 30) + 0.002 * a * b


def _hills(a: Floats, b: Floats) -> Floats:
    made = 2 * np.sin(a / 18)
    for x, y, high, wide in ((-25, 10, 3, 9), (12, -8, -2.5, 7), (30, 15, 2, 8), (-5, 18, 1.5, 6)):
        made = made + high * np.exp(-((a - x) ** 2 + (b - y) ** 2) / (2 * wide**2))
    return made


def _ball(radius: float) -> Place:
    """Return a ball about the plan's origin, by its angle from the top and round it."""

    def place(a: Floats, b: Floats) -> Floats:
        angle, towards = np.hypot(a, b), np.arctan2(b, a)
        flat = radius * np.sin(angle)
        return np.stack(
            [flat * np.cos(towards), flat * np.sin(towards), radius * np.cos(angle)], axis=1
        )

    return place


def _tube(a: Floats, b: Floats) -> Floats:
    wide = 12 + 3 * np.sin(a / 20)
    return np.stack([a, wide * np.cos(b), 0.7 * wide * np.sin(b) + 0.002 * a**2], axis=1)


def _channel(a: Floats, b: Floats) -> Floats:
    """A bent sheet whose two flanks lean in under the top."""
    return np.stack([a, (15 + 0.05 * a) * np.sin(b), 18 * np.cos(b) + np.sin(a / 15)], axis=1)


def _screw(a: Floats, b: Floats) -> Floats:
    """The flight of a screw: about its axis, and from it."""
    return np.stack([b * np.cos(a), b * np.sin(a), 4 * a], axis=1)


def _hook(a: Floats, b: Floats) -> Floats:
    """Half a pipe, bent round by most of a turn."""
    out = 30 + 8 * np.sin(b)
    return np.stack([out * np.cos(a), out * np.sin(a), 8 * np.cos(b)], axis=1)


def _everywhere(a: Floats, _b: Floats) -> Bools:
    return np.isfinite(a)


def _flank(a: Floats) -> Floats:
    return np.asarray(24 - 0.25 * (a + 40))


def _leaf(a: Floats) -> Floats:
    return np.asarray(20 * np.maximum(1 - (a / 41) ** 2, 1e-9) ** 0.8)


def _vault(half: Callable[[Floats], Floats], high: float) -> Place:
    return _field(
        lambda a, b: high * np.sqrt(np.maximum(1 - 0.9 * (b / half(a)) ** 2, 1e-3)) * half(a) / 20
    )


_PANEL = (-40.0, 40.0, -25.0, 25.0)
_DISC = (-25.0, 25.0, -25.0, 25.0)
_TURN = 2 * np.pi


def _scaled(scale: float) -> Place:
    return lambda a, b: scale * _field(_gentle)(a / scale, b / scale)


SHAPES = (
    TrueShape("panel", _field(_gentle), _PANEL, _everywhere),
    TrueShape("L", _field(_gentle), _PANEL, lambda a, b: (a < -10) | (b < -5)),
    TrueShape(
        "ring", _field(_gentle), _DISC, lambda a, b: (np.hypot(a, b) < 25) & (np.hypot(a, b) > 12)
    ),
    TrueShape(
        "star",
        _field(_gentle),
        _DISC,
        lambda a, b: np.hypot(a, b) < 15 + 8 * np.cos(5 * np.arctan2(b, a)),
    ),
    TrueShape("strip", _field(_gentle), (-200.0, 200.0, -2.0, 2.0), _everywhere),
    TrueShape("disc", _field(_gentle), _DISC, lambda a, b: np.hypot(a, b) < 25),
    TrueShape(
        "cap of 85 degrees",
        _ball(30.0),
        (-1.49, 1.49, -1.49, 1.49),
        lambda a, b: np.hypot(a, b) < np.radians(85),
        tolerance=0.025,
    ),
    TrueShape(
        "bowl",
        _field(lambda a, b: 0.03 * (a**2 + 1.5 * b**2) + 0.00001 * a**4),
        _DISC,
        lambda a, b: np.hypot(a, b) < 24,
    ),
    TrueShape("hills", _field(_hills), _PANEL, _everywhere),
    TrueShape(
        "leaf", _vault(_leaf, 9.0), (-39.0, 39.0, -20.0, 20.0), lambda a, b: abs(b) < _leaf(a)
    ),
    TrueShape("taper", _vault(_flank, 8.0), _PANEL, lambda a, b: abs(b) < _flank(a)),
    TrueShape(
        "wedge",
        _field(_gentle),
        _PANEL,
        lambda a, b: abs(b) < 1.5 + 23 * (40 - a) / 80,
    ),
    TrueShape(
        "dense and sparse",
        _field(lambda a, b: _gentle(a, b) + 1.2 * np.exp(-(((a - 20) / 7) ** 2))),
        _PANEL,
        _everywhere,
        density=lambda a, _b: np.where(a < -32, 1.0, 0.11),
    ),
    TrueShape(
        "panel with holes",
        _field(_gentle),
        _PANEL,
        lambda a, b: np.min([np.hypot(a - x, b - 5) for x in (-25, 0, 25)], axis=0) > 7,
    ),
    TrueShape("tiny", _scaled(0.02), (-0.8, 0.8, -0.5, 0.5), _everywhere, 0.0005, 0.0015),
    TrueShape(
        "four metres", _scaled(50.0), (-2000.0, 2000.0, -1250.0, 1250.0), _everywhere, 0.3, 1.0
    ),
    TrueShape("noisy", _field(_hills), _PANEL, _everywhere, noise=0.1, tolerance=0.25),
    TrueShape("outliers", _field(_gentle), _PANEL, _everywhere, outliers=0.05, tolerance=0.05),
    TrueShape("tube", _tube, (-40.0, 40.0, -np.pi, np.pi), _everywhere, round=True),
    TrueShape(
        "ball with an opening",
        _ball(20.0),
        (-2.4, 2.4, -2.4, 2.4),
        lambda a, b: np.hypot(a, b) < np.radians(135),
    ),
    TrueShape("channel", _channel, (-30.0, 30.0, -2.0, 2.0), _everywhere),
    TrueShape(
        "large panel with a bump",
        _field(lambda a, b: 0.8 * np.exp(-((a - 40) ** 2 + (b + 20) ** 2) / (2 * 9**2))),
        (-150.0, 150.0, -100.0, 100.0),
        _everywhere,
    ),
    TrueShape("screw", _screw, (-6.5, 6.5, 8.0, 22.0), _everywhere),
    TrueShape("hook", _hook, (-2.5, 2.5, -1.3, 1.3), _everywhere),
)
