"""The card that moves, turns, scales and mirrors: whole things, or the chosen points of one."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QTimer

from usual_clay.bench.cards.card import Card
from usual_clay.bench.cards.fields import Fields, Figure, Figures, Pick
from usual_clay.bench.cards.role_rows import RoleRows
from usual_clay.bench.cards.task_kinds import ANY_NUMBER, AXES, Take
from usual_clay.bench.placing import Placing
from usual_clay.bench.session import Session
from usual_clay.bench.sight import Sign
from usual_clay.bench.widgets import button
from usual_clay.core.arrays import Floats
from usual_clay.core.build.affine import Affine, PlaceSettings, affine_of, stays_of
from usual_clay.core.check.live import LiveFeet
from usual_clay.core.errors import ClayError, sentence
from usual_clay.job.edits.placing import MOVABLE, middle_of, placed
from usual_clay.job.edits.shaping import places_of, with_places
from usual_clay.job.edits.surfaces import live_of_surface
from usual_clay.job.guides import axis_of
from usual_clay.job.items import Curve, Item, ItemId, Shape, Surface
from usual_clay.job.job import Job

DEGREES = float(np.pi / 180)
FIELDS = (
    Pick("does", "Does", (("move", "move", "Move"), ("turn", "turn", "Turn about an axis"),
                          ("scale", "scale", "Scale, along each axis by its own factor"),
                          ("mirror", "mirror", "Mirror in a plane"))),
    Figures("by", "By", "Along x; y; z", " mm"),
    Figure("angle", "Turns by", "About the axis", -3600, 3600, 2, "°", DEGREES),
    Figures("factors", "Scales by", "Along x; y; z: 0.5 is half as large, 1 leaves it"),
    Pick("axis", "Axis", AXES),
    Pick("about", "Stays", (("its middle", "middle", "The middle of the box round it"),
                            ("0", "origin", "The origin"), ("a place", "place", "A place"))),
    Figures("place", "The place", "x; y; z", " mm"),
    Figure("copies", "Copies", "So many, each moved once more; 0 moves the thing itself", 0, 99, 0,
           ""),
)  # fmt: skip
# How long the arrows are, as a share of what they move.
ARROW = 0.35
# Whose requests its measuring is, and so long nothing has moved before it, ms.
OWNER, REST = "place card", 150

# A job, what was moved in it, and what the user should know.
Moved = tuple[Job, list[ItemId], str]


def _hides(settings: PlaceSettings) -> list[str]:
    does = settings.does
    hidden = {
        "move": ["angle", "factors", "axis", "about", "place", "line"],
        "turn": ["by", "factors"],
        "scale": ["by", "angle", "axis", "line"],
        "mirror": ["by", "angle", "factors"],
    }[does]
    return hidden if settings.about == "place" else [*hidden, "place"]


class PlaceCard(Card):
    """What is moved, how, and the result on the stage at once."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Move")
        self._done = done
        self._settings = PlaceSettings()
        self._points: frozenset[int] = frozenset()
        self._item: ItemId = ""
        self._made: Moved | None = None
        things = [Take(f"Thing {k + 1}", MOVABLE, k > 0, "things", True) for k in range(ANY_NUMBER)]
        line = Take("About the line", (Curve, Shape), True, "line")
        self.rows = RoleRows(session, [*things, line])
        self.rows.changed.connect(self.refresh)
        self.column.addWidget(self.rows)
        self.fields = Fields(FIELDS, _hides)
        self.fields.changed.connect(self._set)
        self.column.addWidget(self.fields)
        self.add_say()
        self.keep = button("Keep", "Keep it so (Enter)", "main", clicked=self.accept)
        self.pin_buttons(button("Cancel", "Drop it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)
        session.hand.offered.connect(self._take)
        self._open = False
        self._shown: tuple = ()
        self._lives: dict[ItemId, tuple[Item, LiveFeet | None]] = {}
        self._move: Callable[[bool], Moved]
        self._still = QTimer(self, singleShot=True, interval=REST)
        self._still.timeout.connect(self._measure)

    def offer(self, does: str = "move") -> None:
        """Begin with the chosen item, or with the chosen points of it."""
        session = self.session
        self._open, self._shown = True, ()
        self._settings = PlaceSettings(does=does)  # type: ignore[arg-type]
        item = session.choice.fitted()
        self._points = session.choice.points if item is not None else frozenset()
        self._item = "" if item is None else item.id
        self.rows.offer()
        self.rows.prefer(session.choice.item)
        if session.choice.item is None:
            self.rows.show_roles({})
        self.fields.show_settings(self._settings)
        session.hand.take("place")
        self.refresh()

    @property
    def _hidden(self) -> list[str]:
        hidden = [name for name in _hides(self._settings) if name == "line"]
        return [*hidden, "things"] if self._points else hidden

    def _take(self, item_id: ItemId) -> None:
        if self._open and self.isVisible() and item_id in self.session.job.items:
            self.rows.take(item_id, self._hidden)

    def _set(self) -> None:
        self.set_settings(self.read_fields(self.fields, self._settings))

    def set_settings(self, settings: PlaceSettings) -> None:
        """Show what the hand has done."""
        self._settings = settings
        self.fields.show_settings(settings)
        self.refresh()

    def refresh(self) -> None:
        if not self._open or not self.isVisible():
            return
        self.rows.offer()
        self.rows.show_rows(self._hidden)
        job, session = self.session.job, self.session
        many = len(self._points)
        name = job.items[self._item].name if self._item in job.items else ""
        self.about.setText(
            f"{many} chosen points of {name}" if many else "Whole things, by drag or by numbers"
        )
        roles = self.rows.roles(self._hidden)
        shown = (self._settings, self._points, self._item, str(roles), *map(id, job.items.values()))
        if shown == self._shown:
            return
        self._shown, self._made = shown, None
        self.keep.setEnabled(False)
        try:
            found = self._places()
            if found is None:
                self.say("", "Choose what is moved: in the rows above, or by a click on the stage.")
                session.sight.show_signs([])
                return
            middle, size = found
            affine = affine_of(self._settings, middle, self._line())
            self._move = self._mover(job, affine)
            self._made = self._move(True)
        except ClayError as error:
            self.say("", sentence(error))
            return
        self.say(self._made[2], "")
        self.keep.setEnabled(True)
        session.propose(self._made[0])
        self._still.start()
        stays = middle if self._settings.does == "move" else stays_of(self._settings, middle)
        session.hand.placing = Placing(self._settings, stays, self._by_hand)
        at = affine.apply(middle) if self._settings.does == "move" else stays
        session.sight.show_signs(
            [
                Sign(axis, at + np.linspace(0, ARROW * size, 8)[:, None] * way, at_tip=True)
                for axis, way in zip("xyz", np.eye(3), strict=True)
            ]
        )

    def _by_hand(self, settings: PlaceSettings) -> None:
        held = self.session.hand.placing
        self.set_settings(settings)
        # A drag adds to how it stood when it began.
        if self.session.hand.dragging is not None:
            self.session.hand.placing = held

    def _places(self) -> tuple[Floats, float] | None:
        """Return the middle and the size of what is moved."""
        job = self.session.job
        if self._points:
            item = job.get(self._item, Curve) or self.session.choice.fitted()
            if item is None:
                return None
            places = places_of(item, self.session.choice.point_kind)
            own = places[[k for k in sorted(self._points) if k < len(places)]]
            size = max(float(np.ptp(own, axis=0).max()), 0.2 * float(np.ptp(places, axis=0).max()))
            return own.mean(axis=0), size
        items = [job.items[each] for each in self.rows.roles(self._hidden).get("things", [])]
        if not items:
            return None
        middle = middle_of(job, items)
        spans = [
            float(np.ptp(item.geometry.points.reshape(-1, 3), axis=0).max())
            for item in items
            if hasattr(item, "geometry") and hasattr(item.geometry, "points")
        ]
        return middle, max([*spans, 10.0])

    def _line(self) -> tuple[Floats, Floats] | None:
        job = self.session.job
        picked = self.rows.roles(self._hidden).get("line", [])
        if not picked:
            return None
        item = job.items[picked[0]]
        assert isinstance(item, (Curve, Shape))
        return axis_of(item.geometry)

    def _mover(self, job: Job, affine: Affine) -> Callable[[bool], Moved]:
        """Return what moves things: quickly, or so that what judges surfaces is measured."""
        if not self._points:
            ids, copies = self.rows.roles(self._hidden)["things"], self._settings.copies
            lives = {each: self._live(job.items[each]) for each in ids}
            return lambda quick: placed(job, ids, affine, copies, lives if quick else {})
        item = job.items[self._item]
        assert hasattr(item, "geometry")
        kind, live = self.session.choice.point_kind, self._live(item)
        places = places_of(item, kind).copy()  # type: ignore[arg-type]
        which = [k for k in sorted(self._points) if k < len(places)]
        places[which] = affine.apply(places[which])

        def move(quick: bool) -> Moved:
            own = live if quick else None
            made = with_places(job, item, kind, places, own)  # type: ignore[arg-type]
            return job.with_item(made), [item.id], ""

        return move

    def _measure(self) -> None:
        """Show the same with surfaces measured, once the hand has come to rest: feet that are
        followed go astray where much has moved or turned over."""
        before, move = self._made, self._move
        if before is None or not any(live for _, live in self._lives.values()):
            return

        def came(found: Moved) -> None:
            if self._made is before and self._open:
                self._made = found
                self.session.propose(found[0])

        self.session.work.start(OWNER, "measure", "", lambda *_: move(False), came)

    def _live(self, item: Item) -> LiveFeet | None:
        """Return the feet of what judges a surface, found once for all moves of a hand."""
        if not isinstance(item, Surface):
            return None
        known = self._lives.get(item.id)
        if known is None or known[0] is not item:
            known = self._lives[item.id] = item, live_of_surface(self.session.job, item)
        return known[1]

    def accept(self) -> None:
        """Keep what is shown."""
        if self._made is None:
            return
        job, ids, words = self._made
        session = self.session
        if not self._settings.copies and not all(
            session.may_change(session.job.items[each]) for each in ids
        ):
            return
        points = self._points
        self._close()
        session.commit(job, f"{self._settings.does} {job.items[ids[0]].name}")
        session.choice.choose(ids[0])
        if points:
            session.choice.choose_points(points)
        if words:
            session.told.emit("news", sentence(words))

    def cancel(self) -> None:
        self._close()
        self.session.propose(None)

    def _close(self) -> None:
        self._open = False
        self._lives.clear()
        self._still.stop()
        self.session.work.drop(OWNER)
        self.session.sight.show_signs([])
        self.session.hand.placing = None
        if self.session.hand.tool == "place":
            self.session.hand.take(None)
        self._done()
