"""A lines plan: contours of all that is made at stations along each axis, and its flat sheet.

Sections lie square to x, lengthwise cuts square to y, waterlines square to z. On the sheet each
family is seen as curves along its own axis, and as straight lines in the other two views; the
views stand as they are folded out: the side above the top, the front beside the side.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.cuts import cut_mesh
from usual_clay.core.errors import ClayError
from usual_clay.core.scan.mesh import TriangleMesh

FAMILIES = ("sections", "lengthwise cuts", "waterlines")
# Of each view the axes to the right and upwards, and which axis it is seen along.
VIEWS = {"side": (0, 2, 1), "top": (0, 1, 2), "front": (1, 2, 0)}
# Room between views, as a share of the largest extent, and how far grid lines stand out, mm.
GAP, OUT = 0.08, 3.0


class LinesError(ClayError):
    """Stations that nothing lies at, or too many of them."""


@dataclass(frozen=True)
class LinesSettings:
    """Where it is cut: so many even stations along an axis, or those that are given, mm.

    Attributes
    ----------
    x, y, z : int
        How many, evenly, the outermost a half step inside; 0 for none.
    at_x, at_y, at_z : tuple of float
        Given ones; they take the place of the even ones.
    """

    x: int = 9
    y: int = 3
    z: int = 5
    at_x: tuple[float, ...] = ()
    at_y: tuple[float, ...] = ()
    at_z: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        most = max(self.x, self.y, self.z, *map(len, (self.at_x, self.at_y, self.at_z)))
        if most > 200 or min(self.x, self.y, self.z) < 0:
            raise LinesError("stations are 0 to 200 along each axis")


@dataclass(frozen=True, eq=False)
class Station:
    """What one plane cuts: its axis, 0 to 2, where it lies along that, mm, and polylines."""

    axis: int
    at: float
    lines: tuple[Floats, ...]


@dataclass(frozen=True, eq=False)
class LinesPlan:
    """All stations, and the box of what they cut, (2, 3)."""

    stations: tuple[Station, ...]
    box: Floats


@dataclass(frozen=True, eq=False)
class SheetLine:
    """One line on a sheet: its layer, and places to the right and up, (n, 2), mm."""

    layer: str
    places: Floats


@dataclass(frozen=True, eq=False)
class Sheet:
    """A drawing at true scale, mm; words stand at places to the right and up."""

    lines: tuple[SheetLine, ...]
    words: tuple[tuple[str, Floats], ...]
    size: Floats


def lines_plan(meshes: Sequence[TriangleMesh], settings: LinesSettings) -> LinesPlan:
    """Cut meshes at stations along each axis.

    Raises
    ------
    LinesError
        Where there is nothing, or nothing at a station that is given.
    """
    if not meshes:
        raise LinesError("there is no surface and no body to cut: show one")
    low = np.min([mesh.vertices.min(axis=0) for mesh in meshes], axis=0)
    high = np.max([mesh.vertices.max(axis=0) for mesh in meshes], axis=0)
    stations = []
    given = (settings.at_x, settings.at_y, settings.at_z)
    counts = (settings.x, settings.y, settings.z)
    for axis, (count, own) in enumerate(zip(counts, given, strict=True)):
        even = (np.arange(count) + 0.5) / max(count, 1)
        places = list(own) or (low[axis] + (high - low)[axis] * even).tolist()
        cuts = [cut_mesh(mesh, axis, places) for mesh in meshes]
        for number, at in enumerate(places):
            lines = tuple(line for cut in cuts for line in cut[number])
            if own and not lines:
                raise LinesError(f"nothing lies at {'xyz'[axis]} = {at:g} mm")
            if lines:
                stations.append(Station(axis, at, lines))
    return LinesPlan(tuple(stations), np.stack([low, high]))


def sheet_of(plan: LinesPlan) -> Sheet:
    """Lay a lines plan out flat, at true scale."""
    size = plan.box[1] - plan.box[0]
    gap = max(GAP * float(size.max()), 3 * OUT)
    corner = {
        "top": np.array([0.0, 0.0]),
        "side": np.array([0.0, size[1] + gap]),
        "front": np.array([size[0] + gap, size[1] + gap]),
    }
    lines: list[SheetLine] = []
    words: list[tuple[str, Floats]] = []
    for view, (right, up, along) in VIEWS.items():
        at = corner[view] - plan.box[0][[right, up]]
        for station in plan.stations:
            if station.axis == along:
                layer = FAMILIES[along]
                lines += [SheetLine(layer, line[:, [right, up]] + at) for line in station.lines]
                continue
            ends = _across(plan.box, right, up, station) + at
            lines.append(SheetLine("stations", ends))
            words.append((f"{round(station.at, 1) + 0.0:.1f}", ends[1]))
        words.append((view, corner[view] + [0.0, size[up] + OUT + 4]))
    whole = np.array([size[0] + gap + size[1], size[1] + gap + size[2]])
    return Sheet(tuple(lines), tuple(words), whole)


def _across(box: Floats, right: int, up: int, station: Station) -> Floats:
    """Return the straight line that a station is in a view along another axis."""
    ends = np.stack([box[0][[right, up]] - OUT, box[1][[right, up]] + OUT])
    ends[:, 0 if station.axis == right else 1] = station.at
    return ends
