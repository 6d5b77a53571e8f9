"""Which keys mean something to a view while a hand drags in it, or sets marks."""

from __future__ import annotations

from PySide6.QtGui import QKeyEvent

# What holds a drag to a direction.
HOLDS = ("x", "y", "z", "n", "l", "f", "u", "v", "t")
BACK = "\x08"
NUMBER = "0123456789.,-"


def holds(event: QKeyEvent) -> bool:
    """Tell whether a key means something while a drag runs: what holds it, or how far it goes."""
    return begins_number(event) or event.text().lower() in (*HOLDS, BACK)


def begins_number(event: QKeyEvent) -> bool:
    """Tell whether a number begins with a key."""
    return bool(event.text()) and event.text() in NUMBER
