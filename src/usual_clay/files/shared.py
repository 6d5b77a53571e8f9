"""What several jobs of one file have in common is read once, so that it is one thing in all."""

from __future__ import annotations

import json
from collections.abc import Callable, Hashable, Mapping
from dataclasses import fields, replace
from typing import Any

import numpy as np

from usual_clay.files.item_files import Read, Told
from usual_clay.files.job_items import rebuild
from usual_clay.job.items import Basis, Followed, Item

# Where an item holds what followers are made of; and arrays that are told apart by their numbers.
HELD, FEW = ("geometry", "mesh", "shape"), 16
# What of other items one is checked by when it is read.
CHECKED_BY = ("scan", "watches")


class Shared:
    """Arrays, shapes and items that were read, by what they were read from.

    Followers know what they were made of by identity, and so does what is drawn: without this each
    step of a history would be drawn anew, and take memory of its own.
    """

    def __init__(self) -> None:
        self._arrays: dict[Hashable, Any] = {}
        self._shapes: dict[Hashable, Any] = {}
        self._items: dict[Hashable, tuple[Told, Item]] = {}
        self._made: dict[Hashable, tuple[Basis | None, Item]] = {}

    def array(self, entry: str, what: Hashable, read: Callable[[], Any]) -> Any:
        """Return the array or the bytes of an entry, read as `what`."""
        if (entry, what) not in self._arrays:
            self._arrays[entry, what] = read()
        return self._arrays[entry, what]

    def item(self, told: Told, read: Read, items: Mapping[str, Item]) -> tuple[Told, Item]:
        """Return an item, and what is told of it, which reading it may have put right."""
        others = (items.get(told.get(name, "")) for name in CHECKED_BY)
        key = json.dumps(told, sort_keys=True), *map(id, others)
        if key not in self._items:
            item = rebuild(told, read, items)
            for name in HELD:
                if (value := getattr(item, name, None)) is not None:
                    item = replace(item, **{name: self._one(value)})
            self._items[key] = told, item
        return self._items[key]

    def _one(self, value: Any) -> Any:
        parts = (getattr(value, field.name) for field in fields(value) if field.init)
        key = type(value), *map(_mark, parts)
        return self._shapes.setdefault(key, value)

    def made_of(self, item: Followed, basis: Basis | None) -> Item:
        """Return an item that is made of something."""
        values = () if basis is None else tuple(map(id, basis.values))
        key = id(item), values
        if key not in self._made:
            self._made[key] = basis, replace(item, made_of=basis)
        return self._made[key][1]


def _mark(part: Any) -> Hashable:
    """Return what tells a part of a shape from others: of one that was read which it is."""
    if isinstance(part, np.ndarray):
        return part.tobytes() if part.size <= FEW else id(part)
    return id(part) if isinstance(part, bytes) else part
