"""What a row of the recipe table is: a way to make an item, and the roles of its sources."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from usual_clay.core.errors import ClayError
from usual_clay.core.progress import Progress
from usual_clay.job.items import Followed, Item
from usual_clay.job.made import Given
from usual_clay.job.makers import Found
from usual_clay.job.searching import Searching

Make = Callable[[Any, Given, Progress, Found], Any]
Live = Callable[[Any, Given, Given, Any], Any]


class RecipeError(ClayError):
    """A recipe that is not there, or whose roles are not taken as it asks."""


@dataclass(frozen=True)
class Role:
    """What a recipe's sources are to it.

    Attributes
    ----------
    name : str
    takes : tuple of item classes
    label : str
        How the user reads it.
    least, most : int
        How many items take it; `most` 0 for any number.
    sample : bool
        Whether it is given as measured points with what is known of them, not as the item itself.
    """

    name: str
    takes: tuple[type[Item], ...]
    label: str = ""
    least: int = 1
    most: int = 1
    sample: bool = False

    @property
    def words(self) -> str:
        return self.label or self.name.capitalize()


@dataclass(frozen=True)
class Kind:
    """One way to make an item.

    Attributes
    ----------
    name, title : str
        How files and code name it, and how the user reads it.
    roles : tuple of Role
    settings : type
        A frozen dataclass of numbers and words, with defaults, that refuses what makes no sense.
    result : type
        The class of the item.
    make : callable
        ``make(settings, given, progress, found)``, a pure function. `found` is told of partial
        results.
    put : callable
        ``put(item, made, finished)`` gives the item with what was made.
    search : Searching or None
        How the fewest control points for a tolerance are found.
    about : str
        In a sentence, what it makes.
    suffix : str
        What a new one is called after its first source; "{}" is that source's name.
    judged_by : str
        The role whose item judges the result.
    quick : bool
        Whether it is made in a moment, so that it follows while a hand drags its source.
    live : callable or None
        ``live(settings, before, now, geometry)`` gives what is not made in a moment about as it
        will be, while a hand drags its source.
    """

    name: str
    title: str
    roles: tuple[Role, ...]
    settings: type
    result: type[Followed]
    make: Make
    put: Callable[[Any, Any, bool], Followed]
    search: Searching | None = None
    about: str = ""
    suffix: str = "{}"
    judged_by: str = ""
    quick: bool = False
    live: Live | None = None

    def role(self, name: str) -> Role:
        """Return a role by its name.

        Raises
        ------
        RecipeError
        """
        for role in self.roles:
            if role.name == name:
                return role
        names = ", ".join(role.name for role in self.roles)
        raise RecipeError(f"{self.title} has no role {name!r}: it has {names}")


def recipe_problem(kind: Kind, roles: Mapping[str, Sequence[object]]) -> str:
    """Return what is wrong with how many things take each role, or nothing."""
    for name in roles:
        kind.role(name)
    for role in kind.roles:
        count = len(roles.get(role.name, ()))
        if count < role.least:
            many = "one" if role.least == 1 else str(role.least)
            return f"{kind.title} needs {many} for the role {role.name}, not {count}"
        if role.most and count > role.most:
            return f"{kind.title} takes at most {role.most} for the role {role.name}, not {count}"
    return ""
