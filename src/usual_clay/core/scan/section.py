"""Sections: where planes cut a triangle mesh, as ordered polylines."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, connected_components

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.mesh import TriangleMesh


class SectionError(GeometryError):
    """A plane that does not cut the scan."""


@dataclass(frozen=True)
class SectionSettings:
    """One polyline of one cut.

    Attributes
    ----------
    axis : {"x", "y", "z"}
        The cutting plane's normal.
    station : float
        Where the plane lies along it, mm.
    part : int
        Which of the polylines there, 0 for the longest.
    """

    axis: Literal["x", "y", "z"] = "x"
    station: float = 0.0
    part: int = 0


def section_at(mesh: TriangleMesh, settings: SectionSettings) -> Section:
    """Cut a mesh and return one polyline.

    Raises
    ------
    SectionError
        When there is none.
    """
    normal = np.eye(3)["xyz".index(settings.axis)]
    cut = sections(mesh, settings.station * normal, normal)
    if settings.part >= len(cut):
        raise SectionError(
            f"the plane {settings.axis} = {settings.station:.2f} mm does not cut the scan"
            + ("" if not cut else f" in {settings.part + 1} parts any more")
        )
    return cut[settings.part]


@dataclass(frozen=True, eq=False)
class Section:
    """One polyline in which a plane cuts a mesh.

    Attributes
    ----------
    points : (n, 3) array
        In order; a closed one does not repeat its first point.
    closed : bool
    """

    points: Floats
    closed: bool

    @property
    def length(self) -> float:
        ring = np.concatenate([self.points, self.points[:1]]) if self.closed else self.points
        return float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum())


def sections(mesh: TriangleMesh, origin: Floats, normal: Floats) -> list[Section]:
    """Cut a mesh with a plane, the longest polyline first.

    Each triangle that the plane crosses gives a segment between two of its edges; segments meet
    at edges, so the edges' numbers join them and no coordinates are compared. A vertex on the
    plane counts as just above it.

    Parameters
    ----------
    origin, normal : (3,) arrays
    """
    normal = normal / np.linalg.norm(normal)
    height = (mesh.vertices - origin) @ normal
    above = height >= 0
    corners = mesh.triangles
    crossed = np.flatnonzero(np.ptp(above[corners].astype(np.int8), axis=1) > 0)
    if not len(crossed):
        return []
    edges = corners[crossed][:, [0, 1, 1, 2, 2, 0]].reshape(-1, 3, 2)
    cut = above[edges[..., 0]] != above[edges[..., 1]]
    # Of a crossed triangle exactly two edges are cut.
    pairs = np.sort(edges[cut].reshape(-1, 2), axis=1)
    keys, node = np.unique(pairs[:, 0] * len(mesh.vertices) + pairs[:, 1], return_inverse=True)
    low, high = keys // len(mesh.vertices), keys % len(mesh.vertices)
    share = (height[low] / (height[low] - height[high]))[:, None]
    places = mesh.vertices[low] + share * (mesh.vertices[high] - mesh.vertices[low])
    return _polylines(places, node.reshape(-1, 2))


def _polylines(places: Floats, segments: Ints) -> list[Section]:
    count = len(places)
    ones = np.ones(len(segments))
    graph = coo_array((ones, (segments[:, 0], segments[:, 1])), shape=(count, count)).tocsr()
    graph = graph + graph.T
    degree = np.diff(graph.indptr)
    parts, label = connected_components(graph, directed=False)
    # Each polyline is walked from an end where it has one, and from anywhere where it closes.
    first_end = np.full(parts, -1)
    ends = np.flatnonzero(degree == 1)
    first_end[label[ends]] = ends
    first_any = np.zeros(parts, dtype=np.int64)
    first_any[label] = np.arange(count)
    made = []
    for part in range(parts):
        closed = first_end[part] < 0
        start = int(first_any[part] if closed else first_end[part])
        order = _around(graph, start) if closed else breadth_first_order(graph, start, False)[0]
        points = _apart(places[order])
        if len(points) >= 2:
            made.append(Section(points, bool(closed)))
    return sorted(made, key=lambda section: -section.length)


def _apart(points: Floats) -> Floats:
    """Drop points on the spot of the one before: a plane through a vertex cuts all its edges."""
    steps = np.linalg.norm(np.diff(points, axis=0, append=points[:1]), axis=1)
    return points[steps > 1e-9 * max(float(np.ptp(points, axis=0).max()), 1e-12)]


def _around(graph: coo_array, start: int) -> Ints:
    """Return the nodes of a ring in order: breadth first reaches both ways by turns."""
    found, before = breadth_first_order(graph, start, False)
    second = int(found[1]) if len(found) > 1 else start
    # A node lies on the side of the one it was found from; halving the way up tells all sides.
    ancestor = np.where(before < 0, start, before)
    ancestor[second] = second
    ancestor[start] = start
    while (np.isin(ancestor[found], (start, second), invert=True)).any():
        ancestor[found] = ancestor[ancestor[found]]
    there = found[ancestor[found] == second]
    back = found[(ancestor[found] == start) & (found != start)]
    return np.concatenate([[start], there, back[::-1]]).astype(np.int64)


def stations_along(mesh: TriangleMesh, axis: int, count: int) -> Floats:
    """Return `count` places spread evenly along an axis, none of them at the very ends."""
    low, high = mesh.box[:, axis]
    return low + (np.arange(count) + 0.5) / count * (high - low)
