"""What a gesture knows of the view that it is made in: a protocol, so that it knows no toolkit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from usual_clay.bench.camera import Camera
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats
from usual_clay.core.scan.closest import Hit, MeshTree
from usual_clay.job.items import ItemId, Scan


@dataclass(frozen=True, eq=False)
class Target:
    """What lies under the cursor."""

    item: ItemId
    hit: Hit


@dataclass(frozen=True, eq=False)
class Snap:
    """A place that the cursor is drawn to, and what it is."""

    place: Floats
    words: str


class Eye(Protocol):
    """A view as geometry: from space to pixels and back."""

    @property
    def camera(self) -> Camera: ...
    @property
    def size(self) -> tuple[int, int]: ...
    def project(self, points: Floats) -> Floats: ...
    def ray(self, x: float, y: float) -> tuple[Floats, Floats]: ...
    def level_with(self, x: float, y: float, place: Floats) -> Floats: ...
    def along_line(self, x: float, y: float, place: Floats, way: Floats) -> Floats: ...
    def mm_per_pixel(self, at: Floats) -> float: ...
    def sight_lines(self, points: Floats) -> tuple[Floats, Floats, Floats]: ...


class Layers(Protocol):
    """Which layers are switched on."""

    @property
    def scan(self) -> bool: ...
    @property
    def pictures(self) -> bool: ...
    @property
    def surfaces(self) -> bool: ...
    @property
    def net(self) -> bool: ...


class ScanTrees(Protocol):
    """What is worked out for a scan once."""

    @property
    def tree(self) -> MeshTree: ...
    @property
    def vertices(self) -> cKDTree: ...


class Lamp(Protocol):
    """Of what surfaces mirror, what a hand may move."""

    def turn_lamp(self, by: Rotation) -> None: ...


class Things(Protocol):
    """What is shown, and rays into it."""

    @property
    def sights(self) -> Lamp: ...
    @property
    def shown(self) -> Layers: ...
    def target(self, origin: Floats, direction: Floats) -> Target | None: ...
    def scan_under(self, origin: Floats, direction: Floats) -> tuple[Scan, Hit] | None: ...
    def why_no_scan(self, what: str) -> str: ...
    def model(self, scan: Scan) -> ScanTrees | None: ...
    def outline(self) -> Floats | None: ...


class Canvas(Protocol):
    """A view that a gesture is made in; x and y are the view's own pixels.

    Attributes
    ----------
    hold : str
        What a drag is held to: an axis, the normal (n), a leg (l), or flat in the view (f).
    typed : str
        Digits that were typed during a drag.
    snapped : Snap or None
        What the cursor is drawn to.
    last_drawn : (n, 2) array
        The last outline that was drawn, pixels.
    """

    hold: str
    typed: str
    snapped: Snap | None
    last_drawn: Floats

    @property
    def session(self) -> Session: ...
    @property
    def view(self) -> Eye: ...
    @property
    def scene(self) -> Things: ...
    def devicePixelRatioF(self) -> float: ...
    def target_at(self, x: float, y: float) -> Target | None: ...
    def place_at(self, x: float, y: float, on: ItemId | None = None) -> Floats | None: ...
    def snap_at(
        self, x: float, y: float, but: ItemId | None = None, faces: bool = True
    ) -> Snap | None: ...
    def move_camera(self, camera: Camera) -> None: ...
    def hold_camera(self) -> None: ...
    def rest(self) -> None: ...
    def rest_soon(self) -> None: ...
    def light_up(self, points: Floats | None, takes_away: bool, size: float) -> None: ...
    def show_drawn(self, path: Floats | None, takes_away: bool) -> None: ...
