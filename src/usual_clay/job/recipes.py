"""Recipes: how an item follows from others.

Every kind registers once in `KINDS`, with the dataclass of its settings. Files, cards and the
command line read that table.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from usual_clay.core.fit.drape import Drape, DrapeSettings, Start, drape
from usual_clay.core.fit.sample import Sample
from usual_clay.core.progress import Progress, silent


@dataclass(frozen=True)
class Recipe:
    """How one item follows from others.

    Attributes
    ----------
    kind : str
        A name in `KINDS`.
    sources : tuple of str
        Ids of the items it is made from.
    settings : dataclass
        Of the type that the kind registers.
    """

    kind: str
    sources: tuple[str, ...]
    settings: Any


@dataclass(frozen=True)
class Kind:
    """One way to make an item.

    Attributes
    ----------
    settings : type
        A frozen dataclass of numbers and words, with defaults.
    make : callable
        ``make(settings, sources, start, progress, found)``, a pure function. `start` may be what
        an earlier call on the same sources gave as its end; `found` is told of partial results.
    """

    settings: type
    make: Callable[..., Drape]


def make_drape(
    settings: DrapeSettings,
    sources: Sequence[Sample],
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Drape], None] | None = None,
) -> Drape:
    """Drape a surface over the one sample in `sources`."""
    (sample,) = sources
    return drape(sample, settings, start, progress, found)


KINDS: Mapping[str, Kind] = {"drape": Kind(DrapeSettings, make_drape)}
