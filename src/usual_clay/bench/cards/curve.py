"""The card of a chosen curve: what it costs, how it bends, and what can be done to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card, Figures
from usual_clay.bench.cards.curve_judging import JudgingPage
from usual_clay.bench.cards.curve_points import PointsPage
from usual_clay.bench.cards.fields import Fields
from usual_clay.bench.cards.tasks import FOLLOW, task_buttons
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.making import set_settings
from usual_clay.bench.number_field import CountField
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import DEGREES, Choice, Row, button, number
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.numbers import thousands
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.job.items import Curve, PointList
from usual_clay.job.remake import is_stale

KNOTS = (("even", "Spread evenly along the run"), ("adaptive", "Closer where the shape needs them"))
SAID = {
    "drawn": "drawn",
    "held": "shaped by hand, keeps its holds",
    "twin": "a twin that follows its original",
    "copy": "a copy that follows its original",
    "bridge": "a bridge that follows both curves",
    "pair": "paired into space from two views",
    "chain": "joined from others, follows them",
    "offset": "offset from another, follows it",
    "across": "set across a curve, follows both",
    "laid": "laid onto something, follows it",
    "in surface": "follows a surface",
}
PAGES = (
    ("points", "Move, add and take away points"),
    ("judge", "Comb, joints, distances"),
    ("make", "Other curves from this one"),
)
# What the page "make" offers, in rows.
MAKES = (
    (("slim", "Slim"), ("fair", "Fair"), ("arc", "An arc?")),
    (("extend", "Extend"), ("split curve", "Split"), ("chain", "Join")),
    (("offset", "Offset"), ("copy", "Copy"), ("across", "Set across")),
    (("bridge", "Bridge"), ("pair", "Pair"), ("laid", "Lay onto")),
    (("loft", "Loft"), ("net", "Net"), ("two-rail", "Two-rail")),
    (("tube", "Tube"), ("extrude", "Extrude"), ("ruled", "Ruled"), ("fill", "Fill")),
)


class CurveCard(Card):
    """One card for fitted, drawn and following curves; only what fits is shown."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self._add_fit()
        self.forms: dict[str, Fields] = {}
        self.form_place = QVBoxLayout()
        self.column.addLayout(self.form_place)
        self.figures = Figures()
        self.near, self.far = self.figures.near, self.figures.far
        self.column.addWidget(self.figures)
        self.search = button(
            "To tolerance",
            "Find the fewest control points within tolerance (T)",
            "main",
            clicked=lambda: commands.run("to tolerance"),
        )
        self.column.addWidget(self.search)
        self.page = Choice(PAGES)
        self.page.chosen.connect(self.turn_to)
        self.column.addWidget(self.page)
        self.points, self.judging = PointsPage(session, commands), JudgingPage(session)
        self.pages: dict[str, QWidget] = {
            "points": self.points,
            "judge": self.judging,
            "make": self._making(commands),
        }
        for page in self.pages.values():
            self.column.addWidget(page)
        self.add_say()
        self.column.addStretch(1)
        self.turn_to("points")
        session.work.ended.connect(lambda _key: self.refresh())

    def _add_fit(self) -> None:
        self.controls = CountField(2, 400, 56)
        self.degree = CountField(1, HIGHEST_DEGREE, 56)
        for part, words in ((self.controls, "Control points"), (self.degree, "Degree")):
            part.setToolTip(words)
            part.setAccessibleName(words)
        self.controls.valueChanged.connect(lambda value: self._set(controls=value))
        self.degree.valueChanged.connect(lambda value: self._set(degree=value))
        self.degrees = Choice(DEGREES)
        self.degrees.chosen.connect(lambda word: self._set(any_degree=word == "best"))
        self.knots = Choice(KNOTS)
        self.knots.chosen.connect(lambda word: self._set(knots=word))
        self.corners = number(
            0, 170, 0, "°", "Part the run where it turns by more; 0 parts it nowhere", "Corners", 64
        )
        self.corners.setSpecialValueText("none")
        self.corners.valueChanged.connect(lambda value: self._set(corners=float(np.radians(value))))
        self.part = CountField(1, 99, 72, "part ")
        self.part.setToolTip("Which part between corners it follows")
        self.part.setAccessibleName("Part")
        self.part.valueChanged.connect(lambda value: self._set(part=value - 1))
        self.fit_rows = [
            Row("Control points", self.controls),
            Row("Degree", self.degree, self.degrees),
            Row("Knots", self.knots),
            Row("Corners at", self.corners, self.part),
        ]
        for row in self.fit_rows:
            self.column.addWidget(row)

    def _making(self, commands: Commands) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for made in task_buttons(MAKES, commands):
            self.add_buttons(*made, into=column)
        self.loose = commands.button("set loose")
        holds = commands.button("holds", "Holds ...")
        self.add_buttons(commands.button("twin"), holds, self.loose, into=column)
        return page

    def turn_to(self, name: str) -> None:
        """Open a page."""
        self.page.set_value(name)
        for key, page in self.pages.items():
            page.setVisible(key == name)

    def _edit(self, do: Callable[[Curve], None]) -> None:
        if (curve := self.session.job.get(self.session.choice.item, Curve)) is not None:
            do(curve)

    def _set(self, **fields: Any) -> None:
        curve = self.session.job.get(self.session.choice.item, Curve)
        old = None if curve is None else curve.made_by(TraceSettings)
        if curve is None or old is None:
            return
        settings = replace(old, **fields)
        least = settings.degree + 1
        if settings.controls < least:
            settings = replace(settings, controls=least)
        set_settings(self.session, curve, settings, "spline's settings")

    def refresh(self) -> None:
        job = self.session.shown
        curve = job.get(self.session.choice.item, Curve)
        if curve is None:
            return
        recipe = curve.recipe
        traced = curve.made_by(TraceSettings)
        fits = traced is not None
        kind = "Spline" if fits else "Curve"
        named = curve.name.lower().startswith(kind.lower())
        self.title.setText(curve.name if named else f"{kind}: {curve.name}")
        self.about.setText(self._about(curve))
        for row in (*self.fit_rows, self.search):
            row.setVisible(fits)
        if traced is not None:
            self._show_fit(traced, not curve.locked and not job.is_loose(curve))
        self._show_form(curve)
        report, stale = job.report(curve), is_stale(job, curve)
        self.figures.setVisible(report is not None)
        if report is not None:
            words = "being fitted" if stale else f"{percent(job.tolerance.share)} are nearer"
            self.near.show_figure(f"{report.at_share:.3f} mm", words, stale)
            self.far.show_figure(f"{report.max:.3f} mm", "farthest point", stale)
        self.points.refresh(curve)
        self.judging.refresh(curve)
        searched = self.session.notes.get(curve.id, "")
        self.words.setText(searched)
        self.words.setVisible(bool(searched))
        searching = self.session.work.find(curve.id, "search") is not None
        self.search.setText("Stop" if searching else "To tolerance")
        self.loose.setEnabled(recipe is not None and not curve.locked)
        trouble = self.session.trouble.get(curve.id, "") if stale else ""
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))

    def _show_form(self, curve: Curve) -> None:
        """Show the settings of a curve that follows others; they change it live."""
        kind = "" if curve.recipe is None else curve.recipe.kind
        if kind in FOLLOW and kind not in self.forms:
            self.forms[kind] = Fields(FOLLOW[kind].fields, FOLLOW[kind].hides)
            self.forms[kind].changed.connect(self._form_set)
            self.form_place.addWidget(self.forms[kind])
        for name, form in self.forms.items():
            form.setVisible(name == kind)
        if kind in FOLLOW and curve.recipe is not None:
            self.forms[kind].show_settings(curve.recipe.settings)
            self.forms[kind].setEnabled(not curve.locked and not self.session.job.is_loose(curve))

    def _form_set(self) -> None:
        curve = self.session.job.get(self.session.choice.item, Curve)
        if curve is not None and curve.recipe is not None and curve.recipe.kind in self.forms:
            try:
                settings = self.forms[curve.recipe.kind].settings(curve.recipe.settings)
            except ValueError as error:
                self.session.told.emit("trouble", f"{error}.")
                return
            set_settings(self.session, curve, settings, f"{curve.name}'s settings")

    def _about(self, curve: Curve) -> str:
        job, recipe = self.session.shown, curve.recipe
        cost = f"{curve.control_points} control points, degree {curve.geometry.degree}"
        if recipe is None:
            run = job.get(curve.watches, PointList)
            judged = f", judged by {run.name}" if run is not None else ""
            return f"{cost}; shaped by hand{judged}"
        if job.is_loose(curve):
            return f"{cost}; loose: what it followed is gone"
        if curve.made_by(TraceSettings) is not None:
            run = job.get(curve.watches, PointList)
            many = thousands(len(run.kept)) if run is not None else "no"
            return f"follows {run.name if run is not None else 'a run'}, {many} points"
        return f"{cost}; {SAID.get(recipe.kind, recipe.kind)}"

    def _show_fit(self, settings: TraceSettings, free: bool) -> None:
        for part in (
            self.controls,
            self.degree,
            self.degrees,
            self.knots,
            self.corners,
            self.part,
        ):
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
        self.part.setVisible(settings.corners > 0 or bool(settings.cuts))
        self.knots.set_value(settings.knots)
        self.degrees.set_value("best" if settings.any_degree else "this")
