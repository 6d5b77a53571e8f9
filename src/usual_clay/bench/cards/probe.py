"""A touch probe: points come in live, are paused, taken back, and finished into a list."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QTimer

from usual_clay.bench.cards.card import Card
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, Tile, button, label, number
from usual_clay.core.arrays import Floats
from usual_clay.core.points.lay import closes_smoothly
from usual_clay.files.errors import FileError
from usual_clay.files.point_stream import PointStream
from usual_clay.job.items import PointList

EVERY = 50


class ProbeCard(Card):
    """Records a `PointStream`: the stand-in, or any other that is given."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Probe")
        self._done = done
        self.stream: PointStream | None = None
        self._given: PointStream | None = None
        self.recorded: Floats = np.zeros((0, 3))
        # Whether it was asked if the points are to be forgotten.
        self._asked = False
        self.spacing = number(0.1, 20, 2, " mm", "From one point to the next", "Spacing")
        self.spacing.setValue(1.0)
        self.noise = number(0, 1, 3, " mm", "Standard deviation of the stand-in's noise", "Noise")
        self.noise.setValue(0.008)
        self.ball = number(0.1, 20, 2, " mm", "Diameter of the probe's ball", "Ball diameter")
        self.ball.setValue(3.0)
        self.slips = number(0, 20, 1, " %", "How often the stylus slips", "Slips")
        self.slips.setValue(1.0)
        self.settings = [
            Row("Spacing", self.spacing),
            Row("Noise", self.noise),
            Row("Ball", self.ball),
            Row("Slips", self.slips),
        ]
        for row in self.settings:
            self.column.addWidget(row)
        self.count = Tile()
        self.column.addWidget(self.count)
        self.go = button("Start", "Record points (Space pauses)", "main", clicked=self._go)
        self.take_back = button("Undo last", "Take the last point back", clicked=self._take_back)
        self.finish = button("Finish", "Keep the points as a list (Enter)", clicked=self.accept)
        self.drop = button("Cancel", "Forget them (Esc)", clicked=self.cancel)
        self.add_buttons(self.take_back, self.go)
        self.add_buttons(self.drop, self.finish)
        self.column.addWidget(
            label(
                "The list keeps the ball's centres. Its card moves them to the surface.",
                role="small",
                wraps=True,
            )
        )
        self.column.addStretch(1)
        self._timer = QTimer(self, interval=EVERY)
        self._timer.timeout.connect(self._take)

    def offer(self, stream: PointStream | None = None) -> None:
        """Be ready to record a stream; without one, the stand-in."""
        self._given = stream
        self._forget()
        for row in self.settings:
            row.setVisible(stream is None)
        self._show()

    @property
    def is_recording(self) -> bool:
        return self._timer.isActive()

    def _go(self) -> None:
        """Start, pause, or go on."""
        if self.is_recording:
            self._pause()
            return
        try:
            if self.stream is None:
                self.stream = self._given or self._stand_in()
            self.stream.start()
        except FileError as error:
            self.session.told.emit("trouble", str(error))
            return
        self._asked = False
        self._timer.start()
        self._show()

    def _stand_in(self) -> PointStream:
        from usual_clay.demo.probe import StandInProbe

        return StandInProbe(
            self.spacing.value(), self.noise.value(), self.ball.value(), self.slips.value()
        )

    def _pause(self) -> None:
        self._take()
        self._timer.stop()
        if self.stream is not None:
            self.stream.pause()
        self._show()

    def _take(self) -> None:
        if self.stream is None:
            return
        fresh = self.stream.take()
        if len(fresh):
            self.recorded = np.concatenate([self.recorded, fresh])
            self._propose()
        if self.stream.is_over:
            self._timer.stop()
            self._show()

    def _take_back(self) -> None:
        if self.is_recording:
            self._pause()
        self.recorded = self.recorded[:-1]
        self._propose()
        self._show()

    def _propose(self) -> None:
        """Show the points so far, live."""
        job = self.session.job
        points = self._list()
        self.session.propose(job.with_item(points) if len(self.recorded) > 1 else None)
        self._show_count()

    def _list(self) -> PointList:
        job, stream = self.session.job, self.stream
        name = "Probe run 1" if stream is None or self._given is None else stream.name
        return PointList(
            id=job.new_id("points"),
            name=job.free_name(name),
            points=self.recorded,
            closed=closes_smoothly(self.recorded),
            source="" if stream is None else stream.name,
        )

    def accept(self) -> None:
        """Finish: keep the points as a list."""
        if len(self.recorded) < 2:
            self.session.told.emit("trouble", "Record at least two points first.")
            return
        self._pause()
        made, ball = self._list(), 0.0 if self.stream is None else self.stream.ball
        self._forget()
        self._done()
        self.session.add(made, f"probe {len(made.points)} points")
        if ball:
            self.session.told.emit("news", f"{len(made.points)} centres of a ball of {ball:g} mm.")

    def cancel(self) -> None:
        """Forget the points; what was measured only when it is asked for twice."""
        self._pause()
        count = len(self.recorded)
        if count > 1 and not self._asked:
            self._asked = True
            self._show()
            self.session.told.emit(
                "trouble",
                f"{count} points are recorded: Esc again forgets them, Enter keeps them.",
            )
            return
        self._forget()
        self.session.propose(None)
        self._done()

    def _forget(self) -> None:
        self.stream, self.recorded, self._asked = None, np.zeros((0, 3)), False

    def refresh(self) -> None:
        self.about.setText(
            "A simulated probe on the demo lure's outline"
            if self._given is None
            else f"{self._given.name} records points"
        )

    def _show(self) -> None:
        started = self.stream is not None
        over = self.stream is not None and self.stream.is_over
        self.go.setText("Pause" if self.is_recording else "Resume" if started else "Start")
        self.go.setEnabled(not over)
        for row in self.settings:
            row.setEnabled(not started)
        self.drop.setText(f"Forget {len(self.recorded)}" if self._asked else "Cancel")
        self._show_count()

    def _show_count(self) -> None:
        count = len(self.recorded)
        self.take_back.setEnabled(count > 0)
        self.finish.setEnabled(count > 1)
        if count:
            x, y, z = self.recorded[-1]
            words = f"points; the last at {x:.2f}, {y:.2f}, {z:.2f}"
            self.count.show_figure(str(count), words.replace("-", "\N{MINUS SIGN}"))
        else:
            self.count.show_figure("0", "points", dim=True)
