"""What a gesture is sent, and what starts it."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Literal

from usual_clay.bench.canvas import Canvas
from usual_clay.job.items import Scan


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
Start = Callable[[Canvas, Pointer], Gesture]


def seed_under(pane: Canvas, press: Pointer) -> tuple[Scan, int] | None:
    """Return the scan under a press and its nearest vertex; where there is none, say why."""
    under = pane.scene.scan_under(*pane.view.ray(press.x, press.y))
    if under is None:
        pane.session.told.emit("trouble", pane.scene.why_no_scan("the cursor"))
        return None
    scan, hit = under
    return scan, scan.mesh.nearest_corner(hit.triangle, hit.point)


def until_release() -> Generator[None, Pointer, Pointer]:
    """Let moves pass; give the release."""
    while True:
        event = yield
        if event.kind == "release":
            return event
