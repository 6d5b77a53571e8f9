"""What a task card is made from: a task's sources, its settings, and how it is said."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from usual_clay.bench.cards.fields import Field, Figure, Pick, Sweep
from usual_clay.core.spline.boundary import BORDERS
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.job.items import Curve, Item
from usual_clay.job.recipe_kind import Role
from usual_clay.job.recipes import KINDS

SIDES = tuple((side, side, f"The border {side}") for side in BORDERS)
AXES = tuple((axis, axis, f"The axis {axis}") for axis in "xyz")
# So many sources are offered for a role that takes any number; those past the first that is free
# are hidden.
ANY_NUMBER = 16
SMOOTH = (
    ("G0", 0, "Meets in place"), ("G1", 1, "Meets in tangent"), ("G2", 2, "Meets in curvature"),
    ("G3", 3, "Meets in the change of curvature"),
)  # fmt: skip
MIRROR = (
    Pick("axis", "Mirror plane", AXES), Figure("at", "Lies at", "Along that axis", -1e4, 1e4),
)  # fmt: skip
MEND = Figure("mend", "Mends up to", "What passes no farther apart is brought together", 0, 100, 3)
SPENT = (
    Sweep("scan", "Scan between", "0 follows the curves only, 1 the scan between them", 0, 1, 0.05),
    Figure("within", "Within", "How near it passes to every curve", 1e-4, 10, 4),
    Figure(
        "nu", "Along u", "Control points; 0 for as few as that takes", 0, 120, 0, "", zero="fewest"
    ),
    Figure(
        "nv", "Along v", "Control points; 0 for as few as that takes", 0, 120, 0, "", zero="fewest"
    ),
    Figure("degree", "Degree", "1 to 7", 1, 7, 0, ""),
)


@dataclass(frozen=True)
class Take:
    """A source that the user picks."""

    label: str
    kinds: tuple[type[Item], ...] = (Curve,)
    optional: bool = False
    role: str = ""
    any_number: bool = False


@dataclass(frozen=True)
class Several:
    """A further number that turns one result into several."""

    label: str
    tip: str
    low: float
    high: float
    start: float
    decimals: int
    unit: str
    spread: Callable[[Any, float], list[Any]]


@dataclass(frozen=True)
class Task:
    """One thing that can be made.

    Attributes
    ----------
    title, about : str
        Of a task that follows they are those of the recipe's kind.
    settings : object
        To begin with.
    takes : tuple of Take
        Of a task that follows they come from the roles of the recipe's kind.
    fields : tuple of Field
    name : str
        Of what is made; "{}" is the first source's.
    alter : callable or None
        ``alter(settings, sources)`` gives what the chosen curve becomes; None for a task that
        follows by the recipe of its name.
    several : Several or None
    parts : callable or None
        Parts the curves that were clicked, in any order, among the roles that take curves.
    hides : callable or None
        Names the fields, and the roles, that mean nothing at some settings.
    """

    title: str
    about: str
    settings: Any
    takes: tuple[Take, ...]
    fields: tuple[Field, ...]
    name: str
    alter: Callable[..., Any] | None = None
    several: Several | None = None
    hides: Callable[[Any], Sequence[str]] | None = None
    parts: Callable[[Sequence[BSplineCurve]], dict[str, list[int]]] | None = None


def following(kind: str, settings: Any, *fields: Field, **more: Any) -> Task:
    """Return the task of a recipe, which its row says all of but the fields."""
    row = KINDS[kind]
    return Task(row.title, row.about, settings, takes_of(row.roles), fields, row.suffix, **more)


def takes_of(roles: Sequence[Role]) -> tuple[Take, ...]:
    """Return a source to pick for each item that a role takes."""
    takes = []
    for role in roles:
        count = role.most or max(role.least, ANY_NUMBER)
        for k in range(count):
            words = role.words if count == 1 else f"{role.words} {k + 1}"
            takes.append(Take(words, role.takes, k >= role.least, role.name, not role.most))
    return tuple(takes)
