"""What takes the roles of a recipe: rows to pick it in; clicks on the stage do the same."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from usual_clay.bench.cards.task_kinds import Take
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, combo, fill
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.job.items import Curve, Item, ItemId


class RoleRows(QWidget):
    """A row for each item that a role takes; of any number those taken are shown, and one more.

    Signals
    -------
    changed : the user has picked something
    """

    changed = Signal()

    def __init__(self, session: Session, takes: Sequence[Take]) -> None:
        super().__init__()
        self.session, self.takes = session, tuple(takes)
        self.boxes: list[QComboBox] = []
        self.rows: list[Row] = []
        # Boxes that were filled without being asked: a click on the stage may have them.
        self._guessed: set[int] = set()
        self._active = ""
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for index, take in enumerate(self.takes):
            box = combo(take.label)
            box.currentIndexChanged.connect(lambda _index, index=index: self._picked_in(index))
            self.boxes.append(box)
            self.rows.append(Row(take.label, box, stretch=0))
            column.addWidget(self.rows[-1])

    def offer(self, but: ItemId = "") -> None:
        """Offer what there is now, but for an item itself; what was picked stays."""
        job = self.session.job
        for take, box in zip(self.takes, self.boxes, strict=True):
            items = [i for kind in take.kinds for i in job.all(kind) if i.id != but]
            with QSignalBlocker(box):
                fill(box, items, "none" if take.optional else "")

    def prefer(self, chosen: ItemId | None) -> None:
        """Put the chosen item in the first row that takes it, and others in those that need one."""
        taken: set[str] = set()
        self._guessed, self._active = set(), ""
        first = next((k for k, box in enumerate(self.boxes) if box.findData(chosen) >= 0), None)
        if first is not None and chosen:
            taken.add(chosen)
        for index, (take, box) in enumerate(zip(self.takes, self.boxes, strict=True)):
            free = [i for k in range(box.count()) if (i := box.itemData(k)) and i not in taken]
            mine = bool(chosen) and index == first
            want = chosen if mine else "" if take.optional else (free or [""])[0]
            self._set(index, want or "")
            if not mine:
                self._guessed.add(index)
            taken.add(want or "")

    def show_roles(self, roles: Mapping[str, Sequence[ItemId]]) -> None:
        """Show what takes the roles; what is gone shows nothing."""
        self._guessed = set()
        for role in dict.fromkeys(take.role for take in self.takes):
            self._put(role, roles.get(role, ()))

    def show_rows(self, hidden: Collection[str] = ()) -> None:
        """Show the rows that mean something."""
        free: set[str] = set()
        for take, box, row in zip(self.takes, self.boxes, self.rows, strict=True):
            further = take.any_number and take.role in free
            if take.any_number and take.optional and not box.currentData():
                free.add(take.role)
            shown = take.role not in hidden or not take.role
            row.setVisible(shown and (not further or bool(box.currentData())))

    def picked(self, hidden: Collection[str] = ()) -> tuple[ItemId, ...]:
        """Return all that is picked, in the order of the rows."""
        return tuple(
            str(box.currentData())
            for take, box in zip(self.takes, self.boxes, strict=True)
            if box.currentData() and not (take.role and take.role in hidden)
        )

    def roles(self, hidden: Collection[str] = ()) -> dict[str, list[ItemId]]:
        """Return what is picked for each role of the recipe."""
        roles: dict[str, list[ItemId]] = {}
        for take, box in zip(self.takes, self.boxes, strict=True):
            if box.currentData() and take.role not in hidden:
                roles.setdefault(take.role, []).append(str(box.currentData()))
        return roles

    def take(
        self,
        item_id: ItemId,
        hidden: Collection[str] = (),
        parts: Callable[[Sequence[BSplineCurve]], dict[str, list[int]]] | None = None,
    ) -> bool:
        """Take an item that was clicked, or leave one out that was taken; tell whether it fits.

        Parameters
        ----------
        parts : callable, optional
            Parts all the curves that were picked among the roles.
        """
        taken = next(
            (
                k
                for k in range(len(self.boxes))
                if k not in self._guessed and self._in(k) == item_id
            ),
            None,
        )
        if taken is not None:
            role = self.takes[taken].role
            self._put(role, [each for each in self.roles().get(role, ()) if each != item_id])
        else:
            where = self._free_for(item_id, hidden)
            if where is None:
                return False
            for other in self._guessed - {where}:
                if self._in(other) == item_id:
                    self._set(other, "")
            self._guessed.discard(where)
            self._set(where, item_id)
            self._active = self.takes[where].role
            if parts is not None:
                self._part(parts)
        self.changed.emit()
        return True

    def take_any(self, kind: type[Item], hidden: Collection[str] = ()) -> bool:
        """Tell whether there are rows that take such items."""
        return any(kind in t.kinds and (not t.role or t.role not in hidden) for t in self.takes)

    def _part(self, parts: Callable[[Sequence[BSplineCurve]], dict[str, list[int]]]) -> None:
        """Let the curves that were picked take the roles that they are parted among."""
        picked = [
            curve
            for k in range(len(self.boxes))
            if k not in self._guessed and (curve := self.session.job.get(self._in(k), Curve))
        ]
        roles = parts([curve.geometry for curve in picked])
        for role, places in roles.items():
            self._put(role, [picked[place].id for place in places])
        # What is clicked next takes whichever row is free.
        self._active = ""
        self._guessed = {k for k in self._guessed if self.takes[k].role not in roles}

    def _in(self, index: int) -> ItemId:
        return str(self.boxes[index].currentData() or "")

    def _free_for(self, item_id: ItemId, hidden: Collection[str]) -> int | None:
        """Return the row that a clicked item takes: of the role picked last where that takes it."""
        fits = [
            index
            for index, (take, box) in enumerate(zip(self.takes, self.boxes, strict=True))
            if box.findData(item_id) >= 0
            and (take.role not in hidden or not take.role)
            and (not box.currentData() or index in self._guessed)
        ]
        mine = [index for index in fits if self.takes[index].role == self._active]
        must = [index for index in fits if not self.takes[index].optional]
        return next(iter(mine or must or fits), None)

    def _picked_in(self, index: int) -> None:
        self._guessed.discard(index)
        self._active = self.takes[index].role
        self.changed.emit()

    def _put(self, role: str, ids: Sequence[ItemId]) -> None:
        """Let items take the rows of a role, from the first."""
        mine = [index for index, take in enumerate(self.takes) if take.role == role]
        for place, index in enumerate(mine):
            self._set(index, ids[place] if place < len(ids) else "")

    def _set(self, index: int, item_id: ItemId) -> None:
        box = self.boxes[index]
        with QSignalBlocker(box):
            box.setCurrentIndex(box.findData(item_id))
