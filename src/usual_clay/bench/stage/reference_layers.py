"""Layers of pictures, simple shapes and curves."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from usual_clay.bench.stage.models import line_data, quad_data, triangle_data
from usual_clay.bench.stage.view import Layer
from usual_clay.bench.theme.theme import now
from usual_clay.core.picture.look import dressed
from usual_clay.core.picture.placement import corners
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.shape_mesh import AROUND, shape_mesh
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.tessellate import curve_points_shown
from usual_clay.files.picture_file import shown_pixels
from usual_clay.job.items import Picture


def picture_layer(picture: Picture) -> Layer:
    """Return a picture on its plane, as its look asks."""
    pixels = dressed(shown_pixels(picture.data), picture.look)
    return Layer(quad_data(corners(picture.placement)), picture=pixels, depth=picture.look.depth)


def curve_layer(curve: BSplineCurve, colour: str) -> Layer:
    """Return a curve as a line."""
    return Layer(line_data([curve_points_shown(curve)]), line=colour, width=1.8)


@lru_cache(maxsize=64)
def shape_tree(shape: SimpleShape) -> MeshTree:
    """Return the search tree of a simple shape as it is drawn: every move of the cursor asks it."""
    return MeshTree(*shape_mesh(shape))


def shape_layers(shape: SimpleShape, chosen: bool, colour: str) -> tuple[Layer, Layer]:
    """Return a shape as a veil, and its rims with its axis or normal as lines."""
    vertices, triangles = shape_mesh(shape)
    ink = now().chosen if chosen else colour
    veil = Layer(triangle_data(vertices, triangles, None), line=ink, opacity=0.28)
    rings = vertices.reshape(-1, AROUND, 3)
    low, high = shape.span
    if shape.kind == "plane":
        lines = [rings[-1], shape.point + np.outer([0, 0.5 * high], shape.axis)]
    elif shape.kind == "sphere":
        lines = [rings[len(rings) // 2], shape.point + np.outer([-1, 1], shape.axis) * 0.2 * high]
    else:
        past = 0.35 * (high - low)
        ends = np.array([low - past if shape.kind == "cylinder" else 0.0, high + past])
        lines = [rings[0], rings[-1], shape.point + np.outer(ends, shape.axis)]
    # A drilled hole lies inside the model: the chosen one is seen through it.
    depth = "over" if chosen else "in place"
    return veil, Layer(line_data(lines), line=ink, width=1.6, depth=depth)
