"""What recipes are given and what they give, before it is put into an item."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.build.guide import Gap
from usual_clay.core.picture.placement import Placement
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface


@dataclass(frozen=True, eq=False)
class PointsMade:
    """Points that a recipe gives, with what the user should know of them."""

    points: Floats
    closed: bool
    words: str = ""


@dataclass(frozen=True, eq=False)
class CurveMade:
    """A curve that a recipe gives, with what the user should know of it."""

    curve: BSplineCurve
    words: str = ""


@dataclass(frozen=True, eq=False)
class SurfaceMade:
    """A surface that a recipe gives, with what the user should know of it.

    Attributes
    ----------
    surface : BSplineSurface
    words : str
    away : mapping
        By the name of each source curve how far places along it lie off, mm.
    gaps : tuple of Gap
        Where sources do not quite touch.
    runs : mapping
        By the name of each source curve its places, (n, 3), as the surface takes them.
    joints : tuple of (str, float, float, float)
        Of each border that goes on from what lies beside: which, and the greatest gap (mm), angle
        (radians) and step of curvature (1/mm) there.
    signed : array or None
        The deviation of each measured point that it follows between its curves, mm.
    inside : integers or None
        Which of all measured points these are, rising.
    """

    surface: BSplineSurface
    words: str = ""
    away: Mapping[str, Floats] = field(default_factory=dict)
    gaps: tuple[Gap, ...] = ()
    runs: Mapping[str, Floats] = field(default_factory=dict)
    joints: tuple[tuple[str, float, float, float], ...] = ()
    signed: Floats | None = None
    inside: Ints | None = None


@dataclass(frozen=True, eq=False)
class Pinned:
    """A picture as a source: where it lies, and its pixels when they are asked for."""

    placement: Placement
    size: tuple[int, int]
    pixels: Callable[[], np.ndarray]


@dataclass(frozen=True, eq=False)
class Given:
    """A recipe's sources, by role.

    Attributes
    ----------
    by_role : mapping
    names : mapping
        What each is called, in the same order; empty where nobody needs to know.
    """

    by_role: Mapping[str, tuple[Any, ...]]
    names: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @classmethod
    def of(cls, **roles: Any) -> Given:
        """Return sources; a role that takes one may be given it alone."""
        listed = {k: v if isinstance(v, tuple | list) else (v,) for k, v in roles.items()}
        return cls({role: tuple(values) for role, values in listed.items()})

    def all(self, role: str) -> tuple[Any, ...]:
        return self.by_role.get(role, ())

    def one(self, role: str) -> Any:
        """Return what takes a role that must be taken."""
        return self.by_role[role][0]

    def maybe(self, role: str) -> Any:
        """Return what takes a role, or None."""
        return next(iter(self.all(role)), None)

    def named(self) -> dict[str, list[tuple[str, Any]]]:
        """Return each source with its name, by role."""
        return {
            role: [
                (self.names[role][k] if role in self.names else f"{role} {k + 1}", value)
                for k, value in enumerate(values)
            ]
            for role, values in self.by_role.items()
        }

    def __iter__(self) -> Iterator[Any]:
        return (value for values in self.by_role.values() for value in values)
