"""The part of a patch's card that says how each border goes on from its neighbour."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.edits.patches import set_joint
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, label
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.fit.patch.meet import CONTINUITIES, Continuity
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.job.edits.patches import border_of, neighbours_of
from usual_clay.job.items import Curve, Surface

TIPS = {
    "G0": "It only takes the border",
    "G1": "One tangent plane with the surface on the other side",
    "G2": "One curvature with it, too",
}


class JointRows(QWidget):
    """One line a border: its name, and G0, G1 or G2; below, how well that came out."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._measured: dict[int, tuple[tuple[int, int], str]] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.rows, self.grades, self.words = [], [], []
        for side in range(4):
            grade = Choice([(word, TIPS[word]) for word in CONTINUITIES])
            grade.chosen.connect(partial(self._set, side))
            row, words = Row("", grade), label(role="small", wraps=True)
            column.addWidget(row)
            column.addWidget(words)
            self.rows.append(row)
            self.grades.append(grade)
            self.words.append(words)

    def _set(self, side: int, grade: Continuity) -> None:
        surface = self.session.choice.surface()
        if surface is not None:
            set_joint(self.session, surface, side, grade)

    def show_surface(self, surface: Surface) -> None:
        """Show the joints of a patch."""
        recipe, job = surface.recipe, self.session.shown
        assert recipe is not None
        for side in range(4):
            border = border_of(job, surface, side)
            other = job.get(neighbours_of(recipe)[side], Surface)
            together = any(ribbon.border == side for ribbon in recipe.settings.ribbons)
            if together and border is not None:
                other = self._beyond(surface, border)
            name = "gone" if border is None else border.name
            shown = self.rows[side].name
            shown.setText(
                shown.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, shown.width())
            )
            shown.setToolTip(name)
            self.grades[side].set_value("G1" if together else recipe.settings.joints[side])
            self.grades[side].setEnabled(not surface.locked)
            self.words[side].setVisible(other is not None and border is not None)
            if other is not None and border is not None:
                self.words[side].setText(self._judged(side, surface, other, border, together))

    def _beyond(self, surface: Surface, border: Curve) -> Surface | None:
        """Return the patch on the other side of a border that both were solved over."""
        for other in self.session.shown.all(Surface):
            settings = other.made_by(PatchSettings)
            if other.id == surface.id or settings is None or other.recipe is None:
                continue
            borders = other.recipe.all("borders")
            if any(borders[ribbon.border] == border.id for ribbon in settings.ribbons):
                return other
        return None

    def _judged(
        self, side: int, surface: Surface, other: Surface, border: Curve, together: bool
    ) -> str:
        made_of = (id(surface.geometry), id(other.geometry))
        known = self._measured.get(side)
        if known is None or known[0] != made_of:
            words = edge_joint(surface.geometry, other.geometry, border.geometry).words
            how = "together with" if together else "on from"
            known = (made_of, f"{how} {other.name}: {words}")
            self._measured[side] = known
        return known[1]
