"""The one door to recipes: items made, set, searched for and tied."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from typing import Any, TypeVar

from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.progress import Progress, silent
from usual_clay.job.items import Body, Fitted, Followed, Item, ItemId, Surface
from usual_clay.job.job import Job
from usual_clay.job.kinds import Decode, item_kind
from usual_clay.job.made import Given
from usual_clay.job.recipe import Recipe
from usual_clay.job.recipe_kind import Kind, RecipeError, recipe_problem
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import basis_of, given_for, make, with_made
from usual_clay.job.searching import Outcome

# Settings that say how much is spent, and what a search found for it.
COUNTS = ("nu", "nv", "controls")
FOUND = ("inner_u", "inner_v", "net", "inner", "pace")
# The roles of what a body stands in the place of.
USED_UP = ("faces", "thing", "body", "others", "surface")
# What may be changed without giving up what a search found.
KEEPS_FOUND = ("smoothness", "edges", "ribbons")


Made = TypeVar("Made", bound=Followed)


def planned(
    job: Job, kind: str, settings: Any, name: str = "", **roles: ItemId | Sequence[ItemId]
) -> Followed:
    """Return an item with its recipe, without a shape yet and not in the job.

    Parameters
    ----------
    name : str
        As wanted; without one after its first source.
    roles : id or ids
        Of the items that take each role.

    Raises
    ------
    RecipeError
        Where the kind is not there, or the roles are not taken as it asks.
    """
    row = kind_of(kind)
    recipe = Recipe.of(kind, settings, **roles)
    check_roles(job, row, recipe)
    if not isinstance(settings, row.settings):
        raise RecipeError(f"{row.title} is made by {row.settings.__name__}, not by {settings!r}")
    made = item_kind(row.result)
    assert made.blank is not None
    first = next((job.items[each].name for each in recipe.sources), row.title)
    wanted = name or row.suffix.format(first)
    return watching(made.blank(job.new_id(made.name), job.free_name(wanted), recipe), row)


def planned_as(
    result: type[Made],
    job: Job,
    kind: str,
    settings: Any,
    name: str = "",
    **roles: ItemId | Sequence[ItemId],
) -> Made:
    """Return the same of a kind that is known to make such an item."""
    item = planned(job, kind, settings, name, **roles)
    assert isinstance(item, result)
    return item


def watching(item: Followed, kind: Kind) -> Followed:
    """Return an item that is judged by what its recipe says judges it."""
    assert item.recipe is not None
    judge = item.recipe.one(kind.judged_by) if kind.judged_by else None
    return replace(item, watches=judge or "") if isinstance(item, Fitted) else item


def check_roles(job: Job, kind: Kind, recipe: Recipe) -> None:
    """Refuse a recipe whose roles are not taken as its kind asks.

    Raises
    ------
    RecipeError
    """
    problem = recipe_problem(kind, recipe.roles)
    if problem:
        raise RecipeError(problem)
    for role, ids in recipe.by_role:
        takes = kind.role(role).takes
        for each in ids:
            item: Item | None = job.items.get(each)
            if item is None:
                raise RecipeError(f"{kind.title}: what takes the role {role} is not there")
            if not isinstance(item, takes):
                words = " or ".join(item_kind(one).word for one in takes)
                raise RecipeError(
                    f"{kind.title}: {item.name} is a {item_kind(item).word}; the role {role} takes"
                    f" a {words}"
                )


def with_result(job: Job, item: Followed, made: Any) -> tuple[Job, Followed]:
    """Put what a planned item's recipe gave into it, and it into the job."""
    basis = basis_of(job, item)
    if basis is None:
        raise RecipeError(f"what {item.name} is made from is gone")
    whole = with_made(item, made, basis)
    return job.with_item(whole), whole


def with_sources_hidden(job: Job, item: Followed) -> Job:
    """Hide what a body is made of: it stands in its place."""
    if not isinstance(item, Body) or item.recipe is None:
        return job
    for role, ids in item.recipe.by_role:
        for each in ids:
            if role in USED_UP and isinstance(job.items[each], Surface | Body):
                job = job.changed(each, visible=False)
    return job


def add(
    job: Job,
    kind: str,
    settings: Any,
    name: str = "",
    decode: Decode | None = None,
    progress: Progress = silent,
    **roles: ItemId | Sequence[ItemId],
) -> tuple[Job, Followed, Any]:
    """Make an item here and now, and add it.

    Returns
    -------
    job : Job
    item : Followed
    made : object
        What the recipe gave; it may have `words` for the user.

    Raises
    ------
    ClayError
        What cannot be made, and why.
    """
    item = planned(job, kind, settings, name, **roles)
    assert item.recipe is not None
    made = make(item.recipe, given_for(job, item.recipe, decode), progress)
    job, whole = with_result(job, item, made)
    return job, whole, made


def search(
    item: Followed,
    given: Given,
    tolerance: Tolerance,
    limit: int | None = None,
    progress: Progress = silent,
    found: Callable[[Candidate], None] = lambda _candidate: None,
) -> Outcome:
    """Look for the fewest control points with which an item's recipe stays within tolerance.

    Raises
    ------
    RecipeError
        Where its kind has none to spare.
    ClayError
        Where nothing can be made at all.
    """
    if item.recipe is None:
        raise RecipeError(f"{item.name} follows nothing: there is nothing to fit it to")
    kind = kind_of(item.recipe.kind)
    if kind.search is None:
        raise RecipeError(f"{kind.title} is made without a search: its counts follow its sources")
    most = kind.search.limit if limit is None else limit
    return kind.search.to_tolerance(item.recipe.settings, given, tolerance, most, progress, found)


def with_outcome(job: Job, item: Followed, outcome: Outcome) -> Job:
    """Put what a search found into its item; where it was stopped, only what is better.

    A search that was stopped leaves its best settings, by which the item is stale: it keeps its
    shape until they are made.
    """
    assert item.recipe is not None
    if outcome.made is None and not _is_better(job, item, outcome):
        return job.changed(item.id, candidates=_all_candidates(item, outcome))
    recipe = replace(item.recipe, settings=outcome.settings)
    changed = replace(item, recipe=recipe)
    if isinstance(changed, Fitted):
        changed = replace(changed, candidates=outcome.candidates)
    if outcome.made is None:
        return job.with_item(changed)
    return job.with_item(with_made(changed, outcome.made, basis_of(job, changed)))


def _all_candidates(item: Followed, outcome: Outcome) -> tuple[Candidate, ...]:
    mine = {(c.nu, c.nv): c for c in outcome.candidates}
    return tuple((mine | {(c.nu, c.nv): c for c in getattr(item, "candidates", ())}).values())


def _is_better(job: Job, item: Followed, outcome: Outcome) -> bool:
    """Tell whether the best that a stopped search found beats what there is."""
    assert item.recipe is not None
    report = job.report(item)  # type: ignore[arg-type]
    best = next((c for c in outcome.candidates if c.total == _spent(outcome.settings)), None)
    if report is None or best is None:
        return best is not None
    deviation, aim = best.deviation(job.tolerance.share), job.tolerance.deviation
    if report.met:
        return deviation <= aim and best.total < item.control_points  # type: ignore[attr-defined]
    return deviation < report.at_share


def _spent(settings: Any) -> int:
    return int(getattr(settings, "controls", 0) or settings.nu * settings.nv)


def with_settings(job: Job, item: Followed, settings: Any) -> Job:
    """Change the settings that an item is made by; it is stale then.

    What was computed with other settings is no candidate any more, and what a search found
    is given up where something else than the stiffness changes.
    """
    assert item.recipe is not None
    old = item.recipe.settings
    changed = {
        each.name
        for each in fields(settings)
        if getattr(settings, each.name) != getattr(old, each.name)
    }
    fresh = changed & set(FOUND)
    if changed - {*KEEPS_FOUND, *FOUND} and not fresh:
        gone: dict[str, Any] = {name: () for name in FOUND if hasattr(settings, name)}
        settings = replace(settings, **gone)
    more: dict[str, Any] = {}
    if changed - {*COUNTS, *FOUND} and isinstance(item, Fitted):
        more["candidates"] = ()
    return job.changed(item.id, recipe=replace(item.recipe, settings=settings), **more)


def patches_with(job: Job, item: Followed) -> list[Followed]:
    """Return the patches that one opening is filled by, of which an item is one."""
    recipe = item.recipe
    if recipe is None or recipe.kind != "fill" or not recipe.settings.part:
        return []
    return [
        each
        for each in job.all(Followed)
        if each.recipe is not None
        and each.recipe.kind == recipe.kind
        and each.recipe.all("edges") == recipe.all("edges")
        and each.recipe.settings.of == recipe.settings.of
    ]


def with_middle(job: Job, item: Followed, middle: tuple[float, ...]) -> Job:
    """Let all the patches of an opening meet at a place; without one where it is calmest."""
    for each in patches_with(job, item):
        assert each.recipe is not None
        job = with_settings(job, each, replace(each.recipe.settings, middle=middle))
    return job


def tied(job: Job, item: Followed, role: str, *ids: ItemId) -> Job:
    """Let other items take a role of an item's recipe: it is tied to them from now on.

    Raises
    ------
    RecipeError
        Where they do not fit the role, or follow the item themselves.
    """
    assert item.recipe is not None
    kind, recipe = kind_of(item.recipe.kind), item.recipe.with_role(role, *ids)
    check_roles(job, kind, recipe)
    after = job.downstream(item.id)
    for each in ids:
        if each in after:
            own = "itself" if each == item.id else f"{job.items[each].name}, which follows it"
            raise RecipeError(f"{item.name} cannot follow {own}: choose another source")
    return job.with_item(watching(replace(item, recipe=recipe, former=None), kind))


def loosened(job: Job, item: Followed) -> Job:
    """Let an item stop following its sources; it keeps its shape, and is judged as before."""
    return job.changed(item.id, recipe=None, made_of=None, former=item.follows)


def restored(job: Job, item: Followed) -> Job:
    """Let an item follow again as it did before it was set loose or shaped by hand."""
    assert item.former is not None
    again = replace(item, recipe=item.former, former=None, made_of=None)
    return job.with_item(watching(again, kind_of(item.former.kind)))
