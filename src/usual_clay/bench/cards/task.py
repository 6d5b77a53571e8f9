"""The card of one task: pick its sources, set its few numbers, see the result, keep it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from usual_clay.bench.cards.body_tasks import BODIES
from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.fields import Fields
from usual_clay.bench.cards.gap_rows import signs_of_body
from usual_clay.bench.cards.mark_places import mark_places
from usual_clay.bench.cards.role_rows import RoleRows
from usual_clay.bench.cards.task_kinds import Task
from usual_clay.bench.cards.task_made import Plan, with_made
from usual_clay.bench.cards.tasks import TASKS
from usual_clay.bench.session import Session
from usual_clay.bench.sight import Sign
from usual_clay.bench.widgets import Row, button, number
from usual_clay.core.apart import ready
from usual_clay.core.body.body_shape import BodyMade
from usual_clay.core.build.alter import SplitSettings
from usual_clay.core.build.alter_surface import SECOND
from usual_clay.core.build.guide import Spend
from usual_clay.core.check.deviation import percent
from usual_clay.core.errors import sentence
from usual_clay.core.spline.boundary import Border
from usual_clay.job.edits import make
from usual_clay.job.edits.edges import with_edge
from usual_clay.job.items import Curve, Item, ItemId, Surface
from usual_clay.job.job import Job
from usual_clay.job.made import SurfaceMade
from usual_clay.job.recipe_kind import recipe_problem
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import make as make_by

# Whose requests its previews are.
OWNER = "task card"
# The share of a source over which its arrow runs.
ARROW = 0.12
# Of these it does not matter which way they run.
UNTOLD = ("side", "guide", "points")


class TaskCard(Card):
    """Shows any of the tasks; what it would make is on the stage at once, and kept by Enter."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session)
        self._done = done
        self.kind, self.task = "", next(iter(TASKS.values()))
        self._settings: Any = None
        self._shown: tuple = ()
        # Kept, so that what is told apart by its identity stays where it is.
        self._geometry: tuple = ()
        self._made: list[Any] = []
        # A job, what becomes of it with what was made, and what of that to choose.
        self._put: tuple[Job, Job, ItemId | None] | None = None
        self._pages: dict[str, tuple[QWidget, RoleRows, Fields, Any]] = {}
        self.body = QVBoxLayout()
        self.column.addLayout(self.body)
        self.add_say()
        self.keep = button("Keep", "Keep what is shown (Enter)", "main", clicked=self.accept)
        cancel = button("Cancel", "Drop it (Esc)", clicked=self.cancel)
        self.pin_buttons(cancel, self.keep, says=True)
        self.column.addStretch(1)
        session.hand.offered.connect(self._take)
        session.hand.edge_offered.connect(self._take_edge)

    @property
    def sources(self) -> list[QComboBox]:
        """The boxes in which sources are picked."""
        return self.rows.boxes

    def offer(self, kind: str) -> None:
        """Begin a task with the chosen item as its first source."""
        self.kind, self.task = kind, TASKS[kind]
        self._settings, self._shown, self._made = self._start(self.task), (), []
        if kind not in self._pages:
            self._pages[kind] = self._build(self.task)
            self.body.addWidget(self._pages[kind][0])
        for name, page in self._pages.items():
            page[0].setVisible(name == kind)
        _, self.rows, self.fields, self.several = self._pages[kind]
        self.title.setText(self.task.title)
        self.about.setText(self.task.about)
        self.fields.show_settings(self._settings)
        if self.several is not None:
            self.several.setValue(self.task.several.start)  # type: ignore[union-attr]
        self.rows.offer()
        self.rows.prefer(self.session.choice.item)
        if kind in BODIES:
            # The kernel is loaded while sources are picked.
            ready("OCP.OCP")
        if self.task.alter is None:
            self.session.hand.take("sources")
        self.refresh()

    def _start(self, task: Task) -> Any:
        """Return the settings to begin with; tolerances are the job's."""
        settings = task.settings
        tolerance = self.session.job.tolerance.deviation
        if hasattr(settings, "band"):
            settings = replace(settings, band=tolerance)
        if self.kind in ("slim", "arc", "cover") or isinstance(settings, Spend):
            settings = replace(settings, within=tolerance)
        curve = self.session.job.get(self.session.choice.item, Curve)
        if curve is not None and self.kind in ("offset", "split curve"):
            flat = "xyz"[int(np.argmin(np.ptp(curve.geometry.points, axis=0)))]
            far = "xyz"[int(np.argmax(np.ptp(curve.geometry.points, axis=0)))]
            settings = replace(
                settings, **({"normal": flat} if self.kind == "offset" else {"axis": far})
            )
        if isinstance(settings, SplitSettings) and self.session.choice.points:
            settings = replace(settings, point=min(self.session.choice.points), rule="point")
        return settings

    def _build(self, task: Task) -> tuple[QWidget, RoleRows, Fields, Any]:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        rows = RoleRows(self.session, task.takes)
        rows.changed.connect(self.refresh)
        column.addWidget(rows)
        fields = Fields(task.fields, task.hides)
        fields.changed.connect(self._set)
        fields.marks_wanted.connect(lambda field: mark_places(self.session, fields, field))
        column.addWidget(fields)
        several = None
        if task.several is not None:
            more = task.several
            several = number(more.low, more.high, more.decimals, more.unit, more.tip, more.label)
            several.valueChanged.connect(lambda _value: self.refresh())
            column.addWidget(Row(more.label, several))
        return page, rows, fields, several

    def _set(self) -> None:
        self._settings = self.read_fields(self.fields, self._settings)
        self.fields.show_settings(self._settings)
        self.refresh()

    # ---- sources -------------------------------------------------------------------------

    @property
    def _hidden(self) -> Sequence[str]:
        """The fields and roles that mean nothing as the settings are."""
        return () if self.task.hides is None else self.task.hides(self._settings)

    def _picked(self) -> tuple[ItemId, ...]:
        return self.rows.picked(self._hidden)

    def _roles(self) -> dict[str, Any]:
        """Return what is picked for each role of the recipe."""
        return self.rows.roles(self._hidden)

    def _take(self, item_id: ItemId) -> None:
        """Take what was clicked on the stage."""
        if self.kind and self.isVisible() and item_id in self.session.job.items:
            self.rows.take(item_id, self._hidden, self.task.parts)

    def _take_edge(self, item_id: ItemId, border: Border) -> None:
        """Take an edge of a surface as a curve that follows it; where no curve is asked for, it."""
        if not self.kind or not self.isVisible() or item_id not in self.session.job.items:
            return
        if not self.rows.take_any(Curve, self._hidden):
            self._take(item_id)
            return
        job, edge = with_edge(self.session.job, item_id, border)
        if job is not self.session.job:
            self.session.commit(job, f"take {edge.name}")
            self.rows.offer()
        self._take(edge.id)

    # ---- the result ----------------------------------------------------------------------

    def refresh(self) -> None:
        if not self.kind:
            return
        self.rows.offer()
        picked = self._picked()
        job = self.session.job
        geometry = tuple(getattr(job.items[i], "geometry", job.items[i]) for i in picked)
        self.rows.show_rows(self._hidden)
        more = 1.0 if self.several is None else self.several.value()
        shown = (self.kind, *picked, self._settings, more, *map(id, geometry))
        if shown == self._shown:
            return
        self._shown, self._geometry = shown, geometry
        self._made = []
        self.keep.setEnabled(False)
        self.session.sight.show_signs([])
        self.session.propose(None)
        if lacks := self._lacks(picked):
            self.say("", lacks)
            return
        self._compute(picked, more)

    def _lacks(self, picked: tuple[ItemId, ...]) -> str:
        """Say what is still to be picked, if anything is."""
        if len(set(picked)) < len(picked):
            return "Choose different ones: one is taken twice."
        if len(picked) < sum(not take.optional for take in self.task.takes):
            return "Choose what it is made from."
        if self.task.alter is None:
            return sentence(recipe_problem(kind_of(self.kind), self._roles()))
        return ""

    def _compute(self, picked: tuple[ItemId, ...], more: float) -> None:
        task, kind, shown = self.task, self.kind, self._shown
        settings = [self._settings]
        if task.several is not None:
            settings = task.several.spread(self._settings, more)
        session = self.session
        if task.alter is None:
            planned = [make.planned(session.job, kind, each, **self._roles()) for each in settings]
            recipes = [item.recipe for item in planned if item.recipe is not None]
            given = session.sources.given(recipes[0])
        sources = [session.sources.one(each) for each in picked]
        wanted, before, plan = self._settings, session.job, self._plan(picked)

        def compute(*_: object) -> tuple[list[tuple[Any, Any]], Job, ItemId | None]:
            if task.alter is not None:
                results = [task.alter(wanted, sources)]
            else:
                results = [make_by(recipe, given) for recipe in recipes]
            made = list(zip(settings, results, strict=False))
            # To measure what has come about takes longest.
            return made, *with_made(before, plan, made)

        def came(found: tuple[list[tuple[Any, Any]], Job, ItemId | None]) -> None:
            if self._shown is shown and self.isVisible():
                self._made, job, chosen = found
                self._put = before, job, chosen
                if session.job is not before:
                    job, chosen = self._with(session.job)
                self.keep.setEnabled(True)
                first = self._made[0][1]
                self.say("; ".join(filter(None, [first.words, self._judged(job, chosen)])), "")
                self.session.propose(job)
                self.session.sight.show_signs(self._signs(first))

        def failed(error: Exception) -> None:
            if self._shown is shown and self.isVisible():
                self.say_failed(error)
                at = getattr(error, "at", None)
                if at is not None:
                    self.session.sight.show_signs([Sign("here", np.array([at]), ring=True)])

        self.say("Working ...", "")
        session.work.start(OWNER, "preview", "", compute, came, failed=failed, asked=True)

    def _plan(self, picked: tuple[ItemId, ...]) -> Plan:
        return Plan(self.kind, self.task, picked, self._roles())

    def _with(self, job: Job) -> tuple[Job, ItemId | None]:
        """Return a job with what was made, and what of it to choose."""
        if self._put is None or self._put[0] is not job:
            self._put = job, *with_made(job, self._plan(self._picked()), self._made)
        return self._put[1:]

    def _signs(self, made: Any) -> list[Sign]:
        """Return what says how sources run on the surface, and where they do not quite touch."""
        if isinstance(made, BodyMade):
            return signs_of_body(made.gaps, made.spots)
        if not isinstance(made, SurfaceMade):
            return []
        flips = getattr(self._settings, "flips", None)
        signs = []
        for name, places in made.runs.items():
            word, _, count = name.partition(" ")
            if word in UNTOLD:
                continue
            turn = None
            if flips is not None and word == "section":
                turn = partial(self._flip, int(count))
            arrow = places[: max(2, round(ARROW * len(places)))]
            signs.append(Sign(name, arrow, clicked=turn))
        least = 0.1 * getattr(self._settings, "within", 0.0)
        return signs + [
            Sign(f"{gap.gap:.3f} mm", np.array([gap.at]), ring=True)
            for gap in made.gaps
            if gap.gap > least
        ]

    def _flip(self, count: int) -> None:
        """Let a section run the other way."""
        now = set(self._settings.flips) ^ {count}
        self._settings = replace(self._settings, flips=tuple(sorted(now)))
        self.refresh()

    def _judged(self, job: Job, chosen: ItemId | None) -> str:
        """Say how far what measures an altered surface lies from it."""
        surface = job.get(chosen, Surface)
        report = None if surface is None else job.report(surface)
        if report is None:
            return ""
        assert surface is not None
        share = percent(job.tolerance.share)
        what = "what measures it" if surface.by_area else "its curves"
        return f"{share} of {what} lie within {report.at_share:.3f} mm"

    def end_marking(self) -> bool:
        """Put the marks down and take sources again; tell whether there were any."""
        if self.session.hand.marking is None:
            return False
        self.session.hand.take("sources")
        return True

    def accept(self) -> None:
        """Keep what is shown."""
        if not self._made:
            return
        picked = self._picked()
        first = self.session.job.items[picked[0]].name if picked else ""
        words = self.words.text()
        changed = self._changed()
        if not all(self.session.may_change(item) for item in changed):
            return
        job, chosen = self._with(self.session.job)
        what = self.task.name.format(first)
        self._close()
        self.session.commit(job, what)
        self.session.choice.choose(chosen)
        self.session.choice.choose_points(())
        if words:
            self.session.told.emit("news", words)

    def _changed(self) -> list[Item]:
        """Return the items that what is shown changes."""
        job, picked = self.session.job, self._picked()
        if self.task.alter is None or self.kind == "arc":
            return []
        both = any(SECOND in made.names for _, made in self._made)
        return [job.items[each] for each in picked[: 2 if both else 1]]

    def cancel(self) -> None:
        self._close()
        self.session.propose(None)

    def _close(self) -> None:
        self._shown, self.kind, self._put = (), "", None
        self.session.work.drop(OWNER)
        self.session.sight.show_signs([])
        if self.session.hand.tool in ("sources", "mark"):
            self.session.hand.take(None)
        self._done()
