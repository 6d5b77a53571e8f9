"""What can be made from curves and surfaces: all the tasks of the task card.

A task that follows adds items that follow their sources by a recipe; one that alters changes the
chosen item itself. One card shows any of them.
"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QPushButton

from usual_clay.bench.cards.alter_tasks import ALTER
from usual_clay.bench.cards.body_tasks import BODIES
from usual_clay.bench.cards.curve_tasks import CURVES
from usual_clay.bench.cards.measure_tasks import MEASURES
from usual_clay.bench.cards.surface_tasks import SURFACES
from usual_clay.bench.command import Commands

FOLLOW = {**CURVES, **SURFACES, **BODIES, **MEASURES}
TASKS = {**FOLLOW, **ALTER}


def task_buttons(
    rows: Sequence[Sequence[tuple[str, str]]], commands: Commands
) -> list[list[QPushButton]]:
    """Return rows of buttons that each begin a task."""
    return [
        [commands.button(f"task {kind}", f"{words} ...") for kind, words in row] for row in rows
    ]
