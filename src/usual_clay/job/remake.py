"""What must be made anew after an edit, and making it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from usual_clay.core.fit.budget import candidate_of
from usual_clay.core.fit.drape import Drape, Start
from usual_clay.core.fit.sample import Sample
from usual_clay.core.progress import Progress, silent
from usual_clay.job.items import Item, ItemId, Region, Surface
from usual_clay.job.job import Job, JobError, sample_of
from usual_clay.job.recipes import KINDS


def stale_after(before: Job, after: Job) -> list[ItemId]:
    """Return what follows from the difference of two jobs, sources before followers.

    An item is stale when its recipe changed, or a source's geometry did. A source that is gone
    leaves its followers as they are, loose.
    """
    stale: list[ItemId] = []
    moved = {key for key, item in after.items.items() if _differs(before.items.get(key), item)}
    waiting = [surface for surface in after.all(Surface) if surface.recipe is not None]
    progress = True
    while progress:
        progress = False
        for surface in list(waiting):
            assert surface.recipe is not None
            if after.is_loose(surface):
                waiting.remove(surface)
                continue
            old = before.get(surface.id, Surface)
            own = old is not None and old.recipe != surface.recipe
            if own or any(source in moved for source in surface.recipe.sources):
                stale.append(surface.id)
                moved.add(surface.id)
                waiting.remove(surface)
                progress = True
    return stale


def _differs(old: Item | None, new: Item) -> bool:
    """Tell whether the geometry that others may be made from changed."""
    if isinstance(new, Region):
        return isinstance(old, Region) and old.vertices is not new.vertices
    return False


def sources_of(job: Job, surface: Surface) -> list[Sample]:
    """Return what a surface's recipe is made from.

    Raises
    ------
    JobError
        When a source is gone.
    """
    assert surface.recipe is not None
    samples = []
    for source in surface.recipe.sources:
        region = job.get(source, Region)
        if region is None:
            raise JobError(f"{surface.name} is loose: the region it was made from is gone")
        samples.append(sample_of(job, region))
    return samples


def remake(
    surface: Surface,
    sources: list[Sample],
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Surface], None] | None = None,
) -> tuple[Surface, Start]:
    """Make a surface by its recipe; also return where a next, similar fit may start."""
    assert surface.recipe is not None
    kind = KINDS[surface.recipe.kind]

    def partial(made: Drape) -> None:
        if found is not None:
            found(with_drape(surface, made))

    made = kind.make(surface.recipe.settings, sources, start, progress, partial)
    return with_drape(surface, made), made.start


def with_drape(surface: Surface, made: Drape) -> Surface:
    """Put a fitted drape into a surface, and keep its balance among the candidates."""
    assert surface.recipe is not None
    settings = surface.recipe.settings
    mine = candidate_of(settings, made.feet.signed)
    others = tuple(c for c in surface.candidates if (c.nu, c.nv) != (mine.nu, mine.nv))
    return replace(
        surface, geometry=made.surface, signed=made.feet.signed, candidates=(*others, mine)
    )
