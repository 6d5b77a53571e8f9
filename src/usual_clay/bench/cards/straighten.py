"""Setting a scan straight: by points, shapes, its own axes, its symmetry, or onto others."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from usual_clay.bench.cards.paged import PagedCard
from usual_clay.bench.edits.scans import ask, move_scan
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, button, combo, fill, label
from usual_clay.core.arrays import Floats
from usual_clay.core.scan.motion import (
    Motion,
    MotionError,
    by_plane_and_direction,
    by_principal_axes,
    by_symmetry,
    by_three_points,
)
from usual_clay.core.scan.register import Registered, by_pairs, settle_onto
from usual_clay.core.scan.symmetry import MirrorPlane, mirror_plane
from usual_clay.job.items import Item, PointList, Scan, Shape

POINTS_HINT = (
    "<b>Click</b> three points of the scan: the first goes to the origin, the second onto x, the"
    " third into the xy plane. <b>Drag</b> a mark to move it."
)
PAIRS_HINT = (
    "<b>Click</b> a point of the scan, then where it belongs; three pairs or more."
    " <b>Drag</b> a mark to move it."
)
# A mirror plane that leaves more than this share of the size is none.
UNLIKE = 0.01


class StraightenCard(PagedCard):
    """Five ways to bring a scan into the job's own frame."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(
            session,
            "Set straight",
            (
                (
                    "symmetry",
                    "By the plane of mirror symmetry, which is found",
                    self._build_symmetry,
                ),
                ("points", "By three points picked on the scan", self._build_points),
                (
                    "shapes",
                    "A plane to the ground, a direction to x, a point to the origin",
                    self._build_shapes,
                ),
                ("axes", "By its principal axes", self._build_axes),
                ("onto", "Onto another scan, points or a picture", self._build_onto),
            ),
        )
        self._done = done
        self.told = label(role="news", wraps=True)
        self.told.hide()
        self.column.addWidget(self.told)
        self.column.addWidget(button("Close", "Back to the scan (Esc)", clicked=self.cancel))
        self.column.addStretch(1)

    # ---- pages ---------------------------------------------------------------------------

    def _build_symmetry(self, column: QVBoxLayout) -> None:
        column.addWidget(
            label(
                "Looks for the plane in which the scan is its own mirror image, and"
                " takes it to y = 0.",
                "soft",
                True,
            )
        )
        column.addWidget(
            button(
                "Find it and set straight",
                "Mirror plane to y = 0, longest direction to x",
                "main",
                clicked=self._symmetry,
            )
        )

    def _build_points(self, column: QVBoxLayout) -> None:
        column.addWidget(
            label("Three points: to the origin, onto x, into the xy plane.", "soft", True)
        )
        self.pick = button(
            "Pick three points", "Click them on the scan", clicked=lambda: self._ask(3, POINTS_HINT)
        )
        self.by_points = button(
            "Set straight", "Move the scan by the three points", "main", clicked=self._points
        )
        self.add_buttons(self.pick, self.by_points, into=column)

    def _build_shapes(self, column: QVBoxLayout) -> None:
        self.ground = combo("Plane to the ground, z = 0")
        self.direction = combo("Axis or normal to x")
        self.origin = combo("Middle to the origin")
        column.addWidget(Row("Ground", self.ground, stretch=0))
        column.addWidget(Row("Along x", self.direction, stretch=0))
        column.addWidget(Row("Origin", self.origin, stretch=0))
        column.addWidget(
            button("Set straight", "Move the scan by these shapes", "main", clicked=self._shapes)
        )

    def _build_axes(self, column: QVBoxLayout) -> None:
        words = "Its middle goes to the origin, its longest axis to x, its shortest to y."
        column.addWidget(label(words, "soft", True))
        column.addWidget(
            button("Set straight", "Move the scan by its axes", "main", clicked=self._axes)
        )

    def _build_onto(self, column: QVBoxLayout) -> None:
        column.addWidget(
            label(
                "Pairs bring it near: a point of the scan, then where it belongs on"
                " another scan, a point or a picture.",
                "soft",
                True,
            )
        )
        self.pair = button(
            "Pick pairs",
            "Click scan, target, scan, target ...",
            clicked=lambda: self._ask(40, PAIRS_HINT),
        )
        self.by_pairs = button(
            "Move by pairs", "Bring the pairs together", "main", clicked=self._pairs
        )
        self.add_buttons(self.pair, self.by_pairs, into=column)
        self.target = combo("What the scan is settled onto")
        column.addWidget(Row("Settle onto", self.target, stretch=0))
        self.settle = button(
            "Settle",
            "Move the scan to where it lies nearest; it must be near",
            clicked=self._settle,
        )
        column.addWidget(self.settle)

    # ---- what is done --------------------------------------------------------------------

    def accept(self) -> None:
        self.cancel()

    def cancel(self) -> None:
        self.session.hand.mark(None)
        self.told.hide()
        self._done()

    def _scan(self) -> Scan | None:
        return self.session.job.get(self.session.choice.item, Scan)

    def _say(self, words: str) -> None:
        self.told.setText(words)
        self.told.show()

    def _move(self, motion: Motion, words: str) -> None:
        if (scan := self._scan()) is not None:
            move_scan(self.session, scan, motion, words)
            self.session.hand.mark(None)

    def _ask(self, most: int, hint: str) -> None:
        if (scan := self._scan()) is not None and self.session.may_change(scan):
            self.session.hand.mark(Marking(hint, most))

    def _try(self, make: Callable[[], Motion], words: str) -> None:
        try:
            self._move(make(), words)
        except MotionError as error:
            self.session.told.emit("trouble", f"The scan was not moved: {error}.")

    def _symmetry(self) -> None:
        if (scan := self._scan()) is None or not self.session.may_change(scan):
            return
        mesh = scan.mesh

        def done(plane: MirrorPlane) -> None:
            size = float(np.linalg.norm(np.ptp(mesh.box, axis=0)))
            words = f"asymmetry {plane.asymmetry:.3f} mm rms"
            if plane.asymmetry > UNLIKE * size:
                share = 100 * plane.asymmetry / size
                self._say(
                    f"No plane of symmetry: the best one leaves {plane.asymmetry:.2f} mm rms,"
                    f" {share:.1f} % of the size. The scan stays."
                )
                return
            self._move(by_symmetry(mesh, plane), "symmetry")
            self._say(f"Its plane of symmetry is now y = 0; {words}.")

        ask(
            self.session,
            scan.id,
            "symmetry",
            "Looking for symmetry",
            lambda: mirror_plane(mesh),
            done,
        )

    def _points(self) -> None:
        if (marking := self.session.hand.marking) is not None:
            self._try(lambda: by_three_points(marking.points), "three points")

    def _axes(self) -> None:
        if (scan := self._scan()) is not None:
            self._try(lambda: by_principal_axes(scan.mesh), "principal axes")

    def _shapes(self) -> None:
        if (scan := self._scan()) is None:
            return
        ground, along, origin = (
            self.session.job.get(part.currentData(), Shape)
            for part in (self.ground, self.direction, self.origin)
        )
        if ground is None and along is None and origin is None:
            self.session.told.emit("trouble", "Choose a shape for at least one of the three.")
            return
        up = None if ground is None else _towards(ground.geometry.axis, 2)
        point = None if origin is None else origin.geometry.point
        if point is None and ground is not None:
            point = ground.geometry.point
        direction = None if along is None else _towards(along.geometry.axis, 0)
        middle = scan.mesh.box.mean(axis=0)
        self._try(lambda: by_plane_and_direction(up, direction, point, middle), "shapes")

    def _pairs(self) -> None:
        if (marking := self.session.hand.marking) is None:
            return
        count = len(marking.places) // 2 * 2
        points = marking.points[:count]
        try:
            found = by_pairs(points[::2], points[1::2])
        except MotionError as error:
            self.session.told.emit("trouble", f"The scan was not moved: {error}.")
            return
        self._move(found.motion, "pairs")
        self._say(f"{count // 2} pairs brought together to {found.rms:.3f} mm rms.")

    def _settle(self) -> None:
        scan = self._scan()
        target = self.session.job.items.get(self.target.currentData() or "")
        if scan is None or target is None or not self.session.may_change(scan):
            return

        def done(found: Registered) -> None:
            if self._scan() is not scan:
                return
            motion = found.motion if isinstance(target, Scan) else found.motion.inverse
            self._move(motion, f"onto {target.name}")
            self._say(
                f"Settled onto {target.name}: {found.rms:.3f} mm rms, 95 % within"
                f" {found.p95:.3f} mm."
            )

        ask(
            self.session,
            scan.id,
            "settle",
            f"Settling onto {target.name}",
            lambda: _settled(scan, target),
            done,
        )

    # ---- showing -------------------------------------------------------------------------

    def refresh(self) -> None:
        scan = self._scan()
        self.about.setText("Choose a scan in the Shelf." if scan is None else scan.name)
        marking = self.session.hand.marking
        count = 0 if marking is None else len(marking.places)
        self.by_points.setEnabled(count == 3)
        self.by_pairs.setEnabled(count >= 6)
        shapes = list(self.session.job.all(Shape))
        for part, kinds in ((self.ground, ("plane",)), (self.direction, None), (self.origin, None)):
            fill(part, [s for s in shapes if kinds is None or s.geometry.kind in kinds], "as it is")
        job = self.session.job
        lists = [points for points in job.all(PointList) if len(points.kept) > 5]
        fill(self.target, [*(s for s in job.all(Scan) if s is not scan), *lists], "")
        self.settle.setEnabled(self.target.count() > 0 and scan is not None)


def _settled(scan: Scan, target: Item) -> Registered:
    """Settle a scan onto another, or find how points settle onto the scan."""
    if isinstance(target, Scan):
        return settle_onto(scan.mesh.vertices, target.mesh)
    assert isinstance(target, PointList)
    return settle_onto(target.points[target.kept], scan.mesh)


def _towards(axis: Floats, world: int) -> Floats:
    """Point an axis the way that the world's does, so that the scan turns the shorter way."""
    return axis if axis[world] >= 0 else -axis
