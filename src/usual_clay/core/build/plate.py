"""A plate: the grid of places that bends least between four borders."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy
from scipy.sparse import coo_array, csr_array, vstack
from scipy.sparse.linalg import spsolve
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.build.guide import evenly_in
from usual_clay.core.spline.boundary import BORDERS, Border, border_rows, is_far
from usual_clay.core.spline.curve import BSplineCurve, curve_points

# Samples of a curve that a plate passes; what it counts against bending; rounds in which places
# find where they lie on it; the finer grid on which they do.
SAMPLES, PULL, ROUNDS, FINER = 60, 30.0, 4, 161


class Plate:
    """A square grid whose borders stay.

    Attributes
    ----------
    grid : (n, n, 3) array
    slopes : dict
        Of borders that it leaves in a given way: by its parameter across, which rises.
    bends : dict
        Of those that it bends at in a given way too. Then it is the change of bending that is
        least, so that it goes on as it begins there.
    pinned : list of (places, u, v)
        What it passes on the way, and where that lies on it.
    """

    def __init__(self, grid: Floats) -> None:
        self.grid = grid
        self.slopes: dict[Border, Floats] = {}
        self.bends: dict[Border, Floats] = {}
        self.pinned: list[tuple[Floats, Floats, Floats]] = []
        self.count = len(grid)
        self.step = 1 / (self.count - 1)

    def row(self, border: Border, ring: int = 0) -> Floats:
        """Return the places of a border, or of the ring so many steps inside."""
        return np.asarray(border_rows(self.grid, border)[ring])

    def bring(self, border: Border, shift: Floats) -> None:
        """Shift the places of a border; what lies inside follows when it is settled."""
        border_rows(self.grid, border)[0] += shift

    def leaves(self, border: Border) -> tuple[Floats, Floats]:
        """Return how it leaves a border: the first and second derivative by what rises across."""
        sign = 1.0 if border[1] == "0" else -1.0
        a, b, c, d = (self.row(border, ring) for ring in range(4))
        slope = (-11 * a + 18 * b - 9 * c + 2 * d) / (6 * self.step)
        bend = (2 * a - 5 * b + 4 * c - d) / self.step**2
        return sign * slope, bend

    def settle(self, passed: Sequence[BSplineCurve | Floats]) -> None:
        """Bend as little as what is held allows: the biharmonic equation, by least squares.

        Parameters
        ----------
        passed : curves and (n, 3) arrays
            That it is to pass.
        """
        self._solve()
        places = [
            curve_points(each, np.linspace(*each.domain, SAMPLES))
            if isinstance(each, BSplineCurve)
            else each
            for each in passed
        ]
        for _ in range(ROUNDS if places else 0):
            self.pinned = [(each, *self._where(each)) for each in places]
            self._solve()

    def _where(self, places: Floats) -> tuple[Floats, Floats]:
        t, fine = evenly_in(self.count), evenly_in(FINER)
        seen = np.stack(
            [
                scipy.interpolate.RectBivariateSpline(t, t, self.grid[..., k])(fine, fine)
                for k in range(3)
            ],
            axis=-1,
        )
        near = cKDTree(seen.reshape(-1, 3)).query(places)[1]
        return fine[near // FINER], fine[near % FINER]

    def _solve(self) -> None:
        number = np.arange(self.count**2).reshape(self.count, self.count)
        held = np.zeros((self.count, self.count), dtype=bool)
        held[[0, -1]] = held[:, [0, -1]] = True
        calm = _bends(number) if not self.bends else _changes_of_bending(number)
        parts, wanted = [calm], [np.zeros((calm.shape[0], 3))]
        for border in BORDERS:
            if border in self.bends:
                self._lay_ring(held, border)
            if border in self.slopes:
                row, right = self._leaning(number, border)
                parts.append(row)
                wanted.append(right)
        for places, u, v in self.pinned:
            parts.append(PULL * self._at(u, v))
            wanted.append(PULL * places)
        rows, right = csr_array(vstack(parts)), np.concatenate(wanted)
        free, known = ~held.ravel(), self.grid.reshape(-1, 3)
        own = rows[:, free]
        right = right - rows[:, ~free] @ known[~free]
        made = known.copy()
        made[free] = spsolve((own.T @ own).tocsc(), own.T @ right).reshape(-1, 3)
        self.grid = made.reshape(self.grid.shape)

    def _leaning(self, number: Ints, border: Border) -> tuple[csr_array, Floats]:
        """Return the bend across a border of a plate that goes on past it as it leaves it."""
        rows = number if border[0] == "u" else number.T
        at, ring, next_ = rows[:3] if border[1] == "0" else rows[:-4:-1]
        if border in self.bends:
            three = np.stack([at, ring, next_], axis=1)
            made = _rows_of([(three, np.array([1.0, -2.0, 1.0]))], number.size)
            return made, self.step**2 * self.bends[border]
        sign = 1.0 if border[1] == "0" else -1.0
        # The place past the border is that inside it less twice the step: its bend needs no other.
        size = np.sqrt(2.0)
        made = _rows_of([(np.stack([at, ring], axis=1), size * np.array([-1.0, 1.0]))], number.size)
        return made, size * sign * self.step * self.slopes[border]

    def _lay_ring(self, held: Bools, border: Border) -> None:
        """Fix the first ring inside a border where it leads and bends in a given way."""
        rows, inner = border_rows(self.grid, border), slice(1, -1)
        step = -self.step if is_far(border) else self.step
        reach = step * self.slopes[border] + step**2 / 2 * self.bends[border]
        rows[1, inner] = (rows[0] + reach)[inner]
        border_rows(held, border)[1, inner] = True

    def _at(self, u: Floats, v: Floats) -> csr_array:
        """Return rows that give places between those of the grid."""
        i, j = (np.minimum((x / self.step).astype(int), self.count - 2) for x in (u, v))
        s, t = u / self.step - i, v / self.step - j
        columns = np.stack([(i + a) * self.count + j + b for a in (0, 1) for b in (0, 1)], axis=1)
        weights = np.stack([(1 - s) * (1 - t), (1 - s) * t, s * (1 - t), s * t], axis=1)
        row = np.repeat(np.arange(len(u)), 4)
        shape = (len(u), self.count**2)
        return csr_array(coo_array((weights.ravel(), (row, columns.ravel())), shape=shape))


def _bends(number: Ints) -> csr_array:
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
    return _rows_of(parts, number.size)


def _changes_of_bending(number: Ints) -> csr_array:
    """Return rows that give the third differences of a grid."""
    parts: list[tuple[Ints, Floats]] = []
    third, mixed = np.array([1.0, -3, 3, -1]), np.sqrt(3.0) * np.array([1.0, -2, 1, -1, 2, -1])
    for grid in (number, number.T):
        four = grid[:-3], grid[1:-2], grid[2:-1], grid[3:]
        parts.append((np.stack([x.ravel() for x in four], axis=1), third))
        here, there = grid[:, :-1], grid[:, 1:]
        six = [x[k : len(grid) - 2 + k] for x in (here, there) for k in range(3)]
        parts.append((np.stack([x.ravel() for x in six], axis=1), mixed))
    return _rows_of(parts, number.size)


def _rows_of(parts: list[tuple[Ints, Floats]], size: int) -> csr_array:
    columns = np.concatenate([at.ravel() for at, _ in parts])
    weights = np.concatenate([np.tile(w, len(at)) for at, w in parts])
    row = np.repeat(
        np.arange(sum(len(at) for at, _ in parts)),
        np.concatenate([np.full(len(at), at.shape[1]) for at, _ in parts]),
    )
    return csr_array(coo_array((weights, (row, columns)), shape=(int(row[-1]) + 1, size)))
