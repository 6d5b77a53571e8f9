"""Recipes of bodies: made in a process of its own, where the geometry kernel is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.core.apart import apart
from usual_clay.core.body.afloat import ClosedMesh, FloatError
from usual_clay.core.body.body_shape import BodyMade, BodyShape
from usual_clay.core.body.lying import FloatSettings, Lying, lie
from usual_clay.core.body.operate import operate
from usual_clay.core.progress import Progress
from usual_clay.core.spline.curve import curve_points
from usual_clay.job.items import Body, Floating
from usual_clay.job.made import Given

# Longer than this no step may take, s.
SECONDS = 180.0
# Along a marked curve so many places are looked at.
PLACES = 200


def by_kernel(kind: str) -> Callable[[Any, Given, Progress, object], BodyMade]:
    """Return the maker of a kind of body."""

    def make(settings: Any, given: Given, progress: Progress, _: object) -> BodyMade:
        named = given.named()
        first = next((name for each in named.values() for name, _ in each), kind)
        return apart(first, operate, kind, settings, named, progress=progress, seconds=SECONDS)

    return make


def make_afloat(settings: FloatSettings, given: Given, *_: object) -> Lying:
    """Let a body float, and tell when its marked curves go under."""
    shape: BodyShape = given.one("body")
    if not shape.is_solid:
        raise FloatError("an open shell fills with water: close it first")
    marks = {
        name: curve_points(curve, np.linspace(0, 1, PLACES))
        for name, curve in given.named().get("marks", ())
    }
    return lie(ClosedMesh.of(shape.vertices, shape.triangles), settings, marks)


def put_afloat(item: Floating, made: Lying, _finished: bool) -> Floating:
    """Put how a body floats into its item."""
    return replace(item, lying=made)


def put_body(item: Body, made: BodyMade, _finished: bool) -> Body:
    """Put what was made into its item; what judges it is measured anew."""
    return replace(
        item, shape=made.shape, gaps=made.gaps, spots=made.spots, signed=None, inside=None
    )
