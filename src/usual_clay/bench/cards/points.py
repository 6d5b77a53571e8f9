"""The card of a chosen point list: slips out, and from the ball's centre to the surface."""

from __future__ import annotations

from typing import cast

import numpy as np
from PySide6.QtWidgets import QDoubleSpinBox

from usual_clay.bench.cards.card import Card, thousands
from usual_clay.bench.point_edits import move_for_ball, put_in_order, suggest, take_out
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, label, quiet_spin
from usual_clay.core.points.ball import Side
from usual_clay.core.points.course import usual_slip_limit
from usual_clay.job.items import ItemId, PointList

SIDES = (
    ("in", "Into the area that the run encloses"),
    ("out", "Out of the area that the run encloses"),
    ("left", "To the left, along the run"),
    ("right", "To the right, along the run"),
)


class PointsCard(Card):
    """Cleans a run and offsets it for the probe's ball."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._limits: dict[ItemId, float] = {}
        self.limit = QDoubleSpinBox(minimum=0.001, maximum=1000, decimals=3, singleStep=0.01)
        self.limit.setSuffix(" mm")
        self.limit.setToolTip("How far a point may stray from the run's smooth course")
        self.limit.setAccessibleName("Stray limit")
        quiet_spin(self.limit, 84)
        self.suggest = button("Suggest slips", "Ring the points that stray further",
                              clicked=self._suggest)  # fmt: skip
        self.column.addWidget(Row("Stray limit", self.limit))
        self.found = label(role="news", wraps=True)
        self.column.addWidget(self.suggest)
        self.column.addWidget(self.found)
        self.take = button("Take them out", "Leave the ringed points out of the run", "main",
                           clicked=self._take)  # fmt: skip
        self.back = button("Put all back", "Take every point into the run again",
                           clicked=self._put_back)  # fmt: skip
        self.add_buttons(self.back, self.take)
        self.column.addWidget(
            button("Put in order", "Order loose points along the path they lie on",
                   clicked=self._order)
        )  # fmt: skip
        self.ball = QDoubleSpinBox(minimum=0.01, maximum=500, decimals=2, value=3.0)
        self.ball.setSuffix(" mm")
        self.ball.setToolTip("Diameter of the probe's ball")
        self.ball.setAccessibleName("Ball diameter")
        quiet_spin(self.ball, 84)
        self.side = Choice(SIDES)
        self.side.set_value("in")
        self._side = "in"
        self.side.chosen.connect(self._set_side)
        self.column.addSpacing(6)
        self.column.addWidget(Row("Probe ball", self.ball))
        self.column.addWidget(Row("Side", self.side))
        self.column.addWidget(
            button("Move to the surface", "Add a run moved by the ball's radius; this one is kept",
                   clicked=self._move)
        )  # fmt: skip
        self.column.addStretch(1)

    def _points(self) -> PointList | None:
        return self.session.job.get(self.session.chosen, PointList)

    def _set_side(self, side: str) -> None:
        self._side = side

    def _suggest(self) -> None:
        if (points := self._points()) is not None:
            self._limits[points.id] = self.limit.value()
            suggest(self.session, points, self.limit.value())
            if not len(self.session.suggested):
                self.session.told.emit("news", "No point strays that far.")

    def _take(self) -> None:
        if (points := self._points()) is not None:
            take_out(self.session, points, self.session.suggested, "take slips out")

    def _put_back(self) -> None:
        if (points := self._points()) is not None:
            take_out(self.session, points, np.zeros(0, dtype=np.int64), "put points back")

    def _order(self) -> None:
        if (points := self._points()) is not None:
            put_in_order(self.session, points)

    def _move(self) -> None:
        if (points := self._points()) is not None:
            move_for_ball(self.session, points, self.ball.value(), cast(Side, self._side))

    def refresh(self) -> None:
        points = self.session.shown.get(self.session.chosen, PointList)
        if points is None:
            return
        run = points.points[points.kept]
        ring = np.concatenate([run, run[:1]]) if points.closed else run
        length = float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum())
        self.title.setText(f"Points: {points.name}")
        out = f", {len(points.out)} taken out" if len(points.out) else ""
        kind = "closed" if points.closed else "open"
        self.about.setText(
            f"{thousands(len(run))} points{out}; a {kind} run of {length:.1f} mm"
            f" from {points.source}"
        )
        if points.id not in self._limits:
            self._limits[points.id] = max(usual_slip_limit(run, points.closed), 0.001)
            self.limit.setValue(self._limits[points.id])
        ringed = len(self.session.suggested)
        self.found.setText(f"{ringed} points stray by more than {self.limit.value():.3f} mm.")
        self.found.setVisible(ringed > 0)
        self.take.setEnabled(ringed > 0)
        self.back.setEnabled(len(points.out) > 0)
