"""A recipe: how one item follows from others, as a value."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

ItemId = str
# The items of each role, in the order of the roles.
Sources = tuple[tuple[str, tuple[ItemId, ...]], ...]


@dataclass(frozen=True)
class Recipe:
    """How one item follows from others.

    Attributes
    ----------
    kind : str
        A name in the table of recipes.
    by_role : tuple of (str, tuple of str)
        For each role that has any the ids of the items that take it; a role is there once.
    settings : dataclass
        Of the type that the kind registers.
    """

    kind: str
    by_role: Sources
    settings: Any

    @classmethod
    def of(cls, kind: str, settings: Any, **roles: ItemId | Sequence[ItemId]) -> Recipe:
        """Return a recipe from its roles; one without items is left out."""
        listed = (
            (role, (ids,) if isinstance(ids, str) else tuple(ids)) for role, ids in roles.items()
        )
        return cls(kind, tuple((role, ids) for role, ids in listed if ids), settings)

    @property
    def roles(self) -> Mapping[str, tuple[ItemId, ...]]:
        return dict(self.by_role)

    @property
    def sources(self) -> tuple[ItemId, ...]:
        """The ids of all items that it is made from, role by role."""
        return tuple(each for _, ids in self.by_role for each in ids)

    def all(self, role: str) -> tuple[ItemId, ...]:
        """Return the items of a role."""
        return self.roles.get(role, ())

    def one(self, role: str) -> ItemId | None:
        """Return the first item of a role, if there is one."""
        return next(iter(self.all(role)), None)

    def with_role(self, role: str, *ids: ItemId) -> Recipe:
        """Return the same with other items in a role."""
        roles = dict(self.by_role)
        roles[role] = ids
        return replace(self, by_role=tuple((name, each) for name, each in roles.items() if each))
