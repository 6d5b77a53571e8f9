"""Four-corner patch: a surface that takes four borders exactly and the scan's shape inside."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.sparse.csgraph import connected_components

from usual_clay.core.arrays import Bools, Ints, frozen
from usual_clay.core.check.deviation import Aim, percent
from usual_clay.core.fit.drape import (
    FEWEST,
    KNOT_RULES,
    MOST,
    Base,
    Drape,
    KnotRule,
    Start,
    settled,
)
from usual_clay.core.fit.meet import GRADES, Frame, Grade, meeting
from usual_clay.core.fit.mirror import Mirror, mirrored
from usual_clay.core.fit.run import Run, RunSettings
from usual_clay.core.fit.sample import Sample
from usual_clay.core.fit.system import FitError, Space
from usual_clay.core.fit.trace import trace
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.borders import Borders, between, four_borders
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.parts import evenly
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

# A point of the scan farther from the first, blended surface than this share of the patch's
# shorter way across is no part of it; of the second, fitted one.
NEAR = (0.5, 0.2)
# So many points are enough to find out where the patch runs.
SCOUTING = 6_000
# Feet this near to a border lie on it.
RIM = 1e-7
# An island of fewer than this share of the points is nothing to speak of.
ISLAND = 0.02
# A rational border, such as an arc, is followed by a spline this closely, mm.
ROUND_WITHIN = 1e-4
# Borders that are to be mirror images may differ by so much, mm.
AWRY = 1e-3


@dataclass(frozen=True)
class PatchSettings:
    """What the user sets of a four-corner patch.

    Attributes
    ----------
    nu, nv : int
        Control points along u and v; where the borders need more, it has these.
    degree : int
        At least; a border of a higher one raises it.
    smoothness : float
        0 to 1, as for a drape.
    knots : {"even", "adaptive", "adaptive u", "adaptive v"}
    joints : four of {"G0", "G1", "G2"}
        How each border, in the order in which they are given, goes on from the neighbour there.
    symmetric : {"", "x", "y", "z"}
        The axis of a mirror plane through the origin.
    closing : float
        Ends up to so far apart are closed, mm.
    beside : four ints
        For each border which of the further surfaces lies on its other side; -1 for none.
    """

    nu: int = 8
    nv: int = 8
    degree: int = 3
    smoothness: float = 0.1
    knots: KnotRule = "even"
    joints: tuple[Grade, Grade, Grade, Grade] = ("G0", "G0", "G0", "G0")
    symmetric: Literal["", "x", "y", "z"] = ""
    closing: float = 0.1
    beside: tuple[int, int, int, int] = (-1, -1, -1, -1)

    def __post_init__(self) -> None:
        if not (FEWEST <= self.nu <= MOST and FEWEST <= self.nv <= MOST):
            raise FitError(f"control points must be {FEWEST} to {MOST} each way")
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if self.knots not in KNOT_RULES:
            raise FitError(f"knots must be {', '.join(KNOT_RULES[:-1])} or {KNOT_RULES[-1]}")
        if len(self.joints) != 4 or not set(self.joints) <= set(GRADES):
            raise FitError("a patch meets its neighbours with G0, G1 or G2")
        if self.symmetric not in ("", "x", "y", "z"):
            raise FitError(f"symmetric about x, y or z, not {self.symmetric!r}")
        if not (0 <= self.smoothness <= 1 and self.closing >= 0):
            raise FitError("smoothness must be 0 to 1, and a gap that is closed 0 or more")

    def sized(self, nu: int, nv: int) -> PatchSettings:
        return replace(self, nu=nu, nv=nv)

    def is_adaptive(self, direction: str) -> bool:
        return self.knots in ("adaptive", f"adaptive {direction}")


@dataclass(frozen=True, eq=False, kw_only=True)
class PatchFit(Drape):
    """A fitted patch.

    Attributes
    ----------
    inside : (n,) integers
        The scan's vertices inside the borders, whose feet these are; rising.
    words : str
        What the user should know of it.
    """

    inside: Ints
    words: str = ""

    def __post_init__(self) -> None:
        object.__setattr__(self, "inside", frozen(self.inside, "int64"))


@dataclass(frozen=True, eq=False)
class Ground:
    """What a patch is fitted to: its frame, and the scan inside it.

    Attributes
    ----------
    frame : Frame
    base : Base
    sample : Sample
    inside : (n,) integers
        The sample's vertices of the scan.
    words : str
    """

    frame: Frame
    base: Base
    sample: Sample
    inside: Ints
    words: str


def patch(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Drape], None] | None = None,
) -> PatchFit:
    """Fit a surface to the part of a scan inside four borders.

    The control rows along the borders are those of the borders, and where the patch goes on from a
    neighbour its next rows follow from the neighbour's derivatives with a constant ratio, which
    makes the joint exact but at its corners; all else is fitted as a drape is.

    Parameters
    ----------
    curves : four BSplineCurve
        In any order and direction.
    neighbours : four BSplineSurface or None
        For each curve the surface on its other side.

    Raises
    ------
    GapError
        When the borders do not meet.
    FitError
        When no scan lies inside, or a neighbour does not share its border.
    """
    progress(0.0, "borders")
    ground = lay_out(mesh, curves, neighbours, settings)
    needed = ground.base.least
    assert needed is not None
    asked = settings.sized(max(settings.nu, needed.counts[0]), max(settings.nv, needed.counts[1]))
    if start is not None and len(start[0]) != len(ground.sample.points):
        start = None
    made = settled(ground.sample, asked, ground.base, start, progress, found)
    return finished(ground, made)


def finished(ground: Ground, made: Drape) -> PatchFit:
    """Return a fit with exact feet, and what there is to say of it."""
    count = len(ground.inside)
    points = ground.sample.points[:count]
    exact = foot_points(made.surface, points, (made.feet.u[:count], made.feet.v[:count]))
    return PatchFit(
        made.surface, exact, made.weights[:count], made.rounds,
        inside=ground.inside, words=ground.words,
    )  # fmt: skip


def lay_out(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
) -> Ground:
    """Arrange the borders and find the scan inside them; see `patch`."""
    borders = four_borders([_plain(curve) for curve in curves], settings.closing)
    frame, surface = _blended(borders, settings)
    inside, feet = _inside(mesh, surface, NEAR[0] * min(borders.size))
    # From borders alone the surface may lie far off: a coarse fit tells better what is inside.
    scout = inside[:: max(1, len(inside) // SCOUTING)]
    chosen = np.searchsorted(inside, scout)
    held_to = Base(borders.size, feet.u[chosen], feet.v[chosen], None, frame.least(3), frame.held)
    sample = Sample(mesh.vertices[scout], mesh.vertex_normals[scout])
    rough = settled(sample, PatchSettings(FEWEST + 2, FEWEST + 2), held_to).surface
    away = surface_normals(rough, feet.u[chosen], feet.v[chosen])
    if float(np.einsum("nk,nk->n", away, sample.normals).mean()) < 0:
        borders = borders.turned()
        frame = _blended(borders, settings)[0]
        rough = _swapped(rough)
    inside, feet = _inside(mesh, rough, NEAR[1] * min(borders.size))
    words = _islands(mesh, inside)
    if borders.gap > 1e-6:
        words = "; ".join(filter(None, [f"gaps of up to {borders.gap:.4f} mm were closed", words]))
    sample = Sample(mesh.vertices[inside], mesh.vertex_normals[inside])
    given = [neighbours[k] if k < len(neighbours) else None for k in borders.order]
    meetings = tuple(
        meeting(borders, side, neighbour, settings.joints[borders.order[side]])
        for side, neighbour in enumerate(given)
        if neighbour is not None and settings.joints[borders.order[side]] != "G0"
    )
    if meetings:
        frame = replace(frame, meetings=meetings).with_ratios(rough)
    base = Base(borders.size, feet.u, feet.v, None, frame.least(settings.degree), frame.held)
    if settings.symmetric:
        base, sample = _symmetric(base, sample, frame, settings)
    return Ground(frame, base, sample, inside, words)


def _plain(curve: BSplineCurve) -> BSplineCurve:
    """Return a border without weights: a rational one is followed very closely by a spline."""
    if curve.weights is None:
        return curve
    run = Run(evenly(curve, 800), held=(True, True))
    return trace(run, RunSettings(knots="even"), Aim(ROUND_WITHIN, 0.999)).fit.curve


def _blended(borders: Borders, settings: PatchSettings) -> tuple[Frame, BSplineSurface]:
    frame = Frame(borders)
    return frame, between(frame.in_space(frame.least(settings.degree)))


def _swapped(surface: BSplineSurface) -> BSplineSurface:
    return BSplineSurface(surface.knots_v, surface.knots_u, surface.points.transpose(1, 0, 2))


def _inside(mesh: TriangleMesh, surface: BSplineSurface, limit: float) -> tuple[Ints, FootPoints]:
    """Return the vertices of a mesh whose feet lie inside a surface, all on one side of it."""
    box = surface.points.reshape(-1, 3)
    low, high = box.min(axis=0) - limit, box.max(axis=0) + limit
    near = np.flatnonzero(((mesh.vertices >= low) & (mesh.vertices <= high)).all(axis=1))
    if not len(near):
        raise FitError("no part of the scan lies inside the borders")
    feet = foot_points(surface, mesh.vertices[near])
    off = np.maximum(np.abs(feet.u - 0.5), np.abs(feet.v - 0.5))
    within: Bools = (off < 0.5 - RIM) & (np.abs(feet.signed) < limit)
    turned = np.einsum(
        "nk,nk->n", surface_normals(surface, feet.u, feet.v), mesh.vertex_normals[near]
    )
    # Of a closed body the far side has feet inside too, but faces the other way.
    close = within & (np.abs(feet.signed) <= np.quantile(np.abs(feet.signed[within]), 0.5)
                      if within.any() else within)  # fmt: skip
    faces = 1.0 if float(turned[close].sum()) >= 0 else -1.0
    within &= faces * turned > 0
    if within.sum() < 16:
        raise FitError(
            f"only {int(within.sum())} points of the scan lie inside the borders: do they lie on"
            " the scan, and in order round a part of it?"
        )
    kept = FootPoints(feet.u[within], feet.v[within], feet.feet[within], feet.signed[within])
    return near[within].astype(np.int64), kept


def _islands(mesh: TriangleMesh, inside: Ints) -> str:
    """Say whether what lies inside hangs together."""
    graph = mesh.neighbours[inside][:, inside]
    _, label = connected_components(graph, directed=False)
    share = np.sort(np.bincount(label) / len(inside))[::-1]
    large = share[share >= ISLAND]
    if len(large) < 2:
        return ""
    told = " and ".join(percent(float(part)) for part in large[:3])
    return (
        f"the scan inside is in {len(large)} islands ({told} of the points): between them only"
        " borders and smoothness shape the surface"
    )


def _symmetric(
    base: Base, sample: Sample, frame: Frame, settings: PatchSettings
) -> tuple[Base, Sample]:
    """Return a base and a sample with both halves of the points, and the mirror they share."""
    axis = "xyz".index(settings.symmetric)
    assert base.least is not None
    least = base.least
    found: tuple[float, Mirror, Space] | None = None
    for direction in "uv":
        mirror = Mirror(axis, direction)
        space = mirror.doubled(least)
        held = frame.held(space)
        surface = BSplineSurface(space.knots_u, space.knots_v, held.points)
        moved = mirror.halved(surface).points - held.points
        awry = float(np.linalg.norm(moved[held.which], axis=1).max())
        if found is None or awry < found[0]:
            found = (awry, mirror, space)
    assert found is not None
    awry, mirror, space = found
    if awry > AWRY:
        raise FitError(
            f"the borders are not symmetric about {settings.symmetric} = 0: they differ by"
            f" {2 * awry:.3f} mm. Make one border the twin of the other, and end the others on"
            " the plane's two sides alike"
        )
    u, v = base.u, base.v
    image_u, image_v = (1 - u, v) if mirror.direction == "u" else (u, 1 - v)
    both = replace(
        base, u=np.concatenate([u, image_u]), v=np.concatenate([v, image_v]),
        mirror=mirror, least=space,
    )  # fmt: skip
    return both, mirrored(sample, axis)
