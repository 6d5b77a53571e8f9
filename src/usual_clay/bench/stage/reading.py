"""The read-out under the cursor: a surface's deviation, or a point and its distance to others."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Target
from usual_clay.bench.item_views import view_of
from usual_clay.bench.stage.judging import JUDGINGS, Judging
from usual_clay.bench.stage.overlay import MINUS, signed_text
from usual_clay.bench.stage.scene import Scene
from usual_clay.core.arrays import Floats
from usual_clay.core.check.curvature import bent
from usual_clay.core.spline.closest import foot_points
from usual_clay.job.items import Body, PointList, Scan, Surface


def reading(scene: Scene, target: Target | None) -> str:
    """Return what the cursor rests on in words, or nothing."""
    if target is None:
        return ""
    item = scene.session.shown.items.get(target.item)
    if isinstance(item, Surface) and scene.shown.judging:
        return _judged(scene, item, target)
    if isinstance(item, Body) and scene.shown.judging:
        return _body_judged(scene, item, target)
    if isinstance(item, Surface) and scene.shown.colours:
        return _deviation(scene, item, target)
    if isinstance(item, PointList):
        return _point(scene, item, target)
    return ""


def place_words(point: Floats, digits: int = 1) -> str:
    """Return x, y and z with true minus signs."""
    return ", ".join(f"{value:.{digits}f}" for value in point).replace("-", MINUS)


def _deviation(scene: Scene, surface: Surface, target: Target) -> str:
    portrait = scene.portrait(surface)
    if portrait is None or target.hit.triangle >= len(portrait.triangles):
        return ""
    point = portrait.measured_at(target.hit.triangle, target.hit.point)
    if surface.signed is None or not 0 <= point < len(surface.signed):
        return "nothing was measured here"
    deviation = float(surface.signed[point])
    side = "inside" if deviation > 0 else "outside"
    within = abs(deviation) <= scene.session.shown.tolerance.deviation
    words = "within tolerance" if within else f"surface {side} the scan"
    place = place_words(target.hit.point)
    return f"{signed_text(deviation)} mm  {words}, by the nearest measured point, at {place}"


def _judged(scene: Scene, surface: Surface, target: Target) -> str:
    """Return the exact figure by which a surface is judged at the cursor."""
    way = JUDGINGS[scene.shown.judging]
    feet = foot_points(surface.geometry, target.hit.point[None])
    values = way.of_surface(bent(surface.geometry, feet.u, feet.v))
    if values is None:
        return ""
    return _figure_words(way, float(values[0]), target.hit.point)


def _body_judged(scene: Scene, body: Body, target: Target) -> str:
    """Return the figure by which a body is judged at the corner nearest to the cursor."""
    portrait = scene.bodies.judged_portrait(body)
    values = None if portrait is None else scene.sights.of_body(body, portrait)
    if portrait is None or values is None:
        return ""
    nearest = int(np.argmin(((portrait.vertices - target.hit.point) ** 2).sum(axis=1)))
    return _figure_words(JUDGINGS[scene.shown.judging], float(values[nearest]), target.hit.point)


def _figure_words(way: Judging, value: float, place: Floats) -> str:
    figure = f"{value:.4g}".replace("-", MINUS)
    return f"{way.title} {figure} {way.unit}, at {place_words(place)}"


def _point(scene: Scene, points: PointList, target: Target) -> str:
    """Name a point of a list, with its distance to the chosen item, or to a scan in sight."""
    job, chosen = scene.session.shown, scene.session.choice.item
    place = points.points[target.hit.triangle]
    words = f"point {target.hit.triangle + 1}: {place_words(place, 2)} mm"
    others = [item for item in job.items.values() if item.id == chosen and item is not points]
    others += [scan for scan in job.all(Scan) if scan.visible]
    for other in others:
        away = view_of(other).away
        distance = None if away is None else away(scene, other, place)
        if distance is not None:
            return f"{words}; {distance:.3f} mm from {other.name}"
    return words
