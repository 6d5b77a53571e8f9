"""Simple shapes in a scan: plane, sphere, cylinder and cone by least squares, robustly."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from usual_clay.core.arrays import Bools, Floats, frozen
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.scan.sample import Sample

ShapeKind = Literal["plane", "sphere", "cylinder", "cone"]
KINDS: tuple[ShapeKind, ...] = ("plane", "sphere", "cylinder", "cone")
FEWEST = {"plane": 3, "sphere": 4, "cylinder": 6, "cone": 7}
SAMPLES, TRIMS = 4000, 6
# A shape with fewer numbers is taken unless another leaves less than this part of its rms.
PAYS = 0.85


class ShapeError(GeometryError):
    """Points to which no simple shape can be fitted."""


@dataclass(frozen=True)
class ShapeSettings:
    """Which shape is fitted: one of the four, or the simplest that the points bear out."""

    kind: Literal["best", "plane", "sphere", "cylinder", "cone"] = "best"

    def __post_init__(self) -> None:
        if self.kind not in ("best", *KINDS):
            raise ShapeError(f"no simple shape is called {self.kind!r}")


@dataclass(frozen=True, eq=False)
class SimpleShape:
    """A plane, sphere, cylinder or cone.

    Attributes
    ----------
    kind : str
    point : (3,) array
        On the plane, the sphere's middle, on the cylinder's axis, or the cone's tip.
    axis : (3,) array
        Unit: the plane's normal, or along the axis, for a cone from its tip into it.
    radius : float
        mm; of sphere and cylinder.
    angle : float
        Between a cone's axis and its side, radians.
    span : (float, float)
        How far the fitted points go along the axis from `point`; for a plane and sphere, 0 and
        how far they go from it.
    """

    kind: ShapeKind
    point: Floats
    axis: Floats
    radius: float = 0.0
    angle: float = 0.0
    span: tuple[float, float] = (0.0, 1.0)

    def __post_init__(self) -> None:
        object.__setattr__(self, "point", frozen(self.point))
        object.__setattr__(self, "axis", frozen(self.axis))


@dataclass(frozen=True, eq=False)
class ShapeFit:
    """A fitted shape and the signed distances of all points to it, (n,) in mm."""

    shape: SimpleShape
    signed: Floats


def shape_distance(shape: SimpleShape, points: Floats) -> Floats:
    """Return signed distances of points, (n, 3): positive outside, or where the normal points."""
    away = points - shape.point
    along = away @ shape.axis
    if shape.kind == "plane":
        return along
    if shape.kind == "sphere":
        return np.linalg.norm(away, axis=1) - shape.radius
    radial = np.linalg.norm(away - along[:, None] * shape.axis, axis=1)
    if shape.kind == "cylinder":
        return radial - shape.radius
    return radial * np.cos(shape.angle) - along * np.sin(shape.angle)


def shape_normals(shape: SimpleShape, points: Floats) -> Floats:
    """Return the unit directions in which the distances grow, (n, 3)."""
    away = points - shape.point
    if shape.kind == "plane":
        return np.broadcast_to(shape.axis, points.shape)
    if shape.kind == "sphere":
        return unit(away)
    radial = unit(away - (away @ shape.axis)[:, None] * shape.axis)
    if shape.kind == "cylinder":
        return radial
    return radial * np.cos(shape.angle) - np.sin(shape.angle) * shape.axis


def fit_shape(sample: Sample, settings: ShapeSettings | None = None) -> ShapeFit:
    """Fit a simple shape to measured points.

    A first guess comes from the points' normals; distances are then minimised (Gauss-Newton on
    the true distances), points that lie farther off than the rest being left out in turns.

    Raises
    ------
    ShapeError
        For too few points, or points that fit none.
    """
    wanted = (settings or ShapeSettings()).kind
    fits = []
    for kind in KINDS if wanted == "best" else (wanted,):
        if len(sample.points) < FEWEST[kind] + 2:
            if wanted != "best":
                raise ShapeError(
                    f"{len(sample.points)} points are too few for a {kind}:"
                    f" {FEWEST[kind] + 2} are needed"
                )
            continue
        found = _trimmed(kind, sample)
        if found is not None:
            fits.append(found)
    if not fits:
        raise ShapeError("no such shape fits these points")
    # From the simplest on: another one must pay.
    best = fits[0]
    for found in fits[1:]:
        if found[1] < PAYS * best[1]:
            best = found
    shape = _spanned(best[0], sample.points[best[2]])
    return ShapeFit(shape, shape_distance(shape, sample.points))


def _trimmed(kind: ShapeKind, sample: Sample) -> tuple[SimpleShape, float, Bools] | None:
    """Fit a kind to the points that agree; return it, their robust rms, and which they are."""
    points, normals = sample.points, sample.normals
    kept = np.ones(len(points), dtype=bool)
    shape = None
    for turn in range(TRIMS):
        if kept.sum() < FEWEST[kind] + 2:
            return None
        chosen = np.flatnonzero(kept)
        chosen = chosen[:: max(1, len(chosen) // SAMPLES)]
        guess = GUESSES[kind](points[chosen], normals[chosen]) if turn < 3 else shape
        if guess is None:
            return None
        shape = _refined(guess, points[chosen])
        if shape is None:
            return None
        distance = np.abs(shape_distance(shape, points))
        scale = 1.4826 * float(np.median(distance[kept]))
        kept = distance <= max(3.5 * scale, 1e-9)
    assert shape is not None
    left = shape_distance(shape, points[kept])
    size = float(np.ptp(points, axis=0).max())
    rms = float(np.sqrt(np.mean(left**2))) + 1e-9 * size
    # Round by less than its own noise, a shape is flat; and far off, a cone is a cylinder.
    half = min(size / 2, shape.radius)
    rise = shape.radius - np.sqrt(shape.radius**2 - half**2)
    far = float(np.linalg.norm(shape.point - points.mean(axis=0))) > 100 * size
    if (kind in ("sphere", "cylinder") and rise < 4 * rms) or (kind == "cone" and far):
        return None
    return shape, rms, kept


def _guess_plane(points: Floats, _normals: Floats) -> SimpleShape:
    middle = points.mean(axis=0)
    return SimpleShape("plane", middle, np.linalg.svd(points - middle, full_matrices=False)[2][2])


def _guess_sphere(points: Floats, _normals: Floats) -> SimpleShape | None:
    middle = points.mean(axis=0)
    away = points - middle
    matrix = np.column_stack([2 * away, np.ones(len(points))])
    found = np.linalg.lstsq(matrix, (away**2).sum(axis=1), rcond=None)[0]
    squared = float(found[3] + found[:3] @ found[:3])
    if not squared > 0:
        return None
    return SimpleShape("sphere", middle + found[:3], np.array([0.0, 0, 1]), float(np.sqrt(squared)))


def _guess_cylinder(points: Floats, normals: Floats) -> SimpleShape | None:
    axis = np.linalg.eigh(normals.T @ normals)[1][:, 0]
    across = np.linalg.svd(axis[None])[2][1:]
    flat = points @ across.T
    middle = flat.mean(axis=0)
    matrix = np.column_stack([2 * (flat - middle), np.ones(len(flat))])
    found = np.linalg.lstsq(matrix, ((flat - middle) ** 2).sum(axis=1), rcond=None)[0]
    squared = float(found[2] + found[:2] @ found[:2])
    if not squared > 0:
        return None
    point = (middle + found[:2]) @ across + (points @ axis).mean() * axis
    return SimpleShape("cylinder", point, axis, float(np.sqrt(squared)))


def _guess_cone(points: Floats, normals: Floats) -> SimpleShape | None:
    # Normals of a cone end on a circle: the plane through their tips is square to the axis.
    axis = np.linalg.eigh(np.cov(normals.T))[1][:, 0]
    tip, _, rank, _ = np.linalg.lstsq(normals, np.einsum("nk,nk->n", normals, points), rcond=1e-6)
    if rank < 3:
        return None
    along = (points - tip) @ axis
    if along.mean() < 0:
        axis, along = -axis, -along
    radial = np.linalg.norm(points - tip - along[:, None] * axis, axis=1)
    angle = float(np.arctan2(radial.mean(), max(along.mean(), 1e-9)))
    return SimpleShape("cone", tip, axis, angle=float(np.clip(angle, 0.01, 1.55)))


GUESSES: dict[ShapeKind, Callable[[Floats, Floats], SimpleShape | None]] = {
    "plane": _guess_plane,
    "sphere": _guess_sphere,
    "cylinder": _guess_cylinder,
    "cone": _guess_cone,
}


def _refined(guess: SimpleShape, points: Floats) -> SimpleShape | None:
    """Minimise the distances over the shape's own numbers."""
    if guess.kind == "plane":
        return _guess_plane(points, points)
    size = max(float(np.ptp(points, axis=0).max()), 1e-9)
    across = np.linalg.svd(guess.axis[None])[2][1:]

    def shape_at(x: Floats) -> SimpleShape:
        if guess.kind == "sphere":
            return SimpleShape("sphere", guess.point + size * x[:3], guess.axis, size * abs(x[3]))
        axis = unit(guess.axis + x[:2] @ across)
        if guess.kind == "cylinder":
            point = guess.point + size * x[2:4] @ across
            return SimpleShape("cylinder", point, axis, size * abs(x[4]))
        return SimpleShape("cone", guess.point + size * x[2:5], axis, angle=float(x[5]))

    start = {
        "sphere": [0, 0, 0, guess.radius / size],
        "cylinder": [0, 0, 0, 0, guess.radius / size],
        "cone": [0, 0, 0, 0, 0, guess.angle],
    }[guess.kind]
    found = scipy.optimize.least_squares(
        lambda x: shape_distance(shape_at(x), points) / size,
        np.array(start, dtype=np.float64),
        loss="soft_l1",
        f_scale=1e-3,
        max_nfev=60,
    )
    shape = shape_at(found.x)
    if shape.kind == "cone" and not 0.005 < shape.angle < np.pi / 2 - 0.005:
        return None
    return shape if np.isfinite(shape.point).all() else None


def _spanned(shape: SimpleShape, points: Floats) -> SimpleShape:
    """Set how far the points go along the axis, and the point to the middle of them."""
    point = shape.point
    if shape.kind == "plane":
        point = points.mean(axis=0)
        point = point - ((point - shape.point) @ shape.axis) * shape.axis
        span = (0.0, float(np.linalg.norm(points - point, axis=1).max()))
    elif shape.kind == "sphere":
        span = (0.0, shape.radius)
    else:
        along = (points - point) @ shape.axis
        if shape.kind == "cylinder":
            point = point + along.mean() * shape.axis
            along = along - along.mean()
        span = (float(along.min()), float(along.max()))
    return SimpleShape(shape.kind, point, shape.axis, shape.radius, shape.angle, span)


def shape_at(
    mesh: TriangleMesh, seed: int, noise: float, settings: ShapeSettings | None = None
) -> tuple[ShapeFit, Bools]:
    """Grow the simple shape that a vertex lies on; return it and the region it covers, (n,).

    A small patch round the vertex gives the first shape; all connected vertices that lie on it
    and face as it does give the next, until no more come.

    Raises
    ------
    ShapeError
        When the surface there is none of the shapes.
    """
    from usual_clay.core.scan.region import grow, island_of

    patch = np.zeros(len(mesh.vertices), dtype=bool)
    patch[seed] = True
    for _ in range(5):
        patch = grow(mesh, patch)
    best: tuple[ShapeFit, Bools] | None = None
    limit = max(3.5 * noise, 0.02 * mesh.edge_length)
    for _ in range(12):
        chosen = np.flatnonzero(patch)
        sample = Sample(mesh.vertices[chosen], mesh.vertex_normals[chosen])
        fit = fit_shape(sample, settings)
        lies_on = np.abs(shape_distance(fit.shape, mesh.vertices)) < limit
        facing = np.einsum("nk,nk->n", shape_normals(fit.shape, mesh.vertices), mesh.vertex_normals)
        lies_on &= np.abs(facing) > 0.8
        near = seed if lies_on[seed] else _nearest_on(mesh, lies_on, seed)
        if near is None:
            break
        grown = island_of(mesh, lies_on, near)
        if best is not None and grown.sum() <= 1.005 * best[1].sum():
            break
        best, patch = (fit, grown), grown
    if best is None or best[1].sum() < 20:
        raise ShapeError("the scan is no plane, sphere, cylinder or cone there")
    return best


def _nearest_on(mesh: TriangleMesh, lies_on: Bools, seed: int) -> int | None:
    """Return the vertex on the shape that is nearest to the seed, if it is a near one."""
    distance = np.linalg.norm(mesh.vertices - mesh.vertices[seed], axis=1)
    distance[~lies_on] = np.inf
    nearest = int(np.argmin(distance))
    return nearest if distance[nearest] < 4 * mesh.edge_length else None
