"""The card of a body afloat: how it lies, its figures, and its righting arms as a chart."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from usual_clay.bench.cards.recipe import RecipeCard
from usual_clay.bench.charts import plain_plot, wear
from usual_clay.bench.command import Commands
from usual_clay.bench.session import Session
from usual_clay.bench.theme.theme import now, themes
from usual_clay.bench.widgets import label
from usual_clay.core.body.lying import Lying
from usual_clay.job.items import Floating, Followed
from usual_clay.job.remake import is_stale

HIGH, LOW = 150, 110


class FloatingCard(RecipeCard):
    """Its recipe, as of any item, and how it floats."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session, commands)
        self.plot = plain_plot()
        self.plot.setAccessibleName("Righting arms over the angle of heel")
        self.plot.setFixedHeight(HIGH)
        self.plot.setLabel("bottom", "heel, degrees")
        self.plot.setLabel("left", "arm, mm")
        self.line = self.plot.plot([], [])
        self.level = pg.InfiniteLine(0, angle=0)
        self.plot.addItem(self.level)
        self._under: list[pg.InfiniteLine] = []
        self.chart_words = label(role="small", wraps=True)
        self.area_words = label(role="small", wraps=True)
        self.areas = plain_plot()
        self.areas.setAccessibleName("Area under water of sections along the length")
        self.areas.setFixedHeight(LOW)
        self.areas.setLabel("bottom", "along, mm")
        self.areas.setLabel("left", "area, mm²")
        self.area = self.areas.plot([], [], fillLevel=0.0)
        self.more = label(role="soft", wraps=True)
        # What came of it first, and what it came of below.
        at = 2
        charts = (self.chart_words, self.plot, self.area_words, self.areas)
        self._told = (self.figures, *charts, self.more)
        for part in self._told:
            self.column.insertWidget(at, part)
            at += 1
        themes.changed.connect(self._wear)
        self._wear()

    def _wear(self) -> None:
        wear(self.plot)
        wear(self.areas)
        self.area.setPen(pg.mkPen(now().teal, width=2))
        self.area.setBrush(pg.mkBrush(QColor(now().bisque)))
        self.line.setPen(pg.mkPen(now().accent, width=2))
        self.level.setPen(pg.mkPen(now().line, width=1))

    def _show_figures(self, item: Followed) -> None:
        if not isinstance(item, Floating):
            return
        stale = is_stale(self.session.shown, item)
        lying = item.lying
        for part in self._told:
            part.setVisible(lying is not None)
        trouble = self.session.trouble.get(item.id, "") if stale else ""
        self.say("", trouble)
        if lying is None:
            return
        lies = lying.afloat
        self.near.show_figure(f"{lies.draft:z.2f} mm", "draft", stale)
        self.far.show_figure(f"{lies.gm():.2f} mm", "GM", stale)
        self.far.show()
        self.more.setText(_in_words(lying))
        self._show_arms(lying)
        along, areas = lying.sections.T
        self.area.setData(along, areas)
        most = int(np.argmax(areas))
        self.area_words.setText(
            f"Largest section under water {areas[most]:.1f} mm² at {along[most]:.1f} mm".replace(
                "-", "\N{MINUS SIGN}"
            )
            + " along it."
        )

    def _show_arms(self, lying: Lying) -> None:
        for mark in self._under:
            self.plot.removeItem(mark)
        self._under = []
        shown = lying.curve is not None
        self.plot.setVisible(shown)
        self.chart_words.setVisible(shown)
        if lying.curve is None:
            return
        angles = np.degrees([arm.angle for arm in lying.arms])
        self.line.setData(angles, [arm.arm for arm in lying.arms])
        for name, angle in lying.under.items():
            if np.isfinite(angle):
                mark = pg.InfiniteLine(
                    float(np.degrees(angle)), angle=90, label=name,
                    labelOpts={"position": 0.9, "color": now().soft_ink},
                    pen=pg.mkPen(now().teal, width=1, style=Qt.PenStyle.DashLine),
                )  # fmt: skip
                self.plot.addItem(mark)
                self._under.append(mark)
        curve = lying.curve
        words = f"Greatest arm {curve.greatest:.2f} mm at {np.degrees(curve.at):.0f}°"
        if curve.vanishes is not None:
            words += f"; turns over past {np.degrees(curve.vanishes):.0f}°"
        under = [
            f"{name} goes under at {np.degrees(angle):.0f}°"
            for name, angle in lying.under.items()
            if np.isfinite(angle)
        ]
        self.chart_words.setText("; ".join([words, *under]) + ".")


def _in_words(lying: Lying) -> str:
    lies, wet = lying.afloat, lying.afloat.wet
    # Nothing is less than nothing by a rounding.
    x, y, z = np.round(wet.centre, 2) + 0.0
    words = (
        f"{lying.mass:.2f} g, trim {np.degrees(lies.trim):.2f}°, heel {np.degrees(lies.heel):.2f}°."
        f" It displaces {wet.volume / 1000:.3f} cm³ of {lying.body_volume / 1000:.3f}; the water's"
        f" plane in it is {wet.plane / 100:.2f} cm², its wetted surface {wet.area / 100:.2f} cm²."
        f" KB {lies.kb:.2f}, KG {lies.kg:.2f}, BM {lies.bm():.2f} mm; GM along"
        f" {lies.gm('along'):.1f} mm. Centre of buoyancy {x:.2f}, {y:.2f}, {z:.2f} mm."
    )
    return words.replace("-", "\N{MINUS SIGN}")
