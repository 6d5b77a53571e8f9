"""The card of a spline that follows a run: control points, degree, and how far it is off."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QSpinBox

from usual_clay.bench.cards.card import Card, TwoFigures, thousands
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, button, label, quiet_spin
from usual_clay.core.check.deviation import percent
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.job.items import Curve, PointList
from usual_clay.job.remake import is_stale


class CurveCard(Card):
    """Sets how many control points a spline spends on its run."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.controls = QSpinBox(minimum=2, maximum=400)
        self.degree = QSpinBox(minimum=1, maximum=HIGHEST_DEGREE)
        for part, words in ((self.controls, "Control points"), (self.degree, "Degree")):
            quiet_spin(part, 56)
            part.setToolTip(words)
            part.setAccessibleName(words)
            part.valueChanged.connect(lambda _value: self._set())
        figures = TwoFigures()
        self.near, self.far = figures.near, figures.far
        self.trouble = label(role="trouble", wraps=True)
        self.loose = button("Set loose", "Stop following the run; the curve stays as it is",
                            clicked=self._set_loose)  # fmt: skip
        self.column.addWidget(Row("Control points", self.controls))
        self.column.addWidget(Row("Degree", self.degree))
        self.column.addWidget(figures)
        self.column.addWidget(self.trouble)
        self.column.addWidget(self.loose)
        self.column.addStretch(1)

    def _set(self) -> None:
        curve = self.session.job.get(self.session.chosen, Curve)
        if curve is not None and curve.recipe is not None:
            degree = self.degree.value()
            settings = replace(
                curve.recipe.settings,
                controls=max(self.controls.value(), degree + 1),
                degree=degree,
            )
            self.session.set_recipe(curve, settings, "spline's settings")

    def _set_loose(self) -> None:
        if (curve := self.session.job.get(self.session.chosen, Curve)) is not None:
            self.session.set_loose(curve)

    def refresh(self) -> None:
        job = self.session.shown
        curve = job.get(self.session.chosen, Curve)
        if curve is None:
            return
        recipe = curve.recipe
        run = None if recipe is None else job.get(recipe.sources[0], PointList)
        self.title.setText(f"Spline: {curve.name}")
        if run is not None:
            self.about.setText(f"follows {run.name}, {thousands(len(run.kept))} points")
        else:
            self.about.setText("stands by itself" if recipe is None else "loose: its run is gone")
        for part in (self.controls, self.degree, self.loose):
            part.setEnabled(run is not None and not curve.locked)
        with QSignalBlocker(self.controls), QSignalBlocker(self.degree):
            self.controls.setValue(recipe.settings.controls if recipe else curve.control_points)
            self.degree.setValue(recipe.settings.degree if recipe else curve.geometry.degree)
        report, stale = job.report(curve), is_stale(job, curve)
        if report is not None:
            words = "being fitted" if stale else f"{percent(job.aim.share)} are nearer"
            self.near.show_figure(f"{report.at_share:.3f} mm", words, stale)
            self.far.show_figure(f"{report.max:.3f} mm", "farthest point", stale)
        trouble = self.session.trouble.get(curve.id, "") if stale else ""
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))
