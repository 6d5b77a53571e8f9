"""Fill: a lean surface inside a loop of edges, calm between them."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Literal

import numpy as np

from usual_clay.core.arrays import Floats, as_place, told_at
from usual_clay.core.build.combine import plane_through
from usual_clay.core.build.exact import check_touching
from usual_clay.core.build.guide import Gap, Guide, Line, Spend, evenly_in, rows_for, words_of_gaps
from usual_clay.core.build.plate import Plate
from usual_clay.core.build.sections import BuildError, check_crossing, check_curves
from usual_clay.core.build.smooth import Smooth, smooth_to
from usual_clay.core.build.star import Star, spokes_smooth
from usual_clay.core.build.straight import RuledSettings, ruled
from usual_clay.core.errors import FitError
from usual_clay.core.spline.boundary import LOOP, Border
from usual_clay.core.spline.chain import chain
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.parts import parts_at
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

# Rows of its grid, and the most for rich edges.
GRID, FINEST = 41, 121
# Sides of the surface; a corner inside one that turns by more is sharp.
CORNERS, SHARP = 4, np.radians(15)
# How fast a slope that an edge asks for at a corner gives way to that of what lies beside.
CORNER = 10
# Edges that leave a corner by more than this off the surfaces beside keep them from being smooth.
ASKEW = np.radians(1)
# By less than this they may turn the joint a little near there.
UNNOTICED = np.radians(0.1)


@dataclass(frozen=True)
class FillSettings(Spend):
    """How a loop of edges is filled.

    Attributes
    ----------
    smooth : {0, 1, 2}
        G0 to G2 to the surfaces that lie beside edges.
    mend : float
        Ends that are no farther apart are brought together, mm.
    part, of : int
        Which of several patches it is, one for each edge, that meet in the middle; 0 for one
        surface.
    middle : tuple of float
        Where patches meet; where it is calmest without one.
    borders : {"within", "exact"}
        Whether its borders lie within the distance of the edges, or are these edges: the very
        curves, with their control points.
    """

    smooth: Literal[0, 1, 2] = 1
    mend: float = 0.5
    part: int = 0
    of: int = 0
    middle: tuple[float, ...] = ()
    borders: Literal["within", "exact"] = "within"

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 <= self.part <= max(self.of, 0):
            raise FitError(f"there is no patch {self.part} of {self.of}")
        if len(self.middle) not in (0, 3) or not np.isfinite(self.middle).all():
            raise FitError("the place where patches meet has three coordinates")


@dataclass(frozen=True)
class FlatSettings(Spend):
    """How plane curves are filled; ends no farther apart than `mend` are brought together, mm."""

    mend: float = 0.5


@dataclass(frozen=True, eq=False)
class _Side:
    """One of four sides: edges end to end, or a mere corner."""

    parts: tuple[Measured, ...]
    corner: Floats

    def at(self, share: Floats) -> Floats:
        if not self.parts:
            return np.repeat(self.corner[None], len(share), axis=0)
        ends = np.concatenate([[0.0], np.cumsum([part.length for part in self.parts])])
        along = share * ends[-1]
        which = np.clip(np.searchsorted(ends, along, side="right") - 1, 0, len(self.parts) - 1)
        made = np.empty((len(share), 3))
        for k, part in enumerate(self.parts):
            mine = which == k
            made[mine] = part.at(np.clip((along[mine] - ends[k]) / part.length, 0, 1))
        return made


def fill_guide(
    edges: tuple[BSplineCurve, ...],
    beside: tuple[BSplineSurface, ...],
    settings: FillSettings,
    inner: tuple[BSplineCurve, ...] = (),
    places: Floats | None = None,
) -> Guide:
    """Lay a loop of edges out as four sides, and the calmest surface between them.

    Two edges meet at two corners that are sides of no length, three at one; of more than four
    those are taken together that meet most smoothly. Between, the surface bends least: the
    biharmonic equation on a grid, with its sides held, and its slopes across where a surface lies
    beside (Bloor and Wilson 1990).

    Parameters
    ----------
    inner, places : curves, and an (n, 3) array
        That it passes on the way.

    Raises
    ------
    BuildError
        For edges that make no loop: where it is open, and by how much.
    """
    edges = parted_edge(edges)
    loop, gaps = loop_of([Measured(edge) for edge in edges], settings.mend)
    said = [words_of_gaps(gaps, 0.1 * settings.within)]
    if settings.part:
        return _part(loop, beside, settings, gaps, said)
    said.append(_sharp_inside(loop))
    v0, u1, v1, u0 = _four(loop)
    t = evenly_in(rows_for(edges, GRID, FINEST))
    sides: dict[Border, _Side] = {"v0": v0, "u1": u1, "v1": v1, "u0": u0}
    rows: dict[Border, Floats] = {
        "v0": v0.at(t), "u1": u1.at(t), "v1": v1.at(1 - t), "u0": u0.at(1 - t)
    }  # fmt: skip
    exact: dict[Border, BSplineCurve] = {}
    if settings.borders == "exact":
        exact = _exact(sides, rows, t, gaps)
    plate = Plate(_coons(rows["v0"], rows["u1"], rows["v1"], rows["u0"], t))
    passed: list[BSplineCurve | Floats] = [*inner, *([] if places is None else [places])]
    plate.settle(passed)
    smooth: dict[Border, Smooth] = {}
    if settings.smooth and beside:
        told = [border for border in LOOP if sides[border].parts]
        smooth, askew = _smooth(plate, told, beside, settings)
        said.append(askew)
        plate.settle(passed)
    poles = {border: side.corner for border, side in sides.items() if not side.parts}
    return replace(_laid(plate, poles, smooth, gaps, said, len(inner)), exact=exact)


def parted_edge(edges: tuple[BSplineCurve, ...]) -> tuple[BSplineCurve, ...]:
    """Return edges of a loop; a single closed one is parted into four of one length.

    Raises
    ------
    BuildError
    """
    check_curves(edges, "edge")
    if len(edges) > 1:
        return edges
    if not edges or not (way := Measured(edges[0])).closed:
        raise BuildError("a fill takes two edges or more, or a closed one: an open one was given")
    return tuple(parts_at(edges[0], way.parameters(np.array([0.25, 0.5, 0.75]))))


def flat_face(edges: tuple[BSplineCurve, ...], settings: FlatSettings) -> Guide | BSplineSurface:
    """Lay a plane face out inside edges that lie in one plane.

    Inside one closed curve it is straight lines between its halves, which its edge is exactly,
    where these do not cross; else a guide.

    Raises
    ------
    BuildError
        For edges that leave their plane: by how much, and where.
    """
    check_curves(edges, "edge")
    check_crossing(edges, "edge")
    seen = np.concatenate([curve_points(edge, np.linspace(*edge.domain, GRID)) for edge in edges])
    place, normal = plane_through(seen)
    off = np.abs((seen - place) @ normal)
    if off.max() > settings.within:
        where = told_at(seen[int(np.argmax(off))])
        raise BuildError(
            f"the curves do not lie in one plane: they leave it by {off.max():.3f} mm near {where},"
            f" and {settings.within:g} mm is asked for",
            seen[int(np.argmax(off))],
        )
    if len(edges) == 1 and (halves := _halves(edges[0], normal)) is not None:
        return halves
    spent = {each.name: getattr(settings, each.name) for each in fields(FlatSettings)}
    guide = fill_guide(edges, (), FillSettings(smooth=0, **spent))
    grid = guide.grid - ((guide.grid - place) @ normal)[..., None] * normal
    return replace(guide, grid=grid)


def _halves(edge: BSplineCurve, normal: Floats) -> BSplineSurface | None:
    """Return straight lines between the halves of a closed curve, where none cross.

    It is parted where it goes farthest along its longest way.
    """
    t = np.linspace(*edge.domain, 4 * GRID)
    places = curve_points(edge, t)
    middle = places - places.mean(axis=0)
    along = middle @ np.linalg.svd(middle, full_matrices=False)[2][0]
    ends = np.sort(t[[int(np.argmin(along)), int(np.argmax(along))]])
    parts = parts_at(edge, ends)
    if len(parts) == 3:
        # The seam lies within a half: its two parts are one.
        parts = [parts[1], chain([parts[2], parts[0]]).curve]
    if len(parts) != 2:
        return None
    made = ruled((parts[0], parts[1]), RuledSettings())
    inner = evenly_in(GRID)[1:-1]
    u, v = (x.ravel() for x in np.meshgrid(inner, evenly_in(5), indexing="ij"))
    facing = surface_normals(made, u, v) @ normal
    return made if (facing > 0).all() or (facing < 0).all() else None


def _laid(
    plate: Plate,
    poles: dict[Border, Floats],
    smooth: dict[Border, Smooth],
    gaps: tuple[Gap, ...],
    said: list[str],
    guides: int = 0,
) -> Guide:
    """Return a plate as a guide."""
    t, lines = evenly_in(plate.count), []
    for border in LOOP:
        if border not in poles:
            at = np.full(plate.count, float(border[1] == "1"))
            lines.append(Line(plate.row(border), *((at, t) if border[0] == "u" else (t, at))))
    names = [f"side {k + 1}" for k in range(len(lines))]
    lines += [Line(*pinned) for pinned in plate.pinned]
    further = len(plate.pinned) - guides
    names += [f"guide {k + 1}" for k in range(guides)] + ["points"] * further
    ends = np.array([0.0, 1.0])
    guide = Guide(tuple(lines), t, t, plate.grid, "", poles, gaps, "; ".join(filter(None, said)))
    guide = replace(guide, names=tuple(names), lines_u=ends, lines_v=ends, smooth=smooth)
    return replace(guide, whole=bool(smooth or plate.pinned))


def _part(
    loop: list[Measured],
    beside: tuple[BSplineSurface, ...],
    settings: FillSettings,
    gaps: tuple[Gap, ...],
    said: list[str],
) -> Guide:
    """Lay out one of the patches that meet in the middle.

    Raises
    ------
    BuildError
    """
    if settings.of != len(loop) or len(loop) < 3:
        raise BuildError(
            f"{len(loop)} edges make {len(loop)} patches, not {settings.of}"
            if len(loop) > 2
            else "two edges make no patches that meet in a middle: fill them with one surface"
        )
    star = Star(loop, np.array(settings.middle) if settings.middle else None)
    if settings.smooth:
        star.lead_on(beside, settings.smooth, settings.mend)
    plate, normals = star.patch(settings.part - 1, GRID)
    smooth = spokes_smooth(plate, normals, max(settings.smooth, 1))
    if settings.smooth and beside:
        outer: list[Border] = ["v0", "u0"]
        besides, askew = _smooth(plate, outer, beside, settings)
        smooth |= besides
        said.append(askew)
    return _laid(plate, {}, smooth, gaps, said)


def _exact(
    sides: dict[Border, _Side], rows: dict[Border, Floats], t: Floats, gaps: tuple[Gap, ...]
) -> dict[Border, BSplineCurve]:
    """Return each side as the curve that it is, and lay the rows out by its own parameter.

    Raises
    ------
    BuildError
        For sides of several edges, and edges that do not meet.
    """
    check_touching(gaps)
    made: dict[Border, BSplineCurve] = {}
    for border, side in sides.items():
        if len(side.parts) > 1:
            raise BuildError("exact borders take four edges or fewer: join edges, or part the fill")
        if side.parts:
            # Two of the sides run against the parameter along them.
            way = side.parts[0].turned() if border in ("v1", "u0") else side.parts[0]
            made[border], rows[border] = way.curve, way.by_parameter(t)
    return made


def _smooth(
    plate: Plate,
    borders: list[Border],
    beside: tuple[BSplineSurface, ...],
    settings: FillSettings,
) -> tuple[dict[Border, Smooth], str]:
    """Let a plate leave its borders along what lies beside them; at corners along its edges.

    Returns
    -------
    smooth : dict
    words : str
        Where the edges keep it from being smooth.
    """
    smooth: dict[Border, Smooth] = {}
    worst, where = 0.0, np.zeros(3)
    for border in borders:
        slope, bend = plate.leaves(border)
        row = plate.row(border)
        made = smooth_to(row, slope, bend, int(border[1]), beside, settings.smooth, settings.mend)
        if made is None:
            continue
        along = evenly_in(plate.count)
        held, (brought, counts) = made.slope.copy(), np.ones((2, plate.count, 1))
        for end, far in ((0, along[::-1]), (-1, along)):
            brought -= far[:, None] ** CORNER
            pace = np.linalg.norm(slope[end])
            lift = abs(slope[end] @ made.normal[end]) / max(float(pace), 1e-300)
            if lift > worst and pace > 1e-9:
                worst, where = float(lift), row[end]
            held += far[:, None] ** CORNER * (slope[end] - made.slope[end])
            if lift > UNNOTICED:
                counts *= 1 - far[:, None] ** CORNER
        smooth[border] = replace(made, slope=held, counts=counts**2)
        if settings.borders != "exact":
            # An edge near that surface is brought onto it, or it would turn the joint; not its
            # ends.
            plate.bring(border, brought * (made.feet - row))
    for border, each in smooth.items():
        plate.slopes[border] = each.slope
        if each.bend is not None:
            plate.bends[border] = each.bend
    if worst < ASKEW:
        return smooth, ""
    at = told_at(where)
    return smooth, (
        f"near {at} an edge leaves the surface beside it by {np.degrees(np.arcsin(worst)):.1f}"
        " degrees: it cannot be smooth in that corner"
    )


def loop_of(edges: list[Measured], most: float) -> tuple[list[Measured], tuple[Gap, ...]]:
    """Put edges end to end, each turned as the loop runs."""
    line, left = [(0, edges[0])], list(range(1, len(edges)))
    ends = np.array([0.0, 1.0])
    gaps = []
    while left:
        here = line[-1][1].at(ends)[1]
        tried = [
            (float(np.linalg.norm(way.at(ends)[0] - here)), k, way)
            for k in left
            for way in (edges[k], edges[k].turned())
        ]
        away, k, way = min(tried, key=lambda each: each[0])
        gaps.append((line[-1][0], k, away, here))
        line.append((k, way))
        left.remove(k)
    start, end = line[0][1].at(ends)[0], line[-1][1].at(ends)[1]
    gaps.append((line[-1][0], line[0][0], float(np.linalg.norm(end - start)), end))
    one, other, worst, at = max(gaps, key=lambda each: each[2])
    if worst > most:
        where = told_at(at)
        raise BuildError(
            f"the loop does not close: edges {one + 1} and {other + 1} are {worst:.3f} mm apart"
            f" near {where}; up to {most:g} mm is mended",
            at,
        )
    told = tuple(
        Gap(f"edge {a + 1} and edge {b + 1}", away, as_place(place))
        for a, b, away, place in gaps
        if away > 1e-6
    )
    return [way for _, way in line], told


def _four(loop: list[Measured]) -> list[_Side]:
    """Take edges together until there are four sides; fewer get sides of no length."""
    sides = [_Side((edge,), edge.at(np.zeros(1))[0]) for edge in loop]
    while len(sides) > CORNERS:
        turns = [_turn(sides[k - 1].parts[-1], sides[k].parts[0]) for k in range(len(sides))]
        k = int(np.argmin(turns))
        joined = _Side(sides[k - 1].parts + sides[k].parts, sides[k - 1].corner)
        sides = [side for j, side in enumerate(sides) if j not in (k, (k - 1) % len(sides))]
        sides.insert(max(k - 1, 0), joined) if k else sides.append(joined)
    if len(sides) == 3:
        # The corner across from the longest side is the one of no length.
        k = int(np.argmax([side.parts[0].length for side in sides]))
        sides = sides[k:] + sides[:k]
        sides.insert(2, _Side((), sides[2].corner))
    elif len(sides) == 2:
        sides = [sides[0], _Side((), sides[1].corner), sides[1], _Side((), sides[0].corner)]
    return sides


def _sharp_inside(loop: list[Measured]) -> str:
    """Say which corners of a loop of many edges fall inside a side, and are sharp."""
    turns = sorted(_turn(loop[k - 1], loop[k]) for k in range(len(loop)))[:-CORNERS]
    sharp = [turn for turn in turns if turn > SHARP]
    if not sharp:
        return ""
    return (
        f"{len(sharp)} of its corners, of up to {np.degrees(sharp[-1]):.0f} degrees, fall inside"
        " one of its four sides, and are rounded: part the opening for sharp ones"
    )


def _turn(before: Measured, after: Measured) -> float:
    ahead = before.ahead(np.ones(1))[0] @ after.ahead(np.zeros(1))[0]
    return float(np.arccos(np.clip(ahead, -1, 1)))


def _coons(bottom: Floats, right: Floats, top: Floats, left: Floats, t: Floats) -> Floats:
    """Return the bilinearly blended surface of four sides (Coons 1967); u along bottom and top."""
    u, v = t[:, None, None], t[None, :, None]
    ruled = (1 - v) * bottom[:, None] + v * top[:, None]
    other = (1 - u) * left[None] + u * right[None]
    corners = (1 - u) * ((1 - v) * bottom[0] + v * top[0]) + u * (
        (1 - v) * bottom[-1] + v * top[-1]
    )
    return np.asarray(ruled + other - corners)
