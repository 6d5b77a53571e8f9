"""Two curves as one: a bridge between their ends, or a curve in space from two views."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QVBoxLayout

from usual_clay.bench.cards.paged import PagedCard
from usual_clay.bench.edits.curves import add_following
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Choice, Row, Slide, button, combo, fill, label, number
from usual_clay.core.build.combine import BridgeSettings, PairSettings
from usual_clay.job.items import Curve

SMOOTH = (
    ("G0", "Meets in place"), ("G1", "Meets in tangent"), ("G2", "Meets in curvature"),
    ("G3", "Meets in the change of curvature"),
)  # fmt: skip
ENDS = (("start", "The curve's start"), ("end", "The curve's end"))


class JoinCard(PagedCard):
    """Bridges and pairs; what is made follows both curves."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        self._picked = {"first": ("end", "G2"), "second": ("start", "G2")}
        self._axis, self._match = "x", "as drawn"
        super().__init__(session, "Join two curves", (
            ("bridge", "A curve from an end of one to an end of the other", self._build_bridge),
            ("pair into space", "One curve in space from two that are drawn in two true views",
             self._build_pair),
        ))  # fmt: skip
        self.cancel = done
        self.column.addWidget(button("Close", "Back (Esc)", clicked=done))
        self.column.addStretch(1)

    def _build_bridge(self, column: QVBoxLayout) -> None:
        self.first, self.second = combo("First curve"), combo("Second curve")
        self.strength: dict[str, Slide] = {}
        for name, part in (("first", self.first), ("second", self.second)):
            ends, smooth = Choice(ENDS), Choice(SMOOTH)
            ends.set_value(self._picked[name][0])
            smooth.set_value("G2")
            ends.chosen.connect(lambda word, name=name: self._pick(name, 0, word))
            smooth.chosen.connect(lambda word, name=name: self._pick(name, 1, word))
            self.strength[name] = Slide(0.1, 3, 0.05, tip="Length of the tangent there",
                                        name=f"Strength at the {name} curve")  # fmt: skip
            self.strength[name].set_value(1.0)
            column.addWidget(Row(f"{name.capitalize()} curve", part, stretch=0))
            column.addWidget(Row("", ends))
            column.addWidget(Row("", smooth))
            column.addWidget(Row("Strength", self.strength[name], stretch=0))
        column.addWidget(button("Bridge", "Add the bridge; it follows both", "main",
                                clicked=self._bridge))  # fmt: skip

    def _build_pair(self, column: QVBoxLayout) -> None:
        self.pair_first, self.pair_second = (
            combo("First view's curve"),
            combo("Second view's curve"),
        )
        self.axis = Choice([(name, f"Both views show {name}") for name in "xyz"])
        self.axis.set_value("x")
        self.axis.chosen.connect(self._set_axis)
        self.match = Choice([("as drawn", "Use the stretch that both have"),
                             ("match", "Stretch the second to the first's extent")])  # fmt: skip
        self.match.set_value("as drawn")
        self.match.chosen.connect(self._set_match)
        self.controls = number(4, 100, 0, "", "Control points of the curve in space", "Points", 60)
        self.controls.setValue(10)
        column.addWidget(label("One drawn from the side, the other from the top, say; both show one"
                               " axis.", "soft", True))  # fmt: skip
        column.addWidget(Row("First view", self.pair_first, stretch=0))
        column.addWidget(Row("Second view", self.pair_second, stretch=0))
        column.addWidget(Row("Shared axis", self.axis))
        column.addWidget(Row("Extents", self.match))
        column.addWidget(Row("Control points", self.controls))
        column.addWidget(button("Pair into space", "Add the curve; it follows both", "main",
                                clicked=self._pair))  # fmt: skip

    def _pick(self, name: str, place: int, word: str) -> None:
        picked = list(self._picked[name])
        picked[place] = word
        self._picked[name] = (picked[0], picked[1])

    def _set_axis(self, axis: str) -> None:
        self._axis = axis

    def _set_match(self, word: str) -> None:
        self._match = word

    def _two(self, first: QComboBox, second: QComboBox) -> tuple[Curve, Curve] | None:
        curves = (
            self.session.job.get(first.currentData(), Curve),
            self.session.job.get(second.currentData(), Curve),
        )
        if curves[0] is None or curves[1] is None or curves[0] is curves[1]:
            self.session.told.emit("trouble", "Choose two different curves.")
            return None
        return curves[0], curves[1]

    def _bridge(self) -> None:
        if (two := self._two(self.first, self.second)) is None:
            return
        (end_a, smooth_a), (end_b, smooth_b) = self._picked["first"], self._picked["second"]
        settings = BridgeSettings(
            int(end_a == "end"), int(end_b == "end"), int(smooth_a[1]), int(smooth_b[1]),  # type: ignore[arg-type]
            self.strength["first"].number.value(), self.strength["second"].number.value(),
        )  # fmt: skip
        self.cancel()
        add_following(self.session, "bridge", (two[0].id, two[1].id), settings, "Bridge 1")

    def _pair(self) -> None:
        if (two := self._two(self.pair_first, self.pair_second)) is None:
            return
        settings = PairSettings(self._axis, self._match == "match", int(self.controls.value()))  # type: ignore[arg-type]
        self.cancel()
        add_following(self.session, "pair", (two[0].id, two[1].id), settings, "Pair 1")

    def accept(self) -> None:
        """Do what the open page is for."""
        (self._bridge if self.pages["bridge"].isVisible() else self._pair)()

    def refresh(self) -> None:
        curves = list(self.session.job.all(Curve))
        self.about.setText(f"{len(curves)} curves to choose from")
        fresh = self.first.count() != len(curves)
        for part in (self.first, self.second, self.pair_first, self.pair_second):
            fill(part, curves)
        if fresh and len(curves) > 1:
            # Two different ones to begin with.
            for part in (self.second, self.pair_second):
                part.setCurrentIndex(1)
