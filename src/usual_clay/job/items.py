"""The items of a job: frozen values that share what they do not change."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from usual_clay.core.arrays import Floats, Ints, frozen
from usual_clay.core.fit.budget import Candidate
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.recipes import Recipe

ItemId = str


@dataclass(frozen=True, eq=False, kw_only=True)
class Item:
    """What every item has.

    Attributes
    ----------
    id : str
        Unique in the job, never used again.
    name : str
    visible, locked : bool
        A locked item is shown but not changed or deleted.
    """

    id: ItemId
    name: str
    visible: bool = True
    locked: bool = False


@dataclass(frozen=True, eq=False, kw_only=True)
class Scan(Item):
    """A scanned mesh.

    Attributes
    ----------
    mesh : TriangleMesh
    source : str
        Name of the file it came from.
    unit : str
        The unit that file was read in.
    """

    mesh: TriangleMesh
    source: str = ""
    unit: str = "mm"


@dataclass(frozen=True, eq=False, kw_only=True)
class Region(Item):
    """A chosen part of a scan.

    Attributes
    ----------
    scan : str
        The scan's id.
    vertices : (k,) integers
        Its vertices, rising.
    """

    scan: ItemId
    vertices: Ints

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, "int64"))


@dataclass(frozen=True, eq=False, kw_only=True)
class PointList(Item):
    """Points in order, as a probe or a file gave them.

    Attributes
    ----------
    points : (n, 3) array
        All of them, mm; what is taken out stays here.
    out : (k,) integers
        Points that are taken out, rising.
    closed : bool
        Whether the last is followed by the first.
    source, unit : str
        The file they came from, and the unit it was read in.
    """

    points: Floats
    out: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    closed: bool = False
    source: str = ""
    unit: str = "mm"

    def __post_init__(self) -> None:
        object.__setattr__(self, "points", frozen(self.points))
        object.__setattr__(self, "out", frozen(self.out, "int64"))

    @property
    def kept(self) -> Ints:
        """The points that are not taken out."""
        return np.setdiff1d(np.arange(len(self.points)), self.out)


@dataclass(frozen=True, eq=False)
class Basis:
    """What a shape was made of: the recipe, and the very arrays its sources had."""

    recipe: Recipe
    arrays: tuple[Ints, ...]

    def same_as(self, other: Basis | None) -> bool:
        return (
            other is not None
            and self.recipe == other.recipe
            and len(self.arrays) == len(other.arrays)
            and all(a is b for a, b in zip(self.arrays, other.arrays, strict=True))
        )


@dataclass(frozen=True, eq=False, kw_only=True)
class Surface(Item):
    """A NURBS surface.

    Attributes
    ----------
    geometry : BSplineSurface
    recipe : Recipe or None
        How it follows from other items.
    signed : (n,) array or None
        Deviation of each measured point it was made from, mm.
    candidates : tuple of Candidate
        The other balances of control points and deviation that were computed.
    made_of : Basis or None
        What the present geometry was made of; where that is no longer what the recipe says, the
        surface is stale.
    """

    geometry: BSplineSurface
    recipe: Recipe | None = None
    signed: Floats | None = None
    candidates: tuple[Candidate, ...] = ()
    made_of: Basis | None = None

    def __post_init__(self) -> None:
        if self.signed is not None:
            object.__setattr__(self, "signed", frozen(self.signed))

    @property
    def control_points(self) -> int:
        nu, nv = self.geometry.counts
        return nu * nv
