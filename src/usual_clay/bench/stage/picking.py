"""What lies under the cursor, of all kinds of items, and where."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.canvas import Target
from usual_clay.bench.stage.reference_layers import shape_tree
from usual_clay.bench.stage.scene import Scene
from usual_clay.bench.stage.view import View
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import from_space, meets
from usual_clay.core.scan.closest import Hit
from usual_clay.core.spline.tessellate import curve_points_shown
from usual_clay.job.items import Curve, ItemId, Picture, PointList, Shape

NEAR_PIXELS = 7.0


def under(scene: Scene, view: View, x: float, y: float) -> Target | None:
    """Return the item at a pixel: lines first, then what is nearest, then pictures behind."""
    origin, direction = view.ray(x, y)
    found = [scene.target(origin, direction), *_shapes_under(scene, origin, direction)]
    solid = [target for target in found if target is not None]
    nearest = min(solid, key=lambda target: target.hit.distance) if solid else None
    line = _line_under(scene, view, x, y)
    if line is not None and (nearest is None or not _is_behind(scene, line, nearest, direction)):
        return line
    if nearest is not None:
        return nearest
    pictures = _pictures_under(scene, origin, direction)
    return min(pictures, key=lambda target: target.hit.distance) if pictures else None


def place_under(
    scene: Scene, view: View, x: float, y: float, on: ItemId | None = None
) -> Floats | None:
    """Return the place at a pixel in space, (3,): on a picture's plane, or on what is there."""
    if on is not None:
        picture = scene.session.shown.get(on, Picture)
        met = None if picture is None else meets(picture.placement, *view.ray(x, y))
        return None if met is None else met[0]
    target = under(scene, view, x, y)
    return None if target is None else target.hit.point


def _line_under(scene: Scene, view: View, x: float, y: float) -> Target | None:
    job = scene.session.shown
    lines = [(p.id, p.points) for p in job.all(PointList) if p.visible]
    lines += [(c.id, curve_points_shown(c.geometry)) for c in job.all(Curve) if c.visible]
    best: tuple[float, Target] | None = None
    for item_id, points in lines:
        if not len(points):
            continue
        place = view.project(points)
        away = np.hypot(place[:, 0] - x, place[:, 1] - y)
        nearest = int(np.argmin(away))
        if away[nearest] < NEAR_PIXELS and (best is None or away[nearest] < best[0]):
            hit = Hit(points[nearest], nearest, float(place[nearest, 2]))
            best = (float(away[nearest]), Target(item_id, hit))
    return None if best is None else best[1]


def _is_behind(scene: Scene, line: Target, nearest: Target, direction: Floats) -> bool:
    """Tell whether a line lies hidden; the chosen one is always at hand."""
    behind = float((line.hit.point - nearest.hit.point) @ direction)
    return line.item != scene.session.choice.item and behind > 0.01 * abs(nearest.hit.distance)


def _shapes_under(scene: Scene, origin: Floats, direction: Floats) -> list[Target]:
    found = []
    for shape in scene.session.shown.all(Shape):
        if shape.visible:
            hit = shape_tree(shape.geometry).first_hit(origin, direction)
            if hit is not None:
                found.append(Target(shape.id, hit))
    return found


def _pictures_under(scene: Scene, origin: Floats, direction: Floats) -> list[Target]:
    found = []
    for picture in scene.session.shown.all(Picture):
        met = meets(picture.placement, origin, direction)
        if not (picture.visible and scene.shown.pictures) or met is None or met[1] < 0:
            continue
        placement = picture.placement
        flat = from_space(placement, met[0][None])[0] - [placement.x, placement.y]
        c, s = np.cos(placement.turn), np.sin(placement.turn)
        across, up = c * flat[0] + s * flat[1], c * flat[1] - s * flat[0]
        if abs(across) <= placement.width / 2 and abs(up) <= placement.height / 2:
            found.append(Target(picture.id, Hit(met[0], 0, met[1])))
    return found
