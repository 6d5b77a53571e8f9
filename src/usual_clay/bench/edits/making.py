"""Recipes in a session: items made in the background, their settings, and the search for lean."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from usual_clay.bench.session import Session
from usual_clay.core.errors import ClayError, sentence
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.progress import Progress
from usual_clay.job.edits import make
from usual_clay.job.items import Followed
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import make as made_by
from usual_clay.job.searching import Outcome


def start_making(
    session: Session,
    item: Followed,
    words: str,
    edit: str,
    after: Callable[[Followed], None] | None = None,
) -> None:
    """Make a planned item in the background, add it and choose it.

    Parameters
    ----------
    words : str
        What the user reads while it is made.
    edit : str
        What the edit is called.
    """
    recipe = item.recipe
    assert recipe is not None
    given = session.sources.given(recipe)
    first = next(iter(recipe.sources), "")

    def task(progress: Progress, _partial: object) -> Any:
        return made_by(recipe, given, progress)

    def done(made: Any) -> None:
        if any(source not in session.job.items for source in recipe.sources):
            return
        planned = session.job.renewed(item)
        job, whole = make.with_result(session.job, planned, made)
        session.commit(job, edit)
        session.choice.choose(whole.id)
        said = getattr(made, "words", "")
        if said:
            session.note(whole.id, sentence(said))
        if after is not None:
            after(whole)

    session.work.start(
        first,
        f"make {recipe.kind}",
        words,
        task,
        done,
        failed=lambda error: session.fail(first, error),
        asked=True,
    )


def add_following(
    session: Session, kind: str, settings: Any, words: str, name: str = "", **roles: Any
) -> None:
    """Plan an item that follows others and make it; what is wrong with the plan is told."""
    try:
        item = make.planned(session.job, kind, settings, name, **roles)
    except ClayError as error:
        session.told.emit("trouble", sentence(error))
        return
    start_making(session, item, words, f"{kind_of(kind).title.lower()}: {item.name}")


def set_settings(session: Session, item: Followed, settings: Any, words: str) -> None:
    """Change the settings that an item is made by; it is made anew, live."""
    assert item.recipe is not None
    if settings != item.recipe.settings and session.may_change(item):
        session.notes.pop(item.id, None)
        session.commit(make.with_settings(session.job, item, settings), words, onto_last=True)


def search(session: Session, item: Followed) -> None:
    """Look for the fewest control points within tolerance."""
    why = why_no_search(session, item)
    if why:
        session.told.emit("trouble", why)
        return
    recipe, tolerance = item.recipe, session.job.tolerance
    assert recipe is not None
    given = session.sources.given(recipe)
    session.sight.found = []

    def task(progress: Progress, partial: Callable[[Any], None]) -> Outcome:
        return make.search(item, given, tolerance, progress=progress, found=partial)

    def partial(candidate: Candidate) -> None:
        pair = (candidate.nu, candidate.nv)
        session.sight.found = [c for c in session.sight.found if (c.nu, c.nv) != pair]
        session.sight.found.append(candidate)
        session.sight.known_changed.emit()

    def done(outcome: Outcome) -> None:
        session.sight.found = []
        now = session.job.get(item.id, Followed)
        if now is None or now.recipe != recipe:
            return
        session.note(item.id, outcome.words)
        session.commit(make.with_outcome(session.job, now, outcome), "to tolerance")
        session.told.emit("news", outcome.words)

    session.work.start(
        item.id,
        "search",
        "To tolerance:",
        task,
        done,
        partial,
        failed=lambda error: session.fail(item.id, error),
        asked=True,
        keeps_best=True,
    )


def why_no_search(session: Session, item: Followed) -> str:
    """Return why an item cannot be searched for, or nothing."""
    if item.recipe is None:
        return (
            f"{item.name} is shaped by hand: what it is fitted by is given up. Fit it again,"
            " slim it, or cast its region again."
        )
    kind = kind_of(item.recipe.kind)
    if kind.search is None:
        return f"{item.name} is a {kind.title.lower()}: it takes what its sources ask for."
    if session.job.is_loose(item):
        return f"{item.name} cannot be fitted: its {kind.judged_by or 'source'} is gone."
    if item.locked:
        return f"{item.name} is locked: unlock it in the Shelf first."
    return ""
