"""All the joints between faces: found by nearness, measured, and told by their class."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.check.edges import EdgeJoint, Side, joint_of, places_along, side_along
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.core.spline.boundary import BORDERS, border_curve
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.parts import part_of
from usual_clay.core.spline.surface import BSplineSurface, surface_points

Grade = Literal["open", "G0", "G1", "G2", "G3"]
GRADES: tuple[Grade, ...] = ("open", "G0", "G1", "G2", "G3")
PLACES = 33
# Faces meet where they are no farther apart, mm; in tangent, in curvature and in its flow within
# this, radians, 1/mm and 1/mm squared.
G0_GAP, G1_ANGLE, G2_STEP, G3_FLOW = 0.02, np.radians(0.1), 0.002, 0.0005
ALLOWED = (G0_GAP, G1_ANGLE, G2_STEP, G3_FLOW)
# Beside each other over less than this share of an edge, two faces only meet at a corner.
BESIDE = 0.15
# What it runs along is at least so long, as a share of its own length; else it runs away from it.
ALONG = 0.5


@dataclass(frozen=True, eq=False)
class Face:
    """A face: its surface, and the edges at which it ends.

    Attributes
    ----------
    rim : (n, 2) array or None
        Parameters along its edges, where they are known.
    """

    name: str
    surface: BSplineSurface
    edges: tuple[BSplineCurve, ...]
    rim: Floats | None = None

    def feet(self, points: Floats) -> FootPoints:
        """Return the feet of points that lie near its edges."""
        if self.rim is None:
            return foot_points(self.surface, points)
        places = surface_points(self.surface, *self.rim.T)
        nearest = self.rim[cKDTree(places).query(points)[1]]
        return foot_points(self.surface, points, (nearest[:, 0], nearest[:, 1]))


@dataclass(frozen=True, eq=False)
class FoundJoint:
    """Where two faces run beside each other.

    Attributes
    ----------
    between : (str, str)
    faces : (int, int)
        Their numbers.
    length : float
        mm.
    gap, angle, step, flow : float
        The greatest along it: mm, radians, 1/mm, 1/mm squared.
    mean_gap, mean_angle, mean_step, mean_flow : float
    grade : str
        The class that it reaches.
    at : (3,) array
        Where it is worst.
    points : (n, 3) array
        Along it.
    shares : (4, n) array
        How bad it is there: gap, angle, step and flow, each as a share of what its class allows.
    """

    between: tuple[str, str]
    faces: tuple[int, int]
    length: float
    gap: float
    angle: float
    step: float
    flow: float
    mean_gap: float
    mean_angle: float
    mean_step: float
    mean_flow: float
    grade: Grade
    at: Floats
    points: Floats
    shares: Floats

    def short_of(self, grade: str) -> Floats:
        """Return how bad it is along it, (n,), for a class wanted; past 1 it falls short."""
        return np.asarray(self.shares[: GRADES.index(grade)].max(axis=0))


def face_of_surface(name: str, surface: BSplineSurface) -> Face:
    """Return a whole surface as a face; borders that are single places are no edges."""
    size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
    edges = tuple(
        edge
        for border in BORDERS
        if np.ptp((edge := border_curve(surface, border)).points, axis=0).max() > 1e-6 * size
    )
    t = np.linspace(0, 1, PLACES)
    none = np.zeros(PLACES)
    rim = np.concatenate([np.stack(each, axis=1) for each in (
        (none, t), (none + 1, t), (t, none), (t, none + 1))])  # fmt: skip
    return Face(name, surface, edges, rim)


def find_joints(
    faces: Sequence[Face], limit: float, progress: Progress = silent
) -> list[FoundJoint]:
    """Return the joints between faces that lie no farther apart than a limit; the worst first.

    Parameters
    ----------
    limit : float
        mm.
    """
    edges = [edge for face in faces for edge in face.edges]
    if not edges:
        return []
    owners = np.repeat(np.arange(len(faces)), [len(face.edges) for face in faces])
    t = np.linspace(0, 1, PLACES)
    lines, boxes = lines_of(edges)
    steps = np.array(
        [np.linalg.norm(np.diff(line, axis=0), axis=1).max() for line in lines], dtype=float
    )
    most = limit + 0.02 * steps
    found: dict[tuple[int, int, int], _Run] = {}
    for k, (edge, near) in enumerate(zip(edges, boxes_near(boxes, most), strict=True)):
        progress(0.5 * k / len(edges), "Looking for joints")
        others = near[owners[near] != owners[k]]
        for other, where in _beside(lines[k], others, owners, lines, boxes, float(most[k])):
            for part in runs_of(where):
                if not goes_along(lines[k][part], lines[other]):
                    continue
                run = _Run.of(edge, int(owners[k]), int(owners[other]), t[part])
                first, second = sorted((run.mine, run.other))
                key = (first, second, _same_place(found, first, second, run, limit))
                # The same joint is found from either side: the longer run of it is kept.
                if key not in found or run.length > found[key].length:
                    found[key] = run
    runs = list(found.values())
    joints = _measured(faces, runs, stretch(progress, 0.5, 1.0))
    order = {grade: k for k, grade in enumerate(GRADES)}
    return sorted(joints, key=lambda each: (order[each.grade], -each.angle, -each.step))


@dataclass(frozen=True, eq=False)
class _Run:
    """The part of a face's edge beside which another face runs: places along it, and the way."""

    mine: int
    other: int
    points: Floats
    along: Floats
    length: float
    into: Floats

    @classmethod
    def of(cls, edge: BSplineCurve, mine: int, other: int, places: Floats) -> _Run:
        low, high = float(places.min()), float(places.max())
        start, span = edge.domain[0], float(np.ptp(edge.domain))
        whole = low <= 0 and high >= 1
        part = edge if whole else part_of(edge, start + low * span, start + high * span)
        return cls(mine, other, *places_along(part))


def lines_of(edges: Sequence[BSplineCurve]) -> tuple[list[Floats], Floats]:
    """Return edges as lines of straight pieces, and the least and greatest coordinates of each,
    (n, 2, 3)."""
    t = np.linspace(0, 1, PLACES)
    lines = [curve_points(edge, edge.domain[0] + t * np.ptp(edge.domain)) for edge in edges]
    return lines, np.stack([np.stack([line.min(axis=0), line.max(axis=0)]) for line in lines])


def boxes_near(boxes: Floats, most: Floats) -> list[Ints]:
    """Return of each box which boxes lie no farther from it than its own limit, itself too."""
    # Slow to import.
    from shapely import STRtree, box

    # The tree is of the plane: in it boxes part best along the two ways that are longest.
    wide = np.sort(np.argsort(np.ptp(boxes.reshape(-1, 3), axis=0))[1:])
    low, high = boxes[:, 0] - most[:, None], boxes[:, 1] + most[:, None]
    tree = STRtree(box(*boxes[:, 0, wide].T, *boxes[:, 1, wide].T))
    one, other = tree.query(box(*low[:, wide].T, *high[:, wide].T))
    meet = ((low[one] <= boxes[other, 1]) & (high[one] >= boxes[other, 0])).all(axis=1)
    order = np.lexsort((other[meet], one[meet]))
    one, other = one[meet][order], other[meet][order]
    return np.split(other, np.searchsorted(one, np.arange(1, len(boxes))))


def _beside(
    line: Floats, others: Ints, owners: Ints, lines: Sequence[Floats], boxes: Floats, most: float
) -> list[tuple[int, Bools]]:
    """Return which faces' edges run beside a line, by one edge of each, and where along it.

    Parameters
    ----------
    others : (m,) array
        The edges whose boxes lie near it.
    boxes : (n, 2, 3) array
        The least and greatest coordinates of each edge's line.
    """
    # Of most of them only a corner lies here.
    low, high = boxes[others, 0] - most, boxes[others, 1] + most
    inside = ((line[:, None] >= low) & (line[:, None] <= high)).all(axis=2)
    others = others[inside.mean(axis=0) >= BESIDE]
    near_enough: dict[int, Bools] = {}
    best = np.full(len(line), np.inf)
    owner = np.full(len(line), -1)
    for other in others.tolist():
        away = to_line(line, lines[other])
        near_enough[other] = away <= most
        mine = (away < best) & near_enough[other]
        best[mine], owner[mine] = away[mine], other
    found = []
    for other in np.unique(owner[owner >= 0]).tolist():
        if (owner == other).mean() >= BESIDE:
            # At its ends other faces lie as near: the joint goes on into the corners.
            found.append((other, near_enough[other]))
    return found


def runs_of(where: Bools) -> list[Bools]:
    """Return the stretches of an edge without a break; those of a few places are corners."""
    ends = np.flatnonzero(np.diff(np.concatenate([[False], where, [False]]).astype(int)))
    found = []
    for first, last in ends.reshape(-1, 2):
        if last - first >= max(3, BESIDE / 2 * len(where)):
            run = np.zeros(len(where), dtype=bool)
            run[first:last] = True
            found.append(run)
    return found


def goes_along(run: Floats, line: Floats) -> bool:
    """Tell whether a run goes the way of a line beside it, rather than away from it."""
    feet = _nearest_on(run, line)
    along, own = (np.linalg.norm(np.diff(each, axis=0), axis=1).sum() for each in (feet, run))
    return bool(along >= ALONG * own)


def _nearest_on(points: Floats, line: Floats) -> Floats:
    """Return the nearest places on a line of straight pieces, (n, 3)."""
    a, b = line[:-1], line[1:]
    way = b - a
    size = np.maximum((way**2).sum(axis=1), 1e-300)
    t = np.clip(((points[:, None] - a) * way).sum(axis=2) / size, 0, 1)
    places = a + t[..., None] * way
    nearest = np.linalg.norm(points[:, None] - places, axis=2).argmin(axis=1)
    return np.asarray(places[np.arange(len(points)), nearest])


def to_line(points: Floats, line: Floats) -> Floats:
    """Return how far points lie from a line of straight pieces, (n,)."""
    return np.linalg.norm(points - _nearest_on(points, line), axis=1)


def _same_place(
    found: dict[tuple[int, int, int], _Run], first: int, second: int, run: _Run, limit: float
) -> int:
    """Return which joint of two faces this is: those along another line are another."""
    number = 0
    while (first, second, number) in found:
        other = found[first, second, number]
        middle = run.points[len(run.points) // 2]
        if float(np.linalg.norm(other.points - middle, axis=1).min()) < (
            limit + 0.1 * other.length
        ):
            return number
        number += 1
    return number


def _measured(faces: Sequence[Face], runs: Sequence[_Run], progress: Progress) -> list[FoundJoint]:
    """Measure joints: all that lies on one face at once."""
    sides: dict[tuple[int, int], Side] = {}
    on: dict[int, list[int]] = {}
    for k, run in enumerate(runs):
        for number in (run.mine, run.other):
            on.setdefault(number, []).append(k)
    for number, mine in on.items():
        progress(len(sides) / (2 * len(runs)), "Measuring joints")
        face, own = faces[number], [runs[k] for k in mine]
        points, along, into = (
            np.concatenate([getattr(run, name) for run in own])
            for name in ("points", "along", "into")
        )
        side = side_along(face.surface, points, along, into, face.feet(points))
        for place, k in enumerate(mine):
            count = len(runs[k].points)
            sides[k, number] = side.part(slice(place * count, (place + 1) * count))
    return [
        _told(faces, run, joint_of(run.points, sides[k, run.mine], sides[k, run.other]))
        for k, run in enumerate(runs)
    ]


def _told(faces: Sequence[Face], run: _Run, joint: EdgeJoint) -> FoundJoint:
    # Next to corners where more than two faces meet, what is measured is of the corner.
    inner = slice(1, -1)
    figures = np.stack([joint.gap, joint.angle, joint.step, joint.flow])
    gap, angle, step, flow = figures[:, inner].max(axis=1).tolist()
    means = figures[:, inner].mean(axis=1).tolist()
    grade = grade_of(gap, angle, step, flow)
    # What keeps it from the next class tells where it is worst.
    rank = figures[min(GRADES.index(grade), len(figures) - 1)]
    at = joint.points[1 + int(np.argmax(rank[inner]))]
    return FoundJoint(
        (faces[run.mine].name, faces[run.other].name), (run.mine, run.other), run.length,
        gap, angle, step, flow, means[0], means[1], means[2], means[3], grade, at, joint.points,
        figures / np.array(ALLOWED)[:, None],
    )  # fmt: skip


def grade_of(*figures: float) -> Grade:
    """Return the class that a joint of such a gap, angle, step and flow reaches."""
    good = [figure <= most for figure, most in zip(figures, ALLOWED, strict=True)]
    return GRADES[(*good, False).index(False)]
