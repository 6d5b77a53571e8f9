"""The agreement check: where references contradict each other, and what would mend it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card
from usual_clay.bench.edits.scans import ask
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button, label
from usual_clay.core.picture.agreement import Difference
from usual_clay.files.picture_file import shown_pixels
from usual_clay.job.edits.pictures import brought_into_line, compare
from usual_clay.job.items import Picture

VERBS = {"size": "Rescale", "turn": "Turn", "place": "Move"}
MOST_AGREED = 6


class AgreementCard(Card):
    """Compares what is visible, says so in words, and mends only on a click."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Do the references agree?")
        self.cancel = done
        self._job: object = None
        self.about.setText(
            "Visible pictures, closed runs and scans are compared along the axes they share."
        )
        self.found: list[Difference] = []
        self.body = QWidget()
        self.rows = QVBoxLayout(self.body)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setSpacing(6)
        self.column.addWidget(self.body)
        self.column.addWidget(button("Close", "Back to the chosen item (Esc)", clicked=done))
        self.column.addStretch(1)

    def accept(self) -> None:
        self.cancel()

    def refresh(self) -> None:
        job = self.session.job
        if job is self._job or not self.isVisible():
            return
        self._job = job
        ask(
            self.session,
            "agreement",
            "compare",
            "Comparing references",
            lambda: compare(job, shown_pixels),
            self._show,
        )

    def _show(self, found: list[Difference]) -> None:
        self.found = found
        while (item := self.rows.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        matters = [difference for difference in found if difference.matters]
        if not found:
            words = "There are no two references to compare: show two or more of pictures, closed"
            self.rows.addWidget(label(f"{words} runs and scans.", "soft", True))
        groups: dict[tuple[str, str, int], list[Difference]] = {}
        for difference in matters:
            axis = difference.axis if difference.kind == "place" else 0
            groups.setdefault((difference.first, difference.kind, axis), []).append(difference)
        for group in groups.values():
            self._add(group)
        agreed = [difference for difference in found if not difference.matters]
        if agreed:
            words = "\n".join(difference.words for difference in agreed[:MOST_AGREED])
            more = len(agreed) - MOST_AGREED
            words += f"\nand {more} more that agree" if more > 0 else ""
            self.rows.addWidget(label("In agreement", role="group"))
            self.rows.addWidget(label(words, role="small", wraps=True))

    def _add(self, group: list[Difference]) -> None:
        """Show what contradicts one reference in one way, and what would mend it."""
        words = "\n".join(difference.words for difference in group)
        self.rows.addWidget(label(words, role="trouble", wraps=True))
        mending = [difference for difference in group if difference.mends]
        if not mending:
            words = "Both were scaled by a known length: look which of the lengths is right."
            self.rows.addWidget(label(words, role="small", wraps=True))
            return
        # The middle one of what the others say.
        difference = sorted(mending, key=lambda d: d.amount)[len(mending) // 2]
        picture = self.session.job.get(difference.first, Picture)
        if picture is None:
            return
        verb = VERBS[difference.kind]
        amounts = {
            "size": f"{100 * (difference.amount - 1):+.1f} %",
            "turn": f"{difference.amount * 57.29578:+.2f}°",
            "place": f"{difference.amount:+.2f} mm",
        }
        words = f"{verb} {picture.name}, {amounts[difference.kind]}".replace("-", "\N{MINUS SIGN}")
        self.rows.addWidget(
            button(
                words,
                f"{verb} the picture so that both agree; nothing else changes",
                clicked=lambda: self._mend(difference),
            )
        )
        # Of two pictures either may be the one that is off.
        other = self.session.job.get(difference.second, Picture)
        sized = difference.kind == "size" and len(group) == 1
        if other is not None and sized and not other.scaled:
            turned = _turned_over(difference)
            words = f"or {verb.lower()} {other.name}, {100 * (turned.amount - 1):+.1f} %"
            self.rows.addWidget(
                button(
                    words.replace("-", "\N{MINUS SIGN}"),
                    "Change the other one instead",
                    clicked=lambda: self._mend(turned),
                )
            )

    def _mend(self, difference: Difference) -> None:
        picture = self.session.job.get(difference.first, Picture)
        if picture is not None:
            now = brought_into_line(picture, difference)
            words = f"{VERBS[difference.kind].lower()} {picture.name} to agree"
            self.session.change(picture, words, placement=now)


def _turned_over(difference: Difference) -> Difference:
    """Return a difference in size as one of the other picture's."""
    return replace(
        difference, first=difference.second, second=difference.first, amount=1 / difference.amount
    )
