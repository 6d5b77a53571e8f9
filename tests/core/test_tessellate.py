"""Triangles of a surface: how close they stay, and that they close."""

from __future__ import annotations

import numpy as np
import pytest

from tests.core.test_spline import any_surface
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.surface import surface_normals
from usual_clay.core.spline.tessellate import grid_triangles, steps_for_chord, tessellate


@pytest.mark.parametrize("chord", [0.5, 0.05])
def test_triangles_stay_within_the_chord_height(chord: float) -> None:
    surface = any_surface(3)
    grid, u, v = tessellate(surface, steps_for_chord(surface, chord))
    triangles = grid_triangles(len(u), len(v))
    centres = grid.reshape(-1, 3)[triangles].mean(axis=1)
    worst = np.abs(foot_points(surface, centres[:4000]).signed).max()
    assert worst <= chord
    assert worst > chord / 60


def test_triangles_face_as_the_surface_does() -> None:
    surface = any_surface(1)
    grid, u, v = tessellate(surface, (4, 4))
    mesh = TriangleMesh(grid.reshape(-1, 3), grid_triangles(len(u), len(v)))
    uu, vv = (g.ravel() for g in np.meshgrid(u, v, indexing="ij"))
    same = np.einsum("nk,nk->n", mesh.vertex_normals, surface_normals(surface, uu, vv))
    assert same.min() > 0.5
    assert len(mesh.triangles) == 2 * (len(u) - 1) * (len(v) - 1)
