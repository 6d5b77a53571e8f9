"""What a gesture is sent, and what starts it."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane


@dataclass(frozen=True)
class Pointer:
    """One press, move or release; x and y in the view's pixels."""

    kind: Literal["press", "move", "release"]
    x: float
    y: float
    shift: bool = False
    ctrl: bool = False


# A running gesture: it is sent pointers until it returns.
Gesture = Generator[None, Pointer, None]
Start = Callable[["Pane", Pointer], Gesture]


def until_release() -> Generator[None, Pointer, Pointer]:
    """Let moves pass; give the release."""
    while True:
        event = yield
        if event.kind == "release":
            return event
