"""The card of a chosen curve: what it costs, how it bends, and what can be done to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QSpinBox

from usual_clay.bench.cards.card import Card, TwoFigures, thousands
from usual_clay.bench.edits.curves import (
    add_twin,
    insert_point,
    level_points,
    raise_curve,
    remove_point,
    set_run,
    turn_round,
)
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, label, number, quiet_spin
from usual_clay.core.check.comb import comb_of, in_words
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.run import RunSettings
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.job.items import Curve, PointList
from usual_clay.job.remake import is_stale

KNOTS = (("even", "Spread evenly along the run"), ("adaptive", "Closer where the shape needs them"))
SAID = {
    "drawn": "drawn", "twin": "a twin that follows its original", "bridge": "a bridge that follows"
    " both curves", "pair": "paired into space from two views",
}  # fmt: skip


class CurveCard(Card):
    """One card for fitted, drawn and following curves; only what fits is shown."""

    def __init__(self, session: Session, run: Callable[[str], None]) -> None:
        super().__init__(session)
        self._comb: tuple[object, str] = (None, "")
        self.controls = QSpinBox(minimum=2, maximum=400)
        self.degree = QSpinBox(minimum=1, maximum=HIGHEST_DEGREE)
        for part, words in ((self.controls, "Control points"), (self.degree, "Degree")):
            quiet_spin(part, 56)
            part.setToolTip(words)
            part.setAccessibleName(words)
        self.controls.valueChanged.connect(lambda value: self._set(controls=value))
        self.degree.valueChanged.connect(lambda value: self._set(degree=value))
        self.knots = Choice(KNOTS)
        self.knots.chosen.connect(lambda word: self._set(knots=word))
        self.corners = number(0, 170, 0, "°", "Part the run where it turns by more; 0 parts it"
                              " nowhere", "Corners", 64)  # fmt: skip
        self.corners.setSpecialValueText("none")
        self.corners.valueChanged.connect(lambda value: self._set(corners=float(np.radians(value))))
        self.part = QSpinBox(minimum=1, maximum=99, prefix="part ")
        quiet_spin(self.part, 72)
        self.part.setToolTip("Which part between corners it follows")
        self.part.setAccessibleName("Part")
        self.part.valueChanged.connect(lambda value: self._set(part=value - 1))
        self.fit_rows = [
            Row("Control points", self.controls, self.degree, label("degree", "soft")),
            Row("Knots", self.knots),
            Row("Corners at", self.corners, self.part),
        ]
        for row in self.fit_rows:
            self.column.addWidget(row)
        self.figures = TwoFigures()
        self.near, self.far = self.figures.near, self.figures.far
        self.column.addWidget(self.figures)
        self.comb = Slide(0, 3, 0.1, tip="Length of the comb's quills; 0 hides them", name="Comb")
        self.comb.changed.connect(session.set_comb)
        self.column.addWidget(Row("Comb", self.comb, stretch=0))
        self.words = label(role="news", wraps=True)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.words)
        self.column.addWidget(self.trouble)
        self.search = button("To tolerance", "Find the fewest control points within tolerance (T)",
                             "main", clicked=lambda: run("to tolerance"))  # fmt: skip
        self.column.addWidget(self.search)
        self._add_shaping(run)
        self.column.addStretch(1)
        session.work.ended.connect(lambda _key: self.refresh())

    def _add_shaping(self, run: Callable[[str], None]) -> None:
        def edit(words: str, tip: str, do: Callable[[Curve], None]) -> Any:
            return button(words, tip, clicked=lambda: self._edit(do))

        session = self.session
        self.insert = edit("Insert point", "One control point more, the shape stays",
                           lambda c: insert_point(session, c, self._near()))  # fmt: skip
        self.remove = edit("Remove point", "One control point less; says what it costs",
                           lambda c: remove_point(session, c, self._near()))  # fmt: skip
        self.add_buttons(self.insert, self.remove)
        self.add_buttons(
            edit("Raise degree", "The shape stays", lambda c: raise_curve(session, c)),
            edit("Reverse", "Run the other way", lambda c: turn_round(session, c)),
            edit("Twin", "A mirrored copy in y = 0 that follows", lambda c: add_twin(session, c)),
        )  # fmt: skip
        self.level = [
            edit(f"Level {axis}", f"Give the chosen control points one {axis}",
                 partial(self._level, "xyz".index(axis)))
            for axis in "xyz"
        ]  # fmt: skip
        self.add_buttons(*self.level)
        self.loose = button("Set loose", "Stop following; the curve stays as it is",
                            clicked=lambda: self._edit(session.set_loose))  # fmt: skip
        self.join = button(
            "Join ...", "A bridge, or a pair into space", clicked=lambda: run("join")
        )
        self.add_buttons(self.loose, self.join)

    def _level(self, axis: int, curve: Curve) -> None:
        level_points(self.session, curve, sorted(self.session.control_points), axis)

    def _near(self) -> int | None:
        return min(self.session.control_points, default=None)

    def _edit(self, do: Callable[[Curve], None]) -> None:
        if (curve := self.session.job.get(self.session.chosen, Curve)) is not None:
            do(curve)

    def _set(self, **fields: Any) -> None:
        curve = self.session.job.get(self.session.chosen, Curve)
        if curve is None or curve.recipe is None or curve.recipe.kind != "spline":
            return
        settings: RunSettings = replace(curve.recipe.settings, **fields)
        least = settings.degree + 1
        if settings.controls < least:
            settings = replace(settings, controls=least)
        set_run(self.session, curve, settings, "spline's settings")

    def refresh(self) -> None:
        job = self.session.shown
        curve = job.get(self.session.chosen, Curve)
        if curve is None:
            return
        recipe = curve.recipe
        fits = recipe is not None and recipe.kind == "spline"
        self.title.setText(f"{'Spline' if fits else 'Curve'}: {curve.name}")
        self.about.setText(self._about(curve))
        for row in (*self.fit_rows, self.search):
            row.setVisible(fits)
        if fits and recipe is not None:
            self._show_fit(recipe.settings, not curve.locked and not job.is_loose(curve))
        report, stale = job.report(curve), is_stale(job, curve)
        self.figures.setVisible(report is not None)
        if report is not None:
            words = "being fitted" if stale else f"{percent(job.aim.share)} are nearer"
            self.near.show_figure(f"{report.at_share:.3f} mm", words, stale)
            self.far.show_figure(f"{report.max:.3f} mm", "farthest point", stale)
        self.comb.set_value(self.session.comb_scale)
        if self._comb[0] is not curve.geometry:
            self._comb = (curve.geometry, in_words(comb_of(curve.geometry)))
        words = self.session.search_words.get(curve.id, "")
        self.words.setText(f"{words} {self._comb[1][:1].upper()}{self._comb[1][1:]}.".strip())
        searching = self.session.work.is_busy(f"search {curve.id}")
        self.search.setText("Stop" if searching else "To tolerance")
        several = len(self.session.control_points) > 1
        for part in self.level:
            part.setVisible(several)
        self.loose.setEnabled(recipe is not None and not curve.locked)
        self.remove.setEnabled(len(np.unique(curve.geometry.knots)) > 2)
        trouble = self.session.trouble.get(curve.id, "") if stale else ""
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))

    def _about(self, curve: Curve) -> str:
        job, recipe = self.session.shown, curve.recipe
        cost = f"{curve.control_points} control points, degree {curve.geometry.degree}"
        if recipe is None:
            run = job.get(curve.watches, PointList)
            judged = f", judged by {run.name}" if run is not None else ""
            return f"{cost}; shaped by hand{judged}"
        if job.is_loose(curve):
            return f"{cost}; loose: what it followed is gone"
        if recipe.kind == "spline":
            run = job.get(recipe.sources[0], PointList)
            many = thousands(len(run.kept)) if run is not None else "no"
            return f"follows {run.name if run is not None else 'a run'}, {many} points"
        return f"{cost}; {SAID.get(recipe.kind, recipe.kind)}"

    def _show_fit(self, settings: RunSettings, free: bool) -> None:
        for part in (self.controls, self.degree, self.knots, self.corners, self.part):
            part.setEnabled(free)
        with (
            QSignalBlocker(self.controls),
            QSignalBlocker(self.degree),
            QSignalBlocker(self.corners),
            QSignalBlocker(self.part),
        ):
            self.controls.setValue(settings.controls)
            self.degree.setValue(settings.degree)
            self.corners.setValue(round(float(np.degrees(settings.corners))))
            self.part.setValue(settings.part + 1)
        self.part.setVisible(settings.corners > 0)
        self.knots.set_value(settings.knots)
