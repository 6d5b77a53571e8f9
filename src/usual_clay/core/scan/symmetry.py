"""The plane of mirror symmetry of a scan, found and not asked for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.scan.closest import MeshTree, tree_of
from usual_clay.core.scan.mesh import TriangleMesh, unit

SAMPLES = 4000
TRIALS, STEPS = 8, 40
# The part of the points that is believed: the rest are spikes, gaps and what is not symmetric.
BELIEVED = 0.9


@dataclass(frozen=True, eq=False)
class MirrorPlane:
    """A plane, ``normal . x = offset``, and how far the shape is from being the same beyond it.

    Attributes
    ----------
    normal : (3,) array
    offset : float
        mm.
    asymmetry : float
        Rms distance, mm, of the mirrored nine tenths that lie nearest.
    """

    normal: Floats
    offset: float
    asymmetry: float


def mirror_plane(mesh: TriangleMesh) -> MirrorPlane:
    """Find the plane in which a scan mirrors onto itself best.

    Each plane square to a principal axis is a seed. It is turned and moved by iterated closest
    points of the mirrored scan, trimmed, each step minimising the distances to the tangent
    planes there (Chen and Medioni 1992), which slides along the surface where distances between
    points would stick.
    """
    tree = tree_of(mesh)
    areas = np.linalg.norm(mesh.face_vectors, axis=1)
    chosen = np.random.default_rng(0).choice(
        len(areas), min(SAMPLES, len(areas)), p=areas / areas.sum()
    )
    points = mesh.vertices[mesh.triangles[chosen]].mean(axis=1)
    middle = points.mean(axis=0)
    axes = np.linalg.eigh(np.cov((points - middle).T))[1].T
    faces = unit(mesh.face_vectors)
    seeds = [_settled(tree, faces, points - middle, middle, axis, TRIALS) for axis in axes]
    best = min(seeds, key=lambda plane: plane.asymmetry)
    found = _settled(tree, faces, points - middle, middle, best.normal, STEPS, best.offset)
    return MirrorPlane(found.normal, found.offset + float(found.normal @ middle), found.asymmetry)


def _settled(
    tree: MeshTree,
    faces: Floats,
    points: Floats,
    middle: Floats,
    normal: Floats,
    steps: int,
    offset: float = 0.0,
) -> MirrorPlane:
    """Turn and move a plane until the mirrored points, given about `middle`, lie best."""
    best = MirrorPlane(normal, offset, np.inf)
    for _ in range(steps):
        height = points @ normal - offset
        mirrored = points - 2 * height[:, None] * normal
        distance, triangle, nearest = tree.nearest(mirrored + middle)
        near = distance <= np.quantile(distance, BELIEVED)
        asymmetry = float(np.sqrt(np.mean(distance[near] ** 2)))
        if asymmetry < best.asymmetry:
            gain = best.asymmetry - asymmetry
            best = MirrorPlane(normal, offset, asymmetry)
            if gain < 1e-7 * asymmetry:
                break
        gap = mirrored - (nearest - middle)
        normal, offset = _turned(
            points[near], gap[near], faces[triangle[near]], height[near], normal, offset
        )
    return best


def _turned(
    points: Floats, gap: Floats, faces: Floats, height: Floats, normal: Floats, offset: float
) -> tuple[Floats, float]:
    """Return the plane that brings mirrored points nearest to the tangent planes, to first order.

    Mirrored, a point moves by ``-2 (p . dn) n - 2 h dn + 2 do n`` as the plane turns by dn and
    moves by do.
    """
    helper = np.eye(3)[np.argmin(np.abs(normal))]
    first = unit(np.cross(normal, helper))
    second = np.cross(normal, first)
    along = faces @ normal
    columns = [
        -2 * (points @ turn) * along - 2 * height * (faces @ turn) for turn in (first, second)
    ]
    matrix = np.stack([*columns, 2 * along], axis=1)
    rest = -np.einsum("nk,nk->n", gap, faces)
    # A shape of revolution leaves a turn open: no more of it than the data ask for.
    change = np.linalg.lstsq(matrix, rest, rcond=1e-6)[0]
    return unit(normal + change[0] * first + change[1] * second), offset + float(change[2])
