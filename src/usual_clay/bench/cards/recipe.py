"""The card of whatever a recipe made, from its settings and roles, where there is no better one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields
from typing import Any, Literal, get_args, get_origin, get_type_hints

from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card, Figures
from usual_clay.bench.cards.fields import Field, Fields, Figure, Pick
from usual_clay.bench.cards.mark_places import mark_places
from usual_clay.bench.cards.role_rows import RoleRows
from usual_clay.bench.cards.task_kinds import takes_of
from usual_clay.bench.cards.tasks import FOLLOW
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.making import set_settings
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button, label
from usual_clay.core.check.deviation import percent
from usual_clay.core.errors import ClayError, sentence
from usual_clay.job.edits import make
from usual_clay.job.edits.surfaces import away_from_curves
from usual_clay.job.items import Fitted, Followed, Judged, Surface
from usual_clay.job.recipe_kind import Kind
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import is_stale


def fields_of(settings: type) -> tuple[Field, ...]:
    """Return a field for each setting that a card can show: numbers, words, yes and no."""
    hints = get_type_hints(settings)
    made: list[Field] = []
    for each in fields(settings):
        hint, words = hints[each.name], each.name.replace("_", " ").capitalize()
        if get_origin(hint) is Literal:
            options = tuple(
                (str(v) or "none", v, f"{words}: {v or 'none'}") for v in get_args(hint)
            )
            made.append(Pick(each.name, words, options))
        elif hint is bool:
            made.append(Pick(each.name, words, (("no", False, "No"), ("yes", True, "Yes"))))
        elif hint is int:
            made.append(Figure(each.name, words, words, -1e6, 1e6, 0, ""))
        elif hint is float:
            made.append(Figure(each.name, words, words, -1e6, 1e6, 4, ""))
    return tuple(made)


MEET_HINT = (
    "<b>Click</b> where the patches meet, or <b>drag</b> the mark. <b>Esc</b> when it is as you"
    " want it."
)
OWNER = "recipe card"
MEASURED = "How far its curves lie off is being measured."
# Curves of which the card says how far they lie off.
MOST_TOLD = 4


class RecipeCard(Card):
    """Roles to pick anew, settings that change it live, and its figures."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self._commands = commands
        self._pages: dict[str, tuple[QWidget, RoleRows, Fields]] = {}
        self._kind = ""
        self.body = QVBoxLayout()
        self.column.addLayout(self.body)
        self.figures = Figures()
        self.near, self.far = self.figures.near, self.figures.far
        self.column.addWidget(self.figures)
        self.sources = label(role="soft", wraps=True)
        self.column.addWidget(self.sources)
        self._off: tuple[object, str] = (None, "")
        self.add_say()
        self.loose = commands.button("set loose")
        self.again = commands.button("tie again")
        self.search = commands.button("to tolerance", "To tolerance")
        self.meet = button(
            "Meeting place ...",
            "Click or drag on the stage where the patches of this opening meet",
            clicked=self._mark,
        )
        self.add_buttons(self.meet)
        self.pin_buttons(self.search, self.again, self.loose)
        self.column.addStretch(1)

    def _item(self) -> Followed | None:
        return self.session.shown.get(self.session.choice.item, Followed)

    def _page(self, kind: Kind) -> tuple[QWidget, RoleRows, Fields]:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        rows = RoleRows(self.session, takes_of(kind.roles))
        rows.changed.connect(self._tie)
        column.addWidget(rows)
        task = FOLLOW.get(kind.name)
        shown = (
            Fields(fields_of(kind.settings)) if task is None else Fields(task.fields, task.hides)
        )
        shown.changed.connect(self._set)
        shown.marks_wanted.connect(lambda field: mark_places(self.session, shown, field))
        column.addWidget(shown)
        self.body.addWidget(page)
        return page, rows, shown

    def refresh(self) -> None:
        item, session = self._item(), self.session
        if item is None or item.recipe is None:
            return
        kind = kind_of(item.recipe.kind)
        if kind.name not in self._pages:
            self._pages[kind.name] = self._page(kind)
        self._kind = kind.name
        for name, page in self._pages.items():
            page[0].setVisible(name == kind.name)
        _, rows, shown = self._pages[kind.name]
        self.title.setText(f"{kind.title}: {item.name}")
        loose = session.job.is_loose(item)
        self.about.setText(kind.about if not loose else f"{kind.about}; loose: a source is gone")
        rows.offer(item.id)
        rows.show_roles(item.recipe.roles)
        rows.show_rows(self._hidden(item))
        rows.setEnabled(not item.locked)
        self.again.setVisible(loose)
        shown.show_settings(item.recipe.settings)
        shown.setEnabled(not item.locked and not loose)
        self.search.setVisible(kind.search is not None)
        self.meet.setVisible(bool(make.patches_with(session.job, item)))
        self.loose.setEnabled(not item.locked)
        self._show_figures(item)

    def _hidden(self, item: Followed) -> Sequence[str]:
        """The fields and roles that mean nothing as the settings are."""
        assert item.recipe is not None
        task = FOLLOW.get(item.recipe.kind)
        return () if task is None or task.hides is None else task.hides(item.recipe.settings)

    def _show_figures(self, item: Followed) -> None:
        job, stale = self.session.shown, is_stale(self.session.shown, item)
        report = job.report(item) if isinstance(item, Judged) else None
        cost = item.control_points if isinstance(item, Fitted) else None
        self.figures.setVisible(report is not None or cost is not None)
        if report is not None:
            words = "being made" if stale else f"{percent(job.tolerance.share)} are nearer"
            self.near.show_figure(f"{report.at_share:.3f} mm", words, stale)
            self.far.show_figure(f"{report.max:.3f} mm", "farthest point", stale)
        elif cost is not None:
            self.near.show_figure(str(cost), "being made" if stale else "control points", stale)
        self.far.setVisible(report is not None)
        self._show_sources(item)
        trouble = self.session.trouble.get(item.id, "") if stale else ""
        self.say(self.session.notes.get(item.id, ""), trouble)

    def _show_sources(self, item: Followed) -> None:
        """Say how far each curve lies off, which are followed by rule only in the mean."""
        kind = None if item.recipe is None else kind_of(item.recipe.kind)
        tells = isinstance(item, Surface) and kind is not None and kind.live is not None
        self.sources.setVisible(tells)
        if not tells or self.session.is_proposing:
            return
        assert isinstance(item, Surface)
        if self._off[0] != (item.geometry, self.session.job.tolerance.share):
            self._measure_sources(item)
        self.sources.setText(self._off[1])

    def _measure_sources(self, item: Surface) -> None:
        """Measure off the interface's thread how far the curves lie off."""
        job = self.session.job
        share = job.tolerance.share
        of = item.geometry, share
        self._off = of, MEASURED

        def came(off: list[tuple[str, float, float]]) -> None:
            told = [f"{name} {far:.3f} ({near:.3f})" for name, far, near in off[:MOST_TOLD]]
            more = f", and {len(off) - MOST_TOLD} nearer ones" if len(off) > MOST_TOLD else ""
            words = f"Farthest off, and {percent(share)} of it, mm: {', '.join(told)}{more}."
            if self._off[0] == of:
                self._off = of, words if told else ""
                self.sources.setText(self._off[1])

        self.session.work.start(
            OWNER, "sources", "", lambda *_: away_from_curves(job, item, share), came
        )

    def _set(self) -> None:
        item = self._item()
        if item is None or item.recipe is None:
            return
        shown = self._pages[self._kind][2]
        try:
            settings: Any = shown.settings(item.recipe.settings)
        except ClayError as error:
            self.session.told.emit("trouble", sentence(error))
            return
        set_settings(self.session, item, settings, f"{item.name}'s settings")

    def _mark(self) -> None:
        """Let the hand set where the patches of this opening meet."""
        session, item = self.session, self._item()
        if item is None or item.recipe is None:
            return

        def marked(marking: Marking) -> None:
            now = session.job.get(item.id, Followed)
            if now is not None and len(marking.places):
                place = tuple(float(x) for x in marking.points[0])
                session.commit(make.with_middle(session.job, now, place), "meeting place")

        middle = item.recipe.settings.middle
        places = (middle,) if middle else ()
        session.hand.mark(Marking(MEET_HINT, 1, places=places, changed=marked, in_view=True))

    def _tie(self) -> None:
        """Let what is picked take the roles."""
        session, item = self.session, self._item()
        if item is None or item.recipe is None or not session.may_change(item):
            return
        job, recipe = session.job, item.recipe
        roles = self._pages[self._kind][1].roles()
        try:
            for role in kind_of(recipe.kind).roles:
                ids = tuple(roles.get(role.name, ()))
                lost = any(each not in job.items for each in recipe.all(role.name))
                # What is gone is not left out unasked, unless something takes its place.
                if ids != recipe.all(role.name) and (ids or not lost):
                    job = make.tied(job, job.the(item.id, Followed), role.name, *ids)
        except ClayError as error:
            session.told.emit("trouble", sentence(error))
            return
        if job is not session.job:
            session.commit(job, f"tie {item.name} again")
