"""The card that ties a loose item again: what it lost, and what lies where that lay."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, button, combo
from usual_clay.core.errors import ClayError, sentence
from usual_clay.job.edits import ties
from usual_clay.job.items import Followed, ItemId
from usual_clay.job.job import Job

# What lies farther from where a lost source lay is not picked unasked, mm.
NEAR = 2.0
TOOLTIP = Qt.ItemDataRole.ToolTipRole


class TiesCard(Card):
    """A row for each lost source, with the nearest item offered first."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Tie again")
        self._done = done
        self._item: ItemId = ""
        self._lost: list[ties.Missing] = []
        self.boxes: list[QComboBox] = []
        self._body: QWidget | None = None
        self.place = QVBoxLayout()
        self.column.addLayout(self.place)
        self.others = QCheckBox("")
        self.others.setChecked(True)
        self.column.addWidget(self.others)
        self.add_say()
        self.keep = button("Tie again", "Let it follow these (Enter)", "main", clicked=self.accept)
        self.pin_buttons(button("Cancel", "Leave it loose (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)

    def offer(self, item: Followed) -> None:
        """Show what an item lost."""
        job = self.session.job
        self._item, self._lost = item.id, ties.missing(job, item)
        self.about.setText(_about(job, item))
        if self._body is not None:
            self._body.hide()
            self._body.deleteLater()
        self._body, self.boxes = QWidget(), []
        column = QVBoxLayout(self._body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for lost in self._lost:
            box = combo(f"What takes the place of {lost.role}")
            found = ties.offers(job, item, lost)
            for each in found:
                near = "" if each.away != each.away else f"{each.away:.2f} mm: "
                box.addItem(f"{near}{each.name}", each.item)
                box.setItemData(box.count() - 1, "How far from where the lost one lay", TOOLTIP)
            box.addItem("none yet", "")
            if not (found and found[0].away < NEAR):
                box.setCurrentIndex(box.count() - 1)
            box.currentIndexChanged.connect(lambda _index: self._light())
            column.addWidget(Row(lost.role, box, stretch=0))
            self.boxes.append(box)
        self.place.addWidget(self._body)
        also = self._also()
        self.others.setVisible(bool(also))
        if also:
            self.others.setText(f"{ties.words_of(also)} too")
            self.others.setToolTip("They followed the same, and are loose as well")
        ready = bool(self._lost) or item.former is not None
        self.say("", "" if ready else "Nothing that it follows is gone.")
        self.keep.setEnabled(ready)
        self._light()

    def _also(self) -> list[Followed]:
        job = self.session.job
        item = job.the(self._item, Followed)
        found = {
            other.id: other
            for lost in self._lost
            for other in ties.lost_the_same(job, item, lost.source)
        }
        return list(found.values())

    def _light(self) -> None:
        """Show on the stage what is picked."""
        job = self.session.job
        picked = [job.items.get(str(box.currentData())) for box in self.boxes]
        places = [ties.places_of(job, each) for each in picked if each is not None]
        self.session.sight.light([each for each in places if each is not None])

    def accept(self) -> None:
        """Tie it to what is picked; others that lost the same too, where they are to."""
        session, job = self.session, self.session.job
        picked = {
            lost.source: str(box.currentData())
            for lost, box in zip(self._lost, self.boxes, strict=True)
            if box.currentData()
        }
        if not picked and self._lost:
            self.say("", "Pick what it is to follow.")
            return
        items = [job.the(self._item, Followed)]
        if self.others.isVisible() and self.others.isChecked():
            items += self._also()
        if not all(session.may_change(item) for item in items):
            return
        try:
            for item in items:
                job = ties.tied_again(job, job.the(item.id, Followed), picked)
        except ClayError as error:
            self.say("", sentence(error))
            return
        self._close()
        session.commit(job, f"tie {ties.words_of(items)} again")
        session.choice.choose(items[0].id)

    def cancel(self) -> None:
        self._close()

    def _close(self) -> None:
        self.session.sight.light([])
        self._done()


def _about(job: Job, item: Followed) -> str:
    if item.recipe is not None or item.former is None:
        return f"{item.name} is loose: what it followed is gone. It keeps its shape."
    sources = [job.items[each] for each in item.former.sources if each in job.items]
    followed = f" It followed {ties.words_of(sources)}." if sources else ""
    return (
        f"{item.name} stands by itself.{followed} Tied again it is made anew: what was shaped by"
        " hand goes."
    )
