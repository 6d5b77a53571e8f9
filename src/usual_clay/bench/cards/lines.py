"""The card of a lines plan: all that is made, cut square to each axis, on the stage and a sheet."""

from __future__ import annotations

from collections.abc import Callable

from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.fields import Fields, Figure, Figures
from usual_clay.bench.documents import Documents
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button
from usual_clay.core.check.lines_plan import LinesPlan, LinesSettings
from usual_clay.job.checking import checked_items
from usual_clay.job.drawing import plan_of, with_lines
from usual_clay.job.items import Surface

OWNER = "lines"
FIELDS = tuple(
    Figure(axis, words, f"How many {words.lower()}, evenly along {axis}", 0, 200, 0, "")
    for axis, words in (("x", "Sections"), ("y", "Lengthwise cuts"), ("z", "Waterlines"))
) + tuple(
    Figures(f"at_{axis}", f"At {axis}", f"Places along {axis} in their stead; empty for even ones",
            " mm", optional=True)
    for axis in "xyz"
)  # fmt: skip


class LinesCard(Card):
    """Stations along each axis, live on the stage."""

    def __init__(self, session: Session, done: Callable[[], None], documents: Documents) -> None:
        super().__init__(session, "Lines plan")
        self._done, self._documents = done, documents
        self._settings = LinesSettings()
        self._shown: tuple[object, ...] = ()
        self.plan: LinesPlan | None = None
        self.about.setText("All visible surfaces and bodies, cut square to each axis.")
        self.fields = Fields(FIELDS)
        self.fields.changed.connect(self._set)
        self.fields.show_settings(self._settings)
        self.column.addWidget(self.fields)
        self.add_say()
        self.keep = button(
            "Keep as curves", "Keep cuts of surfaces as curves that follow them", clicked=self._keep
        )
        self.sheet = button("Write sheet ...", "SVG, DXF or PDF, at true scale", "main",
                            clicked=self._write)  # fmt: skip
        self.pin_buttons(button("Close", "Put it away (Esc)", clicked=self.cancel), self.keep,
                         self.sheet, says=True)  # fmt: skip
        self.column.addStretch(1)

    def offer(self) -> None:
        """Cut what is visible."""
        self._shown = ()
        self.refresh()

    def _set(self) -> None:
        self._settings = self.read_fields(self.fields, self._settings)
        self.refresh()

    def refresh(self) -> None:
        job = self.session.shown
        items = checked_items(job)
        shapes = [item.geometry if isinstance(item, Surface) else item.shape for item in items]
        shown = (self._settings, job.tolerance, *map(id, shapes))
        if shown == self._shown or not self.isVisible():
            return
        self._shown, settings = shown, self._settings

        def came(plan: LinesPlan) -> None:
            if self._shown == shown and self.isVisible():
                self.plan = plan
                self.session.sight.light([line for each in plan.stations for line in each.lines])
                count = len(plan.stations)
                self.say(f"{count} station{'s' if count != 1 else ''}.", "")
                self._allow()

        def failed(error: Exception) -> None:
            if self._shown == shown:
                self.plan = None
                self.session.sight.light([])
                self.say_failed(error)
                self._allow()

        self.say("Cutting ...", "")
        self.session.work.start(
            OWNER, "cut", "Cutting lines", lambda *_: plan_of(job, settings), came, failed=failed,
            asked=True,
        )  # fmt: skip

    def _allow(self) -> None:
        self.sheet.setEnabled(self.plan is not None)
        self.keep.setEnabled(self.plan is not None and any(self.session.job.all(Surface)))

    def _keep(self) -> None:
        plan, job = self.plan, self.session.job
        if plan is None:
            return

        def came(made: tuple[object, int]) -> None:
            kept, count = made
            if self.session.job is job:
                self.session.commit(kept, f"keep {count} lines")  # type: ignore[arg-type]
                self.session.told.emit("news", f"{count} curves are kept; they follow.")

        self.session.work.start(
            OWNER, "keep", "Keeping lines", lambda progress, _: with_lines(job, plan, progress),
            came, failed=self.say_failed, asked=True,
        )  # fmt: skip

    def _write(self) -> None:
        if self.plan is not None:
            self._documents.sheet(self.plan)

    def cancel(self) -> None:
        self.session.work.drop(OWNER)
        self.session.sight.light([])
        self._shown = ()
        self._done()
