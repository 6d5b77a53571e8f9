"""Edges of bodies rounded, by radius or by width, and bevelled."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.collections import Array1_gp_Pnt2d
from OCP.gp import gp_Pnt2d

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade, Spot
from usual_clay.core.body.settings import BevelSettings, RoundSettings
from usual_clay.core.body.shapes import (
    EDGE,
    FACE,
    Named,
    along,
    body_of,
    faces_of_edges,
    normal_at,
    parts,
)
from usual_clay.core.body.sources import Taken, places_of
from usual_clay.core.progress import Progress

# A law of radii is given at so many places, and corrected by the measured width so often.
PLACES, CORRECTIONS = 33, 2
# The size up to which an edge can be rounded is found to this share.
BISECTIONS = 7
# Edges that turn by less than this have nothing to round, radians.
LEVEL = 1e-3


@dataclass(eq=False)
class Run:
    """Edges that go on from each other smoothly, rounded together.

    Attributes
    ----------
    edges : list
    between : str
        The faces that it lies between.
    middle : (3,) array
    laws : list of arrays
        Of each edge the radius at places along it; for a bevel nothing.
    """

    edges: list[Any]
    between: str
    middle: Floats
    laws: list[Floats]


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
    made = _made(body, runs, settings.size, progress, _filleted)
    if settings.by == "width":
        for _ in range(CORRECTIONS):
            progress(0.8, "Measuring the width")
            if not _corrected(body, made, settings):
                break
            better = _filleted(body, made.runs, 1.0)
            if better is None:
                break
            made.builder = better
    return _told(body, made, settings.size, "rounded")


def bevel_edges(settings: BevelSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Bevel edges.

    Raises
    ------
    BodyError
    """
    body = taken.body()
    runs = _runs(body, settings.edges, settings.sharp)

    def bevelled(whole: Named, chosen: Sequence[Run], share: float) -> Any:
        maker = BRepFilletAPI_MakeChamfer(whole.shape)
        for run in chosen:
            for edge in run.edges:
                if maker.Contour(edge) > 0:
                    continue
                faces = next(f for e, f in faces_of_edges(whole.shape) if e.IsSame(edge))
                second = settings.second or settings.size
                maker.Add(settings.size * share, second * share, edge, faces[0])
        return _built(maker)

    made = _made(body, runs, settings.size, progress, bevelled)
    return _told(body, made, settings.size, "bevelled")


def _runs(body: Named, numbers: Sequence[float], sharp: float) -> list[Run]:
    """Return the runs of edges that are meant."""
    inner = [(edge, faces) for edge, faces in faces_of_edges(body.shape) if len(faces) == 2]
    inner = [(edge, faces) for edge, faces in inner if not faces[0].IsSame(faces[1])]
    turns = [_turn_along(edge, faces, 3).max() for edge, faces in inner]
    if numbers:
        lines = [along(edge, 1e-2) for edge, _ in inner]
        if not lines:
            raise BodyError("it has no edge between two faces")
        chosen = sorted(
            {int(np.argmin([_away(line, place) for line in lines])) for place in places_of(numbers)}
        )
        for k in chosen:
            if turns[k] < LEVEL:
                raise BodyError(f"the edge between {_between(body, inner[k][1])} is smooth: there"
                                " is nothing to round", lines[k].mean(axis=0))  # fmt: skip
    else:
        chosen = [k for k, turn in enumerate(turns) if turn > sharp]
        if not chosen:
            raise BodyError(f"it has no edge that turns by more than {np.degrees(sharp):.0f}°")
    maker = BRepFilletAPI_MakeFillet(body.shape)
    runs = []
    for k in chosen:
        edge, faces = inner[k]
        if maker.Contour(edge) > 0:
            continue
        maker.Add(1.0, edge)
        number = maker.Contour(edge)
        if not number:
            raise BodyError(f"the edge between {_between(body, faces)} cannot be rounded",
                            along(edge, 1e-2).mean(axis=0))  # fmt: skip
        count = maker.NbEdges(number)
        edges = [maker.Edge(number, i + 1) for i in range(count)]
        runs.append(Run(edges, _between(body, faces), along(edge, 1e-2).mean(axis=0), []))
    return runs


def _away(line: Floats, place: Floats) -> float:
    from usual_clay.core.body.gaps import _to_line

    return float(_to_line(place[None], line)[0])


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


def _law(body: Named, edge: Any, settings: RoundSettings) -> Floats:
    """Return the radius at places along an edge."""
    sizes = np.linspace(settings.size, settings.to or settings.size, PLACES)
    if settings.by == "radius":
        return sizes
    faces = next(f for e, f in faces_of_edges(body.shape) if e.IsSame(edge))
    turns = np.maximum(_turn_along(edge, faces, PLACES), 0.05)
    law: Floats = sizes / (2 * np.sin(turns / 2))
    return law


# ---- building ----------------------------------------------------------------------------------


@dataclass(eq=False)
class Built:
    """What could be rounded, and what could not."""

    builder: Any
    runs: list[Run]
    spots: list[Spot]


Build = Callable[[Named, Sequence[Run], float], Any]


def _filleted(body: Named, runs: Sequence[Run], share: float) -> Any:
    """Return the kernel's builder after rounding runs by a share of their law; None if it fails."""
    maker = BRepFilletAPI_MakeFillet(body.shape)
    for run in runs:
        if maker.Contour(run.edges[0]) > 0:
            continue
        constant = all(np.ptp(law) < 1e-9 for law in run.laws)
        if constant:
            maker.Add(float(share * run.laws[0][0]), run.edges[0])
            continue
        maker.Add(run.edges[0])
        number = maker.Contour(run.edges[0])
        for place in range(1, maker.NbEdges(number) + 1):
            edge = maker.Edge(number, place)
            own = next(k for k, each in enumerate(run.edges) if each.IsSame(edge))
            law = share * run.laws[own]
            points = Array1_gp_Pnt2d(1, len(law))
            for k, value in enumerate(law):
                points.SetValue(k + 1, gp_Pnt2d(k / (len(law) - 1), float(value)))
            maker.SetRadius(points, number, place)
    return _built(maker)


def _built(maker: Any) -> Any:
    try:
        maker.Build()
        if not maker.IsDone() or not parts(maker.Shape(), FACE):
            return None
    except Exception:  # the kernel's own errors have no common base
        return None
    from OCP.BRepCheck import BRepCheck_Analyzer

    return maker if BRepCheck_Analyzer(maker.Shape()).IsValid() else None


def _made(body: Named, runs: list[Run], size: float, progress: Progress, build: Build) -> Built:
    """Round what can be rounded, and find out of the rest up to which size it can."""
    progress(0.1, "Rounding")
    builder = build(body, runs, 1.0)
    if builder is not None:
        return Built(builder, runs, [])
    good: list[Run] = []
    bad: list[Run] = []
    for number, run in enumerate(runs):
        progress(0.1 + 0.5 * number / len(runs), "Looking which edges can be rounded")
        # With those that can be: two may not go together.
        alone = build(body, [*good, run], 1.0)
        (bad if alone is None else good).append(run)
        builder = alone or builder
    spots = []
    for number, run in enumerate(bad):
        progress(0.6 + 0.2 * number / len(bad), "Looking up to which size")
        most = _greatest(body, good, run, build)
        upto = f"up to {most * size:.2f} mm it can" if most else "at no size"
        place = tuple(float(x) for x in run.middle)
        spots.append(Spot(f"the edge between {run.between} cannot be made at {size:g} mm: {upto}",
                          place))  # type: ignore[arg-type]  # fmt: skip
    if builder is None:
        raise BodyError(spots[0].words, spots[0].at)
    return Built(builder, good, spots)


def _greatest(body: Named, good: list[Run], run: Run, build: Build) -> float:
    """Return the greatest share of its size at which a run can be made, with others as they are."""
    low, high = 0.0, 1.0
    for _ in range(BISECTIONS):
        middle = (low + high) / 2
        alone = build(body, [run], middle)
        low, high = (middle, high) if alone is not None else (low, middle)
    return low


def _corrected(body: Named, made: Built, settings: RoundSettings) -> bool:
    """Correct laws by the measured width; tell whether any is off by over a half percent."""
    is_off = False
    for run in made.runs:
        for k, edge in enumerate(run.edges):
            wanted = np.linspace(settings.size, settings.to or settings.size, PLACES)
            width = _width(body, made.builder, edge)
            known = np.isfinite(width) & (width > 1e-6)
            if not known.any():
                continue
            ratio = np.ones(PLACES)
            ratio[known] = np.clip(wanted[known] / width[known], 0.7, 1.4)
            at = np.arange(PLACES)
            ratio = np.interp(at, at[known], ratio[known])
            is_off = is_off or bool(np.abs(ratio - 1).max() > 5e-3)
            run.laws[k] = run.laws[k] * ratio
    return is_off


def _width(body: Named, builder: Any, edge: Any) -> Floats:
    """Return how far apart the rails of a round lie along its edge, (PLACES,); NaN where unknown.

    The two rails are where the round meets what became of the two faces.
    """
    faces = next(f for e, f in faces_of_edges(body.shape) if e.IsSame(edge))
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
        rails.append(np.concatenate([_dense(line) for line in lines]))
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


def _dense(line: Floats, count: int = 400) -> Floats:
    ways = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    at = np.linspace(0, ways[-1], count)
    return np.stack([np.interp(at, ways, line[:, k]) for k in range(3)], axis=1)


def _told(body: Named, made: Built, size: float, word: str) -> BodyMade:
    named = body.after(
        made.builder, made.builder.Shape(), "Round" if word == "rounded" else "Bevel"
    )
    shape = body_of(named)
    count = sum(len(run.edges) for run in made.runs)
    many = "1 edge" if count == 1 else f"{count} edges"
    words = "; ".join([f"{many} {word}", *(spot.words for spot in made.spots)])
    return BodyMade(shape, words, spots=tuple(made.spots), wanted=not made.spots)
