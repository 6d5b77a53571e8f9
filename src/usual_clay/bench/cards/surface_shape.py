"""The page of a surface's card on which its control points are shaped by hand."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Figures
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.shaping import set_weight
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, combo, fill, label, number
from usual_clay.job.edits.judging import watching
from usual_clay.job.edits.surfaces import line_removal
from usual_clay.job.items import Region, Scan, Surface

PICKS = (
    ("point", "A click chooses one control point"),
    ("row", "The points with the same u"),
    ("column", "The points with the same v"),
)
OUTLINES = (
    ("box", "Beside the points: a box; it chooses the points inside, Shift adds, Ctrl takes away"),
    ("lasso", "Beside the points: an outline that chooses the points inside"),
)
FALLOFFS = (
    ("round", "Neighbours follow in a smooth hump"),
    ("straight", "In a straight slope"),
    ("sharp", "In a sharp peak"),
)


class ShapePage(QWidget):
    """How clicks choose, how far neighbours follow, and what a move costs."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__()
        self.session = session
        self._cost: tuple[object, dict[str, str]] = (None, {})
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.pick, self.falloff = Choice(PICKS), Choice(FALLOFFS)
        self.pick.chosen.connect(session.hand.set_pick)
        self.falloff.chosen.connect(
            lambda word: session.hand.set_soft(session.hand.soft_reach, word)
        )
        self.reach = Slide(
            0, 8, 0.5, tip="So many legs of the net follow softly; 0 for none", name="Soft reach"
        )
        self.reach.changed.connect(lambda value: session.hand.set_soft(value, session.hand.falloff))
        self.judge = combo(
            "The scan that judges it as far as it lies over the surface, or a region of one"
        )
        self.judge.currentIndexChanged.connect(lambda _index: self._set_judge())
        self.judge_row = Row("Judged by", self.judge, stretch=0)
        column.addWidget(self.judge_row)
        column.addWidget(Row("A click takes", self.pick))
        self.outline = Choice(OUTLINES)
        self.outline.chosen.connect(session.hand.set_outline)
        column.addWidget(Row("A drag draws", self.outline))
        column.addWidget(Row("Soft reach", self.reach, stretch=0))
        column.addWidget(Row("Falloff", self.falloff))
        self.figures = Figures()
        column.addWidget(self.figures)
        self.words = label(role="soft", wraps=True)
        column.addWidget(self.words)
        self.removes: dict[str, QPushButton] = {}
        for direction, line in (("u", "row"), ("v", "column")):
            self.removes[direction] = commands.button(f"remove {line}")
            self._row(column, commands.button(f"insert {line}"), self.removes[direction])
        self.level = [commands.button(f"level {axis}") for axis in "xyz"]
        self.flat = commands.button("to a plane")
        self.several = [*self.level, *(commands.button(n) for n in ("to a line", "gather in"))]
        self._row(column, *self.level)
        self._row(column, *self.several[3:], commands.button("move", "Move ..."))
        self.pull, self.rest = commands.button("pull to scan"), commands.button("pull the rest")
        self._row(column, self.pull, self.rest)
        self.weight = number(
            0.01,
            100,
            3,
            "",
            "Weight of the chosen points: more draws the surface nearer",
            "Weight",
            76,
        )
        self.weight.valueChanged.connect(self._weighed)
        self.weight_row = Row("Weight", self.weight, self.flat)
        column.addWidget(self.weight_row)
        self._row(column, commands.button("add where needed"), commands.button("swap directions"))
        for what in ("raise", "reverse"):
            self._row(column, *(commands.button(f"{what} {d}") for d in "uv"))

    def _row(self, column: QVBoxLayout, *parts: QWidget) -> None:
        row = QHBoxLayout()
        row.setSpacing(8)
        for part in parts:
            row.addWidget(part, 1)
        column.addLayout(row)

    def _set_judge(self) -> None:
        job = self.session.job
        surface = job.get(self.session.choice.item, Surface)
        taken = job.items.get(str(self.judge.currentData() or ""))
        judge = taken if isinstance(taken, Scan | Region) else None
        if surface is not None and surface.watches != ("" if judge is None else judge.id):
            self.session.commit(watching(job, surface, judge), f"what judges {surface.name}")

    def _show_judge(self, surface: Surface) -> None:
        """Offer scans and regions to judge a surface that follows nothing."""
        judges = [*self.session.job.all(Scan), *self.session.job.all(Region)]
        self.judge_row.setVisible(surface.recipe is None and bool(judges))
        with QSignalBlocker(self.judge):
            fill(self.judge, judges, "nothing")
            self.judge.setCurrentIndex(max(self.judge.findData(surface.watches), 0))

    def _weighed(self, weight: float) -> None:
        surface = self.session.job.get(self.session.choice.item, Surface)
        if surface is not None and self.session.choice.points:
            set_weight(self.session, surface, sorted(self.session.choice.points), weight)

    def refresh(self, surface: Surface) -> None:
        session = self.session
        self.pick.set_value(session.hand.pick)
        self.outline.set_value(session.hand.outline)
        self.falloff.set_value(session.hand.falloff)
        self.reach.set_value(session.hand.soft_reach)
        self._show_judge(surface)
        several = len(session.choice.points) > 1
        for part in (*self.several, self.flat):
            part.setVisible(several)
        for part in (self.pull, self.rest):
            part.setVisible(bool(session.choice.points))
        self.weight_row.setVisible(bool(session.choice.points))
        if session.choice.points:
            weights = surface.geometry.weights
            index = min(min(session.choice.points), surface.control_points - 1)
            with QSignalBlocker(self.weight):
                self.weight.setValue(1.0 if weights is None else float(weights.flat[index]))
        self._show_before(surface)
        self._show_costs(surface)

    def _show_before(self, surface: Surface) -> None:
        """Keep "before" beside "now", so that a move can be judged."""
        before = self.session.sight.before_move
        now = self.session.shown.report(surface)
        self.figures.setVisible(now is not None)
        if now is None:
            empty = surface.inside is not None and not len(surface.inside)
            near = "Nothing of the scan lies near it and faces as it does: bring both to one place."
            self.words.setText(near if empty else "Nothing measured judges it.")
            return
        self.figures.near.show_figure(f"{now.at_share:.3f} mm", "now, at the share")
        old = before.get(surface.id)
        kept = self.session.job.get(surface.id, Surface)
        if kept is not None and kept.geometry is not surface.geometry:
            # A hand is moving it: before is how it lies in the job.
            old = self.session.job.report(kept)
        self.figures.far.show_figure("–" if old is None else f"{old.at_share:.3f} mm", "before")
        words = ""
        if old is not None:
            words = f"Farthest {now.max:.3f} mm, before {old.max:.3f} mm."
        self.words.setText(
            words or "Drag a control point; X Y Z N U V T L F hold it, digits say how far."
        )

    def _show_costs(self, surface: Surface) -> None:
        """Say on the buttons what a removal would cost, before it is done."""
        if self.session.is_proposing or not self.isVisible():
            return
        if self._cost[0] is not surface.geometry:
            words = {}
            for direction, line in (("u", "row"), ("v", "column")):
                found = line_removal(surface, direction)
                words[direction] = (
                    f"Remove {line}"
                    if found is None
                    else (f"{line.capitalize()} less: {found[1]:.3f} mm")
                )
                self.removes[direction].setEnabled(found is not None)
            self._cost = (surface.geometry, words)
        for direction, made in self.removes.items():
            made.setText(self._cost[1][direction])
