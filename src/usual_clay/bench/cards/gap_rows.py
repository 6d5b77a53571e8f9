"""A body's gaps and troubled places: a row for each, which flies there, and rings on the stage."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from usual_clay.bench.session import Session
from usual_clay.bench.sight import Sign
from usual_clay.bench.widgets import button, label
from usual_clay.core.body.body_shape import EdgeGap, Spot

# So many rows are shown; the widest gaps are first.
MOST = 10
# How wide a row is before the card has its width, pixels.
WIDE = 290
# Edges nearer than this touch, mm.
TOUCH = 1e-4


class GapRows(QWidget):
    """One line a gap: between which, how wide, at which angle, and whether it was joined."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(2)
        self._shown: tuple[object, ...] = ()
        self.rows: list[QWidget] = []

    def show_gaps(self, gaps: Sequence[EdgeGap], spots: Sequence[Spot]) -> None:
        """Show what there is; nothing where all edges touch."""
        told = [gap for gap in gaps if gap.gap > TOUCH or not gap.closed]
        # Where a gap is told, its spot says nothing more.
        places = {gap.at for gap in told}
        rest = [spot for spot in spots if spot.at not in places]
        shown = (*told, *rest)
        if shown == self._shown:
            return
        self._shown = shown
        for row in self.rows:
            row.deleteLater()
        self.rows = []
        if told:
            still = sum(not gap.closed for gap in told)
            words = f"{len(told)} gaps" if len(told) > 1 else "1 gap"
            self._add(label(f"{words}, {still} open. A click flies there.", role="small"))
        for gap in told[:MOST]:
            self._add(self._row(*_gap_words(gap), gap.at))
        if len(told) > MOST:
            self._add(label(f"and {len(told) - MOST} narrower ones", role="small"))
        for spot in rest[:MOST]:
            self._add(self._row(spot.words, spot.words, spot.at))
        self.setVisible(bool(self.rows))

    def _row(self, words: str, tip: str, at: tuple[float, float, float]) -> QWidget:
        row = button("", tip, role="row", clicked=partial(self._fly, at))
        row.setText(
            row.fontMetrics().elidedText(
                words, Qt.TextElideMode.ElideRight, max(self.width(), WIDE)
            )
        )
        row.setAccessibleName(tip)
        return row

    def _fly(self, at: tuple[float, float, float]) -> None:
        self.session.sight.show_signs([Sign("here", np.array([at]), ring=True)])
        self.session.sight.wanted.emit(np.array(at))

    def _add(self, row: QWidget) -> None:
        self.rows.append(row)
        self._column.addWidget(row)


def _gap_words(gap: EdgeGap) -> tuple[str, str]:
    """Return a line for a gap, and all that there is to say of it."""
    state = "joined" if gap.closed else "open"
    if not np.isfinite(gap.gap):
        first = gap.between.removesuffix(" and nothing")
        return f"{first}: free edge, open", f"{first}: nothing lies beside this edge"
    angle = f"{np.degrees(gap.angle):.1f}°"
    return (
        f"{gap.gap:.3f} mm  {angle}  {state}  {gap.between}",
        f"{gap.between}: {gap.gap:.4f} mm, at {angle}, over {gap.length:.1f} mm, {state}",
    )


def signs_of_body(gaps: Sequence[EdgeGap], spots: Sequence[Spot]) -> list[Sign]:
    """Return rings round what is open, and round what could not be made."""
    signs = [
        Sign(f"{gap.gap:.3f} mm" if np.isfinite(gap.gap) else "open", np.array([gap.at]), ring=True)
        for gap in gaps
        if not gap.closed
    ]
    open_at = {gap.at for gap in gaps if not gap.closed}
    return signs + [
        Sign("", np.array([spot.at]), ring=True) for spot in spots if spot.at not in open_at
    ]
