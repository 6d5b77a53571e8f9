"""The card of combs on all that is made: a plane dragged through it, or its isocurves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.fields import Fields, Figure, Pick, Sweep
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button
from usual_clay.core.check.comb import CombLine
from usual_clay.core.check.cut_comb import words_of
from usual_clay.job.checking import checked_items
from usual_clay.job.combs import CombSettings, Parts, combs

OWNER = "combs"
FIELDS = (
    Pick("along", "Square to", tuple((a, a, f"A plane square to {a}") for a in "xyz"),
         tuple((f"along {a}", a, f"Isocurves of surfaces along {a}") for a in "uv")),
    Sweep("at", "Plane at", "From one end of all that is visible to the other", 0, 1, 0.005),
    Figure("count", "Isocurves", "How many on each surface", 1, 60, 0, ""),
    Sweep("length", "Quills", "How long they are", 0.1, 5, 0.1, " ×"),
)  # fmt: skip


class CombsCard(Card):
    """Combs run on across the joints of all that is cut."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Combs on cuts")
        self._done = done
        self._settings = CombSettings()
        self._shown: tuple[object, ...] = ()
        self._known: dict[int, Parts] = {}
        self.lines: list[CombLine] = []
        self.about.setText("The curvature of all visible surfaces and bodies, across their joints.")
        self.fields = Fields(
            FIELDS, lambda settings: ["at"] if settings.along in "uv" else ["count"]
        )
        self.fields.changed.connect(self._set)
        self.fields.show_settings(self._settings)
        self.column.addWidget(self.fields)
        self.add_say()
        self.pin_buttons(button("Close", "Put it away (Esc)", clicked=self.cancel), says=True)
        self.column.addStretch(1)

    def offer(self) -> None:
        """Cut what is visible."""
        self._shown = ()
        self.refresh()

    def _set(self) -> None:
        self._settings = self.read_fields(self.fields, self._settings)
        self.fields.show_settings(self._settings)
        if self.session.sight.combs:
            self.session.sight.show_combs(self.lines, self._settings.length)
        self.refresh()

    def refresh(self) -> None:
        job, settings = self.session.shown, self._settings
        items = checked_items(job)
        # How long quills are is the view's own matter.
        shown = (replace(settings, length=1.0), *map(id, items))
        if shown == self._shown or not self.isVisible():
            return
        self._shown = shown
        # What is gone is not kept; another thing could come to the same identity.
        known = {key: parts for key, parts in self._known.items() if key in map(id, items)}

        def came(lines: list[CombLine]) -> None:
            if self._shown == shown and self.isVisible():
                self._known, self.lines = known, lines
                self.session.sight.show_combs(lines, self._settings.length)
                self.say(words_of(lines), "")

        self.session.work.start(
            OWNER, "cut", "", lambda *_: combs(job, settings, known), came,
            failed=self.say_failed, asked=True,
        )  # fmt: skip

    def cancel(self) -> None:
        self.session.work.drop(OWNER)
        self.session.sight.show_combs([], 1.0)
        self._shown, self._known = (), {}
        self._done()
