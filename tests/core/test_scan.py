"""Meshes, bend, regions and nearest points against shapes that are known exactly."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from tests.shapes import box_mesh, sphere
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.curvature import bend
from usual_clay.core.scan.mesh import MeshError, TriangleMesh, weld
from usual_clay.core.scan.region import (
    brush,
    fill_gaps,
    grow,
    region_mesh,
    region_triangles,
    shrink,
    spread,
)
from usual_clay.demo.make import BACK_SEED
from usual_clay.demo.scan import NOISE, pose
from usual_clay.demo.shape import signed_distance


def test_normals_edges_and_box_of_a_sphere() -> None:
    mesh = sphere(10)
    radial = mesh.vertices / 10
    assert np.einsum("nk,nk->n", mesh.vertex_normals, radial).min() > 0.999
    # Euler: V - E + F = 2 for a closed surface without handles.
    assert len(mesh.vertices) - len(mesh.edges) + len(mesh.triangles) == 2
    assert mesh.box == pytest.approx(np.array([[-10, -10, -10], [10, 10, 10]]), rel=0.02)
    assert (mesh.neighbours.data > 0).all()
    assert mesh.neighbours.nnz == 2 * len(mesh.edges)


def test_weld_joins_a_soup() -> None:
    mesh = sphere(10)
    soup = mesh.vertices[mesh.triangles].reshape(-1, 3)
    vertices, triangles = weld(soup, np.arange(len(soup)).reshape(-1, 3))
    assert len(vertices) == len(mesh.vertices)
    assert len(triangles) == len(mesh.triangles)
    collapsed = np.array([[0, 0, 1], [0, 1, 2]])
    assert len(weld(mesh.vertices, collapsed)[1]) == 1


def test_bend_of_sphere_and_box() -> None:
    _, curvature = bend(sphere(10))
    assert np.median(curvature) == pytest.approx(0.1, rel=0.05)
    box = box_mesh()
    normals, curvature = bend(box)
    inner = np.abs(np.abs(box.vertices) - 10) < 1e-6
    flat = (np.sort(np.abs(box.vertices), axis=1)[:, 1] < 4) & inner.any(axis=1)
    edge = np.sum(inner, axis=1) >= 2
    assert curvature[flat].max() < 1e-3
    assert curvature[edge].min() > 0.1
    assert np.abs(normals[flat]).max(axis=1).min() > 0.999


def test_spread_takes_one_face_of_a_box_whole() -> None:
    mesh = box_mesh()
    seed = int(np.argmin(np.linalg.norm(mesh.vertices - [0, 0, 10], axis=1)))
    region = spread(mesh, seed, 0.4)
    assert np.allclose(mesh.vertices[region][:, 2], 10, atol=1.6)
    top = np.abs(mesh.vertices[:, 2] - 10) < 1e-6
    inside = top & (np.abs(mesh.vertices[:, :2]).max(axis=1) < 6)
    assert region[inside].all()


def test_spread_follows_the_turn_of_a_sphere() -> None:
    mesh = sphere(10)
    seed = int(np.argmax(mesh.vertices[:, 2]))
    for amount in (0.2, 0.5):
        region = spread(mesh, seed, amount)
        lowest = mesh.vertices[region][:, 2].min() / 10
        assert np.degrees(np.arccos(lowest)) == pytest.approx(180 * amount, abs=6)
    assert spread(mesh, seed, 1.0).all()


def test_spread_on_the_lure_takes_the_back_and_stops(lure: TriangleMesh) -> None:
    at = pose().to_scan(np.array([BACK_SEED]))
    seed = int(np.argmin(np.linalg.norm(lure.vertices - at, axis=1)))
    small, large = (spread(lure, seed, amount) for amount in (0.25, 0.36))
    assert small.sum() < large.sum()
    points = pose().to_lure(lure.vertices[large])
    assert np.ptp(points[:, 0]) > 80
    assert points[:, 2].min() > -4
    # No holes but those of spikes: the region's own mesh is nearly one disc.
    filled = fill_gaps(lure, large, 60)
    assert (filled & ~large).sum() < 0.002 * large.sum()


def test_rings_gaps_and_brush() -> None:
    mesh = sphere(10)
    seed = int(np.argmax(mesh.vertices[:, 2]))
    cap = spread(mesh, seed, 0.3)
    assert grow(mesh, cap).sum() > cap.sum() > shrink(mesh, cap).sum()
    assert (shrink(mesh, grow(mesh, cap)) & cap).sum() == cap.sum()
    holed = cap.copy()
    holed[seed] = False
    assert fill_gaps(mesh, holed, 3)[seed]
    assert not fill_gaps(mesh, holed, 0)[seed]
    tree = cKDTree(mesh.vertices)
    near = brush(tree, mesh.vertex_normals, np.array([0, 0, 10.0]), 3.0, np.array([0, 0, 1.0]))
    assert np.linalg.norm(mesh.vertices[near] - [0, 0, 10], axis=1).max() <= 3
    through = brush(tree, mesh.vertex_normals, np.array([0, 0, 10.0]), 25.0, np.array([0, 0, 1.0]))
    assert mesh.vertices[through][:, 2].min() > -1


def test_region_mesh_is_the_triangles_inside() -> None:
    mesh = sphere(10)
    half = mesh.vertices[:, 2] > 0
    vertices, triangles = region_mesh(mesh, half)
    assert len(triangles) == len(region_triangles(mesh, half))
    assert vertices[:, 2].min() > 0
    assert triangles.max() == len(vertices) - 1


def test_nearest_points_and_rays_meet_a_sphere() -> None:
    mesh = sphere(10, rings=60)
    tree = MeshTree(mesh.vertices, mesh.triangles)
    random = np.random.default_rng(0)
    points = random.normal(size=(500, 3)) * 12
    distance, _, nearest = tree.nearest(points)
    exact = np.abs(np.linalg.norm(points, axis=1) - 10)
    assert np.abs(distance - exact).max() < 0.02
    assert np.allclose(np.linalg.norm(nearest - points, axis=1), distance)
    hit = tree.first_hit(np.array([0.1, 0.2, 50.0]), np.array([0.0, 0.0, -1.0]))
    assert hit is not None
    assert hit.distance == pytest.approx(40, abs=0.02)
    assert hit.point[2] == pytest.approx(10, abs=0.02)
    assert tree.first_hit(np.array([0, 0, 50.0]), np.array([0, 0, 1.0])) is None


@pytest.mark.parametrize(
    ("vertices", "triangles", "words"),
    [
        ([[0, 0, 0], [1, 0, 0], [0, np.nan, 0]], [[0, 1, 2]], "no finite numbers.*vertex 3"),
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 7]], "point past the 3 vertices"),
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, -1]], "point past"),
        (np.zeros((0, 3)), [[0, 1, 2]], "no vertices"),
        ([[0, 0, 0]], np.zeros((0, 3)), "no triangles"),
    ],
)
def test_arrays_that_are_no_mesh_are_refused(vertices: list, triangles: list, words: str) -> None:
    with pytest.raises(MeshError, match=words):
        TriangleMesh(np.array(vertices, dtype=float), np.array(triangles))


def test_the_demo_scan_has_the_faults_it_should(lure: TriangleMesh) -> None:
    assert 140_000 < len(lure.triangles) < 180_000
    away = signed_distance(pose().to_lure(lure.vertices))
    middle = np.abs(away) < 0.3
    assert np.std(away[middle]) == pytest.approx(NOISE, rel=0.15)
    assert 20 < (np.abs(away) > 0.3).sum() < 400
    size = np.ptp(pose().to_lure(lure.vertices), axis=0)
    assert size == pytest.approx([96, 24.7, 30], abs=2.5)
    # Two supports hid the surface: two borders of some length.
    corners = lure.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
    keys, uses = np.unique(np.sort(corners, axis=1), axis=0, return_counts=True)
    border = keys[uses == 1]
    place = pose().to_lure(lure.vertices[border[:, 0]])
    assert ((place[:, 0] > 28) & (place[:, 0] < 40)).sum() > 20
    assert ((place[:, 0] > 64) & (place[:, 0] < 76)).sum() > 20
