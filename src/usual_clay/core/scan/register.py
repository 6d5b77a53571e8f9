"""Bringing a scan onto another one, or onto points: by pairs, then by iterated closest points."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.closest import tree_of
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.scan.motion import Motion, MotionError, still

SAMPLES, ROUNDS = 6000, 60
# The part of the points that is believed; the rest lie where the other has gaps.
BELIEVED = 0.9
# Points thinner than this share of their length lie in a plane.
FLAT = 0.003


@dataclass(frozen=True, eq=False)
class Registered:
    """A motion and how near it brings the two: rms and 95th percentile in mm, of those believed."""

    motion: Motion
    rms: float
    p95: float


def by_pairs(there: Floats, here: Floats) -> Registered:
    """Return the motion that brings points, (n, 3), nearest to their partners (Kabsch 1976).

    Raises
    ------
    MotionError
        For fewer than three pairs, or points on a line.
    """
    if len(there) < 3 or there.shape != here.shape:
        raise MotionError("three pairs of points or more are needed")
    middle, target = there.mean(axis=0), here.mean(axis=0)
    away = there - middle
    sizes = np.linalg.svd(away, compute_uv=False)
    if sizes[1] < 1e-6 * max(sizes[0], 1e-12):
        raise MotionError("the picked points lie on a line: pick one beside it")
    u, _, v = np.linalg.svd(away.T @ (here - target))
    flip = np.diag([1.0, 1.0, np.sign(np.linalg.det(v.T @ u.T))])
    turn = v.T @ flip @ u.T
    motion = Motion(turn, target - turn @ middle)
    left = np.linalg.norm(motion.apply(there) - here, axis=1)
    return Registered(motion, float(np.sqrt(np.mean(left**2))), float(np.quantile(left, 0.95)))


def settle_onto(
    points: Floats, mesh: TriangleMesh, start: Motion | None = None, progress: Progress = silent
) -> Registered:
    """Move points, (n, 3), onto a mesh by iterated closest points, from a start that is near.

    Distances to the tangent planes are minimised (Chen and Medioni 1992), a tenth of the points
    being left out. Points in one plane move in it alone: they say nothing of the rest.
    """
    tree = tree_of(mesh)
    if len(points) > SAMPLES:
        points = points[np.linspace(0, len(points) - 1, SAMPLES).astype(int)]
    motion = start or still()
    sizes, axes = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[1:]
    plane = axes[2] if sizes[2] < FLAT * sizes[0] else None
    best = Registered(motion, np.inf, np.inf)
    for number in range(ROUNDS):
        progress(number / ROUNDS, f"round {number + 1}")
        moved = motion.apply(points)
        distance, triangle, nearest = tree.nearest(moved)
        near = distance <= np.quantile(distance, BELIEVED)
        rms = float(np.sqrt(np.mean(distance[near] ** 2)))
        gain = best.rms - rms
        if rms < best.rms:
            best = Registered(motion, rms, float(np.quantile(distance[near], 0.95)))
        if number > 3 and gain < 1e-6 * rms:
            break
        normals = mesh.normals_at(triangle[near], nearest[near])
        square = None if plane is None else motion.turn @ plane
        motion = motion.then(_step(moved[near], nearest[near], normals, square))
    return best


def _step(points: Floats, targets: Floats, normals: Floats, plane: Floats | None) -> Motion:
    """Return the small motion, in the plane where its normal is given, that brings most."""
    middle = points.mean(axis=0)
    away = points - middle
    size = max(float(np.sqrt((away**2).sum(axis=1).mean())), 1e-12)
    matrix = np.concatenate([np.cross(away / size, normals), normals], axis=1)
    rest = np.einsum("nk,nk->n", targets - points, normals)
    if plane is None:
        change = np.linalg.lstsq(matrix, rest, rcond=1e-5)[0]
    else:
        flat = np.linalg.svd(plane[None])[2][1:]
        open_ways = np.zeros((6, 3))
        open_ways[:3, 0], open_ways[3:, 1:] = plane, flat.T
        change = open_ways @ np.linalg.lstsq(matrix @ open_ways, rest, rcond=1e-5)[0]
    turn = _turn_by(change[:3] / size)
    return Motion(turn, middle - turn @ middle + change[3:])


def _turn_by(vector: Floats) -> Floats:
    angle = float(np.linalg.norm(vector))
    if angle < 1e-15:
        return np.eye(3)
    x, y, z = unit(vector)
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.eye(3) + np.sin(angle) * cross + (1 - np.cos(angle)) * cross @ cross
