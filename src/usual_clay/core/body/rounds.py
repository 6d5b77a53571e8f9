"""Edges of bodies rounded, by radius or by width, and bevelled."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.collections import Array1_gp_Pnt2d
from OCP.gp import gp_Pnt2d

from usual_clay.core.apart import ApartError, apart
from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade, Spot
from usual_clay.core.body.setback import corners_of, set_back
from usual_clay.core.body.settings import BevelSettings, RoundSettings
from usual_clay.core.body.shapes import (
    EDGE,
    FACE,
    Named,
    along,
    body_of,
    evenly_along,
    exact_of,
    faces_of_edges,
    is_closed,
    normal_at,
    parts,
    read,
    sound,
)
from usual_clay.core.body.sources import Taken, places_of
from usual_clay.core.check.joints import to_line
from usual_clay.core.progress import Progress

# A law of radii is given at so many places, and corrected by the measured width so often.
PLACES, CORRECTIONS = 33, 2
# The size up to which an edge can be rounded is found to this share.
BISECTIONS = 7
# Edges that turn by less than this have nothing to round, radians.
LEVEL = 1e-3
# One try may take so long, and the search for sizes in all, s: the kernel may never come to an end.
SECONDS, IN_ALL = 25.0, 120.0


@dataclass(eq=False)
class Run:
    """Edges that go on from each other smoothly, rounded together.

    Attributes
    ----------
    edges : list of int
        Their numbers in the body.
    between : str
        The faces that it lies between.
    middle : (3,) array
    laws : list of arrays
        Of each edge the radius at places along it; for a bevel its two sizes.
    """

    edges: list[int]
    between: str
    middle: Floats
    laws: list[Floats]


@dataclass(eq=False)
class Built:
    """A body with edges rounded, and how far apart the rails of each lie along it."""

    exact: tuple[bytes, tuple[str, ...]]
    widths: dict[int, Floats]


def round_edges(settings: RoundSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Round edges.

    Those that cannot be rounded so are told, with the size up to which they can; all others are.

    Raises
    ------
    BodyError
        Where there is no such edge, or none of them can be rounded.
    """
    body = taken.body()
    runs = _runs(body, settings.edges, settings.sharp)
    for run in runs:
        run.laws = [_law(body, edge, settings) for edge in run.edges]
    tries = Tries(exact_of(body), "round")
    built, good, spots = _made(tries, runs, settings.size, progress)
    if settings.by == "width":
        for _ in range(CORRECTIONS):
            progress(0.8, "Evening the width")
            if not _corrected(built, good, settings):
                break
            built = tries.build(good, 1.0) or built
    corners = ""
    if settings.setback:
        progress(0.9, "Setting corners back")
        built, left, corners = _set_back(body, built, good, settings.setback)
        spots = [*spots, *left]
    return _told(built, good, spots, "rounded", corners)


def _set_back(
    body: Named, built: Built, runs: Sequence[Run], distance: float
) -> tuple[Built, list[Spot], str]:
    """Return a rounded body with its corners set back, those that cannot be, and words."""
    corners = corners_of(body, [edge for run in runs for edge in run.edges])
    spots: list[Spot] = []
    for at, count in corners:
        try:
            exact = apart("setting back", set_back, built.exact, at, count, distance,
                          seconds=SECONDS)  # fmt: skip
        except ApartError:
            exact = None
        if exact is None:
            x, y, z = (float(part) for part in at)
            words = f"the corner at {x:.1f}, {y:.1f}, {z:.1f} cannot be set back by {distance:g} mm"
            spots.append(Spot(f"{words}: try another distance", (x, y, z)))
            continue
        built = replace(built, exact=exact)
    done = len(corners) - len(spots)
    if not corners:
        return built, [], "no corner where three of them meet is set back"
    words = "1 corner" if done == 1 else f"{done} corners"
    return built, spots, f"{words} set back by {distance:g} mm" if done else ""


def bevel_edges(settings: BevelSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Bevel edges.

    Raises
    ------
    BodyError
    """
    body = taken.body()
    runs = _runs(body, settings.edges, settings.sharp)
    sizes = np.array([settings.size, settings.second or settings.size])
    for run in runs:
        run.laws = [sizes] * len(run.edges)
    built, good, spots = _made(Tries(exact_of(body), "bevel"), runs, settings.size, progress)
    return _told(built, good, spots, "bevelled")


# ---- which edges -------------------------------------------------------------------------------


def _runs(body: Named, places: Sequence[float], sharp: float) -> list[Run]:
    """Return the runs of edges that are meant."""
    every = list(faces_of_edges(body.shape))
    inner = {
        k: faces
        for k, (_, faces) in enumerate(every)
        if len(faces) == 2 and not faces[0].IsSame(faces[1])
    }
    turns = {k: _turn_along(every[k][0], faces, 3).max() for k, faces in inner.items()}
    if places:
        chosen = _nearest(body, every, inner, turns, places_of(places))
    else:
        chosen = [k for k, turn in turns.items() if turn > sharp]
        if not chosen:
            raise BodyError(f"it has no edge that turns by more than {np.degrees(sharp):.0f}°")
    maker = BRepFilletAPI_MakeFillet(body.shape)
    runs = []
    for k in chosen:
        edge, faces = every[k][0], inner[k]
        if maker.Contour(edge) > 0:
            continue
        middle = along(edge, 1e-2).mean(axis=0)
        maker.Add(1.0, edge)
        number = maker.Contour(edge)
        if not number:
            between = _between(body, faces)
            raise BodyError(f"the edge between {between} cannot be rounded", middle)
        mine = [maker.Edge(number, i + 1) for i in range(maker.NbEdges(number))]
        numbers = [n for one in mine for n in inner if every[n][0].IsSame(one)]
        runs.append(Run(numbers, _between(body, faces), middle, []))
    return runs


def _nearest(
    body: Named, every: list[Any], inner: dict[int, Any], turns: dict[int, float], places: Floats
) -> list[int]:
    """Return the edges nearest to places."""
    lines = {k: along(every[k][0], 1e-2) for k in inner}
    if not lines:
        raise BodyError("it has no edge between two faces")
    chosen = {min(lines, key=lambda k: _away(lines[k], place)) for place in places}
    for k in chosen:
        if turns[k] < LEVEL:
            raise BodyError(f"the edge between {_between(body, inner[k])} is smooth: there"
                            " is nothing to round", lines[k].mean(axis=0))  # fmt: skip
    return sorted(chosen)


def _away(line: Floats, place: Floats) -> float:
    return float(to_line(place[None], line)[0])


def _between(body: Named, faces: Sequence[Any]) -> str:
    return " and ".join(body.name(face, "a face") for face in faces[:2])


def _turn_along(edge: Any, faces: Sequence[Any], count: int) -> Floats:
    """Return the angle between the normals of two faces at places along their edge, radians."""
    curve = BRepAdaptor_Curve(edge)
    shares = np.linspace(0, 1, count) if count > 3 else np.array([0.1, 0.5, 0.9])
    ends = curve.FirstParameter(), curve.LastParameter()
    turns = []
    for share in shares:
        t = float(ends[0] + share * (ends[1] - ends[0]))
        first, second = (normal_at(edge, face, t) for face in faces[:2])
        cross = np.linalg.norm(np.cross(first, second))
        turns.append(np.arctan2(cross, first @ second))
    return np.array(turns)


def _law(body: Named, number: int, settings: RoundSettings) -> Floats:
    """Return the radius at places along an edge."""
    sizes = np.linspace(settings.size, settings.to or settings.size, PLACES)
    if settings.by == "radius":
        return sizes
    edge, faces = list(faces_of_edges(body.shape))[number]
    turns = np.maximum(_turn_along(edge, faces, PLACES), 0.05)
    law: Floats = sizes / (2 * np.sin(turns / 2))
    return law


# ---- building ----------------------------------------------------------------------------------


class Tries:
    """Tries to round edges of a body, each in a process of its own that may take so long."""

    def __init__(self, exact: tuple[bytes, tuple[str, ...]], how: str) -> None:
        self.exact, self.how = exact, how
        self._until = time.monotonic() + IN_ALL

    @property
    def is_late(self) -> bool:
        return time.monotonic() > self._until

    def build(self, runs: Sequence[Run], share: float) -> Built | None:
        """Return the body with runs rounded by a share of their laws; None where that fails."""
        plans = [(run.edges, run.laws) for run in runs]
        try:
            return apart("rounding", attempt, self.exact, self.how, plans, share, seconds=SECONDS)
        except ApartError:
            return None


def attempt(
    exact: tuple[bytes, tuple[str, ...]],
    how: str,
    plans: list[tuple[list[int], list[Floats]]],
    share: float,
) -> Built | None:
    """Round or bevel edges of a body, by their numbers; None where the kernel cannot."""
    body = read(exact)
    every = list(faces_of_edges(body.shape))
    maker = (_filleted if how == "round" else _bevelled)(body, every, plans, share)
    try:
        maker.Build()
        if not maker.IsDone() or not parts(maker.Shape(), FACE):
            return None
    except Exception:  # the kernel's own errors have no common base
        return None
    named = body.after(maker, maker.Shape(), "Round" if how == "round" else "Bevel")
    named, valid = sound(named)
    # What is too large may be made as an open shell, or lose a part of what it should keep.
    if not valid or (is_closed(body.shape) and not is_closed(named.shape)):
        return None
    widths = {}
    if how == "round":
        widths = {k: _width(maker, *every[k]) for edges, _ in plans for k in edges}
    return Built(exact_of(named), widths)


def _filleted(body: Named, every: list[Any], plans: Any, share: float) -> Any:
    maker = BRepFilletAPI_MakeFillet(body.shape)
    for edges, laws in plans:
        first = every[edges[0]][0]
        if maker.Contour(first) > 0:
            continue
        if all(np.ptp(law) < 1e-9 for law in laws):
            maker.Add(float(share * laws[0][0]), first)
            continue
        maker.Add(first)
        number = maker.Contour(first)
        for place in range(1, maker.NbEdges(number) + 1):
            edge = maker.Edge(number, place)
            own = next(k for k, each in enumerate(edges) if every[each][0].IsSame(edge))
            law = share * laws[own]
            points = Array1_gp_Pnt2d(1, len(law))
            for k, value in enumerate(law):
                points.SetValue(k + 1, gp_Pnt2d(k / (len(law) - 1), float(value)))
            maker.SetRadius(points, number, place)
    return maker


def _bevelled(body: Named, every: list[Any], plans: Any, share: float) -> Any:
    maker = BRepFilletAPI_MakeChamfer(body.shape)
    for edges, laws in plans:
        for k, sizes in zip(edges, laws, strict=True):
            edge, faces = every[k]
            if maker.Contour(edge) == 0:
                maker.Add(float(share * sizes[0]), float(share * sizes[1]), edge, faces[0])
    return maker


def _made(
    tries: Tries, runs: list[Run], size: float, progress: Progress
) -> tuple[Built, list[Run], list[Spot]]:
    """Round what can be rounded, and find out of the rest up to which size it can."""
    progress(0.1, "Rounding")
    whole = tries.build(runs, 1.0)
    if whole is not None:
        return whole, runs, []
    good: list[Run] = []
    bad: list[Run] = []
    for number, run in enumerate(runs):
        progress(0.1 + 0.5 * number / len(runs), "Looking which edges can be rounded")
        # With those that can be: two may not go together.
        alone = None if tries.is_late else tries.build([*good, run], 1.0)
        (bad if alone is None else good).append(run)
        whole = alone or whole
    spots = []
    for number, run in enumerate(bad):
        progress(0.6 + 0.2 * number / len(bad), "Looking up to which size")
        most = _greatest(tries, run)
        upto = f"up to {most * size:.2f} mm it can" if most else "nor smaller, as far as was tried"
        x, y, z = (float(part) for part in run.middle)
        words = f"the edge between {run.between} cannot be made at {size:g} mm: {upto}"
        spots.append(Spot(words, (x, y, z)))
    if whole is None:
        raise BodyError(spots[0].words, spots[0].at)
    return whole, good, spots


def _greatest(tries: Tries, run: Run) -> float:
    """Return the greatest share of its size at which a run can be made alone."""
    low, high = 0.0, 1.0
    for _ in range(BISECTIONS):
        if tries.is_late:
            break
        middle = (low + high) / 2
        low, high = (middle, high) if tries.build([run], middle) is not None else (low, middle)
    return low


def _corrected(built: Built, runs: Sequence[Run], settings: RoundSettings) -> bool:
    """Correct laws by the measured width; tell whether any is off by over a half percent."""
    is_off = False
    wanted = np.linspace(settings.size, settings.to or settings.size, PLACES)
    for run in runs:
        for k, edge in enumerate(run.edges):
            width = built.widths[edge]
            known = np.isfinite(width) & (width > 1e-6)
            if not known.any():
                continue
            at = np.arange(PLACES)
            ratio = np.clip(wanted[known] / width[known], 0.7, 1.4)
            ratio = np.interp(at, at[known], ratio)
            is_off = is_off or bool(np.abs(ratio - 1).max() > 5e-3)
            run.laws[k] = run.laws[k] * ratio
    return is_off


def _width(builder: Any, edge: Any, faces: Sequence[Any]) -> Floats:
    """Return how far apart the rails of a round lie along its edge, (PLACES,); NaN where unknown.

    The two rails are where the round meets what became of the two faces.
    """
    rounds = [face for face in builder.Generated(edge) if face.ShapeType() == FACE]
    rails = []
    for face in faces[:2]:
        near = list(builder.Modified(face)) or [face]
        lines = [
            along(own, 1e-3)
            for piece in rounds
            for own in parts(piece, EDGE)
            if any(own.IsSame(other) for each in near for other in parts(each, EDGE))
        ]
        if not lines:
            return np.full(PLACES, np.nan)
        rails.append(np.concatenate([evenly_along(line, 400) for line in lines]))
    curve = BRepAdaptor_Curve(edge)
    ends = curve.FirstParameter(), curve.LastParameter()
    widths = np.full(PLACES, np.nan)
    for k, t in enumerate(np.linspace(*ends, PLACES)):
        place, way = curve.Value(float(t)), curve.DN(float(t), 1)
        p = np.array([place.X(), place.Y(), place.Z()])
        w = np.array([way.X(), way.Y(), way.Z()])
        w = w / max(np.linalg.norm(w), 1e-300)
        first, second = (_through(rail, p, w) for rail in rails)
        if first is not None and second is not None:
            widths[k] = np.linalg.norm(first - second)
    return widths


def _through(rail: Floats, place: Floats, way: Floats) -> Floats | None:
    """Return where a rail goes through the plane square to an edge, nearest to it."""
    lift = (rail - place) @ way
    crossing = np.flatnonzero(lift[:-1] * lift[1:] <= 0)
    if not len(crossing):
        return None
    a, b = lift[crossing], lift[crossing + 1]
    share = np.where(a == b, 0.0, a / np.where(a == b, 1.0, a - b))
    found = rail[crossing] + share[:, None] * (rail[crossing + 1] - rail[crossing])
    nearest: Floats = found[int(np.argmin(np.linalg.norm(found - place, axis=1)))]
    return nearest


def _told(
    built: Built, runs: Sequence[Run], spots: list[Spot], word: str, corners: str = ""
) -> BodyMade:
    count = sum(len(run.edges) for run in runs)
    many = "1 edge" if count == 1 else f"{count} edges"
    words = [f"{many} {word}", *([corners] if corners else []), *(s.words for s in spots[:1])]
    if len(spots) > 1:
        more = "1 more place" if len(spots) == 2 else f"{len(spots) - 1} more places"
        words.append(f"nor can {more}, ringed on the stage")
    shape = body_of(read(built.exact))
    return BodyMade(shape, "; ".join(words), spots=tuple(spots), wanted=not spots)
