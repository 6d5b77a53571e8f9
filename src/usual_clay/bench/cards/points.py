"""The card of a chosen point list: slips out, order, from the ball's centre to the surface."""

from __future__ import annotations

from typing import cast

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from usual_clay.bench.cards.paged import PagedCard
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.points import (
    follow,
    put_back,
    put_in_order,
    suggest,
    take_out,
)
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, combo, label, number
from usual_clay.core.numbers import thousands
from usual_clay.core.points.ball import BallSettings, Side
from usual_clay.core.points.course import usual_slip_limit
from usual_clay.core.points.lay import closes_smoothly
from usual_clay.core.points.project import Onto, OntoSettings
from usual_clay.job.items import ItemId, PointList, Scan, Shape

SIDES = (
    ("in", "Into the area that the run encloses"),
    ("out", "Out of the area that the run encloses"),
    ("left", "To the left, along the run"),
    ("right", "To the right, along the run"),
    ("scan", "Along the normals of the scan beside it"),
)
ONTO = (
    ("xy", "plane xy"),
    ("yz", "plane yz"),
    ("zx", "plane zx"),
    ("x", "x axis"),
    ("y", "y axis"),
    ("z", "z axis"),
)


class PointsCard(PagedCard):
    """Cleans a run, orders it, moves it for the probe's ball, and lets others follow it."""

    def __init__(self, session: Session, commands: Commands) -> None:
        self._limits: dict[ItemId, float] = {}
        self._commands = commands
        super().__init__(
            session,
            "",
            (
                ("clean", "Find slips, take points out, put them back", self._build_clean),
                ("order", "Order loose points; close a run", self._build_order),
                ("ball", "From the centre of the probe's ball to the surface", self._build_ball),
                ("onto", "Bring the run down onto a plane, a line or a scan", self._build_onto),
            ),
        )
        self.spline, self.parts = (
            commands.button("spline", "Spline through it"),
            commands.button("parts"),
        )
        self.loose = commands.button("set loose")
        self.column.addSpacing(4)
        self.add_buttons(self.spline, self.parts)
        self.add_buttons(self.loose)
        self.trouble = label(role="trouble", wraps=True)
        self.column.addWidget(self.trouble)
        self.column.addStretch(1)

    # ---- pages ---------------------------------------------------------------------------

    def _build_clean(self, column: QVBoxLayout) -> None:
        self.limit = number(
            0.001,
            1000,
            3,
            " mm",
            "How far a point may stray from the run's smooth course",
            "Stray limit",
        )
        self.limit.setSingleStep(0.01)
        self.suggest = button(
            "Suggest slips", "Ring the points that stray further", clicked=self._suggest
        )
        column.addWidget(Row("Stray limit", self.limit, self.suggest, stretch=1))
        self.add_buttons(
            button(
                "Pick or box",
                "Ring points by clicks, or by a box (P)",
                clicked=lambda: self._commands.run("mark points"),
            ),
            button(
                "Brush",
                "Ring points with a brush",
                clicked=lambda: self._commands.run("brush points"),
            ),
            into=column,
        )
        self.found = label(role="news", wraps=True)
        column.addWidget(self.found)
        self.take = button(
            "Take out", "Leave the ringed points out of the run", "main", clicked=self._take
        )
        self.back = button(
            "Put back",
            "Take the ringed points in again; with none ringed, all",
            clicked=self._put_back,
        )
        self.add_buttons(self.back, self.take, into=column)

    def _build_order(self, column: QVBoxLayout) -> None:
        self.gap = number(
            0, 1e4, 2, " mm", "Steps longer than this part two paths; 0 finds it", "Gap"
        )
        self.gap.setSpecialValueText("found")
        column.addWidget(Row("Split at gaps", self.gap))
        self.order = button(
            "Put in order", "Order loose points along the path they lie on", clicked=self._order
        )
        self.closed = Choice(
            [
                ("open", "The run ends at its last point"),
                ("closed", "The last point is followed by the first"),
                ("by itself", "Closed where its ends meet smoothly, else open"),
            ]
        )
        self.closed.chosen.connect(self._set_closed)
        column.addWidget(self.order)
        column.addWidget(Row("The run is", self.closed))

    def _build_ball(self, column: QVBoxLayout) -> None:
        self.ball = number(0.01, 500, 2, " mm", "Diameter of the probe's ball", "Ball diameter")
        self.ball.setValue(3)
        self.side = Choice(SIDES)
        self.side.set_value("in")
        self._side = "in"
        self.side.chosen.connect(self._set_side)
        column.addWidget(Row("Probe ball", self.ball))
        column.addWidget(Row("Side", self.side))
        self.move_ = button(
            "Move to the surface",
            "Add a run moved by the ball's radius; this one is kept",
            clicked=self._move,
        )
        column.addWidget(self.move_)

    def _build_onto(self, column: QVBoxLayout) -> None:
        self.onto = combo("What the points are brought down onto")
        self.at = number(-1e5, 1e5, 2, " mm", "How far the plane lies along its normal", "Plane at")
        column.addWidget(Row("Onto", self.onto, stretch=0))
        column.addWidget(Row("Plane at", self.at))
        self.drops = label(role="small", wraps=True)
        column.addWidget(self.drops)
        column.addWidget(
            button(
                "Bring down", "Add a run brought down; this one is kept", clicked=self._bring_down
            )
        )
        self.onto.currentIndexChanged.connect(lambda _index: self._say_drop())
        self.at.valueChanged.connect(lambda _value: self._say_drop())

    # ---- edits ---------------------------------------------------------------------------

    def _points(self) -> PointList | None:
        return self.session.job.get(self.session.choice.item, PointList)

    def _set_side(self, side: str) -> None:
        self._side = side

    def _suggest(self) -> None:
        if (points := self._points()) is not None:
            self._limits[points.id] = self.limit.value()
            suggest(self.session, points, self.limit.value())
            if not len(self.session.choice.ringed):
                self.session.told.emit("news", "No point strays that far.")

    def _take(self) -> None:
        if (points := self._points()) is not None:
            take_out(self.session, points, self.session.choice.ringed, "take points out")

    def _put_back(self) -> None:
        if (points := self._points()) is not None:
            ringed = np.intersect1d(self.session.choice.ringed, points.out)
            put_back(self.session, points, ringed if len(ringed) else None)

    def _order(self) -> None:
        if (points := self._points()) is not None:
            put_in_order(self.session, points, self.gap.value() or None)

    def _set_closed(self, word: str) -> None:
        if (points := self._points()) is None:
            return
        closes = word == "closed"
        if word == "by itself":
            closes = closes_smoothly(points.points[points.kept])
            ends = "meet smoothly: it closes" if closes else "do not meet smoothly: it stays open"
            self.session.told.emit("news", f"The ends of {points.name} {ends}.")
        self.session.change(points, f"make {points.name} {word}", closed=closes)
        self.refresh()

    def _move(self) -> None:
        if (points := self._points()) is None:
            return
        others: tuple[ItemId, ...] = ()
        side = "in" if self._side == "scan" else self._side
        if self._side == "scan":
            scan = next((s for s in self.session.job.all(Scan) if s.visible), None)
            if scan is None:
                self.session.told.emit("trouble", "There is no visible scan to take normals from.")
                return
            others = (scan.id,)
        settings = BallSettings(self.ball.value(), cast(Side, side))
        follow(self.session, points, "ball", settings, "touched", scan=others)

    def _bring_down(self) -> None:
        if (points := self._points()) is None:
            return
        onto, item = self.onto.currentData()
        others = (item,) if item else ()
        follow(
            self.session,
            points,
            "onto",
            OntoSettings(cast(Onto, onto), self.at.value()),
            f"on {self.onto.currentText()}",
            onto=others,
        )

    def refresh(self) -> None:
        points = self.session.shown.get(self.session.choice.item, PointList)
        if points is None:
            return
        run = points.points[points.kept]
        self.title.setText(f"Points: {points.name}")
        self.about.setText(_words(points))
        if points.id not in self._limits and len(run) > 3:
            usual = usual_slip_limit(points.points, points.closed, points.is_out)
            self._limits[points.id] = max(usual, 0.001)
            self.limit.setValue(self._limits[points.id])
        ringed = len(self.session.choice.ringed)
        self.found.setText(f"{ringed} point{'s are' if ringed != 1 else ' is'} ringed.")
        self.found.setVisible(ringed > 0)
        free = not points.locked
        self.take.setEnabled(free and ringed > 0)
        self.back.setEnabled(free and len(points.out) > 0)
        self.order.setEnabled(free)
        self.closed.setEnabled(free and points.recipe is None)
        self.closed.set_value("closed" if points.closed else "open")
        self.loose.setVisible(points.recipe is not None)
        self.loose.setEnabled(free)
        self._offer_targets()
        trouble = self.session.trouble.get(points.id, "")
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))

    def _offer_targets(self) -> None:
        job = self.session.job
        wanted = [(words, (onto, "")) for onto, words in ONTO]
        wanted += [(shape.name, ("shape", shape.id)) for shape in job.all(Shape)]
        wanted += [(scan.name, ("scan", scan.id)) for scan in job.all(Scan)]
        if [self.onto.itemText(i) for i in range(self.onto.count())] != [w for w, _ in wanted]:
            self.onto.clear()
            for words, data in wanted:
                self.onto.addItem(words, data)
        self._say_drop()

    def _say_drop(self) -> None:
        """Say what bringing points down onto a plane drops, before it is done."""
        points, data = self._points(), self.onto.currentData()
        if points is None or data is None or not len(points.kept):
            return
        onto = data[0]
        self.at.setEnabled(onto in ("xy", "yz", "zx"))
        words = ""
        if onto in ("xy", "yz", "zx", "x", "y", "z"):
            gone = [axis for axis in "xyz" if axis not in onto]
            spans = np.ptp(points.points[points.kept], axis=0)
            words = " and ".join(f"{axis} spans {spans['xyz'.index(axis)]:.3g} mm" for axis in gone)
            words += " and is dropped." if len(gone) == 1 else " and are dropped."
        self.drops.setText(words)


def _words(points: PointList) -> str:
    run = points.points[points.kept]
    ring = np.concatenate([run, run[:1]]) if points.closed else run
    length = float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum())
    out = f", {len(points.out)} taken out" if len(points.out) else ""
    kind = "a closed" if points.closed else "an open"
    tied = "; follows it" if points.recipe is not None else ""
    where = f" from {points.source}{tied}" if points.source else ""
    return f"{thousands(len(run))} points{out}; {kind} run of {length:.1f} mm{where}"
