"""Shapes whose truth is known, for tests."""

from __future__ import annotations

import numpy as np

from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample

# As good as nothing: for what does not depend on what is drawn.
SPECK = TriangleMesh(np.eye(3), np.array([[0, 1, 2]]))


def height_field(
    count: int = 6000, noise: float = 0.0, seed: int = 0, size: tuple[float, float] = (60.0, 30.0)
) -> Sample:
    """Points of a gentle height field with known noise; normals all point up."""
    random = np.random.default_rng(seed)
    x, y = random.uniform(0, size[0], count), random.uniform(0, size[1], count)
    z = 2 * np.sin(x / size[0] * 4) * np.cos(y / size[1] * 2.5)
    points = np.stack([x, y, z], axis=1) + random.normal(0, 1, (count, 3)) * noise
    return Sample(points, np.tile([0.0, 0.0, 1.0], (count, 1)))


def sphere(radius: float = 10.0, rings: int = 40) -> TriangleMesh:
    """A closed sphere from a subdivided grid of angles."""
    from trimesh.creation import icosphere

    made = icosphere(subdivisions=max(2, rings // 10), radius=radius)
    return TriangleMesh(made.vertices, made.faces)


def box_mesh(size: float = 20.0, step: float = 1.0) -> TriangleMesh:
    """A cube's surface, finely divided, with sharp creases."""
    from trimesh.creation import box

    made = box(extents=(size, size, size)).subdivide_to_size(step * 1.6)
    from usual_clay.core.scan.mesh import weld

    return TriangleMesh(*weld(np.asarray(made.vertices), np.asarray(made.faces)))
