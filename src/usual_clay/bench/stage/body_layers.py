"""A body as the stage shows it: faces in deep clay or by their deviation, and true edges."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.bench.stage import colours
from usual_clay.bench.stage.models import line_data, paint, triangle_data
from usual_clay.bench.stage.view import Layer
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.body.lying import Lying
from usual_clay.core.scan.closest import MeshTree

# Triangles that are coloured are no longer than this share of the body.
FINE = 0.012
# A measured point farther away than so many times how far they are apart colours nothing.
REACH = 4.0
# Edges come so little towards the eye that those on a body's far side stay hidden.
LIFT = 4.0
# How much of what is behind the water's surface is hidden.
WATER = 0.35
# Edges that turn by less are not drawn, radians.
SHARP = np.radians(3)


@dataclass(frozen=True, eq=False)
class BodyPortrait:
    """What is drawn of a body.

    Attributes
    ----------
    shape : BodyShape
    vertices, normals : (n, 3) arrays
    triangles : (m, 3) integers
    nearest : (n,) integers or None
        The measured point that colours each vertex; -1 where nothing was measured.
    faces : (n,) integers or None
        The face that each vertex lies on, of one that is judged by how it bends.
    """

    shape: BodyShape
    vertices: Floats
    normals: Floats
    triangles: Ints
    nearest: Ints | None
    faces: Ints | None = None

    @cached_property
    def tree(self) -> MeshTree:
        return MeshTree(self.shape.vertices, self.shape.triangles)


def body_portrait(shape: BodyShape, points: Floats | None) -> BodyPortrait:
    """Return what is drawn of a body, fine enough for colours where points judge it."""
    if points is None or not len(points):
        return BodyPortrait(shape, shape.vertices, shape.normals, shape.triangles, None)
    vertices, normals, triangles, _ = _finer(shape)
    tree = cKDTree(points)
    apart = float(np.median(tree.query(points[:: max(1, len(points) // 2000)], 2)[0][:, 1]))
    away, nearest = tree.query(vertices, workers=2)
    reach = REACH * apart + FINE * float(np.ptp(shape.box, axis=0).max())
    return BodyPortrait(shape, vertices, normals, triangles, np.where(away > reach, -1, nearest))


def fine_portrait(shape: BodyShape) -> BodyPortrait:
    """Return a body with triangles so small that colours at their corners tell enough."""
    vertices, normals, triangles, faces = _finer(shape)
    return BodyPortrait(shape, vertices, normals, triangles, None, faces)


def _finer(shape: BodyShape) -> tuple[Floats, Floats, Ints, Ints]:
    """Halve triangles until none is longer than is good for colours.

    Each vertex comes with the face that it lies on.
    """
    vertices, normals, triangles = shape.vertices, shape.normals, shape.triangles
    faces = np.zeros(len(vertices), dtype=np.int64)
    faces[triangles] = shape.face_of[:, None]
    aim = FINE * float(np.ptp(shape.box, axis=0).max())
    for _ in range(12):
        corners = vertices[triangles]
        sides = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
        longest = sides.argmax(axis=1)
        cut = sides.max(axis=1) > aim
        if not cut.any() or len(triangles) > 400_000:
            break
        mine = triangles[cut]
        order = (longest[cut][:, None] + np.arange(3)) % 3
        a, b, c = np.take_along_axis(mine, order, axis=1).T
        # An edge that two triangles share is halved once; one number for both of its ends is the
        # sooner sorted.
        count = len(vertices)
        keys, which = np.unique(np.minimum(a, b) * count + np.maximum(a, b), return_inverse=True)
        edges = np.stack([keys // count, keys % count], axis=1)
        middle = count + which
        vertices = np.concatenate([vertices, vertices[edges].mean(axis=1)])
        normals = np.concatenate([normals, normals[edges].mean(axis=1)])
        faces = np.concatenate([faces, faces[edges[:, 0]]])
        halves = [np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)]
        triangles = np.concatenate([triangles[~cut], *halves])
    return vertices, normals, triangles, faces


def face_layer(
    portrait: BodyPortrait, signed: Floats | None, chosen: bool, own: str, tolerance: float,
    full: float,
) -> Layer:  # fmt: skip
    """Return a body's faces; by their deviation where they are judged by points."""
    data = triangle_data(portrait.vertices, portrait.triangles, portrait.normals)
    plain = now().bodies_chosen if chosen else own or now().bodies
    tint = np.tile(rgb(plain), (len(portrait.vertices), 1))
    nearest = portrait.nearest
    shows = signed is not None and nearest is not None
    if signed is not None and nearest is not None:
        at = np.where(nearest >= 0, signed[np.maximum(nearest, 0)], np.nan)
        tint = colours.deviation_colours(at, tolerance, full)
    paint(data, colours.as_bytes(tint))
    return Layer(data, gloss=0.0 if shows else 0.2)


def water_layers(lying: Lying) -> tuple[Layer, Layer | None]:
    """Return the water's surface round a body, and the line along which it cuts it."""
    a, b, c, d = lying.water_plane
    sheet = triangle_data(np.stack([a, b, c, d]), np.array([[0, 1, 2], [0, 2, 3]]), None)
    water = Layer(sheet, line=now().water, opacity=WATER)
    if not len(lying.waterline):
        return water, None
    return water, Layer(line_data(list(lying.waterline)), line=now().teal, lift=LIFT)


def edge_layer(shape: BodyShape) -> Layer | None:
    """Return the edges of a body: those that turn, and those that are open."""
    ends = np.flatnonzero((np.abs(shape.edge_turns) > SHARP) | (shape.edge_faces[:, 1] < 0))
    if not len(ends):
        return None
    lines = line_data([shape.edge(int(k)) for k in ends])
    return Layer(lines, line=now().edges, lift=LIFT)
