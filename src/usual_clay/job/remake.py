"""What is stale in a job, and making it anew by its recipe."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from usual_clay.core.fit.budget import candidate_of
from usual_clay.core.fit.drape import Drape, Start
from usual_clay.core.fit.sample import Sample
from usual_clay.core.progress import Progress, silent
from usual_clay.job.items import Basis, ItemId, Region, Surface
from usual_clay.job.job import Job
from usual_clay.job.recipes import KINDS


def basis_of(job: Job, surface: Surface) -> Basis | None:
    """Return what a surface's shape should be made of; None when it is drawn or loose."""
    if surface.recipe is None:
        return None
    regions = [job.get(source, Region) for source in surface.recipe.sources]
    if any(region is None for region in regions):
        return None
    return Basis(surface.recipe, tuple(region.vertices for region in regions if region))


def is_stale(job: Job, surface: Surface) -> bool:
    """Tell whether a surface's shape is older than its recipe or its sources."""
    basis = basis_of(job, surface)
    return basis is not None and not basis.same_as(surface.made_of)


def stale(job: Job) -> list[ItemId]:
    """Return what must be made anew; a locked surface keeps its shape."""
    return [s.id for s in job.all(Surface) if not s.locked and is_stale(job, s)]


def remake(
    surface: Surface,
    basis: Basis,
    sources: list[Sample],
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Surface], None] | None = None,
) -> tuple[Surface, Start]:
    """Make a surface by a recipe; also return where a next, similar fit may start.

    `found` is told of partial results, which still count as stale.
    """

    def partial(made: Drape) -> None:
        if found is not None:
            found(with_drape(surface, made, None))

    kind = KINDS[basis.recipe.kind]
    made = kind.make(basis.recipe.settings, sources, start, progress, partial)
    return with_drape(surface, made, basis), made.start


def with_drape(surface: Surface, made: Drape, basis: Basis | None) -> Surface:
    """Put a fitted drape into a surface; a finished one joins the candidates."""
    candidates = surface.candidates
    if basis is not None:
        mine = candidate_of(basis.recipe.settings, made.feet.signed)
        others = tuple(c for c in candidates if (c.nu, c.nv) != (mine.nu, mine.nv))
        candidates = (*others, mine)
    return replace(
        surface,
        geometry=made.surface,
        signed=made.feet.signed,
        candidates=candidates,
        made_of=basis,
    )
