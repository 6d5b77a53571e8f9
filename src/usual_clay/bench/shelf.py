"""The Shelf: what is in the job, what it costs and how far it is off."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from usual_clay.bench.guard import Guarded
from usual_clay.bench.item_views import ITEM_VIEWS
from usual_clay.bench.session import Session
from usual_clay.bench.shelf_group import GroupHeading
from usual_clay.bench.shelf_row import ShelfRow, told_of
from usual_clay.bench.theme.theme import now, themes
from usual_clay.bench.widgets import Pace, label, set_look
from usual_clay.job.edits.arrange import members, placed_beside
from usual_clay.job.items import Item, ItemId
from usual_clay.job.job import Job
from usual_clay.job.kinds import ITEM_KINDS, whole_of


@dataclass(frozen=True)
class Under:
    """What stands under a heading, or in a group there; the group's look changes with the rest."""

    title: str
    group: str
    ids: tuple[ItemId, ...]
    folded: bool
    shown: bool


class Shelf(Guarded, QScrollArea):
    """All items by kind.

    Signals
    -------
    menu_wanted : an item's id, place on the screen
    """

    menu_wanted = Signal(str, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.rows: dict[ItemId, ShelfRow] = {}
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._body = body = QWidget()
        body.setObjectName("panel")
        self._column = QVBoxLayout(body)
        self._column.setContentsMargins(9, 8, 9, 8)
        self._column.setSpacing(1)
        self._column.addStretch(1)
        self._headings: list[QWidget] = []
        self.setWidget(body)
        # How the rows stand now: by heading and group; and what all of them were made for.
        self._groups: list[Under] = []
        self._folded: frozenset[str] = frozenset()
        self._marked_drop: QWidget | None = None
        self._made_for: tuple[object, object] | None = None
        self._chosen: ItemId | None = None
        self._marked: frozenset[ItemId] = frozenset()
        self._filter = ""
        pace = Pace(self, lambda: session.is_proposing, self.refresh)
        session.job_changed.connect(pace.ask)
        session.choice.changed.connect(pace.ask)
        themes.changed.connect(pace.ask)
        # New rows have their places only when the scroll bar knows of them.
        self.verticalScrollBar().rangeChanged.connect(lambda *_: self.show_chosen())
        self.refresh()

    def set_filter(self, words: str) -> None:
        """Show only what has these words in its name; none shows all."""
        self._filter = words.strip().lower()
        self.refresh()

    def refresh(self) -> None:
        """Make those rows anew whose items have changed; a drag changes one at each move."""
        job = self.session.shown
        made_for = (job.tolerance, now())
        anew = made_for != self._made_for
        self._made_for = made_for
        groups = self._wanted_groups(job)
        focused = next((key for key, row in self.rows.items() if row.hasFocus()), None)
        changed = renewed = False
        for item_id in [item_id for under in groups for item_id in under.ids]:
            item, old = job.items[item_id], self.rows.get(item_id)
            if old is None or anew or old.told != told_of(job, item):
                changed |= self._renew(item, old)
                renewed = True
        if changed or groups != self._groups:
            self._arrange(groups)
        if renewed:
            # Also for whoever goes through them by keys in the order that is seen.
            for before, after in pairwise(self.rows.values()):
                QWidget.setTabOrder(before, after)
        if focused in self.rows:
            self.rows[focused].setFocus()
        self._mark_chosen()

    def _wanted_groups(self, job: Job) -> list[Under]:
        groups = []
        for title, every in _groups(job).items():
            some = [item for item in every if self._filter in item.name.lower()]
            parts: dict[str, list[ItemId]] = {"": []}
            for item in some:
                parts.setdefault(_group_of(job, item), []).append(item.id)
            if some or (title in _EMPTY and not self._filter):
                # Those in no group stand first.
                groups += [
                    Under(title, group, tuple(ids), group in self._folded, _is_shown(job, group))
                    for group, ids in parts.items()
                    if ids or not group
                ]
        return groups

    def _renew(self, item: Item, old: ShelfRow | None) -> bool:
        """Make a row anew; tell whether it still needs a place."""
        row = ShelfRow(self.session, item)
        row.menu_wanted.connect(self.menu_wanted)
        row.reached.connect(self._choose_up_to)
        row.installEventFilter(self)
        row.dragged.connect(self._drag_over)
        row.dropped.connect(self._drop)
        self.rows[item.id] = row
        if old is None:
            return True
        at = self._column.indexOf(old)
        self._take_away(old)
        self._column.insertWidget(at, row)
        return False

    def _arrange(self, groups: list[Under]) -> None:
        """Put headings and rows into their order, those that stay as they are."""
        keep = {item_id for under in groups for item_id in under.ids}
        for item_id in [each for each in self.rows if each not in keep]:
            self._take_away(self.rows.pop(item_id))
        for heading in self._headings:
            self._take_away(heading)
        for row in self.rows.values():
            self._column.removeWidget(row)
        self._headings = []
        for under in groups:
            self._place_headings(under, any(u.title == under.title and u.ids for u in groups))
            for item_id in under.ids:
                self._place(self.rows[item_id])
                self.rows[item_id].setVisible(not under.folded)
        # In the order that is seen.
        ordered = [self.rows[item_id] for under in groups for item_id in under.ids]
        self.rows = {row.item.id: row for row in ordered}
        self._groups = groups
        # The new rows have no place yet: the chosen one is brought into sight when they do.
        QTimer.singleShot(0, self, self.show_chosen)

    def _place_headings(self, under: Under, filled: bool) -> None:
        """Put the headings over what stands under them, and words where that is nothing."""
        made: list[QWidget] = []
        if under.group:
            heading = GroupHeading(self.session, under.group, len(under.ids), under.folded)
            heading.folded.connect(self._fold)
            made = [heading]
        else:
            made = [label(under.title, role="group")]
            made[0].setContentsMargins(5, 6, 0, 2)
            if not filled:
                made.append(label(_EMPTY[under.title], role="small", wraps=True))
                made[1].setContentsMargins(5, 0, 5, 4)
        for widget in made:
            self._headings.append(widget)
            self._place(widget)

    def _fold(self, group: str) -> None:
        self._folded ^= {group}
        # The heading is made anew: its own event ends first.
        QTimer.singleShot(0, self, self.refresh)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let Esc end a drag of a row, and nothing else while it runs."""
        if (
            isinstance(watched, ShelfRow)
            and watched.drags
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.key() == Qt.Key.Key_Escape
        ):
            event.accept()
            return True
        return super().eventFilter(watched, event)

    # ---- order, by dragging --------------------------------------------------------------

    def _under(self, item_id: ItemId, at: QPoint) -> tuple[QWidget | None, bool]:
        """Return the row or group heading under the cursor where an item may go, and whether below.

        Things stand under the heading of their kind, where they are put in any order.
        """
        inside = self._body.mapFromGlobal(at)
        found: QWidget | None = self._body.childAt(inside)
        while found is not None and not isinstance(found, ShelfRow | GroupHeading):
            found = found.parentWidget()
        if isinstance(found, GroupHeading):
            return found, True
        if not isinstance(found, ShelfRow) or found.item.id == item_id:
            return None, False
        alike = self._title_of(found.item.id) == self._title_of(item_id)
        below = inside.y() > found.geometry().center().y()
        return (found, below) if alike and whole_of(found.item) is None else (None, False)

    def _title_of(self, item_id: ItemId) -> str:
        return next((under.title for under in self._groups if item_id in under.ids), "")

    def _drag_over(self, item_id: ItemId, at: QPoint | None) -> None:
        """Show where an item would be dropped."""
        target, below = (None, False) if at is None else self._under(item_id, at)
        if self._marked_drop is not None and self._marked_drop is not target:
            set_look(self._marked_drop, "drop", "")
        self._marked_drop = target
        if target is not None:
            set_look(target, "drop", "below" if below else "above")

    def _drop(self, item_id: ItemId, at: QPoint | None) -> None:
        self._drag_over(item_id, at)
        target, session = self._marked_drop, self.session
        self._drag_over(item_id, None)
        if isinstance(target, GroupHeading):
            session.set_group(item_id, target.group)
        elif isinstance(target, ShelfRow) and at is not None:
            title = self._title_of(item_id)
            column = [each for under in self._groups if under.title == title for each in under.ids
                      if whole_of(session.job.items[each]) is None]  # fmt: skip
            below = self._under(item_id, at)[1]
            ids = session.choice.besides(item_id)
            job = placed_beside(session.job, ids, target.item.id, below, column)
            if job is not session.job:
                session.commit(job, "order the Shelf")

    def _place(self, widget: QWidget) -> None:
        """Put a widget after all others, before the stretch that ends the column."""
        self._column.insertWidget(self._column.count() - 1, widget)

    def _take_away(self, widget: QWidget) -> None:
        """Take a widget out; it may be in the middle of an event of its own, which ends first."""
        if widget is self._marked_drop:
            self._marked_drop = None
        self._column.removeWidget(widget)
        widget.hide()
        widget.deleteLater()

    def _mark_chosen(self) -> None:
        chosen, every = self.session.choice.item, self.session.choice.every
        for item_id in self._marked | every:
            row = self.rows.get(item_id)
            if row is not None:
                set_look(row, "chosen", item_id in every)
        self._marked = every
        if chosen != self._chosen:
            self._chosen = chosen
            self.show_chosen()

    def _choose_up_to(self, item_id: ItemId) -> None:
        """Choose all from the chosen row to another, as they are seen."""
        choice, order = self.session.choice, list(self.rows)
        if choice.item not in order:
            choice.choose(item_id)
            return
        low, high = sorted((order.index(choice.item), order.index(item_id)))
        choice.choose_besides(order[low : high + 1])

    def show_chosen(self) -> None:
        """Scroll so that the chosen item's row is in sight."""
        row = self.rows.get(self.session.choice.item or "")
        if row is not None:
            self.ensureWidgetVisible(row, 0, 12)


def _group_of(job: Job, item: Item) -> str:
    whole = whole_of(item)
    return item.group if whole is None or whole not in job.items else job.items[whole].group


def _is_shown(job: Job, group: str) -> bool:
    return any(job.items[each].visible for each in members(job, group))


def _groups(job: Job) -> dict[str, list[Item]]:
    """Return the items by the headings of their kinds; regions stand under their scans."""
    groups: dict[str, list[Item]] = {}
    parts: dict[ItemId, list[Item]] = {}
    for item in job.items.values():
        whole = whole_of(item)
        if whole is not None:
            parts.setdefault(whole, []).append(item)
    for name, view in ITEM_VIEWS.items():
        kind = ITEM_KINDS[name]
        column = groups.setdefault(view.group, [])
        if kind.part_of is None:
            every = sorted(job.all(kind.item), key=lambda item: item.order or math.inf)
            for item in every:
                column += [item, *parts.get(item.id, [])]
    return groups


_EMPTY = {
    "References": "Nothing yet. Bring in a scan, pictures or points, or drop files on the window.",
    "Surfaces": "Nothing yet. Choose a region of a scan, then cast a surface over it.",
}
