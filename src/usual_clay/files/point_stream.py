"""Points that come one after the other, as from a touch probe.

`PointStream` is what a driver for a measuring arm implements; `ReplayStream` plays back a file.
"""

from __future__ import annotations

import time
from pathlib import Path
from typing import Protocol

from usual_clay.core.arrays import Floats
from usual_clay.core.points.lay import lay
from usual_clay.files.points_file import read_points


class PointStream(Protocol):
    """A source of ordered points.

    Attributes
    ----------
    name : str
        What the user reads.
    ball : float
        Diameter of the probe's ball, mm; 0 where points are not a ball's centre.
    """

    name: str
    ball: float

    def start(self) -> None:
        """Begin, or go on after a pause.

        Raises
        ------
        FileError
            When there is nothing to read from.
        """

    def pause(self) -> None:
        """Record nothing until `start` is called again."""

    def take(self) -> Floats:
        """Return the points recorded since the last call, (k, 3) in mm, without waiting."""

    @property
    def is_over(self) -> bool:
        """Whether no more points will come."""


class PacedStream:
    """Gives out points that are known beforehand at a steady pace."""

    def __init__(self, name: str, points: Floats, ball: float, pace: float) -> None:
        self.name, self.ball = name, ball
        self._points, self._pace = points, pace
        self._given = 0
        self._since: float | None = None

    def start(self) -> None:
        """Begin, or go on after a pause."""
        if self._since is None:
            self._since = time.monotonic() - self._given / self._pace

    def pause(self) -> None:
        """Record nothing until `start` is called again."""
        self._since = None

    def take(self) -> Floats:
        """Return the points due since the last call, (k, 3)."""
        if self._since is None:
            return self._points[:0]
        due = min(int((time.monotonic() - self._since) * self._pace), len(self._points))
        fresh = self._points[self._given : due]
        self._given = max(due, self._given)
        return fresh

    @property
    def is_over(self) -> bool:
        return self._given >= len(self._points)


class ReplayStream(PacedStream):
    """Replays a file of recorded points.

    Raises
    ------
    FileError
        When the file cannot be read.
    """

    def __init__(self, path: Path, ball: float = 0.0, pace: float = 60.0) -> None:
        read = read_points(path)
        super().__init__(path.name, lay(read.points, None, read.axes).space, ball, pace)
