"""The card of a simple shape: which it is, its figures, and how well the scan bears it out."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.cards.card import Card, Figures
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.making import set_settings
from usual_clay.bench.session import Session
from usual_clay.bench.stage.overlay import MINUS
from usual_clay.bench.widgets import Choice, label
from usual_clay.core.check.deviation import percent
from usual_clay.core.scan.shapes import ShapeSettings, SimpleShape
from usual_clay.job.items import Region, Shape
from usual_clay.job.remake import is_stale

KINDS = (
    ("best", "The simplest that the points bear out"),
    ("plane", "A plane"),
    ("cylinder", "A cylinder"),
    ("sphere", "A sphere"),
    ("cone", "A cone"),
)


class ShapeCard(Card):
    """Shows a simple shape and lets another kind be fitted."""

    def __init__(self, session: Session, _commands: Commands) -> None:
        super().__init__(session)
        self.kind = Choice(KINDS)
        self.kind.chosen.connect(self._set_kind)
        self.figures, self.tilt = label(wraps=True), label(wraps=True)
        figures = Figures()
        self.near, self.far = figures.near, figures.far
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.kind)
        self.column.addWidget(self.figures)
        self.column.addWidget(self.tilt)
        self.column.addWidget(figures)
        self.column.addWidget(self.trouble)
        self.column.addStretch(1)

    def _set_kind(self, kind: str) -> None:
        shape = self.session.job.get(self.session.choice.item, Shape)
        if shape is not None and shape.recipe is not None:
            settings = ShapeSettings(kind)  # type: ignore[arg-type]
            set_settings(self.session, shape, settings, "kind of shape")

    def refresh(self) -> None:
        job = self.session.shown
        shape = job.get(self.session.choice.item, Shape)
        if shape is None:
            return
        geometry, recipe = shape.geometry, shape.recipe
        region = None if recipe is None else job.get(recipe.one("measured"), Region)
        word = geometry.kind.capitalize()
        self.title.setText(shape.name if shape.name.startswith(word) else f"{word}: {shape.name}")
        self.about.setText(
            f"fitted to {region.name}" if region else "loose: the region it was fitted to is gone"
        )
        self.kind.setEnabled(region is not None and not shape.locked)
        self.kind.set_value(recipe.settings.kind if recipe else geometry.kind)
        self.figures.setText(size_words(geometry))
        self.tilt.setText(_tilt_words(geometry))
        report = job.report(shape)
        stale = is_stale(job, shape)
        if report is not None:
            share = percent(job.tolerance.share)
            words = "being fitted" if stale else f"{share} are nearer"
            self.near.show_figure(f"{report.at_share:.3f} mm", words, stale)
            self.far.show_figure(f"{report.rms:.3f} mm", "rms of all points", stale)
        trouble = self.session.trouble.get(shape.id, "")
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))


def size_words(shape: SimpleShape) -> str:
    """Return a shape's own figures in words."""
    low, high = shape.span
    if shape.kind == "plane":
        return f"A flat about {2 * high:.1f} mm across"
    if shape.kind == "sphere":
        return f"Radius {shape.radius:.3f} mm, diameter {2 * shape.radius:.3f} mm"
    if shape.kind == "cylinder":
        return f"Diameter {2 * shape.radius:.3f} mm, seen over {high - low:.1f} mm of its length"
    return (
        f"Opening {2 * np.degrees(shape.angle):.2f}° in all, seen from {low:.1f} to {high:.1f} mm"
    )


def _tilt_words(shape: SimpleShape) -> str:
    x, y, z = shape.point
    words = f"at {x:.2f}, {y:.2f}, {z:.2f} mm"
    if shape.kind != "sphere":
        axis = shape.axis if shape.axis[np.argmax(np.abs(shape.axis))] > 0 else -shape.axis
        near = int(np.argmax(axis))
        off = float(np.degrees(np.arccos(np.clip(axis[near], -1, 1))))
        what = "normal" if shape.kind == "plane" else "axis"
        words += f"; {what} {off:.2f}° off {'xyz'[near]}"
    return words.replace("-", MINUS)
