"""Dimensions: what is measured between items or of one, as a recipe makes it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.core.body.body_shape import BodyShape
from usual_clay.core.check.measure import (
    DistanceSettings,
    Figure,
    MeasureError,
    SizeSettings,
    Thing,
    WallSettings,
    area_of_mesh,
    area_of_surface,
    length_of_curve,
    measure_between,
    reach_along,
    smallest_radius,
    thing_of_curve,
    thing_of_mesh,
    thing_of_points,
    thing_of_surface,
)
from usual_clay.core.check.thickness import thinnest_wall
from usual_clay.core.fit.curve.sequence import PointSequence
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.core.scan.shape_mesh import shape_mesh
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.items import Dimension
from usual_clay.job.made import Given


def thing_of(source: Any) -> Thing:
    """Return a source as what can be measured."""
    if isinstance(source, BSplineCurve):
        return thing_of_curve(source)
    if isinstance(source, BSplineSurface):
        return thing_of_surface(source)
    if isinstance(source, SimpleShape):
        return thing_of_mesh(*shape_mesh(source), source.axis)
    if isinstance(source, BodyShape | TriangleMesh):
        return thing_of_mesh(source.vertices, source.triangles)
    assert isinstance(source, Sample | PointSequence)
    return thing_of_points(source.points)


def make_distance(settings: DistanceSettings, given: Given, *_: object) -> Figure:
    """Measure two things against each other."""
    one, other = thing_of(given.one("one")), thing_of(given.one("other"))
    return measure_between(one, other, settings.kind)


def make_size(settings: SizeSettings, given: Given, *_: object) -> Figure:
    """Measure one thing.

    Raises
    ------
    MeasureError
    """
    source, kind = given.one("thing"), settings.kind
    if kind.startswith("along"):
        return reach_along(thing_of(source).places, "xyz".index(kind[-1]))
    if kind == "length" and isinstance(source, BSplineCurve):
        return length_of_curve(source)
    if kind == "smallest radius" and isinstance(source, BSplineCurve | BSplineSurface):
        return smallest_radius(source)
    if kind == "area":
        if isinstance(source, BSplineSurface):
            return area_of_surface(source)
        if isinstance(source, BodyShape | TriangleMesh):
            return area_of_mesh(source.vertices, source.triangles)
    raise MeasureError(
        f"{kind} is not told of this: length of curves, smallest radius of curves and surfaces,"
        " area of surfaces, bodies and scans; along an axis of anything"
    )


def make_wall(settings: WallSettings, given: Given, *_: object) -> Figure:
    """Measure how thick a wall is.

    Raises
    ------
    MeasureError
    """
    source = given.one("thing")
    assert isinstance(source, BodyShape | TriangleMesh)
    places = np.array(settings.at, dtype=np.float64).reshape(-1, 3)
    return thinnest_wall(source.vertices, source.triangles, places)


def put_dimension(item: Dimension, made: Figure, _finished: bool) -> Dimension:
    """Put what was measured into its item."""
    return replace(item, figure=made)
