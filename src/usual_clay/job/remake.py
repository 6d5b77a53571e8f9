"""What is stale in a job, and making it anew by its recipe."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from usual_clay.core.check.deviation import distance_levels
from usual_clay.core.fit.cast import Cast
from usual_clay.core.fit.curve.sequence import CurveFit, PointSequence
from usual_clay.core.fit.patch.patch import PatchFit
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.shapes import ShapeFit
from usual_clay.core.spline.basis import SplineError
from usual_clay.job.items import (
    Basis,
    Curve,
    Followed,
    Item,
    ItemId,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.job import Job, sample_of
from usual_clay.job.recipes import KINDS, CurveMade, Made, Pinned, PointsMade, Source

Decode = Callable[[bytes], np.ndarray]


def values_of(job: Job, item: Item) -> tuple[object, ...]:
    """Return what of an item matters to what follows from it."""
    if isinstance(item, Region):
        scan = job.get(item.scan, Scan)
        return (item.vertices, None if scan is None else scan.mesh)
    if isinstance(item, Scan):
        return (item.mesh,)
    if isinstance(item, PointList):
        return (item.points, item.out, item.closed)
    if isinstance(item, Picture):
        return (item.data, item.size, item.placement)
    if isinstance(item, Shape | Curve | Surface):
        return (item.geometry,)
    return (item,)


def basis_of(job: Job, item: Followed) -> Basis | None:
    """Return what an item should be made of; None when it stands by itself or is loose."""
    if item.recipe is None or job.is_loose(item):
        return None
    values = [values_of(job, job.items[source]) for source in item.recipe.sources]
    return Basis(item.recipe, tuple(value for part in values for value in part))


def is_stale(job: Job, item: Item) -> bool:
    """Tell whether an item is older than its recipe or its sources."""
    basis = basis_of(job, item) if isinstance(item, Followed) else None
    return basis is not None and not basis.same_as(item.made_of)  # type: ignore[attr-defined]


def stale(job: Job) -> list[ItemId]:
    """Return what must be made anew, now; a locked item keeps its shape.

    What follows from a stale item waits until that is made.
    """
    late = [item.id for item in job.all(Followed) if not item.locked and is_stale(job, item)]
    waits = set(late)
    return [
        item_id
        for item_id in late
        if not waits & set(job.items[item_id].recipe.sources)  # type: ignore[attr-defined]
    ]


def source_of(job: Job, item_id: ItemId, decode: Decode | None = None) -> Source:
    """Return an item as recipes take it; `decode` turns a picture's file into pixels."""
    item = job.items[item_id]
    if isinstance(item, Region):
        return sample_of(job, item)
    if isinstance(item, Scan):
        return item.mesh
    if isinstance(item, PointList):
        return PointSequence(item.points[item.kept], item.closed)
    if isinstance(item, Shape | Curve | Surface):
        return item.geometry
    if isinstance(item, Picture) and decode is not None:
        data = item.data
        return Pinned(item.placement, item.size, lambda: decode(data))
    raise TypeError(f"nothing is made from {type(item).__name__}")


def remake(
    item: Followed,
    basis: Basis,
    sources: Sequence[Source],
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Followed], None] | None = None,
) -> tuple[Followed, Made]:
    """Make an item by a recipe; also return what was made.

    `found` is told of partial results, which still count as stale.
    """

    def partial(made: Made) -> None:
        if found is not None:
            found(with_made(item, made, None))

    kind = KINDS[basis.recipe.kind]
    made = kind.make(basis.recipe.settings, sources, start, progress, partial)
    return with_made(item, made, basis), made


def with_made(item: Followed, made: Made, basis: Basis | None) -> Followed:
    """Put what was made into its item."""
    if isinstance(made, Cast):
        assert isinstance(item, Surface)
        return with_cast(item, made, basis)
    fields: dict[str, Any] = {"made_of": basis}
    if isinstance(made, PointsMade):
        assert isinstance(item, PointList)
        fields |= {"points": made.points, "closed": made.closed}
        if len(made.points) != len(item.points):
            fields["out"] = item.out[:0]
    elif isinstance(made, CurveFit):
        assert isinstance(item, Curve)
        fields |= {"geometry": made.curve, "signed": made.signed}
        if basis is not None:
            fields["candidates"] = _joined(item.candidates, run_candidate(basis, made))
    elif isinstance(made, CurveMade):
        fields |= {"geometry": made.curve, "signed": None}
    elif isinstance(made, ShapeFit):
        fields |= {"geometry": made.shape, "signed": made.signed}
    return replace(item, **fields)


def with_quick_followers(job: Job, item_id: ItemId) -> Job:
    """Return a job in which what follows an item at once does: twins, copies, bridges.

    What cannot be made stays as it is; a locked item keeps its shape.
    """
    for item in job.followers(item_id):
        basis = basis_of(job, item)
        if basis is None or item.locked or not KINDS[basis.recipe.kind].quick:
            continue
        sources = [source_of(job, source) for source in basis.recipe.sources]
        try:
            made, _ = remake(item, basis, sources)
        except SplineError:
            continue
        job = with_quick_followers(job.with_item(made), item.id)
    return job


def run_candidate(basis: Basis, made: CurveFit) -> Candidate:
    """Keep of a fitted spline what Balance shows."""
    return Candidate(basis.recipe.settings.controls, 1, distance_levels(made.signed))


def _joined(candidates: tuple[Candidate, ...], mine: Candidate) -> tuple[Candidate, ...]:
    """Put a candidate in place of the one of its counts."""
    return (*(c for c in candidates if (c.nu, c.nv) != (mine.nu, mine.nv)), mine)


def with_cast(surface: Surface, made: Cast, basis: Basis | None) -> Surface:
    """Put a fitted cast into a surface; a finished one joins the candidates."""
    candidates = surface.candidates
    if basis is not None:
        mine = Candidate(*made.surface.counts, distance_levels(made.feet.signed))
        candidates = _joined(candidates, mine)
    return replace(
        surface,
        geometry=made.surface,
        signed=made.feet.signed,
        candidates=candidates,
        made_of=basis,
        inside=made.inside if isinstance(made, PatchFit) else None,
    )
