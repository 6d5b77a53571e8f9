"""The page of a curve's card on which it is judged: comb, joints, distances."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget
from scipy.spatial import cKDTree

from usual_clay.bench.edits.shaping import take_out
from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, Slide, button, combo, fill, label, number
from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import comb_of, in_words
from usual_clay.core.fit.curve.fair import Spare, can_go
from usual_clay.core.scan.closest import MeshTree, tree_of
from usual_clay.core.spline.curve import curve_points
from usual_clay.core.spline.parts import distance_between
from usual_clay.core.spline.surface import sample_parameters
from usual_clay.job.items import Curve, PointList, Scan
from usual_clay.job.joints import joints_of

ENDS = ("start", "end")
MOST_JOINTS = 4
FINE = 48


def which_can_go(spare: Spare, tolerance: float) -> str:
    """Name the control points that can go, counted from 1: the exact ones first."""
    parts = [
        f"{', '.join(str(k + 1) for k in sorted(which))} {how}"
        for which, how in (
            (spare.exactly, "without any change"),
            (spare.nearly, f"within {tolerance:g} mm"),
        )
        if which
    ]
    return f" Points that can go: {'; '.join(parts)}." if parts else ""


class JudgingPage(Guarded, QWidget):
    """All of it follows live while the curve is dragged."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._comb: tuple[object, str] = (None, "")
        self._spare: tuple[object, Spare | None] = (None, None)
        self._tree: tuple[object, MeshTree | None] = (None, None)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.comb = Slide(0, 3, 0.1, tip="Length of the comb's quills; 0 hides them", name="Comb")
        self.comb.changed.connect(session.sight.set_comb)
        self.density = Slide(0.2, 4, 0.1, tip="How dense the quills stand", name="Comb density")
        self.density.changed.connect(
            lambda value: session.sight.set_comb(session.sight.comb_scale, value)
        )
        column.addWidget(Row("Comb", self.comb, stretch=0))
        column.addWidget(Row("Density", self.density, stretch=0))
        self.reading = label(role="news", wraps=True)
        column.addWidget(self.reading)
        self.go = button(
            "Take them out",
            "Take out the control points that the curve can do without",
            clicked=self._take_out,
        )
        column.addWidget(self.go)
        self.joints = label(wraps=True)
        column.addWidget(self.joints)
        self.other = combo("What the distance is measured to")
        self.other.currentIndexChanged.connect(lambda _index: self._again())
        self.least = number(
            0, 1e4, 3, " mm", "Say so where it comes nearer than this", "Keep at least", 90
        )
        self.least.valueChanged.connect(lambda _value: self._again())
        column.addWidget(Row("Distance to", self.other, stretch=0))
        column.addWidget(Row("Keep at least", self.least))
        self.distance = label(role="news", wraps=True)
        self.too_near = label(role="trouble", wraps=True)
        column.addWidget(self.distance)
        column.addWidget(self.too_near)

    def _again(self) -> None:
        if (curve := self.session.shown.get(self.session.choice.item, Curve)) is not None:
            self._show_distance(curve)
            self.session.hand.changed.emit()

    def refresh(self, curve: Curve) -> None:
        session = self.session
        self.comb.set_value(session.sight.comb_scale)
        self.density.set_value(session.sight.comb_density)
        if self._comb[0] is not curve.geometry:
            self._comb = (curve.geometry, in_words(comb_of(curve.geometry)))
        words = self._comb[1]
        spare = self._spare[1] if self._spare[0] is curve.geometry else None
        tolerance = session.job.tolerance.deviation
        told = "" if spare is None else which_can_go(spare, tolerance)
        self.reading.setText(f"{words[:1].upper()}{words[1:]}.{told}")
        self.go.setVisible(bool(told))
        if not self.isVisible():
            return
        if session.shown is session.job and self._spare[0] is not curve.geometry:
            self._ask_spare(curve)
        found = joints_of(session.shown, curve)
        lines = [
            f"{ENDS[joint.ends[0]].capitalize()}, {other.name}: {joint.words}"
            for other, joint in found[:MOST_JOINTS]
        ]
        if len(found) > MOST_JOINTS:
            lines.append(f"and {len(found) - MOST_JOINTS} more")
        self.joints.setText("\n".join(lines))
        self.joints.setVisible(bool(lines))
        others = [
            item
            for kind in (Curve, PointList, Scan)
            for item in session.job.all(kind)
            if item.id != curve.id
        ]
        self.other.blockSignals(True)
        fill(self.other, others, "nothing")
        self.other.blockSignals(False)
        self._show_distance(curve)

    def showEvent(self, _event: object) -> None:
        if (curve := self.session.shown.get(self.session.choice.item, Curve)) is not None:
            self.refresh(curve)

    def _ask_spare(self, curve: Curve) -> None:
        """Find out in the background how many control points could go."""
        geometry = curve.geometry
        self._spare = (geometry, None)
        tolerance = self.session.job.tolerance.deviation

        def came(spare: Spare) -> None:
            self._spare = (geometry, spare)
            if (curve := self.session.shown.get(self.session.choice.item, Curve)) is not None:
                self.refresh(curve)

        self.session.work.start(
            curve.id, "points that can go", "", lambda *_: can_go(geometry, tolerance), came
        )

    def _take_out(self) -> None:
        curve = self.session.shown.get(self.session.choice.item, Curve)
        geometry, spare = self._spare
        if curve is not None and spare is not None and curve.geometry is geometry:
            take_out(self.session, curve, spare)

    def _show_distance(self, curve: Curve) -> None:
        found = self._distance(curve)
        self.distance.setVisible(found is not None)
        self.too_near.setVisible(False)
        if found is None:
            return
        least, most, pair = found
        self.distance.setText(f"Least {least:.3f} mm, most {most:.3f} mm.")
        # Set without telling: what draws it is told by whoever changed the curve.
        self.session.sight.lit = [pair]
        limit = self.least.value()
        if 0 < least < limit:
            self.too_near.setText(f"Nearer than {limit:g} mm, by {limit - least:.3f} mm.")
            self.too_near.setVisible(True)

    def _distance(self, curve: Curve) -> tuple[float, float, Floats] | None:
        other: Any = self.session.shown.items.get(self.other.currentData() or "")
        if isinstance(other, Curve):
            found = distance_between(curve.geometry, other.geometry)
            return found.least, found.most, found.at_least
        line = curve_points(curve.geometry, sample_parameters(curve.geometry.knots, FINE))
        if isinstance(other, PointList):
            points = other.points[other.kept]
            away, nearest = cKDTree(line).query(points)
            at = int(np.argmin(away))
            return float(away[at]), float(away.max()), np.stack([line[nearest[at]], points[at]])
        if isinstance(other, Scan):
            tree = self._tree_of(other)
            if tree is None:
                return None
            away, _, feet = tree.nearest(line)
            at = int(np.argmin(away))
            return float(away[at]), float(away.max()), np.stack([line[at], feet[at]])
        return None

    def _tree_of(self, scan: Scan) -> MeshTree | None:
        """Return a scan's search tree; it is made in the background the first time."""
        if self._tree[0] is not scan.mesh:
            mesh = scan.mesh
            self._tree = (mesh, None)

            def came(tree: MeshTree) -> None:
                self._tree = (mesh, tree)
                self._again()

            self.session.work.start(
                scan.id,
                "search tree",
                "Making ready to measure",
                lambda *_: tree_of(mesh),
                came,
            )
        return self._tree[1]
