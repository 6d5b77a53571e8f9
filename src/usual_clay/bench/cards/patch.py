"""Four borders for a patch: drawn on the scan corner by corner, or picked from the curves."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.patches import add_patch
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, button, combo, fill, number
from usual_clay.core.check.deviation import judge, percent
from usual_clay.core.errors import sentence
from usual_clay.core.fit.patch.patch import PatchFit, PatchSettings
from usual_clay.core.spline.basis import SplineError
from usual_clay.job.edits.make import with_result
from usual_clay.job.edits.patches import bordered, legs_of, new_patch
from usual_clay.job.items import Curve, Scan, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import given_for, make

WAYS = (
    ("draw", "Click the corners on the scan; borders follow the scan between them"),
    ("pick", "Choose four curves that meet end to end"),
)
HINT = (
    "<b>Click</b> four corners on the scan, in order round. <b>Shift+click</b> sets a point on the"
    " way to the next corner. <b>Drag</b> moves one. <b>Enter</b> keeps the patch."
)
MOST = 400


# Whose requests its previews are.
OWNER = "patch card"


class PatchCard(Card):
    """The borders follow each click; with the fourth corner the patch is shown, too."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Four-corner patch")
        self._done = done
        self._shown: tuple = ()
        self._job: Job | None = None
        self._surface: Surface | None = None
        self.way = Choice(WAYS)
        self.way.chosen.connect(self._set_way)
        self.column.addWidget(Row("Borders", self.way))
        self.scan = combo("The scan inside the borders")
        self.scan.currentIndexChanged.connect(lambda _index: self.refresh())
        self.scan_row = Row("Scan", self.scan, stretch=0)
        self.column.addWidget(self.scan_row)
        self.sides: list[QComboBox] = []
        self.side_rows = []
        for k in range(4):
            box = combo(f"Border {k + 1}")
            box.currentIndexChanged.connect(lambda _index: self.refresh())
            self.sides.append(box)
            self.side_rows.append(Row(f"Border {k + 1}", box, stretch=0))
            self.column.addWidget(self.side_rows[-1])
        self.closing = number(
            0,
            100,
            3,
            " mm",
            "Ends up to so far apart are closed: both go to their middle",
            "Gaps up to",
            90,
        )
        self.closing.setValue(PatchSettings().closing)
        self.closing.valueChanged.connect(lambda _value: self.refresh())
        self.side_rows.append(Row("Gaps up to", self.closing))
        self.column.addWidget(self.side_rows[-1])
        self.back = button("Take back", "Take the last point back", clicked=self.take_back)
        self.add_buttons(self.back)
        self.add_say()
        self.keep = button(
            "Keep", "Keep the borders and the patch (Enter)", "main", clicked=self.accept
        )
        self.pin_buttons(button("Cancel", "Drop it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)
        self._way = "draw"

    def offer(self) -> None:
        """Be ready for the first corner."""
        self._shown, self._job, self._surface = (), None, None
        self._set_way("draw")

    def _set_way(self, way: str) -> None:
        self._way = way
        self.way.set_value(way)
        drawn = way == "draw"
        for row in self.side_rows:
            row.setVisible(not drawn)
        self.back.setVisible(drawn)
        self._forget(("turning",))
        if drawn:
            self.session.hand.mark(
                Marking(
                    HINT, MOST, changed=lambda _m: self.refresh(), snaps=True, passing=frozenset()
                )
            )
        else:
            self.session.hand.mark(None)
            self._prefer()
        self.refresh()

    def _prefer(self) -> None:
        """Offer four different curves to begin with."""
        self._fill()
        for k, box in enumerate(self.sides):
            box.blockSignals(True)
            box.setCurrentIndex(min(k, box.count() - 1))
            box.blockSignals(False)

    def _fill(self) -> None:
        job = self.session.job
        for box, kind in ((self.scan, Scan), *((box, Curve) for box in self.sides)):
            box.blockSignals(True)
            fill(box, list(job.all(kind)))
            box.blockSignals(False)
        self.scan_row.setVisible(self.scan.count() > 1)

    def _forget(self, shown: tuple = ()) -> None:
        self._shown, self._job, self._surface = shown, None, None
        self.keep.setEnabled(False)
        self.session.propose(None)

    def take_back(self) -> None:
        marking = self.session.hand.marking
        if marking is not None and marking.places:
            self.session.hand.set_marking(marking.without_last())
            self.refresh()

    # ---- what it would make --------------------------------------------------------------

    def refresh(self) -> None:
        session = self.session
        self._fill()
        scan = session.job.get(str(self.scan.currentData()), Scan)
        if scan is None or (self._way == "draw" and session.hand.marking is None):
            return
        marking = session.hand.marking
        corners = [] if marking is None else marking.corners
        if self._way == "draw":
            self.about.setText(
                f"{len(corners)} of 4 corners set"
                if len(corners) < 4
                else "4 corners set; Shift+click adds points to the last border"
            )
            self.back.setEnabled(bool(marking and marking.places))
            shown: tuple = ("draw", scan.id, marking and marking.places, tuple(corners))
        else:
            self.about.setText("four curves, in any order and direction")
            picked = [session.job.get(str(box.currentData()), Curve) for box in self.sides]
            shapes = (None if curve is None else curve.geometry for curve in picked)
            shown = ("pick", scan.id, self.closing.value(), *shapes)
        if shown == self._shown or session.hand.dragging is not None:
            return
        self._forget(shown)
        self._propose(scan, corners)

    def _propose(self, scan: Scan, corners: list[int]) -> None:
        """Show the borders at once, and the patch as soon as it is fitted."""
        session, job = self.session, self.session.job
        if self._way == "pick":
            picked = [job.get(str(box.currentData()), Curve) for box in self.sides]
            borders = [curve for curve in picked if curve is not None]
            if len({curve.id for curve in borders}) < 4:
                self.say("", "Choose four different curves.")
                return
        else:
            marking = session.hand.marking
            if marking is None or len(marking.places) < 2 or len(corners) > 4:
                too_many = marking is not None and len(corners) > 4
                self.say(
                    "", "A patch has four corners: take the last one back." if too_many else ""
                )
                return
            legs = legs_of(marking.points, corners)
            legs = legs if len(corners) == 4 else legs[:-1]
            try:
                job, borders = bordered(job, scan, [leg for leg in legs if len(leg) > 1])
            except SplineError as error:
                self.say("", sentence(error))
                return
            session.propose(job)
            if len(corners) < 4:
                self.say("", "")
                return
        self._fit(job, new_patch(job, scan, borders, self.closing.value()))

    def _fit(self, job: Job, surface: Surface) -> None:
        shown, recipe = self._shown, surface.recipe
        assert recipe is not None
        given = given_for(job, recipe)

        def came(made: PatchFit) -> None:
            if self._shown is not shown or not self.isVisible():
                return
            with_patch, whole = with_result(job, surface, made)
            self._job, self._surface = job, with_patch.get(whole.id, Surface)
            report = judge(made.feet.signed, job.tolerance, made.areas)
            nu, nv = made.surface.counts
            told = (
                f"{nu} × {nv} control points; {percent(job.tolerance.share)} of"
                f" the area inside lies within {report.at_share:.3f} mm"
            )
            self.say("; ".join(filter(None, [told, made.words])), "")
            self.keep.setEnabled(True)
            self.session.propose(with_patch)

        def failed(error: Exception) -> None:
            if self._shown is shown and self.isVisible():
                self.say_failed(error)

        self.say("Working ...", "")
        self.session.work.start(
            OWNER,
            "preview",
            "",
            lambda progress, _: make(recipe, given, progress),
            came,
            failed=failed,
            asked=True,
        )

    def accept(self) -> None:
        """Keep the borders and the patch."""
        if self._job is None or self._surface is None:
            return
        job, surface = self._job, self._surface
        self._close()
        add_patch(self.session, job, surface, f"patch {surface.name}")

    def cancel(self) -> None:
        self._close()
        self.session.propose(None)

    def _close(self) -> None:
        self._shown, self._job, self._surface = (), None, None
        self.session.work.drop(OWNER)
        self.session.hand.mark(None)
        self._done()
