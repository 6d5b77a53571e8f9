"""The points that a fit aims at, with what is worked out from them once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree
from scipy.special import bdtrc

from usual_clay.core.arrays import Bools, Floats, Ints, frozen, medians
from usual_clay.core.blocks import in_blocks
from usual_clay.core.errors import FitError
from usual_clay.core.scan.cover import cover_of
from usual_clay.core.scan.lay_flat import Flat, Way, is_tube, lay_out_flat
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.noise import estimate_noise
from usual_clay.core.scan.normals import facing_alike, plane_normals

NEIGHBOURS = 8
# A point stands for no more than so many times the area of the usual one, and no less.
WIDEST = 30.0
# Nor than so many times the usual one about it.
USUAL = 2.0
# A point is scattered whose neighbours are so many times as far off as theirs are.
APART = 3.5
# So is one far from most, of whose nearest so many a quarter are that much nearer to theirs.
FAR_APART, ABOUT = 5.0, 200
# Points with neighbours so many times as far off as usual have them sought where they lie flat.
LIE_APART = 2.5
# Normals are even of which nine in ten turn by less than 5 degrees; they are evened so often.
MOST_TURNED, AGREE, MOST_EVENED = 0.1, float(np.cos(np.radians(5))), 8
# So many of the points tell which ways all of them face.
TELLING = 20_000
# All guides together count as much as this share of the points, one no more than so much.
GUIDING, MOST_GUIDING = 0.005, 0.05
# Of so few points no more than this share are spikes: their features are a point or two wide.
FEW, MOST_SPIKES = 1_000, 0.1
# Spikes have so many times as many others about them as they would where they lay evenly; what
# chance makes no more often than this is none.
CLUMPED, HARDLY = 1.5, 0.1


@dataclass(frozen=True, eq=False)
class Sample:
    """Measured points of a region.

    Attributes
    ----------
    points, normals : (n, 3) arrays
        mm; unit normals that point out of the material.
    triangles : (m, 3) integers or None
        Between the points, where they are a region of a scan.
    area : (n,) array or None
        That each point stands for, mm squared; found by what lies about it where not given.
    whole : (Sample, (n,) integers) or None
        The sample that this is a choice of, and which of its points.
    guides : int
        So many of the points, the last ones, were not measured: they only lead what lies between.
    alike : bool
        Whether the normals of loose points are known to face as those about them do.
    """

    points: Floats
    normals: Floats
    triangles: Ints | None = None
    area: Floats | None = None
    whole: tuple[Sample, Ints] | None = None
    guides: int = 0
    alike: bool = False

    def __post_init__(self) -> None:
        object.__setattr__(self, "points", frozen(self.points))
        object.__setattr__(self, "normals", frozen(self.normals))
        _check_finite(self.points, self.normals)

    @cached_property
    def neighbours(self) -> Ints:
        """For each point its nearest others, (n, 8) or fewer."""
        return neighbours_of(self.points)

    @cached_property
    def apart(self) -> Floats:
        """How far each point is from the farthest of its neighbours, (n,), mm."""
        return reach_of(self.points, self.neighbours)

    @cached_property
    def areas(self) -> Floats:
        """How much of the area each point stands for, (n,): one in the mean."""
        if self.whole is not None:
            return as_shares(self.whole[0].areas[self.whole[1]])
        area = self.area
        if area is None and self.triangles is not None:
            area = TriangleMesh(self.points, self.triangles).vertex_areas
        if area is None:
            return as_shares(_areas_about(self.apart, self.neighbours))
        # The triangles of a spike are large, and say nothing of what it stands for.
        usual = medians(area.take(self.neighbours.T)) if self.neighbours.shape[1] else area
        return as_shares(np.minimum(area, USUAL * usual))

    @cached_property
    def scattered(self) -> Bools:
        """Which points lie so far from all others that they are no part of the shape."""
        if self.whole is not None:
            return self.whole[0].scattered[self.whole[1]]
        return _scattered(self.points, self.neighbours, self.apart)

    @cached_property
    def gathered(self) -> Floats:
        """The points that are not scattered."""
        return self.points[~self.scattered] if self.scattered.any() else self.points

    @property
    def first_weights(self) -> Floats:
        """How far each point is believed before anything was fitted, (n,)."""
        weights = np.where(self.scattered, 0.0, 1.0)
        if self.guides:
            share = (len(weights) - self.guides) / self.guides
            weights[-self.guides :] *= min(GUIDING * share, MOST_GUIDING)
        return weights

    @cached_property
    def evened_normals(self) -> Floats:
        """The mean of each point's normal and of those about it, (n, 3): spikes turn it little.

        Where noise is as large as points are apart, or many are spikes, they are evened again,
        until they agree; not of few points, which bend between one and the next.
        """
        if self.whole is not None:
            return self.whole[0].evened_normals[self.whole[1]]
        normals = self.normals
        for _ in range(MOST_EVENED if len(self.points) > FEW else 1):
            normals, agree = _evened(normals, self.neighbours)
            if agree:
                break
        return normals

    @cached_property
    def telling(self) -> tuple[Ints, Floats]:
        """Some of the points, none that is scattered, evenly chosen, and their evened normals."""
        which = np.flatnonzero(~self.scattered)
        which = which[:: -(-len(which) // TELLING) or 1]
        return which, self.evened_at(which)

    def evened_at(self, which: Ints) -> Floats:
        """Return the evened normals of some of the points."""
        if self.whole is not None:
            return self.whole[0].evened_at(self.whole[1][which])
        if 2 * len(which) > len(self.points):
            return self.evened_normals[which]
        # Those of very many points are mostly even at once, and are not wanted of all.
        normals, agree = _evened(self.normals, self.neighbours, which)
        return normals if agree else self.evened_normals[which]

    @cached_property
    def noise(self) -> float:
        """The estimated standard deviation of the measurement noise, mm."""
        if self.whole is not None:
            return self.whole[0].noise
        return estimate_noise(self.points[: len(self.points) - self.guides])

    def believed(self, signed: Floats, neighbours: Ints | None = None) -> Floats:
        """Return how far each point is believed that lies so far from a surface, mm."""
        floor = 1e-6 * float(np.ptp(self.points, axis=0).max())
        about = self.neighbours if neighbours is None else neighbours
        return spike_weights(signed, about, floor) * self.first_weights

    @property
    def knows_noise(self) -> bool:
        """Whether the noise has been estimated already, which takes a moment."""
        return "noise" in self.__dict__

    def part(self, most: int) -> Sample:
        """Return an even choice of at most `most` points."""
        if len(self.points) <= most:
            return self
        chosen = np.random.default_rng(0).choice(len(self.points), most, replace=False)
        chosen.sort()
        return Sample(self.points[chosen], self.normals[chosen], whole=(self, chosen))

    @property
    def has_mesh(self) -> bool:
        """Whether there are triangles between the points."""
        return self.triangles is not None or (self.whole is not None and self.whole[0].has_mesh)

    @property
    def hangs_together(self) -> bool:
        """Whether it is known how the points hang together."""
        whole = self if self.whole is None else self.whole[0]
        return whole.triangles is not None or whole._cover is not None

    @cached_property
    def _cover(self) -> tuple[Floats, Ints] | None:
        """A mesh over loose points."""
        if not self.alike:
            return None
        area = float(np.pi / NEIGHBOURS * (self.apart**2).sum())
        return cover_of(self.points, self.evened_normals, area)

    @cached_property
    def sheet(self) -> Flat:
        """The points laid flat by a map of about their own lengths."""
        return self._flat("sheet")

    @cached_property
    def tube(self) -> Flat:
        """The points laid flat where they run once round."""
        return self._flat("tube")

    @cached_property
    def band(self) -> Flat:
        """The points laid flat along their own length."""
        return self._flat("band")

    def _flat(self, way: Way) -> Flat:
        if self.whole is not None:
            sample, chosen = self.whole
            return getattr(sample, way).part(chosen)
        if self.triangles is None:
            assert self._cover is not None
            return lay_out_flat(*self._cover, way, self.points)
        # A spike would stretch what lies about it.
        calm, _ = TriangleMesh(self.points, self.triangles).levelled
        return lay_out_flat(calm, self.triangles, way)

    @cached_property
    def runs_round(self) -> bool:
        """Whether the points are a tube with two ends."""
        if self.whole is not None:
            return self.whole[0].runs_round
        if self.triangles is None:
            return self._cover is not None and is_tube(*self._cover)
        return is_tube(self.points, self.triangles)


def as_shares(areas: Floats) -> Floats:
    """Return areas as shares, one in the mean; no single point stands for very much or nothing."""
    middle = float(np.median(areas))
    if middle <= 0:
        return np.ones(len(areas))
    held = np.clip(areas, middle / WIDEST, middle * WIDEST)
    return np.asarray(held / held.mean())


def reach_of(points: Floats, neighbours: Ints) -> Floats:
    """Return how far points are from the last of their neighbours, (n,), mm; 0 with none."""
    if not neighbours.shape[1]:
        return np.zeros(len(points))
    gap = points.take(neighbours[:, -1], axis=0) - points
    return np.asarray(np.sqrt(np.einsum("nk,nk->n", gap, gap)))


def _areas_about(reach: Floats, neighbours: Ints) -> Floats:
    """Return areas by how near the nearest others are, evened out over them."""
    if not neighbours.shape[1]:
        return np.ones(len(reach))
    return over_neighbours(np.add, reach**2, neighbours) / (neighbours.shape[1] + 1)


def _scattered(points: Floats, neighbours: Ints, reach: Floats) -> Bools:
    if neighbours.shape[1] < 3:
        return np.zeros(len(points), dtype=bool)
    scattered = reach > APART * over_neighbours(np.minimum, reach, neighbours)
    few = np.flatnonzero(scattered)
    scattered[few] = reach[few] > APART * np.median(reach[neighbours[few]], axis=1)
    # The nearest of a point far off may be others far off: of those about it the nearer ones tell.
    lone = np.flatnonzero(~scattered & (reach > FAR_APART * np.median(reach)))
    if len(lone):
        _, about = cKDTree(points).query(points[lone], min(ABOUT, len(points)), workers=2)
        scattered[lone] = reach[lone] > FAR_APART * np.quantile(reach[about], 0.25, axis=1)
    return np.asarray(scattered)


def _evened(normals: Floats, neighbours: Ints, which: Ints | None = None) -> tuple[Floats, bool]:
    """Return the means of normals and of those about them, and whether they turned little.

    Parameters
    ----------
    which : (k,) integers, optional
        Of which points; of all where not given.
    """
    own = normals if which is None else normals[which]
    near = over_neighbours(np.add, normals, neighbours if which is None else neighbours[which], own)
    made = near / np.maximum(np.sqrt(np.einsum("nk,nk->n", near, near)), 1e-12)[:, None]
    turned = float(np.quantile(np.einsum("nk,nk->n", own, made), MOST_TURNED)) if len(own) else 1.0
    return made, turned > AGREE


def over_neighbours(
    fold: np.ufunc, values: Floats, neighbours: Ints, own: Floats | None = None
) -> Floats:
    """Fold values with those of their neighbours, (n, ...); each point's own where none are
    given."""
    made = (values if own is None else own).copy()

    def part(block: slice) -> None:
        # One neighbour of all after the other: far sooner gathered than all of them of each.
        for column in neighbours[block].T:
            fold(made[block], values.take(column, axis=0), out=made[block])

    in_blocks(len(made), part)
    return made


def neighbours_of(points: Floats) -> Ints:
    """Return for each point its nearest others, (n, 8) or fewer."""
    count = min(NEIGHBOURS, len(points) - 1) + 1
    _, index = cKDTree(points).query(points, count, workers=2)
    return np.asarray(index[:, 1:])


def beside(points: Floats, neighbours: Ints, places: Floats) -> Ints:
    """Return neighbours, those of points that lie apart sought where they were laid flat.

    What lies off the shape has others off it for neighbours in space.

    Parameters
    ----------
    points : (n, 3) array
    neighbours : (n, k) integers
        In space.
    places : (n, 2) array
        Where the points lie on a base, mm.
    """
    if not neighbours.shape[1]:
        return neighbours
    reach = reach_of(points, neighbours)
    lone = np.flatnonzero(reach > LIE_APART * np.median(reach))
    if not len(lone):
        return neighbours
    near = cKDTree(places).query(places[lone], neighbours.shape[1] + 1, workers=2)[1]
    made = neighbours.copy()
    made[lone] = near[:, 1:]
    return made


def _check_finite(*parts: Floats) -> None:
    bad = ~np.all([np.isfinite(part).all(axis=1) for part in parts], axis=0)
    if bad.any():
        raise FitError(
            f"{int(bad.sum())} of {len(bad)} points are no finite numbers (the first is point"
            f" {int(np.argmax(bad)) + 1}): take them out first"
        )


def sample_of_points(points: Floats) -> Sample:
    """Return loose points with normals: of each one's neighbours' plane, all to one side.

    The side is that of the plane which fits all points best, or where they wrap that of those
    about each. Points that lie close in rows, as of sections, have the rows beside them for
    neighbours too.
    """
    _check_finite(points)
    normals = plane_normals(points, 2 * NEIGHBOURS)
    # Of one point or two there are three ways, too.
    away = np.concatenate([points - points.mean(axis=0), np.zeros((3, 3))])
    up = np.linalg.svd(away, full_matrices=False)[2][2]
    up = up if up[np.argmax(np.abs(up))] > 0 else -up
    normals *= np.where(normals @ up < 0, -1.0, 1.0)[:, None]
    turned = facing_alike(points, normals, up)
    return Sample(points, normals) if turned is None else Sample(points, turned, alike=True)


def spike_weights(signed: Floats, neighbours: Ints, floor: float) -> Floats:
    """Weigh points down that leave their own neighbourhood, not whole features.

    A point's residual is compared with the median of its neighbours' residuals, so that a ridge
    which the surface does not follow yet keeps its weight while a lone spike loses it. Tukey's
    bisquare at six robust standard deviations.
    """
    if neighbours.shape[1] < 3:
        return np.ones(len(signed))
    lone = np.empty(len(signed))

    def alone(part: slice) -> None:
        lone[part] = signed[part] - medians(signed.take(neighbours[part].T))

    in_blocks(len(signed), alone)
    scale = max(1.4826 * float(np.median(np.abs(lone))), floor)
    inside: Bools = np.abs(lone) < 6 * scale
    weights = np.where(inside, (1 - (lone / (6 * scale)) ** 2) ** 2, 0.0)
    # Where half of its neighbours look like spikes too, it is the surface that has gone astray.
    out = np.flatnonzero(~inside)
    about = neighbours[out]
    alike = ~inside[about] & ((lone[about] > 0) == (lone[out] > 0)[:, None])
    beside_it = alike.sum(axis=1)
    astray = beside_it >= neighbours.shape[1] / 2
    # Of very many spikes some have that many about them by chance.
    astray &= beside_it >= _past_chance(len(out), float(np.sum(~astray)) / len(signed), neighbours)
    if len(signed) <= FEW and np.sum(~astray) > MOST_SPIKES * len(signed):
        astray[:] = True
    weights[out[astray]] = 1.0
    return weights


def _past_chance(count: int, share: float, neighbours: Ints) -> int:
    """Return how many neighbours alike are more than chance gives any of so many spikes.

    Parameters
    ----------
    share : float
        Of the points that are spikes; they lie somewhat nearer to each other than evenly.
    """
    each = neighbours.shape[1]
    likely = count * bdtrc(np.arange(each), each, min(CLUMPED * share, 1.0))
    return min(1 + int(np.sum(likely > HARDLY)), each)
