"""What the stage works out for a scan once: search trees, and what stands for it in motion."""

from __future__ import annotations

import time
from dataclasses import dataclass

from scipy.spatial import cKDTree

from usual_clay.bench.stage.models import stand_in
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.scan.closest import MeshTree, tree_of, vertices_of
from usual_clay.core.scan.curvature import bend
from usual_clay.core.scan.mesh import TriangleMesh

STAND_IN_TRIANGLES = 24_000
# The first picture shall not wait for a large scan's trees, whose making holds the interpreter.
PREPARE_AFTER = 0.05


@dataclass(eq=False)
class ScanModel:
    """What is worked out for a scan once: search trees and the stand-in."""

    tree: MeshTree
    vertices: cKDTree
    light: tuple[Floats, Ints, Ints]


def known_of(mesh: TriangleMesh) -> ScanModel | None:
    """Return what was worked out for a scan; None where it was not yet."""
    known: ScanModel | None = vars(mesh).get("prepared")
    return known


def prepare(mesh: TriangleMesh) -> None:
    """Work out what is needed of a scan; it is kept with the mesh, and goes with it."""
    time.sleep(PREPARE_AFTER)
    model = ScanModel(tree_of(mesh), vertices_of(mesh), _stand_in(mesh))
    # Warm what a first click needs, so that the click itself is quick.
    bend(mesh)
    vars(mesh)["prepared"] = model


def _stand_in(mesh: TriangleMesh) -> tuple[Floats, Ints, Ints]:
    """Return a coarser mesh, and which vertex of the mesh lies nearest to each of its own."""
    coarse, triangles = stand_in(mesh.vertices, mesh.triangles, STAND_IN_TRIANGLES)
    nearest = vertices_of(mesh).query(coarse, workers=2)[1]
    # What turned over as it was made coarser would be drawn black.
    seen = mesh.vertex_normals[nearest][triangles].sum(axis=1)
    over = (TriangleMesh(coarse, triangles).face_vectors * seen).sum(axis=1) < 0
    triangles[over] = triangles[over, ::-1]
    return coarse, triangles, nearest
