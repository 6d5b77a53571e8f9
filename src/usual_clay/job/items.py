"""The items of a job: frozen values that share what they do not change."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from usual_clay.core.arrays import Bools, Floats, Ints, frozen
from usual_clay.core.body.body_shape import BodyShape, EdgeGap, Spot
from usual_clay.core.body.lying import Lying
from usual_clay.core.check.measure import Figure
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.picture.look import Look
from usual_clay.core.picture.placement import Placement
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.recipe import ItemId, Recipe

Settings = TypeVar("Settings")
__all__ = [
    "Basis",
    "Body",
    "Curve",
    "Floating",
    "Followed",
    "Item",
    "ItemId",
    "Picture",
    "PointList",
    "Recipe",
    "Region",
    "Scan",
    "Shape",
    "Surface",
]


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
    colour : str
        The user's own, "#rrggbb"; empty for the one of its kind.
    group : str
        The group that it stands in on the Shelf; empty for none.
    order : int
        Where it stands among its kind, from 1 on; 0 for behind all that have one.
    """

    id: ItemId
    name: str
    visible: bool = True
    locked: bool = False
    colour: str = ""
    group: str = ""
    order: int = 0


@dataclass(frozen=True, eq=False)
class Basis:
    """What an item was made of: the recipe, and the very values its sources had."""

    recipe: Recipe
    values: tuple[object, ...]

    def same_as(self, other: Basis | None) -> bool:
        return (
            other is not None
            and self.recipe == other.recipe
            and len(self.values) == len(other.values)
            and all(_same(a, b) for a, b in zip(self.values, other.values, strict=True))
        )


def _same(a: object, b: object) -> bool:
    return a is b or (not isinstance(a, np.ndarray) and not isinstance(b, np.ndarray) and a == b)


@dataclass(frozen=True, eq=False, kw_only=True)
class Followed(Item):
    """An item that may follow from others.

    Attributes
    ----------
    recipe : Recipe or None
        How it follows from other items; None for what stands by itself.
    made_of : Basis or None
        What it was made of as it is; where that is no longer what the recipe says, it is stale.
    former : Recipe or None
        Of what stands by itself now: how it followed, by which it can be tied again.
    """

    recipe: Recipe | None = None
    made_of: Basis | None = None
    former: Recipe | None = None

    @property
    def follows(self) -> Recipe | None:
        """How it follows, or followed."""
        return self.recipe or self.former

    def made_by(self, settings: type[Settings]) -> Settings | None:
        """Return the settings of its recipe where they are of a type, None otherwise."""
        own = None if self.recipe is None else self.recipe.settings
        return own if isinstance(own, settings) else None


@dataclass(frozen=True, eq=False, kw_only=True)
class Judged(Followed):
    """An item that is judged by measured points.

    Attributes
    ----------
    signed : (n,) array or None
        Deviation of each point that judges it, mm; of a curve without a side, 0 or more.
    by_area : bool
        Whether shares are those of the area that the points stand for, not of their number.
    """

    @property
    def by_area(self) -> bool:
        """Whether an area judges it, not points."""
        return False

    signed: Floats | None = None


@dataclass(frozen=True, eq=False, kw_only=True)
class Fitted(Judged):
    """An item that spends control points on its deviation.

    Attributes
    ----------
    geometry : BSplineCurve or BSplineSurface
    candidates : tuple of Candidate
        The other balances of control points and deviation that were computed.
    watches : str
        What judges it, whether it follows that or was shaped by hand.
    counts : tuple of int
        Control points in each of its directions.
    """

    geometry: BSplineCurve | BSplineSurface
    candidates: tuple[Candidate, ...] = ()
    watches: ItemId = ""

    @property
    def counts(self) -> tuple[int, ...]:
        return self.geometry.points.shape[:-1]

    @property
    def control_points(self) -> int:
        return math.prod(self.counts)


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
    colours : (n, 3) bytes or None
        What the scanner saw, at each vertex.
    """

    mesh: TriangleMesh
    source: str = ""
    unit: str = "mm"
    colours: NDArray[np.uint8] | None = None


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
class PointList(Followed):
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

    @cached_property
    def is_out(self) -> Bools:
        """Which points are taken out, (n,)."""
        mask = np.zeros(len(self.points), dtype=bool)
        mask[self.out] = True
        return mask

    @cached_property
    def kept(self) -> Ints:
        """The points that are not taken out."""
        return np.setdiff1d(np.arange(len(self.points)), self.out)


@dataclass(frozen=True, eq=False, kw_only=True)
class Picture(Item):
    """A reference picture pinned to a plane.

    Attributes
    ----------
    data : bytes
        The picture's own file, whole.
    size : (int, int)
        Width and height, pixels.
    placement : Placement
    look : Look
    source : str
        Name of the file it came from.
    scaled : bool
        Whether its size was set by a known length or rectangle on it.
    """

    data: bytes
    size: tuple[int, int]
    placement: Placement
    look: Look = field(default_factory=Look)
    source: str = ""
    scaled: bool = False


@dataclass(frozen=True, eq=False, kw_only=True)
class Shape(Judged):
    """A simple shape, used as a plane or an axis.

    Attributes
    ----------
    geometry : SimpleShape
    """

    geometry: SimpleShape


@dataclass(frozen=True, eq=False, kw_only=True)
class Curve(Fitted):
    """A spline curve.

    Attributes
    ----------
    geometry : BSplineCurve
    watches : str
        The point list that judges it: the one it follows, or followed until it was shaped by
        hand.
    watched : TraceSettings or None
        Of a curve that was shaped by hand how it was fitted: which part of the list judges it.
    """

    geometry: BSplineCurve
    watched: TraceSettings | None = None


@dataclass(frozen=True, eq=False, kw_only=True)
class Surface(Fitted):
    """A NURBS surface.

    Attributes
    ----------
    geometry : BSplineSurface
    watches : str
        The region or loose points that judge it, whether it follows them or was shaped by hand;
        of a patch the scan.
    inside : (n,) integers or None
        Of a patch, the scan's vertices inside its borders, rising: these judge it. Of a surface
        from curves that follows a region, which of the region's points lie within it.
    """

    geometry: BSplineSurface
    inside: Ints | None = None

    @property
    def by_area(self) -> bool:
        """Whether an area that was measured judges it, not places of curves that it is made of."""
        return bool(self.watches)

    def __post_init__(self) -> None:
        if self.signed is not None:
            object.__setattr__(self, "signed", frozen(self.signed))
        if self.inside is not None:
            object.__setattr__(self, "inside", frozen(self.inside, "int64"))


@dataclass(frozen=True, eq=False, kw_only=True)
class Body(Judged):
    """An open shell, or a solid, of trimmed faces.

    Attributes
    ----------
    shape : BodyShape
    gaps : tuple of EdgeGap
        Where its faces were joined, and where they were not.
    spots : tuple of Spot
        Where something could not be made as asked.
    density : float
        Of what it is to be made of, g/cm3.
    watches : str
        The scan that judges it; empty for none.
    inside : (n,) integers or None
        The scan's vertices that judge it, rising.
    """

    shape: BodyShape
    gaps: tuple[EdgeGap, ...] = ()
    spots: tuple[Spot, ...] = ()
    density: float = 1.0
    watches: ItemId = ""
    inside: Ints | None = None

    @property
    def by_area(self) -> bool:
        return True

    @property
    def mass(self) -> float:
        """Of a solid of that density, g."""
        return self.density * self.shape.volume / 1000


@dataclass(frozen=True, eq=False, kw_only=True)
class Accepted(Item):
    """A place of the original that is not recreated, such as a dent; its name is the note.

    Attributes
    ----------
    at : (3,) array
    reach : float
        Spots whose worst place lies so near count as it, mm.
    """

    at: Floats
    reach: float


@dataclass(frozen=True, eq=False, kw_only=True)
class Dimension(Followed):
    """Something measured, between two things or of one.

    Attributes
    ----------
    figure : Figure or None
        None until it is measured.
    """

    figure: Figure | None = None


@dataclass(frozen=True, eq=False, kw_only=True)
class Floating(Followed):
    """How a body floats.

    Attributes
    ----------
    lying : Lying or None
        None until it is worked out.
    """

    lying: Lying | None = None
