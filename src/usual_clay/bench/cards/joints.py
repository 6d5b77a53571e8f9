"""The card of all joints: each by its class and its figures; a click flies to where it is worst."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.patches import solve_patches
from usual_clay.bench.session import Session
from usual_clay.bench.sight import Sign
from usual_clay.bench.widgets import Choice, Row, button, combo, label, number
from usual_clay.core.check.joints import G0_GAP, GRADES, FoundJoint, find_joints
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.progress import Progress, stretch
from usual_clay.job.checking import checked_items, faces_in
from usual_clay.job.items import Surface

OWNER = "joints"
# So many rows are shown, the worst first.
MOST = 24
WIDE = 290
# By what rows are sorted: its word, what it means, and its figure of a joint, the worst greatest.
ORDERS: dict[str, tuple[str, Callable[[FoundJoint], float]]] = {
    "class": ("The class that is reached", lambda each: -GRADES.index(each.grade)),
    "gap": ("How far they are apart", lambda each: each.gap),
    "angle": ("Between the tangent planes", lambda each: each.angle),
    "step": ("Of curvature", lambda each: each.step),
    "length": ("How long they run beside each other", lambda each: each.length),
}
TIPS = ("They touch", "One tangent plane", "One curvature", "One change of curvature")


class JointsCard(Card):
    """Measured anew whenever something changes; what falls short can be matched."""

    def __init__(self, session: Session, begin: Callable[[str], None], done: Callable[[], None]):
        super().__init__(session, "Joints")
        self._begin, self._done = begin, done
        self._shown: tuple[object, ...] = ()
        self.joints: list[FoundJoint] = []
        self.about.setText("Between all visible surfaces and bodies.")
        self._wanted, self._limit = "G1", 0.2
        self.wanted = Choice(list(zip(GRADES[1:], TIPS, strict=True)))
        self.wanted.set_value(self._wanted)
        self.wanted.chosen.connect(self._want)
        self.order = combo("By what the rows are sorted")
        for place, (word, (tip, _)) in enumerate(ORDERS.items()):
            self.order.addItem(word)
            self.order.setItemData(place, tip, Qt.ItemDataRole.ToolTipRole)
        self.order.currentTextChanged.connect(lambda _order: self._show())
        self.limit = number(0.001, 50, 3, " mm", "Faces no farther apart have a joint", "Within")
        self.limit.setValue(self._limit)
        self.limit.valueChanged.connect(self._set_limit)
        self.column.addWidget(Row("Wanted", self.wanted))
        self.column.addWidget(Row("Within", self.limit))
        self.column.addWidget(Row("Sorted by", self.order))
        self.add_say()
        self._rows = QVBoxLayout()
        self._rows.setSpacing(1)
        self.column.addLayout(self._rows)
        self.rows: list[QWidget] = []
        self.mend = button(
            "Match ...", "Match the border of one surface of the chosen joint to the other",
            clicked=partial(self._begin_with, "task match surface"),
        )  # fmt: skip
        self.blend = button(
            "Blend ...", "Fill the gap of the chosen joint with a surface smooth to both",
            clicked=partial(self._begin_with, "task blend"),
        )  # fmt: skip
        self.solve = button(
            "Solve together", "Solve both patches of the chosen joint again, smooth over it",
            clicked=self._solve,
        )  # fmt: skip
        self._chosen: FoundJoint | None = None
        self.pin_buttons(button("Close", "Put it away (Esc)", clicked=self.cancel),
                         self.mend, self.blend, self.solve)  # fmt: skip
        self._show_mends()
        self.column.addStretch(1)

    def offer(self) -> None:
        """Measure all joints of what is visible."""
        self._shown = ()
        self.refresh()

    def refresh(self) -> None:
        items = checked_items(self.session.shown)
        shapes = [item.geometry if isinstance(item, Surface) else item.shape for item in items]
        shown = (self._limit, *map(id, shapes), *(item.name for item in items))
        if shown == self._shown or not self.isVisible():
            return
        self._shown = shown
        limit = self._limit

        def task(progress: Progress, _partial: object) -> list[FoundJoint]:
            progress(0.0, "Looking for joints")
            return find_joints(faces_in(items), limit, stretch(progress, 0.2, 1.0))

        def came(found: list[FoundJoint]) -> None:
            if self._shown is shown:
                self.joints = found
                self._choose_again()
                self._show()

        if not items:
            self.joints = []
            self._choose_again()
            self._show()
            return
        self.say("Measuring ...", "")
        self.session.work.start(
            OWNER, "measure", "Measuring joints", task, came, failed=self.say_failed, asked=True
        )

    def _want(self, grade: str) -> None:
        self._wanted = grade
        self.wanted.set_value(grade)
        self._show()

    def _set_limit(self, value: float) -> None:
        self._limit = value
        self.refresh()

    def _falls_short(self, joint: FoundJoint) -> bool:
        return GRADES.index(joint.grade) < GRADES.index(self._wanted)

    def _show(self) -> None:
        short = [joint for joint in self.joints if self._falls_short(joint)]
        if not self.joints:
            words = "Nothing lies beside anything else within that distance."
        else:
            many = f"{len(self.joints)} joints" if len(self.joints) > 1 else "1 joint"
            words = f"{many}, {len(short)} short of {self._wanted}. A click flies there."
        self.say(words, "")
        for row in self.rows:
            row.deleteLater()
        self.rows = []
        order = self.order.currentText()
        figure = ORDERS[order][1]
        for joint in sorted(self.joints, key=figure, reverse=True)[:MOST]:
            self._add(self._row(joint))
        if len(self.joints) > MOST:
            words = "shorter" if order == "length" else "better"
            self._add(label(f"and {len(self.joints) - MOST} {words} ones", role="small"))
        self._show_mends()
        wanted = self._wanted
        self.session.sight.grade([(each.points, each.short_of(wanted)) for each in self.joints])

    def _add(self, row: QWidget) -> None:
        self.rows.append(row)
        self._rows.addWidget(row)

    def _row(self, joint: FoundJoint) -> QWidget:
        between = " and ".join(joint.between)
        figures = (
            f"gap {joint.gap:.3f} mm, {np.degrees(joint.angle):.2f}°, step {joint.step:.3f} /mm"
        )
        if self._wanted == "G3":
            figures = f"step {joint.step:.4f} /mm, flow {joint.flow:.5f} /mm²"
        means = (
            f"in the mean gap {joint.mean_gap:.4f} mm, {np.degrees(joint.mean_angle):.3f}°, step"
            f" {joint.mean_step:.4f} /mm, flow {joint.mean_flow:.5f} /mm²"
        )
        told = f"{between}: at most {figures}; {means}; over {joint.length:.1f} mm"
        row = button("", told, role="row", clicked=partial(self._fly, joint))
        mark = "short" if self._falls_short(joint) else "as wanted"
        lines = (f"{joint.grade}  {between}", f"      {figures}")
        metrics, cut = row.fontMetrics(), Qt.TextElideMode.ElideRight
        first, second = (metrics.elidedText(line, cut, WIDE) for line in lines)
        row.setText(f"{first}\n{second}")
        row.setAccessibleName(f"{joint.grade}, {between}, {figures}, {mark}")
        return row

    def _fly(self, joint: FoundJoint) -> None:
        self._choose(joint)
        self._show_mends()
        self.session.sight.wanted.emit(joint.at)

    def _choose(self, joint: FoundJoint | None) -> None:
        self._chosen = joint
        signs = [] if joint is None else [Sign(joint.grade, joint.at[None], ring=True)]
        self.session.sight.show_signs(signs)

    def _choose_again(self) -> None:
        """Choose what has become of the chosen joint: the nearest one of the same two."""
        was = self._chosen
        if was is not None:
            same = [each for each in self.joints if each.between == was.between]
            away = [float(np.linalg.norm(each.points - was.at, axis=1).min()) for each in same]
            self._choose(same[int(np.argmin(away))] if same else None)

    def _surfaces(self) -> list[Surface]:
        """Return the two surfaces of the chosen joint where it falls short; none of bodies."""
        joint = self._chosen
        if joint is None or not self._falls_short(joint):
            return []
        there = {item.name: item for item in self.session.job.all(Surface) if item.visible}
        found = [there[name] for name in joint.between if name in there]
        return found if len(found) == 2 else []

    def _show_mends(self) -> None:
        """Offer what can mend the chosen joint."""
        joint, two = self._chosen, self._surfaces()
        gap, grade = (joint.gap, joint.grade) if joint is not None and two else (0.0, "")
        self.mend.setEnabled(bool(two))
        self.blend.setVisible(gap > G0_GAP)
        # Solving them together brings one tangent plane, and no more.
        patches = all(each.made_by(PatchSettings) for each in two)
        self.solve.setVisible(patches and grade in ("open", "G0"))

    def _begin_with(self, task: str) -> None:
        """Begin a task with the two surfaces of the chosen joint."""
        first, second = self._surfaces()
        self.session.choice.choose(first.id)
        self.cancel()
        self._begin(task)
        self.session.hand.offered.emit(second.id)

    def _solve(self) -> None:
        solve_patches(self.session, self._surfaces()[0])

    def cancel(self) -> None:
        self.session.work.drop(OWNER)
        self.session.sight.show_signs([])
        self.session.sight.grade([])
        self._shown = ()
        self._done()
