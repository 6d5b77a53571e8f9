"""Solids united, taken away, intersected; with a surface as the knife; mirrored and united."""

from __future__ import annotations

from typing import Any

from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyMade
from usual_clay.core.body.join import sewn, solid_where_closed
from usual_clay.core.body.mass import middle_of, volume_of
from usual_clay.core.body.settings import CombineSettings
from usual_clay.core.body.shapes import (
    SOLID,
    Named,
    body_of,
    is_closed,
    joined_names,
    listed,
    parts,
    sound,
)
from usual_clay.core.body.sources import Taken, places_of, plane_across
from usual_clay.core.body.trim import apart_again, cut_by, parted, those_at
from usual_clay.core.build.combine import TwinSettings, plane_picked
from usual_clay.core.progress import Progress

# What touches within this is one, mm: the first that does is taken.
FUZZY = (1e-4, 1e-3, 1e-5)
TWIN = "mirrored and united"
# Volumes are known to this share.
SLACK = 1e-4


def unite(settings: CombineSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Unite solids."""
    body, others = _given(taken)
    progress(0.2, "Uniting")
    made = operated(BRepAlgoAPI_Fuse, body, others)
    return _chosen(made, settings, f"{1 + len(others)} bodies united")


def take_away(settings: CombineSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Take solids away, or what lies on one side of surfaces."""
    return _with_knives(settings, taken, progress, BRepAlgoAPI_Cut, "taken away")


def intersect(settings: CombineSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Keep what solids have in common, or what lies on one side of surfaces."""
    return _with_knives(settings, taken, progress, BRepAlgoAPI_Common, "in common")


def _with_knives(
    settings: CombineSettings, taken: Taken, progress: Progress, how: Any, word: str
) -> BodyMade:
    body = taken.body()
    _check_solid(body, taken.all("body")[0][0])
    solids: list[tuple[str, Named]] = []
    knives: list[tuple[str, Named]] = []
    for name, other in zip(
        (name for name, _ in taken.all("others")), taken.shapes("others"), strict=True
    ):
        (solids if parts(other.shape, SOLID) else knives).append((name, other))
    if knives:
        progress(0.2, "Cutting")
        names = " and ".join(name for name, _ in knives)
        pieces = cut_by(body, [other.shape for _, other in knives], names)
        kept = those_at(pieces, places_of(settings.keep)) if settings.keep else pieces[:1]
        body = kept[0] if len(kept) == 1 else apart_again(kept)
    words = f"the {'larger side' if not settings.keep else 'chosen side'} kept" if knives else ""
    if solids:
        progress(0.6, "Cutting")
        body = operated(how, body, [other for _, other in solids])
        return _chosen(body, settings, f"{len(solids)} {word}")
    return BodyMade(body_of(body), words)


def _given(taken: Taken) -> tuple[Named, list[Named]]:
    body, others = taken.body(), taken.shapes("others")
    named = [taken.all("body")[0][0], *(name for name, _ in taken.all("others"))]
    for name, each in zip(named, [body, *others], strict=True):
        _check_solid(each, name)
    return body, others


def _check_solid(named: Named, name: str) -> None:
    if not parts(named.shape, SOLID):
        raise BodyError(f"{name} is an open shell: close it first")


def operated(how: Any, body: Named, others: list[Named]) -> Named:
    """Return what a boolean operation makes of a body and others.

    Parameters
    ----------
    how : class of the kernel's operations

    Raises
    ------
    BodyError
        Where nothing is left, or the kernel fails.
    """
    were_closed = all(is_closed(each.shape) for each in (body, *others))
    for fuzzy in FUZZY:
        operation = how()
        operation.SetArguments(listed([body.shape]))
        operation.SetTools(listed([other.shape for other in others]))
        operation.SetFuzzyValue(fuzzy)
        operation.SetRunParallel(True)
        operation.Build()
        if not operation.IsDone():
            continue
        made = joined_names(operation, operation.Shape(), [body, *others]).filled("Face")
        if not parts(made.shape, SOLID):
            if how is BRepAlgoAPI_Fuse or fuzzy != FUZZY[0]:
                continue
            raise BodyError("nothing is left: the bodies do not lie as this needs")
        made, valid = sound(made)
        whole = is_closed(made.shape) or not were_closed
        if valid and whole and _makes_sense(how, made, body, others):
            return made
    raise BodyError(
        "the geometry kernel cannot combine these: their faces nearly lie on each other over a"
        " large part. Move one of them a little, or cut off first what both have"
    )


def _makes_sense(how: Any, made: Named, body: Named, others: list[Named]) -> bool:
    """Tell whether what was made holds as much as it can: the kernel may lose a part of it."""
    held, own, *theirs = (volume_of(each.shape) for each in (made, body, *others))
    least, most = {
        BRepAlgoAPI_Fuse: (max(own, *theirs), own + sum(theirs)),
        BRepAlgoAPI_Cut: (own - sum(theirs), own),
        BRepAlgoAPI_Common: (0.0, min(own, sum(theirs))),
    }[how]
    slack = SLACK * (own + sum(theirs))
    return bool(least - slack <= held <= most + slack)


def _chosen(made: Named, settings: CombineSettings, words: str) -> BodyMade:
    if len(parts(made.shape, SOLID)) > 1:
        pieces = parted(made)
        if settings.keep:
            kept = those_at(pieces, places_of(settings.keep))
            made = kept[0] if len(kept) == 1 else apart_again(kept)
            words += f"; {len(kept)} of {len(pieces)} parts kept"
        else:
            words += f"; it fell into {len(pieces)} parts"
    return BodyMade(body_of(made), words)


def mirror_and_unite(settings: TwinSettings, taken: Taken, progress: Progress) -> BodyMade:
    """Mirror a body and unite the two; an open shell is joined to its image."""
    body = taken.body()
    point, normal = plane_picked(settings, next(iter(taken.geometry("plane")), None))
    image = _mirrored(body, point, normal)
    progress(0.4, "Uniting")
    if parts(body.shape, SOLID):
        try:
            return BodyMade(body_of(operated(BRepAlgoAPI_Fuse, body, [image])), TWIN)
        except BodyError as error:
            # What nearly lies on its image: one half of it and that half's image do not.
            half = _larger_half(body, point, normal, error)
            made = operated(BRepAlgoAPI_Fuse, half, [_mirrored(half, point, normal)])
            words = f"{TWIN}: its larger half, as the whole nearly lies on its image"
            return BodyMade(body_of(made), words)
    made = solid_where_closed(sewn([body, image], 1e-3))
    shape = body_of(made)
    still = "" if shape.is_solid else f"; {shape.open_edges} edges are open"
    return BodyMade(shape, f"mirrored and joined{still}")


def _mirrored(body: Named, point: Floats, normal: Floats) -> Named:
    move = gp_Trsf()
    move.SetMirror(gp_Ax2(gp_Pnt(*map(float, point)), gp_Dir(*map(float, normal))))
    builder = BRepBuilderAPI_Transform(body.shape, move, True)
    return joined_names(builder, builder.Shape(), [body]).filled("Face")


def _larger_half(body: Named, point: Floats, normal: Floats, otherwise: BodyError) -> Named:
    """Return what of a body lies to the side of a plane on which there is more of it."""
    try:
        pieces = cut_by(body, [plane_across(body.shape, point, normal)], "the plane")
    except BodyError:
        # All of it lies to one side.
        raise otherwise from None
    sides: tuple[list[Named], list[Named]] = ([], [])
    for piece in pieces:
        sides[int((middle_of(piece.shape) - point) @ normal > 0)].append(piece)
    larger = max(sides, key=lambda side: sum(volume_of(piece.shape) for piece in side))
    return larger[0] if len(larger) == 1 else apart_again(larger)
