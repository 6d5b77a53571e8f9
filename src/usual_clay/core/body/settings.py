"""How bodies are made: settings of each way. The kernel is loaded only where they are used."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from usual_clay.core.body.body_shape import BodyError

Way = Literal["normal", "x", "y", "z"]
# Places one after the other, three numbers each, mm.
Places = tuple[float, ...]
WAYS = ("normal", "x", "y", "z")


def _check(settings: object, **least: float) -> None:
    """Refuse numbers that are not finite, or less than they may be, and places of two numbers."""
    for name, low in least.items():
        value = getattr(settings, name)
        if not (math.isfinite(value) and value >= low):
            raise BodyError(f"{name.replace('_', ' ')} must be {low:g} or more, not {value:g}")
    for name, value in vars(settings).items():
        if isinstance(value, tuple):
            if len(value) % 3:
                raise BodyError(f"{name} takes places, three numbers each, not {len(value)} in all")
            if not all(math.isfinite(x) for x in value):
                raise BodyError(f"{name} holds a number that is not finite")


def _one_of(words: tuple[str, ...], value: str, what: str) -> None:
    if value not in words:
        raise BodyError(f"{what} is one of {', '.join(words)}, not {value!r}")


@dataclass(frozen=True)
class JoinSettings:
    """Faces joined to a shell, and to a solid where it is closed.

    Attributes
    ----------
    gap : float
        Edges no farther apart than this are joined, mm.
    closed : bool
        Whether it is to be a solid.
    """

    gap: float = 0.01
    closed: bool = True

    def __post_init__(self) -> None:
        _check(self, gap=0.0)


@dataclass(frozen=True)
class CloseSettings:
    """Openings closed.

    Attributes
    ----------
    how : {"flat", "fill", "best"}
        By a plane, by a calm surface, or by a plane where the opening is flat.
    at : places
        On the edges of the openings that are meant; none for all.
    gap : float
        Within which edges are joined, mm.
    """

    how: Literal["best", "flat", "fill"] = "best"
    at: Places = ()
    gap: float = 0.01

    def __post_init__(self) -> None:
        _check(self, gap=0.0)
        _one_of(("best", "flat", "fill"), self.how, "how it is closed")


@dataclass(frozen=True)
class TrimSettings:
    """A surface or a body cut, and what of it is kept.

    Attributes
    ----------
    way : {"normal", "x", "y", "z"}
        How curves come to it: by the shortest way, or along an axis.
    keep : places
        One on each part that is kept; none for the largest part.
    """

    way: Way = "normal"
    keep: Places = ()

    def __post_init__(self) -> None:
        _check(self)
        _one_of(WAYS, self.way, "the way")


@dataclass(frozen=True)
class PartSettings:
    """A surface or a body cut, and all of it kept.

    Attributes
    ----------
    way : {"normal", "x", "y", "z"}
    part : int
        Which part alone, from 1, the largest first; 0 for all.
    """

    way: Way = "normal"
    part: int = 0

    def __post_init__(self) -> None:
        _check(self, part=0)
        _one_of(WAYS, self.way, "the way")


@dataclass(frozen=True)
class PadSettings:
    """A closed outline pushed along a direction.

    Attributes
    ----------
    way : {"normal", "x", "y", "z"}
        Square to the outline's plane, or along an axis.
    length : float
        mm; less than 0 for the other way. Without meaning where it goes up to something.
    both : bool
        Whether it goes as far to the other side too.
    through : bool
        Whether it goes through all of the body.
    gap : float
        Ends of curves no farther apart than this meet, mm.
    """

    way: Way = "normal"
    length: float = 10.0
    both: bool = False
    through: bool = False
    gap: float = 0.01

    def __post_init__(self) -> None:
        _check(self, gap=0.0, length=-1e6)
        _one_of(WAYS, self.way, "the way")
        if not (self.through or self.length):
            raise BodyError("a length of 0 gives nothing: set one, or let it go through all")


@dataclass(frozen=True)
class DrillSettings:
    """Holes of recognised cylinders, slots of two recognised planes.

    Attributes
    ----------
    rounded : float
        Sizes are rounded to a multiple of this, mm; 0 leaves them as they were recognised.
    size : float
        The diameter, or the slot's width, in place of what was recognised; 0 for that.
    depth : float
        From where it enters, mm; 0 for through all.
    """

    rounded: float = 0.0
    size: float = 0.0
    depth: float = 0.0

    def __post_init__(self) -> None:
        _check(self, rounded=0.0, size=0.0, depth=0.0)


@dataclass(frozen=True)
class CombineSettings:
    """Bodies united, taken away or intersected.

    Attributes
    ----------
    keep : places
        Where it falls into parts: one on each part that is kept; none for all of them, and the
        larger side of a surface that cuts.
    """

    keep: Places = ()

    def __post_init__(self) -> None:
        _check(self)


@dataclass(frozen=True)
class ShellSettings:
    """A body hollowed.

    Attributes
    ----------
    wall : float
        mm.
    outward : bool
        Whether the wall lies outside of the body as it is.
    open : places
        One on each face that is left open.
    other : places
        One on each face that has another wall.
    other_wall : float
        mm.
    """

    wall: float = 1.0
    outward: bool = False
    open: Places = ()
    other: Places = ()
    other_wall: float = 1.0

    def __post_init__(self) -> None:
        _check(self, wall=1e-3, other_wall=1e-3)


@dataclass(frozen=True)
class RoundSettings:
    """Edges rounded.

    Attributes
    ----------
    by : {"radius", "width"}
        A ball that rolls along, or rails that stay as far apart.
    size : float
        Its radius or its width, mm.
    to : float
        Its size at the other end of each edge; 0 for the same.
    edges : places
        One on each edge that is meant, with those that go on from it smoothly; none for all sharp
        ones.
    sharp : float
        Edges that turn by more than this are sharp, radians.
    setback : float
        So far before a corner where three or more of them meet they end, and one smooth face goes
        on from all of them, mm; 0 for the corner that the ball leaves.
    """

    by: Literal["radius", "width"] = "radius"
    size: float = 1.0
    to: float = 0.0
    edges: Places = ()
    sharp: float = math.radians(15)
    setback: float = 0.0

    def __post_init__(self) -> None:
        _check(self, size=1e-3, to=0.0, sharp=0.0, setback=0.0)
        _one_of(("radius", "width"), self.by, "a round is given by")


@dataclass(frozen=True)
class BevelSettings:
    """Edges bevelled.

    Attributes
    ----------
    size : float
        How far it goes back on each face, mm.
    second : float
        How far on the second face; 0 for the same.
    edges : places
        One on each edge that is meant; none for all sharp ones.
    sharp : float
        radians.
    """

    size: float = 1.0
    second: float = 0.0
    edges: Places = ()
    sharp: float = math.radians(15)

    def __post_init__(self) -> None:
        _check(self, size=1e-3, second=0.0, sharp=0.0)


@dataclass(frozen=True)
class ThickenSettings:
    """A surface given a thickness.

    Attributes
    ----------
    thickness : float
        mm, to the side that its normal points to; less than 0 for the other one.
    both : bool
        Whether half of it lies on either side.
    """

    thickness: float = 1.0
    both: bool = False

    def __post_init__(self) -> None:
        _check(self, thickness=-1e4)
        if abs(self.thickness) < 1e-3:
            raise BodyError("a thickness must be 0.001 mm or more, to either side")
