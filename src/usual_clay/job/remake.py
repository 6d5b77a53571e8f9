"""What is stale in a job, and making it anew by its recipe."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from usual_clay.core.errors import ClayError
from usual_clay.core.progress import Progress, silent
from usual_clay.job.items import Basis, Followed, Item, ItemId
from usual_clay.job.job import Job, sample_of
from usual_clay.job.kinds import Decode, item_kind
from usual_clay.job.made import Given
from usual_clay.job.recipe import Recipe
from usual_clay.job.recipes import kind_of

# Gives an item as recipes take it, as measured points or as it is.
Source = Callable[[ItemId, bool], Any]


def values_of(job: Job, item: Item) -> tuple[object, ...]:
    """Return what of an item matters to what follows from it."""
    return item_kind(item).values(job, item)


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
    late = [item for item in job.all(Followed) if not item.locked and is_stale(job, item)]
    waits = {item.id for item in late}
    return [item.id for item in late if item.recipe and waits.isdisjoint(item.recipe.sources)]


def source_of(job: Job, item_id: ItemId, sample: bool = False, decode: Decode | None = None) -> Any:
    """Return an item as recipes take it; `decode` turns a picture's file into pixels.

    Parameters
    ----------
    sample : bool
        Whether the item's measured points are wanted, with what is known of them.

    Raises
    ------
    TypeError
        For an item that nothing is made from.
    """
    item = job.items[item_id]
    if sample:
        return sample_of(job, item)
    kind = item_kind(item)
    if kind.source is None:
        raise TypeError(f"nothing is made from a {kind.word}")
    return kind.source(job, item, decode)


def given_for(
    job: Job, recipe: Recipe, decode: Decode | None = None, source: Source | None = None
) -> Given:
    """Return a recipe's sources by role.

    Parameters
    ----------
    source : callable, optional
        Gives an item as recipes take it, where that is known already.
    """
    take = source or (lambda item_id, sample: source_of(job, item_id, sample, decode))
    kind = kind_of(recipe.kind)
    return Given(
        {
            role: tuple(take(each, kind.role(role).sample) for each in ids)
            for role, ids in recipe.roles.items()
        },
        {role: tuple(job.items[each].name for each in ids) for role, ids in recipe.roles.items()},
    )


def make(
    recipe: Recipe,
    given: Given,
    progress: Progress = silent,
    found: Callable[[Any], None] = lambda _made: None,
) -> Any:
    """Do what a recipe says; `found` is told of partial results."""
    return kind_of(recipe.kind).make(recipe.settings, given, progress, found)


def with_made(item: Followed, made: Any, basis: Basis | None) -> Followed:
    """Put what was made by an item's recipe into it; without a basis it still counts as stale.

    Raises
    ------
    TypeError, AttributeError
        Where the recipe gave something that the item cannot hold: nothing is ever dropped.
    """
    assert item.recipe is not None
    kind = kind_of(item.recipe.kind)
    if type(item) is not kind.result:
        raise TypeError(f"{kind.name} gives a {kind.result.__name__}, no {type(item).__name__}")
    return replace(kind.put(item, made, basis is not None), made_of=basis)


def remade(job: Job, item: Followed, decode: Decode | None = None) -> Job:
    """Return the job with an item made by its recipe, here and now."""
    basis = basis_of(job, item)
    assert basis is not None
    made = make(basis.recipe, given_for(job, basis.recipe, decode))
    return job.with_item(with_made(item, made, basis))


def with_quick_followers(job: Job, item_id: ItemId) -> Job:
    """Return a job in which what follows an item at once does: twins, copies, bridges.

    What takes longer follows about as it will; it is stale until it is made. What cannot be made
    stays as it is; a locked item keeps its shape.
    """
    for item in job.followers(item_id):
        if basis_of(job, item) is None or item.locked or item.recipe is None:
            continue
        kind = kind_of(item.recipe.kind)
        try:
            if kind.quick:
                job = remade(job, item)
            elif kind.live is not None and item.made_of is not None:
                job = job.with_item(_about(job, item))
            else:
                continue
        except ClayError:
            # It keeps its last shape, and the remaking after the drag says why.
            continue
        job = with_quick_followers(job, item.id)
    return job


def _about(job: Job, item: Followed) -> Followed:
    """Return an item about as it will be when it is made anew."""
    assert item.recipe is not None
    assert item.made_of is not None
    live = kind_of(item.recipe.kind).live
    assert live is not None
    # What is measured does not move with a curve: the surface keeps what it follows of that.
    now = given_for(
        job, item.recipe, source=lambda each, sample: None if sample else source_of(job, each)
    )
    before = _as_made(job, item, now)
    shape = live(item.recipe.settings, before, now, item.geometry)  # type: ignore[attr-defined]
    return replace(item, geometry=shape)  # type: ignore[call-arg]


def _as_made(job: Job, item: Followed, now: Given) -> Given:
    """Return an item's sources as they were when it was made, as far as their shape is known."""
    assert item.recipe is not None
    assert item.made_of is not None
    left = list(item.made_of.values)
    roles: dict[str, tuple[Any, ...]] = {}
    for role, ids in item.recipe.by_role:
        taken = []
        for source, value in zip(ids, now.all(role), strict=True):
            count = len(values_of(job, job.items[source]))
            own, left = left[:count], left[count:]
            taken.append(own[0] if count == 1 and type(own[0]) is type(value) else value)
        roles[role] = tuple(taken)
    return Given(roles)
