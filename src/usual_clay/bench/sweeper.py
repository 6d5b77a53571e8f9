"""Garbage is collected in the interface thread alone.

What the window lets go of is often held in circles, timers and widgets among it. Collected in the
middle of a worker's allocation these would end in a thread that is not theirs, and a timer that
still runs would then fire into nothing.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

from usual_clay.core.memory import give_back

# How often young garbage is looked for, ms, and every how many times all of it.
EVERY, ALL_OF_IT = 1000, 15


class Sweeper(QTimer):
    """Collects garbage now and then, in its own thread, in place of the interpreter."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent, interval=EVERY)
        self._times = 0
        gc.disable()
        # What is there from the start is no garbage, and need not be looked at each time.
        gc.freeze()
        self.timeout.connect(self.sweep)
        self.start()

    def sweep(self) -> None:
        self._times += 1
        if self._times % ALL_OF_IT:
            gc.collect(1)
            return
        gc.collect(2)
        give_back()
