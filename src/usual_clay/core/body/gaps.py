"""Where edges of faces run beside each other, and how far apart, before they are joined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.body.body_shape import EdgeGap
from usual_clay.core.body.kernel import edge_curve
from usual_clay.core.body.shapes import Named, faces_of_edges, normal_at
from usual_clay.core.check.joints import goes_along, to_line
from usual_clay.core.progress import Progress
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve

# So many places along an edge are looked at, fewer where there are very many edges.
MOST, FEWEST, IN_ALL = 65, 9, 400_000
# Edges farther apart than this share of the whole lie beside nothing.
REACH = 0.02
# Edges nearer than this touch, mm.
TOUCH = 1e-6
# Beside each other for less than this share of their length, they only meet at a corner.
BESIDE = 0.1


@dataclass(eq=False)
class OpenEdge:
    """An edge at which its face ends.

    Attributes
    ----------
    name : str
        Of its face.
    owner : int
        Which of all faces that is.
    curve : BSplineCurve or None
    points, normals : (n, 3) arrays
        Places along it, and the outward normals of its face there.
    """

    name: str
    owner: int
    edge: Any
    curve: BSplineCurve | None
    points: Floats
    normals: Floats

    @property
    def length(self) -> float:
        return float(np.linalg.norm(np.diff(self.points, axis=0), axis=1).sum())


def open_edges(sources: Sequence[Named]) -> list[OpenEdge]:
    """Return the edges of shapes at which only one face ends."""
    found = []
    for owner, source in enumerate(sources):
        for edge, faces in faces_of_edges(source.shape):
            if len(faces) == 1:
                found.append((owner, edge, faces[0], source.name(faces[0])))
    count = int(np.clip(IN_ALL // max(len(found), 1), FEWEST, MOST))
    made = []
    for owner, edge, face, name in found:
        curve = BRepAdaptor_Curve(edge)
        places = np.linspace(curve.FirstParameter(), curve.LastParameter(), count)
        values = [curve.Value(float(t)) for t in places]
        points = np.array([(p.X(), p.Y(), p.Z()) for p in values])
        normals = np.array([normal_at(edge, face, float(t)) for t in places])
        if np.ptp(points, axis=0).max() > TOUCH:
            made.append(OpenEdge(name, owner, edge, edge_curve(edge), points, normals))
    return made


def gaps_between(sources: Sequence[Named], limit: float, progress: Progress) -> list[EdgeGap]:
    """Return which edges run beside which, and the gap between them; the widest first.

    Parameters
    ----------
    limit : float
        Edges no farther apart are going to be joined, mm.
    """
    edges = open_edges(sources)
    if not edges:
        return []
    every = np.concatenate([edge.points for edge in edges])
    reach = max(REACH * float(np.ptp(every, axis=0).max()), 4 * limit)
    owner = np.concatenate([np.full(len(edge.points), k) for k, edge in enumerate(edges)])
    tree = cKDTree(every)
    rows: dict[tuple[int, int], EdgeGap] = {}
    for number, edge in enumerate(edges):
        progress(number / len(edges), "Looking for gaps")
        for other, where in _beside(number, edges, tree, owner, reach):
            gap = _gap(edge, None if other < 0 else edges[other], where, limit)
            key = (min(number, other), max(number, other)) if other >= 0 else (number, -1)
            if key not in rows or gap.gap > rows[key].gap:
                rows[key] = gap
    return sorted(rows.values(), key=lambda row: -row.gap)


def _beside(
    number: int, edges: Sequence[OpenEdge], tree: cKDTree, owner: Ints, reach: float
) -> list[tuple[int, Bools]]:
    """Return beside which other edges an edge runs, and where along it; -1 for beside none."""
    edge = edges[number]
    step = edge.length / (len(edge.points) - 1)
    near = tree.query_ball_point(edge.points, reach + step)
    others = np.unique(owner[np.unique(np.concatenate([np.asarray(n, dtype=int) for n in near]))])
    least = np.full(len(edge.points), np.inf)
    which = np.full(len(edge.points), -1)
    for other in others:
        if other == number:
            continue
        away = to_line(edge.points, edges[other].points)
        # Edges of one face meet at its corners: only one that runs along it all counts.
        if edges[other].owner == edge.owner and away.max() > reach:
            continue
        mine = (away < least) & (away <= reach)
        least[mine], which[mine] = away[mine], other
    found = []
    for other in np.unique(which):
        where = which == other
        # One that leads away from where two others meet is beside none of them.
        along = other < 0 or goes_along(edge.points[where], edges[other].points)
        if where.mean() >= BESIDE and along:
            found.append((int(other), where))
    return found


def _gap(edge: OpenEdge, other: OpenEdge | None, where: Bools, limit: float) -> EdgeGap:
    points = edge.points[where]
    length = edge.length * float(where.mean())
    if other is None:
        middle = points[len(points) // 2]
        return EdgeGap(f"{edge.name} and nothing", float("inf"), 0.0, _place(middle), length, False)
    if other.curve is not None:
        away = curve_foot_points(other.curve, points)[2]
    else:
        away = to_line(points, other.points)
    worst = int(np.argmax(away))
    nearest = np.linalg.norm(points[:, None] - other.points, axis=2).argmin(axis=1)
    turn = np.linalg.norm(np.cross(edge.normals[where], other.normals[nearest]), axis=1)
    level = (edge.normals[where] * other.normals[nearest]).sum(axis=1)
    # Faces that are turned the wrong way yet meet level all the same.
    angle = float(np.arctan2(turn, np.abs(level)).max())
    gap = float(away[worst])
    return EdgeGap(
        f"{edge.name} and {other.name}", gap, angle, _place(points[worst]), length, gap <= limit,
        _place(points[len(points) // 2]),
    )  # fmt: skip


def _place(point: Floats) -> tuple[float, float, float]:
    return float(point[0]), float(point[1]), float(point[2])
