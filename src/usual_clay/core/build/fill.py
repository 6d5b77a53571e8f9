"""Fill: a lean surface inside a loop of edges, calm between them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.sparse import coo_array, csr_array
from scipy.sparse.linalg import spsolve

from usual_clay.core.arrays import Floats, Ints, as_place
from usual_clay.core.build.lean import Gap, Guide, Line, Spend, evenly_in, words_of_gaps
from usual_clay.core.build.sections import BuildError, check_curves
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.surface import BSplineSurface, surface_normals

GRID = 41
# Sides of the surface; a corner inside one that turns by more is sharp.
CORNERS, SHARP = 4, np.radians(15)


@dataclass(frozen=True)
class FillSettings(Spend):
    """How a loop of edges is filled.

    Attributes
    ----------
    smooth : {0, 1}
        G0, or G1 to the surfaces that lie beside edges.
    mend : float
        Ends that are no farther apart are brought together, mm.
    """

    smooth: Literal[0, 1] = 1
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
    edges: tuple[BSplineCurve, ...], beside: tuple[BSplineSurface, ...], settings: FillSettings
) -> Guide:
    """Lay a loop of edges out as four sides, and the calmest surface between them.

    Two edges meet at two corners that are sides of no length, three at one; of more than four
    those are taken together that meet most smoothly. Between, the surface bends least: the
    biharmonic equation on a grid, with its sides held, and its slopes across where a surface lies
    beside (Bloor and Wilson 1990).

    Raises
    ------
    BuildError
        For edges that make no loop: where it is open, and by how much.
    """
    if len(edges) < 2:
        raise BuildError("a fill takes two edges or more: one was given")
    check_curves(edges, "edge")
    loop, gaps = _loop([Measured(edge) for edge in edges], settings.mend)
    sharp = _sharp_inside(loop)
    v0, u1, v1, u0 = _four(loop)
    t = evenly_in(GRID)
    bottom, right, top, left = v0.at(t), u1.at(t), v1.at(1 - t), u0.at(1 - t)
    grid = _coons(bottom, right, top, left, t)
    slopes: dict[str, Floats] = {}
    if settings.smooth and beside:
        for border, rows in (("v0", bottom), ("u1", right), ("v1", top), ("u0", left)):
            inward = _inward(border, rows, grid, beside, settings.mend)
            if inward is not None:
                slopes[border] = inward
    grid = _calm(grid, slopes)
    lines, poles = [], {}
    for border, rows, side in (
        ("v0", bottom, v0), ("u1", right, u1), ("v1", top, v1), ("u0", left, u0)
    ):  # fmt: skip
        if not side.parts:
            poles[border] = side.corner
            continue
        at = np.full(GRID, float(border[1] == "1"))
        lines.append(Line(rows, *((at, t) if border[0] == "u" else (t, at))))
    names = tuple(f"side {k + 1}" for k in range(len(lines)))
    words = "; ".join(filter(None, [words_of_gaps(gaps, 0.1 * settings.within), sharp]))
    ends = np.array([0.0, 1.0])
    guide = Guide(tuple(lines), t, t, grid, "", poles, gaps, words)
    return replace(guide, names=names, lines_u=ends, lines_v=ends, whole=bool(slopes))


def _loop(edges: list[Measured], most: float) -> tuple[list[Measured], tuple[Gap, ...]]:
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
        where = ", ".join(f"{x:.1f}" for x in at)
        raise BuildError(
            f"the loop does not close: edges {one + 1} and {other + 1} are {worst:.3f} mm apart"
            f" near {where}; up to {most:g} mm is mended"
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


def _inward(
    border: str, rows: Floats, grid: Floats, beside: tuple[BSplineSurface, ...], most: float
) -> Floats | None:
    """Return the first step inward at each place of a border, along the surface beside it."""
    ring = {"u0": grid[1], "u1": grid[-2], "v0": grid[:, 1], "v1": grid[:, -2]}[border]
    for surface in beside:
        feet = foot_points(surface, rows)
        if np.abs(feet.signed).max() > most:
            continue
        normal = surface_normals(surface, feet.u, feet.v)
        step = ring - rows
        size = np.linalg.norm(step, axis=1, keepdims=True)
        flat = step - np.einsum("nk,nk->n", step, normal)[:, None] * normal
        # It goes on from where the other surface ends, not back over it.
        short = np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-12)
        return np.asarray(flat / short * size)
    return None


def _calm(grid: Floats, slopes: dict[str, Floats]) -> Floats:
    """Solve the biharmonic equation inside a grid, with its borders and some slopes held."""
    count = len(grid)
    number = np.arange(count * count).reshape(count, count)
    fixed = np.zeros((count, count), dtype=bool)
    fixed[[0, -1]] = fixed[:, [0, -1]] = True
    values = grid.copy()
    for border, step in slopes.items():
        inner = slice(1, -1)
        if border[0] == "u":
            at, ring = (0, 1) if border == "u0" else (-1, -2)
            values[ring, inner] = grid[at, inner] + step[inner]
            fixed[ring, inner] = True
        else:
            at, ring = (0, 1) if border == "v0" else (-1, -2)
            values[inner, ring] = grid[inner, at] + step[inner]
            fixed[inner, ring] = True
    rows = _bends(number, count)
    square = csr_array(rows.T @ rows)
    free = ~fixed.ravel()
    known = values.reshape(-1, 3)
    right = -(square[free][:, ~free] @ known[~free])
    made = known.copy()
    made[free] = spsolve(square[free][:, free].tocsc(), right).reshape(-1, 3)
    return made.reshape(grid.shape)


def _bends(number: Ints, count: int) -> csr_array:
    """Return rows that give the second differences of a grid both ways and across."""
    parts: list[tuple[Ints, Floats]] = []
    for a, b, c in (
        (number[:-2], number[1:-1], number[2:]),
        (number[:, :-2], number[:, 1:-1], number[:, 2:]),
    ):
        parts.append((np.stack([x.ravel() for x in (a, b, c)], axis=1), np.array([1.0, -2, 1])))
    four = np.stack(
        [x.ravel() for x in (number[:-1, :-1], number[1:, :-1], number[:-1, 1:], number[1:, 1:])],
        axis=1,
    )
    parts.append((four, np.sqrt(2.0) * np.array([1.0, -1, -1, 1])))
    columns = np.concatenate([at.ravel() for at, _ in parts])
    weights = np.concatenate([np.tile(w, len(at)) for at, w in parts])
    row = np.repeat(
        np.arange(sum(len(at) for at, _ in parts)),
        np.concatenate([np.full(len(at), at.shape[1]) for at, _ in parts]),
    )
    return csr_array(coo_array((weights, (row, columns)), shape=(int(row[-1]) + 1, count * count)))
