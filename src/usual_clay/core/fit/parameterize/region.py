"""Where a cast starts: its settings, and what its region laid flat comes to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, Protocol, Self, TypeVar

import numpy as np

from usual_clay.core.arrays import Floats, Place, as_places
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.frame import FRAMES, SIDES, FrameChoice, Sides
from usual_clay.core.fit.parameterize.mirror import Mirror
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.fit.solve.system import FixedControlPoints, Space
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import HIGHEST_DEGREE, clamped, even_knots
from usual_clay.core.spline.surface import BSplineSurface

KnotRule = Literal["even", "adaptive", "adaptive u", "adaptive v"]
EdgeConstraint = Literal["free", "straight", "flat"]
# The borders u0, u1, v0, v1, each left as it comes.
FREE_EDGES: tuple[EdgeConstraint, EdgeConstraint, EdgeConstraint, EdgeConstraint] = (
    "free",
    "free",
    "free",
    "free",
)
KNOT_RULES = ("even", "adaptive", "adaptive u", "adaptive v")
FEWEST, MOST = 4, 200
# Points within this share of the region's length or width from its ends are held there.
NEAR_END = 0.05


class Sizes(Protocol):
    """What every fit of a surface to points is told."""

    @property
    def nu(self) -> int: ...
    @property
    def nv(self) -> int: ...
    @property
    def degree(self) -> int: ...
    @property
    def smoothness(self) -> float: ...
    @property
    def knots(self) -> KnotRule: ...
    def sized(self, nu: int, nv: int) -> Self: ...
    @property
    def inner_u(self) -> tuple[float, ...]: ...
    @property
    def inner_v(self) -> tuple[float, ...]: ...
    @property
    def net(self) -> tuple[Place, ...]: ...
    def is_adaptive(self, direction: str) -> bool: ...


@dataclass(frozen=True)
class CastSettings:
    """What the user sets of a cast.

    Attributes
    ----------
    nu, nv : int
        Control points along u and v, 4 to 200.
    degree : int
        1 to 7, in both directions; less than the counts.
    smoothness : float
        0 to 1. The stiffness of the thin plate, on a logarithmic scale and in proportion to the
        region's size, so that it means the same on a small part and on a large one.
    reach : float
        How far the surface runs past its region: the fraction, 0 to 1, that is added to its
        length and width, half of it at each end.
    frame : {"best", "outline", "bend", "axes", "locked"}
    plane : str
        The world axes of u and v, when the frame is locked to them.
    sides : {"best", "follow", "straight", "along"}
        Whether the surface's long sides follow the region's outline or the frame's rectangle, or
        whichever of these a small trial does better with; or it is laid along the region's own
        length, as one is by itself that winds over itself.
    knots : {"even", "adaptive", "adaptive u", "adaptive v"}
        Spread evenly, or closer where the shape needs them, in both directions or in one.
    symmetric : {"", "x", "y", "z"}
        The axis of a mirror plane through the origin, about which the surface is symmetric.
    closed : {"", "u", "v"}
        The direction in which the surface runs once round, without a seam. A region of a scan
        that folds over and has two ends is closed by itself.
    pull : {"", "x", "y", "z"}
        The axis along which it can be drawn off a mould: seen along it the surface covers each
        place once, and points are matched along it.
    edges : four of {"free", "straight", "flat"}
        Whether the borders u0, u1, v0 and v1 lie on a line or in a plane.
    inner_u, inner_v : tuples of float
        The inner knots that a search found for these counts; with none they are chosen anew.
    net : tuple of (x, y, z)
        The control points, row by row, with which it found them: the fit sets out from there.
    any_degree : bool
        Whether a search for adaptive knots tries degrees 2 to 5, and keeps the leanest.
    """

    nu: int = 10
    nv: int = 10
    degree: int = 3
    smoothness: float = 0.3
    reach: float = 0.4
    frame: FrameChoice = "best"
    plane: str = "xy"
    sides: Sides = "best"
    knots: KnotRule = "even"
    symmetric: Literal["", "x", "y", "z"] = ""
    closed: Literal["", "u", "v"] = ""
    pull: Literal["", "x", "y", "z"] = ""
    edges: tuple[EdgeConstraint, EdgeConstraint, EdgeConstraint, EdgeConstraint] = FREE_EDGES
    inner_u: tuple[float, ...] = ()
    inner_v: tuple[float, ...] = ()
    net: tuple[Place, ...] = ()
    any_degree: bool = False

    def __post_init__(self) -> None:
        for name, count in (("u", self.nu), ("v", self.nv)):
            if not FEWEST <= count <= MOST:
                raise FitError(f"control points along {name} must be {FEWEST} to {MOST}: {count}")
            if count <= self.degree:
                raise FitError(
                    f"degree {self.degree} needs at least {self.degree + 1} control points"
                    f" along {name}, not {count}"
                )
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if not (0 <= self.smoothness <= 1 and 0 <= self.reach <= 1):
            raise FitError("smoothness and reach must be 0 to 1")
        if self.frame not in FRAMES:
            raise FitError(f"frame must be one of {', '.join(FRAMES)}, not {self.frame!r}")
        if self.knots not in KNOT_RULES:
            raise FitError(f"knots must be {', '.join(KNOT_RULES[:-1])} or {KNOT_RULES[-1]}")
        if self.sides not in SIDES:
            raise FitError(f"sides must be one of {', '.join(SIDES)}, not {self.sides!r}")
        if self.symmetric not in ("", "x", "y", "z"):
            raise FitError(f"symmetric about x, y or z, not {self.symmetric!r}")
        if self.closed not in ("", "u", "v"):
            raise FitError(f"a surface closes in u or v, not {self.closed!r}")
        if self.sides == "along" and self.symmetric:
            raise FitError(
                "what is laid along its length is not made symmetric: choose one of them"
            )
        if self.closed and self.symmetric:
            raise FitError("a surface that closes is not made symmetric: choose one of them")
        self._check_held()
        check_inner(self)
        if len(set(self.plane)) != 2 or not set(self.plane) <= set("xyz"):
            raise FitError(f"the base plane must name two of x, y, z: {self.plane!r}")

    def _check_held(self) -> None:
        if self.pull not in ("", "x", "y", "z"):
            raise FitError(f"a pull along x, y or z, not {self.pull!r}")
        if len(self.edges) != 4 or not set(self.edges) <= {"free", "straight", "flat"}:
            raise FitError("each of the four edges must be free, straight or flat")
        if self.pull and self.closed:
            raise FitError("a surface that closes cannot be pulled off a mould: choose one of them")
        gone = {"": (), "u": self.edges[:2], "v": self.edges[2:]}[self.closed]
        if set(gone) - {"free"}:
            raise FitError(f"a surface closed in {self.closed} has no edges there to hold")

    def sized(self, nu: int, nv: int) -> CastSettings:
        if (nu, nv) == (self.nu, self.nv):
            return self
        return replace(self, nu=nu, nv=nv, inner_u=(), inner_v=(), net=())

    def is_adaptive(self, direction: str) -> bool:
        return self.knots in ("adaptive", f"adaptive {direction}")


def check_inner(settings: Sizes) -> None:
    """Refuse inner knots that make no knot vector."""
    for name, inner in (("u", settings.inner_u), ("v", settings.inner_v)):
        knots = np.array([0.0, *inner, 1.0])
        if not (np.isfinite(knots).all() and (np.diff(knots) >= 0).all()):
            raise FitError(f"the knots along {name} do not rise from 0 to 1")
    if settings.net and len(settings.net) != settings.nu * settings.nv:
        raise FitError(f"a net of {settings.nu} × {settings.nv} has not {len(settings.net)} points")
    if not np.isfinite(settings.net).all():
        raise FitError("a net holds numbers that are not finite")


Settings = TypeVar("Settings", bound=Sizes)


def with_knots_of(settings: Settings, surface: BSplineSurface) -> Settings:
    """Return settings with the counts, knots and control points that a search has come to."""
    p, q = surface.degrees
    inner_u, inner_v = surface.knots_u[p + 1 : -p - 1], surface.knots_v[q + 1 : -q - 1]
    sized = settings.sized(*surface.counts)
    return replace(  # type: ignore[type-var]
        sized,
        inner_u=tuple(map(float, inner_u)),
        inner_v=tuple(map(float, inner_v)),
        net=as_places(surface.points.reshape(-1, 3)),
    )


def has_net(settings: Sizes) -> bool:
    """Tell whether settings say where a fit sets out from."""
    return bool(settings.net)


@dataclass(frozen=True, eq=False)
class Parameterization:
    """A region laid flat: where a cast of it starts.

    Attributes
    ----------
    size : (float, float)
        Lengths along u and v on the surface that is fitted, mm.
    u, v : (n,) arrays
        The points' parameters, in [0, 1].
    mirror : Mirror or None
        Where the surface is to be symmetric.
    least : Space or None
        The knots that its borders need.
    held : callable or None
        Gives the control points that are known in a space.
    closed : {"", "u", "v"}
        The direction in which it runs round.
    fixed : bool
        Whether the points keep these parameters.
    words : str
        What the user should know of it.
    begin : (int, int)
        With no fewer control points a search begins: a surface of fewer lies so far off where
        the region winds that points come to lie on the wrong turn.
    """

    size: tuple[float, float]
    u: Floats
    v: Floats
    mirror: Mirror | None = None
    least: Space | None = None
    held: Callable[[Space], FixedControlPoints] | None = None
    closed: str = ""
    fixed: bool = False
    past: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    words: str = ""
    begin: tuple[int, int] = (0, 0)

    @property
    def winds(self) -> bool:
        """Whether the region is laid along its length, since it winds."""
        return self.begin != (0, 0)

    @cached_property
    def home(self) -> Floats | None:
        """Where points near the ends are to stay, (4, n): u, v, and how firmly each is held.

        Points that slide could take the surface along, far past them or not far enough.
        """
        if self.fixed or self.least is not None:
            return None
        holds = [self._held_to_ends(t, d) for t, d in ((self.u, "u"), (self.v, "v"))]
        return np.stack([self.u, self.v, *holds])

    def begun(self, sample: Sample) -> Start:
        """Return where the points of a sample set out from."""
        return Start(self.u, self.v, sample.first_weights, home=self.home)

    def _held_to_ends(self, t: Floats, direction: str) -> Floats:
        if direction == self.closed:
            return np.zeros(len(t))
        low, high = float(t.min()), float(t.max())
        inside = np.minimum(t - low, high - t) / max(high - low, 1e-9)
        return np.maximum(1 - inside / NEAR_END, 0.0)

    def fewest(self, degree: int) -> tuple[int, int]:
        """Return the least counts along u and v."""
        open_ = fewest_of(degree)
        # Fewer would overlap themselves on the way round.
        round_ = max(FEWEST, 2 * degree)
        return (
            round_ if self.closed == "u" else open_,
            round_ if self.closed == "v" else open_,
        )

    def first(self, degree: int) -> tuple[int, int]:
        """Return the counts along u and v with which a search begins."""
        (least_u, least_v), (u, v) = self.fewest(degree), self.begin
        return max(least_u, u), max(least_v, v)

    def set_out_from(self, settings: Sizes) -> BSplineSurface:
        """Return the surface from which settings with a net set out.

        Raises
        ------
        FitError
            Where net and knots do not fit the degrees that borders ask for.
        """
        degrees = (settings.degree, settings.degree)
        if self.least is not None:
            degrees = (self.least.degree_u, self.least.degree_v)
        knots = clamped(settings.inner_u, degrees[0]), clamped(settings.inner_v, degrees[1])
        counts = len(knots[0]) - degrees[0] - 1, len(knots[1]) - degrees[1] - 1
        if counts != (settings.nu, settings.nv):
            raise FitError("the borders have changed: find the fewest control points anew")
        return BSplineSurface(*knots, np.array(settings.net).reshape(*counts, 3))

    def kept(self, direction: str) -> Floats | None:
        """Return the knots of a direction that borders need, if there are any."""
        if self.least is None:
            return None
        knots = self.least.knots_u if direction == "u" else self.least.knots_v
        return np.unique(knots)

    def start_space(self, settings: Sizes) -> Space:
        """Return the space of even knots, with what the borders need among them."""
        degree = settings.degree
        if self.least is None:
            knots = even_knots(settings.nu, degree), even_knots(settings.nv, degree)
            return Space(*knots, degree, degree, self.closed)
        least = self.least
        space = replace(
            least,
            knots_u=widened(least.knots_u, least.degree_u, settings.nu),
            knots_v=widened(least.knots_v, least.degree_v, settings.nv),
        )
        return space if self.mirror is None else self.mirror.doubled(space)


def fewest_of(degree: int) -> int:
    """Return the least control points along a direction that does not close."""
    return max(FEWEST, degree + 1)


def adaptive_directions(settings: Sizes) -> str:
    """Return the directions along which knots are adaptive."""
    return "".join(d for d in "uv" if settings.is_adaptive(d))


def widened(knots: Floats, degree: int, count: int) -> Floats:
    """Halve the longest spans until there are so many control points."""
    while len(knots) - degree - 1 < count:
        at = int(np.argmax(np.diff(knots)))
        knots = np.insert(knots, at + 1, (knots[at] + knots[at + 1]) / 2)
    return knots
