"""Four-corner patch: a surface that takes four borders exactly and the scan's shape inside."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.sparse.csgraph import connected_components

from usual_clay.core.arrays import Bools, Ints, Place, frozen
from usual_clay.core.check.deviation import Tolerance, percent
from usual_clay.core.errors import FitError
from usual_clay.core.fit.cast import Cast, folds_in, settled
from usual_clay.core.fit.curve.sequence import PointSequence, TraceSettings
from usual_clay.core.fit.curve.trace import trace
from usual_clay.core.fit.parameterize.mirror import Mirror, mirrored
from usual_clay.core.fit.parameterize.region import (
    FEWEST,
    KNOT_RULES,
    MOST,
    KnotRule,
    Parameterization,
    check_inner,
)
from usual_clay.core.fit.patch.meet import CONTINUITIES, Continuity, Frame, Ribbon, meeting
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.curvature import RINGS
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import grow, smooth_parts
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.boundary import Border
from usual_clay.core.spline.closest import FootPoints, foot_points, grid_seed
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.four_borders import Borders, coons_patch, four_borders, make_compatible
from usual_clay.core.spline.knots import reverse
from usual_clay.core.spline.parts import evenly
from usual_clay.core.spline.surface import BSplineSurface, surface_normals, swap_directions

# A point of the scan farther from the first, blended surface than this share of the patch's
# shorter way across is no part of it; of the second, fitted one so many usual distances.
NEAR = 0.5
STRAYS = 8.0
# It faces as the surface does, as the cosine between their normals: walls of holes do not.
FACING = (0.0, 0.42)
# So many points are enough to find out where the patch runs.
SCOUTING = 6_000
# Feet this near to a border lie on it.
RIM = 1e-7
# An island of fewer than this share of the points is nothing to speak of.
ISLAND = 0.02
# What creases part off and is smaller than this share of the points inside is a pit.
PIT = 0.1
# A rational border, such as an arc, is followed by a spline this closely, mm.
ROUND_WITHIN = 1e-4
# Borders move by no more than this share of the patch's shorter way across to be symmetric.
MOST_AWRY = 0.05


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
        0 to 1, as for a cast.
    knots : {"even", "adaptive", "adaptive u", "adaptive v"}
    joints : four of {"G0", "G1", "G2"}
        How each border, in the order in which they are given, goes on from the neighbour there.
    symmetric : {"", "x", "y", "z"}
        The axis of a mirror plane through the origin.
    closing : float
        Ends up to so far apart are closed, mm.
    beside : four ints
        For each border which of the further surfaces lies on its other side; -1 for none.
    ribbons : tuple of Ribbon
        Of the borders that it was solved for together with its neighbours.
    inner_u, inner_v : tuples of float
        The inner knots that a search found for these counts; with none they are chosen anew.
    net : tuple of (x, y, z)
        The control points, row by row, with which it found them: the fit sets out from there.
    """

    nu: int = 8
    nv: int = 8
    degree: int = 3
    smoothness: float = 0.1
    knots: KnotRule = "even"
    joints: tuple[Continuity, Continuity, Continuity, Continuity] = ("G0", "G0", "G0", "G0")
    symmetric: Literal["", "x", "y", "z"] = ""
    closing: float = 0.1
    beside: tuple[int, int, int, int] = (-1, -1, -1, -1)
    ribbons: tuple[Ribbon, ...] = ()
    inner_u: tuple[float, ...] = ()
    inner_v: tuple[float, ...] = ()
    net: tuple[Place, ...] = ()

    def __post_init__(self) -> None:
        if not (FEWEST <= self.nu <= MOST and FEWEST <= self.nv <= MOST):
            raise FitError(f"control points must be {FEWEST} to {MOST} each way")
        if not 1 <= self.degree <= HIGHEST_DEGREE:
            raise FitError(f"the degree must be 1 to {HIGHEST_DEGREE}, not {self.degree}")
        if self.knots not in KNOT_RULES:
            raise FitError(f"knots must be {', '.join(KNOT_RULES[:-1])} or {KNOT_RULES[-1]}")
        if len(self.joints) != 4 or not set(self.joints) <= set(CONTINUITIES):
            raise FitError("a patch meets its neighbours with G0, G1 or G2")
        if self.symmetric not in ("", "x", "y", "z"):
            raise FitError(f"symmetric about x, y or z, not {self.symmetric!r}")
        if not (0 <= self.smoothness <= 1 and self.closing >= 0):
            raise FitError("smoothness must be 0 to 1, and a gap that is closed 0 or more")
        check_inner(self)

    def sized(self, nu: int, nv: int) -> PatchSettings:
        if (nu, nv) == (self.nu, self.nv):
            return self
        return replace(self, nu=nu, nv=nv, inner_u=(), inner_v=(), net=())

    def is_adaptive(self, direction: str) -> bool:
        return self.knots in ("adaptive", f"adaptive {direction}")


@dataclass(frozen=True, eq=False, kw_only=True)
class PatchFit(Cast):
    """A fitted patch.

    Attributes
    ----------
    inside : (n,) integers
        The scan's vertices inside the borders, whose feet these are; rising.
    """

    inside: Ints

    def __post_init__(self) -> None:
        object.__setattr__(self, "inside", frozen(self.inside, "int64"))


@dataclass(frozen=True, eq=False)
class Ground:
    """What a patch is fitted to: its frame, and the scan inside it.

    Attributes
    ----------
    frame : Frame
    base : Parameterization
    sample : Sample
    inside : (n,) integers
        The sample's vertices of the scan.
    words : str
    """

    frame: Frame
    base: Parameterization
    sample: Sample
    inside: Ints
    words: str


def patch(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
    progress: Progress = silent,
    found: Callable[[Cast], None] | None = None,
) -> PatchFit:
    """Fit a surface to the part of a scan inside four borders.

    The control rows along the borders are those of the borders, and where the patch goes on from a
    neighbour its next rows follow from the neighbour's derivatives with a constant ratio, which
    makes the joint exact but at its corners; all else is fitted as a cast is.

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
    made = settled(ground.sample, asked, ground.base, None, progress, found)
    return finished(ground, made)


def finished(ground: Ground, made: Cast) -> PatchFit:
    """Return a fit with exact feet, and what there is to say of it."""
    count = len(ground.inside)
    points = ground.sample.points[:count]
    exact = foot_points(made.surface, points, (made.feet.u[:count], made.feet.v[:count]))
    words = [
        ground.words,
        folds_in(made.surface, exact, ground.sample.telling, made.weights[:count]),
    ]
    return PatchFit(
        made.surface,
        exact,
        made.weights[:count],
        made.rounds,
        inside=ground.inside,
        words="; ".join(filter(None, words)),
        areas=ground.sample.areas[:count],
    )


def lay_out(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
) -> Ground:
    """Arrange the borders and find the scan inside them; see `patch`."""
    borders = four_borders([_plain(curve) for curve in curves], settings.closing)
    frame, surface = _blended(borders, settings)
    inside, feet, _ = _inside(mesh, surface, NEAR * min(borders.size), FACING[0])
    # From borders alone the surface may lie far off: a coarse fit tells better what is inside.
    scout = inside[:: max(1, len(inside) // SCOUTING)]
    chosen = np.searchsorted(inside, scout)
    held_to = Parameterization(
        borders.size, feet.u[chosen], feet.v[chosen], None, frame.least(3), frame.held
    )
    sample = _sample(mesh, scout)
    scouted = settled(sample, PatchSettings(FEWEST + 2, FEWEST + 2), held_to)
    rough = scouted.surface
    usual = float(np.quantile(np.abs(scouted.feet.signed), 0.9))
    limit = min(STRAYS * usual, NEAR * min(borders.size))
    away = surface_normals(rough, feet.u[chosen], feet.v[chosen])
    if float(np.einsum("nk,nk->n", away, sample.normals).mean()) < 0:
        borders = borders.turned()
        frame = _blended(borders, settings)[0]
        rough = swap_directions(rough)
    inside, feet, over = _inside(mesh, rough, limit, FACING[1])
    inside, feet, words = _without_pits(mesh, inside, feet, over)
    words = "; ".join(filter(None, [words, _islands(mesh, inside)]))
    if borders.gap > 1e-6:
        words = "; ".join(filter(None, [f"gaps of up to {borders.gap:.4f} mm were closed", words]))
    sample = _sample(mesh, inside)
    mirror = None
    if settings.symmetric:
        borders, mirror, moved = made_symmetric(borders, "xyz".index(settings.symmetric))
        frame = Frame(borders)
        if moved > 1e-6:
            told = f"borders moved by up to {moved:.4f} mm to be symmetric"
            words = "; ".join(filter(None, [words, told]))
    given = {
        side: neighbours[k] if k < len(neighbours) else None for side, k in borders.order.items()
    }
    meetings = tuple(
        meeting(borders, side, neighbour, settings.joints[borders.order[side]])
        for side, neighbour in given.items()
        if neighbour is not None and settings.joints[borders.order[side]] != "G0"
    )
    if meetings:
        frame = replace(frame, meetings=meetings).with_ratios(rough)
    ribbons = tuple(ribbon.meeting(borders) for ribbon in settings.ribbons)
    frame = replace(frame, meetings=(*frame.meetings, *ribbons))
    base = Parameterization(
        borders.size, feet.u, feet.v, None, frame.least(settings.degree), frame.held
    )
    if mirror is not None:
        base, sample = _doubled(base, mirror), mirrored(sample, mirror.axis)
    return Ground(frame, base, sample, inside, words)


def _sample(mesh: TriangleMesh, chosen: Ints) -> Sample:
    area = mesh.vertex_areas[chosen]
    return Sample(mesh.vertices[chosen], mesh.vertex_normals[chosen], area=area)


def _plain(curve: BSplineCurve) -> BSplineCurve:
    """Return a border without weights: a rational one is followed very closely by a spline."""
    if curve.weights is None:
        return curve
    run = PointSequence(evenly(curve, 800), held=(True, True))
    return trace(run, TraceSettings(knots="even"), Tolerance(ROUND_WITHIN, 0.999)).fit.curve


def _blended(borders: Borders, settings: PatchSettings) -> tuple[Frame, BSplineSurface]:
    frame = Frame(borders)
    return frame, coons_patch(frame.in_space(frame.least(settings.degree)))


def _inside(
    mesh: TriangleMesh, surface: BSplineSurface, limit: float, facing: float
) -> tuple[Ints, FootPoints, Ints]:
    """Return the vertices of a mesh that belong inside a surface's borders, with their feet.

    They have their feet inside, are near and face the same way; the last are all that have.
    """
    box = surface.points.reshape(-1, 3)
    low, high = box.min(axis=0) - limit, box.max(axis=0) + limit
    near = np.flatnonzero(((mesh.vertices >= low) & (mesh.vertices <= high)).all(axis=1))
    if not len(near):
        raise FitError("no part of the scan lies inside the borders")
    places = mesh.vertices[near]
    feet = foot_points(surface, places, grid_seed(surface, places))
    off = np.maximum(np.abs(feet.u - 0.5), np.abs(feet.v - 0.5))
    within: Bools = (off < 0.5 - RIM) & (np.abs(feet.signed) < limit)
    turned = np.einsum(
        "nk,nk->n", surface_normals(surface, feet.u, feet.v), mesh.vertex_normals[near]
    )
    # Of a closed body the far side has feet inside too, but faces the other way.
    close = within & (
        np.abs(feet.signed) <= np.quantile(np.abs(feet.signed[within]), 0.5)
        if within.any()
        else within
    )
    faces = 1.0 if float(turned[close].sum()) >= 0 else -1.0
    within &= faces * turned > facing
    if within.sum() < 16:
        raise FitError(
            f"only {int(within.sum())} points of the scan lie inside the borders: do they lie on"
            " the scan, and in order round a part of it?"
        )
    return near[within].astype(np.int64), feet.part(within), near[off < 0.5 - RIM].astype(np.int64)


def _without_pits(
    mesh: TriangleMesh, inside: Ints, feet: FootPoints, over: Ints
) -> tuple[Ints, FootPoints, str]:
    """Leave out what lies beyond a crease and is small: holes, slots and the like."""
    number = smooth_parts(mesh)
    island = number[inside]
    share = np.bincount(island[island >= 0], minlength=int(number.max()) + 1) / len(inside)
    pits = np.zeros(len(mesh.vertices), dtype=bool)
    pits[over] = (number[over] < 0) | (share[number[over]] < PIT)
    if not pits.any():
        return inside, feet, ""
    # Their rims are rounded off by the scanner: what is told apart lies some edges within them.
    for _ in range(RINGS):
        pits = grow(mesh, pits)
    kept = ~pits[inside]
    if kept.all() or kept.sum() < len(inside) / 2:
        return inside, feet, ""
    words = f"{int((~kept).sum())} points beyond creases, as in holes, are left out"
    return inside[kept], feet.part(kept), words


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


def _doubled(base: Parameterization, mirror: Mirror) -> Parameterization:
    """Return a base for points followed by their mirror images."""
    assert base.least is not None
    u, v = base.u, base.v
    image_u, image_v = (1 - u, v) if mirror.direction == "u" else (u, 1 - v)
    return replace(
        base,
        u=np.concatenate([u, image_u]),
        v=np.concatenate([v, image_v]),
        mirror=mirror,
        least=mirror.doubled(base.least),
    )


def made_symmetric(borders: Borders, axis: int) -> tuple[Borders, Mirror, float]:
    """Make borders their own mirror image: the mean of both.

    Returns
    -------
    borders : Borders
    mirror : Mirror
        Which direction it turns round.
    moved : float
        How far that moved them at the most, mm.

    Raises
    ------
    FitError
        When they are far from symmetric.
    """
    tried = [_mean_of_images(borders, Mirror(axis, direction)) for direction in "uv"]
    moved, made, mirror = min(tried, key=lambda entry: entry[0])
    if moved > MOST_AWRY * min(borders.size):
        raise FitError(
            f"the borders are not symmetric about {'xyz'[axis]} = 0: they would have to move by"
            f" {moved:.2f} mm. Set the scan straight, or draw both halves alike"
        )
    return made, mirror, moved


def _mean_of_images(borders: Borders, mirror: Mirror) -> tuple[float, Borders, Mirror]:
    flip = np.ones(3)
    flip[mirror.axis] = -1.0
    # What runs along the direction that turns is its own image; the other two are each other's.
    of_u: tuple[Border, Border] = ("u0", "u1")
    of_v: tuple[Border, Border] = ("v0", "v1")
    selves, pair = (of_v, of_u) if mirror.direction == "u" else (of_u, of_v)
    sides = dict(borders.sides)
    moved = 0.0

    def mean(one: BSplineCurve, other: BSplineCurve) -> BSplineCurve:
        nonlocal moved
        degree = max(one.degree, other.degree)
        first, second = make_compatible([one, other], degree, np.zeros(0))
        made = replace(first, points=(first.points + second.points) / 2)
        moved = max(moved, float(np.linalg.norm(made.points - first.points, axis=1).max()))
        return made

    for k in selves:
        curve = sides[k]
        sides[k] = mean(curve, reverse(replace(curve, points=curve.points * flip)))
    first, second = sides[pair[0]], sides[pair[1]]
    sides[pair[0]] = mean(first, replace(second, points=second.points * flip))
    sides[pair[1]] = replace(sides[pair[0]], points=sides[pair[0]].points * flip)
    return moved, replace(borders, sides=sides), mirror
