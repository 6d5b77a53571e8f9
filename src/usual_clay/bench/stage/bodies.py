"""Bodies as the scene keeps them: portraits made once, and layers of faces, edges and water."""

from __future__ import annotations

from collections.abc import Container
from typing import Any

import numpy as np

from usual_clay.bench.stage import colours
from usual_clay.bench.stage.body_layers import (
    BodyPortrait,
    body_portrait,
    edge_layer,
    face_layer,
    fine_portrait,
    water_layers,
)
from usual_clay.bench.stage.judging import JUDGINGS, contour_levels, places_in_mirror, shades
from usual_clay.bench.stage.kept import drop, same
from usual_clay.bench.stage.models import level_data, paint, triangle_data
from usual_clay.bench.stage.view import Layer
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.scan.closest import MeshTree
from usual_clay.job.items import Body, Floating, ItemId, Scan
from usual_clay.job.job import is_of_another

# Lines within faces come towards the eye so much that triangles do not hide parts of them.
CONTOUR_LIFT = 60.0


class Bodies:
    """What the scene shows of bodies, and of those afloat."""

    def __init__(self, scene: Any) -> None:
        self._scene = scene
        self._portraits: dict[ItemId, tuple[tuple, BodyPortrait]] = {}
        self._asked: dict[ItemId, tuple] = {}
        self._fine: dict[ItemId, BodyPortrait] = {}

    def forget(self) -> None:
        """Let go of everything that was made."""
        self._portraits.clear()
        self._asked.clear()
        self._fine.clear()

    def keep(self, ids: Container[ItemId]) -> None:
        """Let go of what was made of others."""
        for kept in (self._portraits, self._asked, self._fine):
            drop(kept, ids)

    def portrait(self, body: Body) -> BodyPortrait | None:
        """Return a body's portrait, the last one while a newer is being made."""
        if not len(body.shape.triangles):
            return None
        job = self._scene.session.shown
        scan = job.get(body.watches, Scan)
        inside = body.inside if self._scene.shown.colours else None
        judged = scan is not None and inside is not None and not is_of_another(scan, inside)
        by = (inside, scan.mesh) if judged and scan is not None else (None, None)
        wanted = (body.shape, *by)
        known = self._portraits.get(body.id)
        if known is not None and same(known[0], wanted):
            return known[1]
        if not judged or scan is None or body.inside is None:
            # It is there already: nothing has to be worked out.
            self._portraits[body.id] = (wanted, body_portrait(body.shape, None))
            return self._portraits[body.id][1]
        points = scan.mesh.vertices[body.inside]

        def done(made: BodyPortrait) -> None:
            self._portraits[body.id] = (wanted, made)
            self._scene.ready.emit()

        if not same(self._asked.get(body.id), wanted):
            self._asked[body.id] = wanted
            self._scene.session.work.start(
                body.id, "portrait", "", lambda *_: body_portrait(body.shape, points), done
            )
        return known[1] if known is not None else body_portrait(body.shape, None)

    def tree(self, body: Body) -> MeshTree | None:
        """Return the tree that rays meet a body by."""
        portrait = self.portrait(body)
        return None if portrait is None else portrait.tree

    def layers(self, body: Body) -> dict[str, Layer]:
        """Return a body's faces and edges."""
        portrait = self.portrait(body)
        if portrait is None:
            return {}
        tolerance, chosen = (
            self._scene.session.shown.tolerance,
            body.id == self._scene.session.choice.item,
        )
        if self._scene.shown.judging:
            return self._judged(body, portrait)
        fits = portrait.nearest is not None and body.signed is not None and body.inside is not None
        signed = body.signed if self._scene.shown.colours and fits else None
        full = tolerance.deviation * self._scene.shown.range
        made_of = (portrait, signed, chosen, body.colour, tolerance, full)

        def faces() -> Layer:
            return face_layer(portrait, signed, chosen, body.colour, tolerance.deviation, full)

        result = {body.id: self._scene.cached(body.id, made_of, faces)}
        lines = edge_layer(portrait.shape) if portrait.shape.edge_points.size else None
        if lines is not None:
            key = f"{body.id} edges"
            result[key] = self._scene.cached(key, (portrait.shape,), lambda: lines)
        return result

    def _judged(self, body: Body, portrait: BodyPortrait) -> dict[str, Layer]:
        """Return a body as it is judged, plain where that is not known yet."""
        name, sights = self._scene.shown.judging, self._scene.sights
        fine = self.judged_portrait(body)
        portrait = fine or portrait
        way, scale = JUDGINGS[name], sights.scale()
        values = None if fine is None else sights.of_body(body, fine)

        def make() -> Layer:
            picture, places = None, None
            tint = np.tile(rgb(now().bodies), (len(portrait.vertices), 1))
            if way.light is not None:
                # Looked up by the normal at each pixel: triangles do not show.
                tint = np.ones_like(tint)
                picture = sights.mirror_picture()
                places = places_in_mirror(portrait.normals, sights.eye)
            elif values is not None:
                tint = shades(name, values, scale)
            data = triangle_data(portrait.vertices, portrait.triangles, portrait.normals, places)
            paint(data, colours.as_bytes(tint))
            return Layer(data, spots=picture)

        made_of = (portrait, name, scale, sights.eye if way.moves else None, values is None)
        faces = self._scene.cached(body.id, made_of, make)
        if values is None or not sights.scaling.contours:
            return {body.id: faces}
        key = f"{body.id} contours"

        def lines() -> Layer:
            cut = level_data(faces.data, values, contour_levels(scale))
            return Layer(cut, line=now().ink, lift=CONTOUR_LIFT)

        return {body.id: faces, key: self._scene.cached(key, made_of, lines)}

    def judged_portrait(self, body: Body) -> BodyPortrait | None:
        """Return a body's portrait with triangles fine enough for what it mirrors; None while it is
        being made."""
        shape, work = body.shape, self._scene.session.work
        known = self._fine.get(body.id)
        if known is not None and known.shape is shape:
            return known

        def done(made: BodyPortrait) -> None:
            self._fine[body.id] = made
            self._scene.ready.emit()

        if len(shape.triangles) and work.find(body.id, "fine portrait") is None:
            work.start(body.id, "fine portrait", "", lambda *_: fine_portrait(shape), done)
        return None

    def water(self, item: Floating) -> dict[str, Layer]:
        """Return the water that a body floats in, while it is chosen."""
        lying = item.lying
        if lying is None or item.id not in (self._scene.session.choice.item, self._fresh()):
            return {}
        water, line = water_layers(lying)
        result = {item.id: self._scene.cached(item.id, (lying,), lambda: water)}
        if line is not None:
            key = f"{item.id} line"
            result[key] = self._scene.cached(key, (lying,), lambda: line)
        return result

    def _fresh(self) -> ItemId | None:
        """Return the id of what a card would add."""
        return next((each for each in self._scene.session.shown.items if each not in
                     self._scene.session.job.items), None)  # fmt: skip
