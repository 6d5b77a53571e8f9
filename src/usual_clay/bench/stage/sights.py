"""By what surfaces and bodies are judged just now: from where, and by which scale."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import replace
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from usual_clay.bench.camera import Camera
from usual_clay.bench.stage.body_layers import BodyPortrait
from usual_clay.bench.stage.judging import (
    JUDGINGS,
    Eye,
    Scaling,
    bends_of,
    mirror_picture,
    scale_of,
)
from usual_clay.bench.stage.kept import drop, same
from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Floats
from usual_clay.core.body.bending import bent_at
from usual_clay.core.check.curvature import Bent
from usual_clay.core.check.reflection import Mirror
from usual_clay.core.check.thickness import wall_thickness
from usual_clay.core.progress import Progress
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.job.items import Body, ItemId, Surface


class Sights:
    """How what the scene shows bends, kept while it stays the same."""

    def __init__(self, scene: Any) -> None:
        self._scene = scene
        self._bends: dict[ItemId, tuple[object, Bent]] = {}
        # A body's walls, or how it bends, with the portrait that it is known at the vertices of.
        self._of_bodies: dict[tuple[ItemId, str], tuple[BodyPortrait, Any]] = {}
        self._asked: dict[tuple[ItemId, str], BodyPortrait] = {}
        # Of each way to look: two views may have one each.
        self._scales: dict[str, tuple[tuple, tuple[float, float]]] = {}
        self._mirrored: dict[str, tuple[tuple, np.ndarray]] = {}
        # What is mirrored follows the eye when a view comes to rest.
        self.eye = Eye()
        # Each way to look has a scale of its own.
        self._scalings: dict[str, Scaling] = {}

    def forget(self) -> None:
        """Let go of everything that was worked out."""
        self._bends.clear()
        self._of_bodies.clear()
        self._asked.clear()
        self._scales.clear()

    def keep(self, ids: Container[ItemId], judged: Container[ItemId]) -> None:
        """Let go of what was worked out of other bodies, and of surfaces that are not judged."""
        drop(self._bends, judged)
        drop(self._of_bodies, [key for key in self._of_bodies if key[0] in ids])

    @property
    def scaling(self) -> Scaling:
        return self._scalings.get(self._scene.shown.judging, Scaling())

    def set_scaling(self, scaling: Scaling) -> None:
        self._scalings[self._scene.shown.judging] = scaling
        self._scene.ready.emit()

    def set_mirror(self, mirror: Mirror) -> None:
        self.eye = replace(self.eye, mirror=mirror)
        self._scene.ready.emit()

    def turn_lamp(self, by: Rotation) -> None:
        """Turn the lamp, and its lines with it."""
        mirror = self.eye.mirror
        turn = (by * Rotation.from_rotvec(mirror.turn)).as_rotvec()
        x, y, z = (float(each) for each in turn)
        self.set_mirror(replace(mirror, turn=(x, y, z)))

    def hold_lamp(self) -> None:
        """Take the lamp in hand, to be moved on the stage."""
        self._scene.session.hand.take("lamp")

    def bends(self, surface: Surface) -> Bent:
        """Return how a surface bends at its spots; kept while it stays the same."""
        known = self._bends.get(surface.id)
        if known is None or known[0] is not surface.geometry:
            known = (surface.geometry, bends_of(surface.geometry))
            self._bends[surface.id] = known
        return known[1]

    def of_body(self, body: Body, portrait: BodyPortrait) -> Floats | None:
        """Return a body's figures at the vertices of its portrait; None until they are known."""
        way = JUDGINGS[self._scene.shown.judging]
        if way.by_normal is not None:
            return way.by_normal(portrait.normals)
        if way.light is not None:
            return None
        key = body.id, "walls" if way.walls else "bends"
        known = self._of_bodies.get(key)
        if known is None or known[0] is not portrait:
            self._work_out(key, portrait)
            return None
        return known[1] if way.value is None else way.value(known[1])

    def _work_out(self, key: tuple[ItemId, str], portrait: BodyPortrait) -> None:
        """Have a body's walls, or how it bends, worked out once, off the interface's thread."""
        if self._asked.get(key) is portrait:
            return
        self._asked[key] = portrait

        def task(progress: Progress, _partial: object) -> Floats | Bent:
            at = portrait.vertices, portrait.normals
            if key[1] == "walls":
                return wall_thickness(*at, portrait.tree)
            assert portrait.faces is not None
            return bent_at(portrait.shape, *at, portrait.faces, progress)

        def done(found: Any) -> None:
            self._of_bodies[key] = portrait, found
            self._scene.ready.emit()

        words = "Measuring walls" if key[1] == "walls" else "Looking how bodies bend"
        self._scene.session.work.start(*key, words, task, done)

    def scale(self) -> tuple[float, float]:
        """Return the ends of the scale by which all that is visible is judged."""
        name = self._scene.shown.judging
        if not name or JUDGINGS[name].light is not None:
            return 0.0, 1.0
        seen = [item for item in self._scene.seen() if isinstance(item, Surface | Body)]
        shapes = [each.geometry if isinstance(each, Surface) else each.shape for each in seen]
        fine = (self._scene.bodies.judged_portrait(each) for each in seen if isinstance(each, Body))
        made_of = (self.scaling, *shapes, *fine, *self._of_bodies.values())
        known = self._scales.get(name)
        if known is None or not same(known[0], made_of):
            values, areas = [], []
            for item in seen:
                found = self._figures(item)
                if found is not None:
                    values.append(found[0])
                    areas.append(found[1])
            known = self._scales[name] = made_of, scale_of(name, values, areas, self.scaling)
        return known[1]

    def _figures(self, item: Surface | Body) -> tuple[Floats, Floats] | None:
        """Return an item's figures, and how much of its area each stands for."""
        if isinstance(item, Surface):
            found = self.bends(item)
            values = JUDGINGS[self._scene.shown.judging].of_surface(found)
            return None if values is None else (values, found.area)
        portrait = self._scene.bodies.judged_portrait(item)
        values = None if portrait is None else self.of_body(item, portrait)
        if portrait is None or values is None:
            return None
        mesh = TriangleMesh(portrait.vertices, portrait.triangles)
        return values, np.maximum(mesh.vertex_areas, 1e-12)

    def mirror_picture(self) -> np.ndarray:
        """Return what bodies mirror, by their normals; the same one for all of them."""
        name, made_of = self._scene.shown.judging, (self.eye, now())
        known = self._mirrored.get(name)
        if known is None or not same(known[0], made_of):
            known = self._mirrored[name] = made_of, mirror_picture(name, self.eye)
        return known[1]

    def look_from(self, camera: Camera) -> None:
        """Let what is mirrored follow the eye."""
        mirrors = any(name and JUDGINGS[name].moves for name in self._scene.looks)
        if mirrors and max(
            np.abs(self.eye.to_eye + camera.sight).max(), np.abs(self.eye.up - camera.up).max()
        ) <= 1e-9:  # fmt: skip
            return
        self.eye = replace(self.eye, to_eye=-camera.sight, up=camera.up)
        if mirrors:
            self._scene.ready.emit()
