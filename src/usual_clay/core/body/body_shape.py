"""A body as a value: its exact shape in the kernel's own form, and what is drawn and told of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.errors import GeometryError

# Three numbers, mm.
Place = Sequence[float] | Floats


class BodyError(GeometryError):
    """A body that cannot be made: what was wrong, where, and what to do.

    Attributes
    ----------
    at : (3,) floats or None
        Where.
    """

    def __init__(self, words: str, at: Place | None = None) -> None:
        super().__init__(words)
        self.at = None if at is None else tuple(float(x) for x in at)

    def __reduce__(self) -> tuple[Any, ...]:
        return BodyError, (str(self), self.at)


@dataclass(frozen=True, eq=False)
class BodyShape:
    """An open shell, a solid, or several.

    Attributes
    ----------
    brep : bytes
        The exact shape, in the kernel's binary form.
    names : tuple of str
        Of each face the surface that it came from.
    solids : int
    valid : bool
        Whether the kernel finds nothing wrong with it.
    volume, area : float
        mm cubed, 0 of an open shell, and mm squared.
    centre : (3,) array
        The middle of what it holds; of an open shell of its area.
    inertia : (3, 3) array
        About its middle, at a density of 1, mm to the fifth; zero of an open shell.
    vertices, normals : (n, 3) arrays
        Of triangles within `chord` of it, mm; each face has vertices of its own.
    triangles, face_of : (m, 3) and (m,) integers
        Triangles that face outward, and the face that each lies on.
    edge_points : (k, 3) array
        Along all its edges, one after the other.
    edge_starts : (e + 1,) integers
        Where each edge begins in them, and the end.
    edge_faces : (e, 2) integers
        The faces that meet there; -1 for none.
    edge_turns : (e,) array
        The greatest angle between their normals, radians; positive where the body is convex.
    chord : float
    """

    brep: bytes
    names: tuple[str, ...]
    solids: int
    valid: bool
    volume: float
    area: float
    centre: Floats
    inertia: Floats
    vertices: Floats
    normals: Floats
    triangles: Ints
    face_of: Ints
    edge_points: Floats
    edge_starts: Ints
    edge_faces: Ints
    edge_turns: Floats
    chord: float

    @classmethod
    def blank(cls) -> BodyShape:
        """Return one that holds nothing yet."""
        none, no_faces = np.zeros((0, 3)), np.zeros(0, dtype=np.int64)
        return cls(
            b"", (), 0, True, 0.0, 0.0, np.zeros(3), np.zeros((3, 3)), none, none,
            np.zeros((0, 3), dtype=np.int64), no_faces, none, np.zeros(1, dtype=np.int64),
            np.zeros((0, 2), dtype=np.int64), np.zeros(0), 1.0,
        )  # fmt: skip

    @property
    def exact(self) -> tuple[bytes, tuple[str, ...]]:
        """What the kernel needs of it."""
        return self.brep, self.names

    @property
    def faces(self) -> int:
        return len(self.names)

    @property
    def is_solid(self) -> bool:
        return self.solids > 0 and not self.open_edges

    @property
    def open_edges(self) -> int:
        """Edges at which one face ends, and no other begins."""
        return int((self.edge_faces[:, 1] < 0).sum())

    @property
    def box(self) -> Floats:
        """Its least and greatest coordinates, (2, 3), mm."""
        return np.stack([self.vertices.min(axis=0), self.vertices.max(axis=0)])

    def edge(self, number: int) -> Floats:
        """Return the places along an edge, (k, 3)."""
        return self.edge_points[self.edge_starts[number] : self.edge_starts[number + 1]]

    def middle(self, number: int) -> Floats:
        """Return a place halfway along an edge."""
        line = self.edge(number)
        ways = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
        half = ways[-1] / 2
        return np.array([np.interp(half, ways, line[:, k]) for k in range(3)])


@dataclass(frozen=True)
class EdgeGap:
    """Where an edge of one face runs beside one of another, or beside none.

    Attributes
    ----------
    between : str
    gap : float
        The greatest, mm; infinite of an edge with nothing beside it.
    angle : float
        The greatest between the two faces there, radians.
    at : (3,) floats
        Where the gap is greatest.
    length : float
        Over which they run beside each other, mm.
    closed : bool
        Whether they are joined.
    middle : (3,) floats or None
        Half way along where they run beside each other.
    """

    between: str
    gap: float
    angle: float
    at: tuple[float, float, float]
    length: float
    closed: bool
    middle: tuple[float, float, float] | None = None


@dataclass(frozen=True)
class Spot:
    """A place that the user should see, and why."""

    words: str
    at: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class BodyMade:
    """A body that a recipe gives, with what the user should know of it.

    Attributes
    ----------
    shape : BodyShape
    words : str
    gaps : tuple of EdgeGap
        What was joined, and what was left open.
    spots : tuple of Spot
        Where something could not be made as asked.
    wanted : bool
        Whether it is what was asked for: closed where it was to be closed, every edge rounded.
    """

    shape: BodyShape
    words: str = ""
    gaps: tuple[EdgeGap, ...] = ()
    spots: tuple[Spot, ...] = ()
    wanted: bool = True
