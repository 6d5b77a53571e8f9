"""A network of patches solved together: smooth over every border that two of them share.

The borders stay. Over each that is shared, both patches leave along one ribbon of derivatives,
which is unknown as the control points inside are: all of them come out of one least squares.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np
from scipy.sparse import coo_array, csc_array, dia_array, diags_array, vstack
from scipy.sparse.linalg import splu

from usual_clay.core.arrays import Floats, Ints, as_place, as_places
from usual_clay.core.errors import FitError
from usual_clay.core.fit.patch.meet import (
    LOOKED_AT,
    SAME_LINE,
    Ribbon,
    edge_strays,
)
from usual_clay.core.fit.solve.system import Space, energy_band, normal_equations
from usual_clay.core.spline.basis import collocation, greville
from usual_clay.core.spline.boundary import (
    BORDERS,
    Border,
    border_curve,
    border_rows,
    join_ratio,
    knots_across,
    runs_along,
    steps_inward,
    with_knots,
)
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.parts import length_of
from usual_clay.core.spline.surface import BSplineSurface

# Two ribbons that ask for one control point at a corner agree this firmly.
AGREE = 1e6
STIFFNESS = 1e-10
# A network is solved so often, with the points brought to their feet between.
ROUNDS = 2


@dataclass(frozen=True, eq=False)
class Piece:
    """One patch of a network.

    Attributes
    ----------
    surface : BSplineSurface
        As it lies now; its four edges stay.
    points : (n, 3) array
        What it is fitted to.
    weights : (n,) array
    symmetric : {"", "x", "y", "z"}
        The axis of its mirror plane.
    """

    surface: BSplineSurface
    points: Floats
    weights: Floats
    symmetric: str = ""


@dataclass(frozen=True, eq=False)
class Seam:
    """A border that two pieces share.

    Attributes
    ----------
    pieces : two int
        Which pieces.
    sides : two of {"u0", "u1", "v0", "v1"}
        Their borders there.
    opposed : bool
        Whether the second one's edge runs the other way.
    knots : array
        Of the ribbon, in the first one's direction.
    ratio : float
        How long the second one's derivative over the border is for the first one's.
    """

    pieces: tuple[int, int]
    sides: tuple[Border, Border]
    opposed: bool
    knots: Floats
    ratio: float


def solve_together(pieces: Sequence[Piece]) -> list[tuple[Seam, Floats]]:
    """Find the ribbons of all borders that the pieces share, and solve for the pieces with them.

    Returns
    -------
    list of (Seam, (m, 3) array)
        Each with the control points of the first piece's derivative inward; the second one's is
        ``-ratio`` times that.

    Raises
    ------
    FitError
        When no two share a border, or a piece is rational.
    """
    if any(piece.surface.weights is not None for piece in pieces):
        raise FitError("a rational patch is not solved together with others")
    pieces, seams = _sharing(pieces)
    if not seams:
        raise FitError("no two of these patches share a border")
    made: list[Floats] = []
    for _ in range(ROUNDS):
        pieces, made = _solved(pieces, seams)
    made = _made_symmetric(pieces, seams, made)
    return list(zip(seams, made, strict=True))


# ---- borders that are shared -----------------------------------------------------------------


def share_border(one: BSplineSurface, two: BSplineSurface) -> bool:
    """Tell whether two surfaces have an edge in common."""
    return any(edge_strays(two, border_curve(one, side)) is not None for side in BORDERS)


def _sharing(pieces: Sequence[Piece]) -> tuple[list[Piece], list[Seam]]:
    """Return the borders shared, and the pieces with the knots of each ribbon among their own."""
    edges = [{side: border_curve(piece.surface, side) for side in BORDERS} for piece in pieces]
    looked = [
        {side: curve_points(edge, LOOKED_AT) for side, edge in four.items()} for four in edges
    ]
    seams, refined = [], [piece.surface for piece in pieces]
    for p, q in combinations(range(len(pieces)), 2):
        for i in BORDERS:
            for j in BORDERS:
                for opposed in (False, True):
                    other = looked[q][j][::-1] if opposed else looked[q][j]
                    if np.abs(looked[p][i] - other).max() > SAME_LINE:
                        continue
                    theirs = edges[q][j].knots
                    theirs = 1 - theirs[::-1] if opposed else theirs
                    # The poorer of the two says how the ribbon may run.
                    knots = min(edges[p][i].knots, theirs, key=len)
                    if edges[p][i].degree != edges[q][j].degree:
                        raise FitError("patches of one degree only are solved together")
                    refined[p] = with_knots(refined[p], runs_along(i), knots)
                    own = 1 - knots[::-1] if opposed else knots
                    refined[q] = with_knots(refined[q], runs_along(j), own)
                    ratio = _ratio(pieces[p].surface, i, pieces[q].surface, j, opposed)
                    seams.append(Seam((p, q), (i, j), opposed, knots, ratio))
    made = [replace(piece, surface=s) for piece, s in zip(pieces, refined, strict=True)]
    return made, seams


def _made_symmetric(pieces: list[Piece], seams: list[Seam], made: list[Floats]) -> list[Floats]:
    """Make ribbons of symmetric pieces each other's mirror images: the mean of both."""
    result = list(made)
    for (i, one), (j, two) in combinations(enumerate(seams), 2):
        axis = pieces[one.pieces[0]].symmetric
        if not axis or one.pieces != two.pieces or len(made[i]) != len(made[j]):
            continue
        flip = np.where(np.eye(3)["xyz".index(axis)] > 0, -1.0, 1.0)
        lines = [
            curve_points(border_curve(pieces[s.pieces[0]].surface, s.sides[0]), LOOKED_AT)
            for s in (one, two)
        ]
        for way in (1, -1):
            if np.abs(lines[0] - flip * lines[1][::way]).max() < SAME_LINE:
                mean = (made[i] + flip * made[j][::way]) / 2
                result[i], result[j] = mean, (flip * mean)[::way]
    return result


def _inward(surface: BSplineSurface, side: Border) -> BSplineCurve:
    """Return the first derivative inward along a side."""
    rows = border_rows(surface.points, side)
    return BSplineCurve(
        border_curve(surface, side).knots, (rows[1] - rows[0]) / _near(surface, side)
    )


def _near(surface: BSplineSurface, side: Border) -> float:
    """Return what the first leg inward is divided by to be a derivative."""
    return steps_inward(*knots_across(surface, side), side)[0]


def _ratio(p: BSplineSurface, i: Border, q: BSplineSurface, j: Border, opposed: bool) -> float:
    """Return how the derivatives over a border compare where they are known: at its ends.

    There they are those of the borders that run on from one piece to the other.
    """
    own, theirs = (_inward(s, k).points[[0, -1]] for s, k in ((p, i), (q, j)))
    theirs = theirs[::-1] if opposed else theirs
    ratio = join_ratio(theirs, own)
    if ratio < 0.02:
        raise FitError("two patches fold back over a border that they share: no ribbon fits both")
    return ratio


# ---- one least squares -----------------------------------------------------------------------


@dataclass(eq=False)
class _Unknowns:
    """Control points of all pieces as combinations of what is unknown, and known parts."""

    rows: list[Ints]
    columns: list[Ints]
    values: list[Floats]
    known: Floats
    taken: np.ndarray
    count: int
    extra: list[tuple[int, Ints, Floats, Floats]]

    def tie(self, point: int, columns: Ints, values: Floats, known: Floats) -> None:
        """Let a control point follow from unknowns; where it does already, ask for both."""
        if self.taken[point]:
            self.extra.append((point, columns, values, known))
            return
        self.taken[point] = True
        self.known[point] = known
        self.rows.append(np.full(len(columns), point))
        self.columns.append(columns)
        self.values.append(values)


def _solved(pieces: list[Piece], seams: list[Seam]) -> tuple[list[Piece], list[Floats]]:
    starts = np.cumsum([0] + [p.surface.points.reshape(-1, 3).shape[0] for p in pieces])
    total = int(starts[-1])
    nets = np.concatenate([piece.surface.points.reshape(-1, 3) for piece in pieces])
    unknowns = _Unknowns([], [], [], nets.copy(), np.zeros(total, dtype=bool), 0, [])
    index = [
        start
        + np.arange(piece.surface.points.shape[0] * piece.surface.points.shape[1]).reshape(
            piece.surface.points.shape[:2]
        )
        for start, piece in zip(starts, pieces, strict=False)
    ]
    for net in index:
        for side in BORDERS:
            unknowns.taken[border_rows(net[:, :, None], side)[0].ravel()] = True
    ribbons = [_tie_ribbon(unknowns, pieces, index, seam) for seam in seams]
    free = np.flatnonzero(~unknowns.taken)
    unknowns.known[free] = 0.0
    unknowns.rows.append(free)
    unknowns.columns.append(unknowns.count + np.arange(len(free)))
    unknowns.values.append(np.ones(len(free)))
    unknowns.count += len(free)
    solution = _least_squares(pieces, starts, unknowns)
    whole = _matrix(unknowns, total) @ solution + unknowns.known
    made = [
        replace(piece, surface=replace(piece.surface, points=whole[net]))
        for piece, net in zip(pieces, index, strict=True)
    ]
    return made, [np.concatenate([ends[:1], solution[at], ends[1:]]) for at, ends in ribbons]


def _tie_ribbon(
    unknowns: _Unknowns, pieces: list[Piece], index: list[Ints], seam: Seam
) -> tuple[Ints, Floats]:
    """Let the second rows on both sides follow from a ribbon; return its unknowns and its ends.

    Its ends are known: they are the derivatives of the borders that meet there.
    """
    degree = border_curve(pieces[seam.pieces[0]].surface, seam.sides[0]).degree
    count = len(seam.knots) - degree - 1
    own = unknowns.count + np.arange(count - 2)
    unknowns.count += count - 2
    legs = []
    for k in range(2):
        surface, side = pieces[seam.pieces[k]].surface, seam.sides[k]
        factor = 1.0 if k == 0 else -seam.ratio
        leg = _inward(surface, side).points[[0, -1]] / factor
        legs.append(leg[::-1] if k and seam.opposed else leg)
    ends = (legs[0] + legs[1]) / 2
    for k in range(2):
        surface, side = pieces[seam.pieces[k]].surface, seam.sides[k]
        factor = (1.0 if k == 0 else -seam.ratio) * _near(surface, side)
        fine = border_curve(surface, side).knots
        net = border_rows(index[seam.pieces[k]][:, :, None], side)[:2, :, 0]
        if k and seam.opposed:
            fine, net = 1 - fine[::-1], net[:, ::-1]
        sites = greville(fine, degree)
        spread = factor * np.asarray(
            np.linalg.solve(
                collocation(fine, degree, sites), collocation(seam.knots, degree, sites)
            ),
            dtype=np.float64,
        )
        edge = unknowns.known[net[0]]
        for i in range(1, net.shape[1] - 1):
            fixed = edge[i] + spread[i, 0] * ends[0] + spread[i, -1] * ends[1]
            unknowns.tie(int(net[1, i]), own, spread[i, 1:-1], fixed)
    return own, ends


def _matrix(unknowns: _Unknowns, total: int) -> csc_array:
    parts = (np.concatenate(p) for p in (unknowns.rows, unknowns.columns, unknowns.values))
    rows, columns, values = parts
    return csc_array(coo_array((values, (rows, columns)), shape=(total, unknowns.count)))


def _least_squares(pieces: list[Piece], starts: Ints, unknowns: _Unknowns) -> Floats:
    """Return the unknowns, (k, 3), for which all pieces together lie nearest to their points."""
    spread = _matrix(unknowns, int(starts[-1]))
    left = csc_array((unknowns.count, unknowns.count))
    right = np.zeros((unknowns.count, 3))
    for k, piece in enumerate(pieces):
        surface = piece.surface
        space = Space(surface.knots_u, surface.knots_v, *surface.degrees)
        feet = foot_points(surface, piece.points)
        band, side = normal_equations(space, feet.u, feet.v, piece.points, piece.weights)
        size = (length_of(border_curve(surface, "v0")), length_of(border_curve(surface, "u1")))
        band += STIFFNESS * size[0] * size[1] * piece.weights.sum() * energy_band(space, size)
        count = band.shape[1]
        lower = dia_array((band, -np.arange(len(band))), shape=(count, count)).tocsc()
        whole = lower + lower.T - diags_array(band[0])
        mine = spread[starts[k] : starts[k + 1]]
        left = left + mine.T @ whole @ mine
        right += mine.T @ (side - whole @ unknowns.known[starts[k] : starts[k + 1]])
    if unknowns.extra:
        # At a corner both ribbons ask for the control point next to it.
        rows = []
        gaps = np.zeros((len(unknowns.extra), 3))
        for number, (point, columns, values, known) in enumerate(unknowns.extra):
            row = coo_array((values, (np.zeros_like(columns), columns)), (1, unknowns.count))
            rows.append(csc_array(row) - spread[[point]])
            gaps[number] = unknowns.known[point] - known
        asked = csc_array(vstack(rows))
        firm = AGREE * float(left.diagonal().max())
        left = left + firm * asked.T @ asked
        right += firm * asked.T @ gaps
    try:
        return np.asarray(splu(csc_array(left)).solve(right))
    except RuntimeError:
        raise FitError("too few points lie inside these patches to solve for them") from None


def ribbon_of(
    pieces: Sequence[BSplineSurface], seam: Seam, inward: Floats, second: bool, border: int
) -> Ribbon:
    """Return a seam's ribbon as one of its two patches keeps it.

    Parameters
    ----------
    pieces : sequence of BSplineSurface
        As the seam counts them.
    inward : (m, 3) array
        The control points of the first piece's derivative.
    second : bool
        Whether it is for the second piece.
    border : int
        Which of that patch's borders it is, as they are given.
    """
    factor = -seam.ratio if second else 1.0
    line = border_curve(pieces[seam.pieces[0]], seam.sides[0])
    knots = tuple(map(float, seam.knots))
    return Ribbon(border, as_place(line.points[0]), knots, as_places(factor * inward))
