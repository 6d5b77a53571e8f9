"""What all charts share: axes of decades, and the colours of the theme."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtGui import QColor

from usual_clay.bench.guard import Guarded
from usual_clay.bench.theme.looks import text_font
from usual_clay.bench.theme.theme import now

pg.setConfigOptions(antialias=True)
STEPS = (1, 2, 5)
MOST_DECADES = 1.9
# So high is half of a label, pixels.
HALF_LABEL = 6.0


class LogAxis(Guarded, pg.AxisItem):
    """An axis of decades, labelled 1, 2, 5."""

    def tickValues(self, low: float, high: float, size: float) -> list:
        powers = range(int(np.floor(low)) - 1, int(np.ceil(high)) + 1)
        # Over many decades only these are named, so that labels do not crowd.
        steps = STEPS if high - low < MOST_DECADES else STEPS[:1]
        ticks = [p + np.log10(step) for p in powers for step in steps]
        # At the end of an upright axis half of a label would be cut off.
        half = HALF_LABEL * (high - low) / max(size, 1.0) if self.orientation == "left" else 0.0
        return [(1.0, [tick for tick in ticks if low + half <= tick <= high - half])]

    def tickStrings(self, values: list[float], _scale: float, _spacing: float) -> list[str]:
        return [f"{10**value:.4g}" for value in values]


def plain_plot(**axes: pg.AxisItem) -> pg.PlotWidget:
    plot = pg.PlotWidget(axisItems=axes)
    plot.setMenuEnabled(False)
    plot.hideButtons()
    plot.setMouseEnabled(False, False)
    for side in ("left", "bottom"):
        axis = plot.getAxis(side)
        axis.setTickFont(text_font(8))
        axis.setStyle(tickLength=0, tickTextOffset=6)
    return plot


def wear(plot: pg.PlotWidget) -> None:
    """Give a chart's ground and axes the colours of the theme."""
    plot.setBackground(now().panel)
    for side in ("left", "bottom"):
        plot.getAxis(side).setPen(QColor(now().line))
        plot.getAxis(side).setTextPen(QColor(now().soft_ink))
