"""The lure's scan: a mesh of the true shape with a scanner's faults."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.sparse import diags_array

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.mesh import TriangleMesh, weld
from usual_clay.demo.shape import BOX, carved, slope_of

NOISE = 0.02
CELL = 0.336
SPIKES = 40
SUPPORTS = ((34.0, 0.0, -17.0, 3.0), (70.0, 0.0, -9.0, 2.2))


@dataclass(frozen=True, eq=False)
class Pose:
    """Where the scanner saw the lure: ``scan = turn @ lure + shift``."""

    turn: Floats
    shift: Floats

    def to_scan(self, points: Floats) -> Floats:
        return points @ self.turn.T + self.shift

    def to_lure(self, points: Floats) -> Floats:
        return (points - self.shift) @ self.turn


def pose() -> Pose:
    """Return the pose of the demo scan."""
    a, b, c = np.radians([11.0, -4.0, 6.0])
    about_z = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
    about_y = np.array([[np.cos(b), 0, np.sin(b)], [0, 1, 0], [-np.sin(b), 0, np.cos(b)]])
    about_x = np.array([[1, 0, 0], [0, np.cos(c), -np.sin(c)], [0, np.sin(c), np.cos(c)]])
    return Pose(about_z @ about_y @ about_x, np.array([-38.0, -21.0, 46.0]))


@lru_cache(maxsize=1)
def true_mesh(cell: float = CELL) -> TriangleMesh:
    """Return a mesh whose vertices lie on the true shape, in the lure's frame."""
    from skimage.measure import marching_cubes

    sizes = np.ceil((BOX[1] - BOX[0]) / cell).astype(int) + 1
    axes = [BOX[0, k] + cell * np.arange(sizes[k]) for k in range(3)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    field = np.concatenate([carved(part) for part in np.array_split(grid, 40)])
    vertices, triangles, _, _ = marching_cubes(field.reshape(sizes), 0.0, spacing=(cell,) * 3)
    vertices = vertices.astype(np.float64) + BOX[0]
    vertices, triangles = weld(vertices, triangles.astype(np.int64)[:, ::-1])
    mesh = TriangleMesh(vertices, triangles)
    if _volume(mesh) < 0:
        mesh = TriangleMesh(vertices, triangles[:, ::-1])
    return TriangleMesh(_smoothed(mesh), mesh.triangles)


def demo_scan() -> TriangleMesh:
    """Return the scan with noise, two missing patches and spikes, in the scanner's frame."""
    mesh = true_mesh()
    random = np.random.default_rng(1896)
    vertices = mesh.vertices + random.normal(0.0, NOISE, mesh.vertices.shape)
    spikes = random.choice(len(vertices), SPIKES, replace=False)
    out = random.uniform(0.4, 1.5, SPIKES) * random.choice([1.0, 1.0, -1.0], SPIKES)
    vertices[spikes] += out[:, None] * mesh.vertex_normals[spikes]
    missing = np.zeros(len(vertices), dtype=bool)
    for x, y, z, radius in SUPPORTS:
        missing |= np.linalg.norm(vertices - [x, y, z], axis=1) < radius
    kept = mesh.triangles[~missing[mesh.triangles].any(axis=1)]
    used, triangles = np.unique(kept, return_inverse=True)
    seen = pose().to_scan(vertices[used]).astype(np.float32).astype(np.float64)
    return TriangleMesh(seen, triangles.reshape(-1, 3))


def _volume(mesh: TriangleMesh) -> float:
    centres = mesh.vertices[mesh.triangles].mean(axis=1)
    return float(np.einsum("nk,nk->", centres, mesh.face_vectors) / 6)


def _smoothed(mesh: TriangleMesh) -> Floats:
    """Even out the triangles along the surface, keeping every vertex on the true shape."""
    links = mesh.links
    average = diags_array(1.0 / np.maximum(np.asarray(links.sum(axis=1)).ravel(), 1)) @ links
    vertices = mesh.vertices
    for _ in range(5):
        moved = 0.5 * vertices + 0.5 * (average @ vertices)
        vertices = _onto_shape(moved)
    return vertices


def _onto_shape(points: Floats) -> Floats:
    for _ in range(3):
        slope = slope_of(carved, points)
        length = np.maximum((slope**2).sum(axis=1), 0.25)
        step = np.clip(carved(points) / length, -0.2, 0.2)
        points = points - step[:, None] * slope
    return points
